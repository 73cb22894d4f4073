package sealed

import (
	"context"
	"maps"
	"slices"
	"testing"

	"undersail/internal/core/health"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/use"
	"undersail/internal/secret"
	"undersail/internal/store"
)

const word = "site/word@1"

// marked is a text with a secret in it, as a rendering gives it.
func marked(around, reference string) resource.Unresolved {
	return resource.Unresolved{Secrets: []string{reference}, Marked: around + resource.MarkSecret(reference, false)}
}

// holding gives a value of a shape with a secret somewhere in it; false says that no text
// fits in.
func holding(s resource.Shape, v resource.Unresolved) (any, bool) {
	switch s.Kind {
	case resource.List:
		if s.Items == nil {
			return []any{v}, true
		}
		inner, ok := holding(*s.Items, v)
		return []any{inner}, ok
	case resource.Map:
		return map[string]any{"some": v}, true
	case resource.Object:
		for _, f := range s.Fields {
			if inner, ok := holding(f.Shape, v); ok {
				return map[string]any{f.Name: inner}, true
			}
		}
		return nil, false
	case resource.Integer, resource.Number, resource.Boolean:
		return nil, false
	}
	return v, true
}

// TestNoPlaceOfASecretIsForgotten tries every property of every type and of every check,
// as they are declared: a secret there is a use, and nothing but that very use opens it.
func TestNoPlaceOfASecretIsForgotten(t *testing.T) {
	t.Parallel()
	places := 0
	run := &Run{values: map[string]string{word: "kelp", "site/other@1": "hemp"}}
	try := func(at string,
		list func(around, reference string, p use.Place, stack render.Stack, name string) []use.Use) {
		t.Helper()
		places++
		place, stack := use.Place{By: "ines", Template: "t1"},
			render.Stack{Name: "site", Account: "saltmere-lab", Cloud: "larch"}
		agreed := list("around ", word, place, stack, "thing")
		if len(agreed) == 0 || !slices.Contains(use.Secrets(agreed), word) {
			t.Errorf("%s: a secret there is no use", at)
			return
		}
		run.agreement = Agreed(agreed)
		if reveal, beyond := run.Opens(agreed); len(beyond) > 0 {
			t.Errorf("%s: what was agreed to is not opened", at)
		} else if v, ok := reveal(word); !ok || v != "kelp" {
			t.Errorf("%s: it opens %q", at, v)
		} else if _, ok := reveal("site/other@1"); ok {
			t.Errorf("%s: it opens another secret too", at)
		}
		if reveal, beyond := run.Opens(list("around ", "site/word@2", place, stack, "thing")); len(beyond) > 0 {
			t.Errorf("%s: a new version of it is asked about: %v", at, beyond)
		} else if _, ok := reveal(word); ok {
			t.Errorf("%s: another version is opened", at)
		}
		for what, other := range map[string][]use.Use{
			"another secret":     list("around ", "site/other@1", place, stack, "thing"),
			"other surroundings": list("another ", word, place, stack, "thing"),
			"another author":     list("around ", word, use.Place{By: "mole", Template: "t1"}, stack, "thing"),
			"another account": list("around ", word, place,
				render.Stack{Name: "site", Account: "saltmere-live", Cloud: "larch"}, "thing"),
			"another cloud": list("around ", word, place,
				render.Stack{Name: "site", Account: "saltmere-lab", Cloud: "openstack"}, "thing"),
			"another resource": list("around ", word, place, stack, "else"),
		} {
			reveal, beyond := run.Opens(other)
			if len(beyond) == 0 {
				t.Errorf("%s: %s is not asked about", at, what)
			}
			for _, reference := range []string{word, "site/other@1"} {
				if _, ok := reveal(reference); ok {
					t.Errorf("%s: %s opens %s", at, what, reference)
				}
			}
		}
		run.agreement = Agreement{}
		if reveal, beyond := run.Opens(agreed); len(beyond) == 0 {
			t.Errorf("%s: it is opened without an agreement", at)
		} else if _, ok := reveal(word); ok {
			t.Errorf("%s: without an agreement it opens", at)
		}
	}
	for _, kind := range resource.TypeNames() {
		typ, _ := resource.ByName(kind)
		for _, p := range typ.Properties {
			if _, holds := holding(p.Shape, resource.Unresolved{}); !holds || p.Name == "tags" || p.Name == "name" {
				continue // nothing fits in, or a secret there is refused
			}
			if typ.Own && p.Name == "again_when" {
				continue // it is compared, and goes nowhere; see below
			}
			try(kind+"."+p.Name, func(around, reference string, place use.Place, stack render.Stack,
				name string) []use.Use {
				v, _ := holding(p.Shape, marked(around, reference))
				if typ.Own && p.Name == "through" {
					v = map[string]any{"host": "10.0.0.1", "user": "admin", "key": marked(around, reference)}
				}
				return use.OfResource(render.Resource{
					Name:     name,
					Declared: name,
					Type:     kind,
					Want:     map[string]any{p.Name: v},
				}, stack, place)
			})
		}
	}
	for _, kind := range health.KindNames {
		for _, p := range health.Kinds[kind].Shape.Fields {
			if _, holds := holding(p.Shape, resource.Unresolved{}); !holds {
				continue
			}
			try("check "+kind+"."+p.Name,
				func(around, reference string, place use.Place, stack render.Stack, name string) []use.Use {
					v, _ := holding(p.Shape, marked(around, reference))
					if p.Name == "through" {
						v = map[string]any{"host": "10.0.0.1", "user": "admin", "key": marked(around, reference)}
					}
					return use.OfChecks(render.Resource{
						Name:     name,
						Declared: name,
						Type:     "address",
						Checks:   []health.Check{{Name: kind + "-1", Kind: kind, Spec: map[string]any{p.Name: v}}},
					}, stack, place)
				})
		}
	}
	if places < 60 {
		t.Errorf("only %d places were tried", places)
	}
	t.Logf("%d places, each with 8 ways", places)
}

// TestWhereEverybodyReadsNoSecretStands: names and tags of every type.
func TestWhereEverybodyReadsNoSecretStands(t *testing.T) {
	t.Parallel()
	for _, kind := range resource.TypeNames() {
		for name, v := range map[string]any{"name": marked("", word), "tags": map[string]any{"a": marked("", word)}} {
			r := &render.Rendering{
				Resources: []render.Resource{{Name: "thing", Type: kind, Want: map[string]any{name: v}}},
			}
			if found := use.InTheClear(r); len(found) != 1 || found[0].Severity != "error" {
				t.Errorf("%s.%s: %v", kind, name, found)
			}
		}
	}
}

// TestTheDestinationIsPartOfAUse: whatever of a check says where it goes, or what shows that
// it is there, makes another use of it.
func TestTheDestinationIsPartOfAUse(t *testing.T) {
	t.Parallel()
	specs := map[string]map[string]any{
		"http": {
			"url":      "https://site.saltmere.example/",
			"password": marked("", word),
			"user":     "duty",
			"trust":    "system",
			"method":   "GET",
			"body":     "b",
			"headers":  map[string]any{"a": "b"},
			"through":  map[string]any{"host": "10.0.0.1", "user": "admin"},
		},
		"ssh": {
			"host":     "10.0.0.9",
			"port":     int64(22),
			"user":     "admin",
			"password": marked("", word),
			"command":  "hostname",
			"host_key": "ssh-ed25519 A",
			"through":  map[string]any{"host": "10.0.0.1", "user": "admin"},
		},
		"database": {
			"host":     "10.0.0.9",
			"port":     int64(5432),
			"name":     "logs",
			"user":     "reader",
			"password": marked("", word),
			"query":    "select 1",
			"trust":    "any",
			"through":  map[string]any{"host": "10.0.0.1", "user": "admin"},
		},
	}
	digests := func(kind string, spec map[string]any) map[string]bool {
		return use.Digests(use.OfProof([]health.Check{{Name: kind + "-1", Kind: kind, Spec: spec}}, render.Stack{},
			use.Place{}))
	}
	for kind, spec := range specs {
		agreed := digests(kind, spec)
		for name, v := range spec {
			if _, is := v.(resource.Unresolved); is {
				continue
			}
			other := maps.Clone(spec)
			switch t := v.(type) {
			case string:
				other[name] = t + "x"
			case int64:
				other[name] = t + 1
			case map[string]any:
				in := maps.Clone(t)
				for k := range in {
					in[k] = "else"
				}
				other[name] = in
			}
			for d := range digests(kind, other) {
				if agreed[d] {
					t.Errorf("%s: another %s is the same use", kind, name)
				}
			}
			gone := maps.Clone(spec)
			delete(gone, name)
			for d := range digests(kind, gone) {
				if agreed[d] {
					t.Errorf("%s: without %s it is the same use", kind, name)
				}
			}
		}
	}
}

// TestTheZeroPermitOpensNothing, nor does one for something else; and a value prints as its
// reference.
func TestTheZeroPermitOpensNothing(t *testing.T) {
	t.Parallel()
	box, _ := newBox(t)
	s := New(box, nil)
	row := secretRow(t, s, word, "kelp-and-shingle")
	for what, p := range map[string]Permit{
		"the zero permit": {},
		"one for another": {map[string]bool{"site/other@1": true}},
	} {
		if plain, err := s.Open(context.Background(), p, row); err == nil || plain.Expose() != "" {
			t.Errorf("%s opens %q", what, plain.Expose())
		}
	}
	plain, err := s.Open(context.Background(), Permit{map[string]bool{word: true}}, row)
	if err != nil || plain.Expose() != "kelp-and-shingle" {
		t.Fatal(plain, err)
	}
	for _, text := range []string{plain.String(), plain.GoString()} {
		if text != "secret:"+word {
			t.Errorf("it prints as %q", text)
		}
	}
	if raw, err := plain.MarshalText(); err != nil || string(raw) != "secret:"+word {
		t.Errorf("it is written as %s %v", raw, err)
	}
	if s := secret.NewScrubber(map[string]string{
		word: plain.Expose(),
	}); s.Text("kelp-and-shingle") == "kelp-and-shingle" {
		t.Error("it is not taken out of texts")
	}
}

func secretRow(t *testing.T, s *Sealed, reference, value string) store.Secret {
	t.Helper()
	row := store.Secret{Reference: reference}
	if err := s.Secret(&row, value); err != nil {
		t.Fatal(err)
	}
	return row
}
