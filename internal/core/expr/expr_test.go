package expr

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"cel.dev/cel-go/cel"

	"undersail/internal/core/resource"
)

func setup(t testing.TB) (*Env, map[string]any) {
	t.Helper()
	str := cel.StringType
	env := NewEnv(Scope{
		Vars: map[string]*cel.Type{
			"gateway": cel.ObjectType("instance"),
			"worker":  cel.ListType(cel.ObjectType("instance")),
			"inputs":  cel.ObjectType("inputs"),
			"maybe":   cel.ObjectType("instance?"),
		},
		Structs: map[string]map[string]*cel.Type{
			"instance":      {"public_address": str, "name": str},
			"instance?":     {"public_address": cel.OptionalType(str)},
			"inputs":        {"prefix": str, "range": str, "password": str},
			"firewall_rule": {"from": str, "port": cel.IntType},
		},
	})
	machine := func(name string) *Object {
		return &Object{
			Type: "instance",
			Fields: map[string]any{
				"name":           name,
				"public_address": resource.Unresolved{Waits: []string{name + ".public_address"}},
			},
		}
	}
	return env, map[string]any{
		"gateway": machine("gateway"),
		"worker":  []any{machine("worker[0]"), machine("worker[1]")},
		"maybe":   &Object{Type: "instance?", Optional: true},
		"inputs": &Object{
			Type: "inputs",
			Fields: map[string]any{
				"prefix":   "tide",
				"range":    "10.40.0.0/20",
				"password": resource.Unresolved{Secrets: []string{"s/password@1"}},
			},
		},
	}
}

func TestEval(t *testing.T) {
	t.Parallel()
	env, vars := setup(t)
	waits := func(names ...string) resource.Unresolved { return resource.Unresolved{Waits: names} }
	for text, want := range map[string]any{
		`inputs.prefix + "-" + pad(7, 2)`:           "tide-07",
		`gateway.name`:                              "gateway",
		`gateway.public_address`:                    waits("gateway.public_address"),
		`"https://" + gateway.public_address + "/"`: waits("gateway.public_address"),
		`worker.map(w, w.name).join(" ")`:           "worker[0] worker[1]",
		`worker.map(w, w.public_address).join(" ")`: waits("worker[0].public_address",
			"worker[1].public_address"),
		`size(worker)`:                          int64(2),
		`true || gateway.public_address == "x"`: true,
		`inputs.prefix == "tide" ? worker[1].public_address : "none"`: waits("worker[1].public_address"),
		`[firewall_rule{from: inputs.range, port: 22}]`: []any{map[string]any{
			"from": "10.40.0.0/20",
			"port": int64(22),
		}},
		`[firewall_rule{from: gateway.public_address, port: 22}]`: waits("gateway.public_address"),
		`"p=" + inputs.password`: resource.Unresolved{
			Secrets: []string{"s/password@1"},
		},
		`inputs.password + gateway.public_address`: resource.Unresolved{
			Waits:   []string{"gateway.public_address"},
			Secrets: []string{"s/password@1"},
		},
		`maybe.public_address.orValue("none")`:                                            "none",
		`maybe.public_address`:                                                            Absent,
		`carve(inputs.range, ["edge/26", "workers/24"]).workers`:                          "10.40.1.0/24",
		`address_in("10.0.0.0/24", 4)`:                                                    "10.0.0.4",
		`overlaps("10.0.0.0/8", "10.1.0.0/16")`:                                           true,
		`url_encode("a b&c")`:                                                             "a+b%26c",
		`{"a": 1, "b": 2}.map(k, k).sort()`:                                               []any{"a", "b"},
		`short_hash("one", 5) == short_hash("one", 5) && size(short_hash("one", 5)) == 5`: true,
	} {
		program, problems := env.Check(text)
		if problems != nil {
			t.Errorf("%s: %v", text, problems)
			continue
		}
		got, err := program.Eval(NewVars().With(vars))
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s = %#v, %v; want %#v", text, got, err, want)
		}
	}
}

func TestCheckSaysWhereAndWhatToDo(t *testing.T) {
	t.Parallel()
	env, _ := setup(t)
	for text, want := range map[string]string{
		`gateway.public_adress`: "8: `gateway` has no `public_adress`; did you mean `public_address`?",
		`worker[0].nme`:         "10: `worker[0]` has no `nme`; did you mean `name`?",
		`inputs.prefx + "x"`:    "7: `inputs` has no `prefx`; did you mean `prefix`?",
		`gatway.name`:           "0: nothing here is called `gatway`; did you mean `gateway`?",
		`"a" + 1`: "4: `+` cannot be applied to text and a whole number; turn the other " +
			"side into text",
		`gateway("a")`: "7: `gateway` is a value, and is called here like a function; take the " +
			"brackets away, or name one of its fields after a dot",
		`short_hash + "a"`: "0: `short_hash` is a function, and stands here like a value; give it its " +
			"values in brackets: short_hash(...)",
		`shorthash("a", 3)`:              "9: nothing here is called `shorthash`; did you mean `short_hash`?",
		`carve("10.0.0.0/8", "edge/24")`: "5: `carve` cannot be applied to text and text; write it like carve(",
		`1 == "a"`:                       "2: `==` cannot be applied to a whole number and text; compare values of one type",
		`1 != "a"`:                       "2: `!=` cannot be applied to a whole number and text; compare values of one type",
		`1 < "a"`:                        "2: `<` cannot be applied to a whole number and text; compare values of one type",
		`"a" >= 1`:                       "4: `>=` cannot be applied to text and a whole number; compare values of one type",
		`1 +`:                            "3: the expression ends too early",
		strings.Repeat("(", 100) + "1":   "nested more than 60 deep",
		strings.Repeat("a", 9000):        "",
	} {
		_, problems := env.Check(text)
		if len(problems) == 0 {
			t.Errorf("%.40s: no problem found", text)
			continue
		}
		p := problems[0]
		if got := fmt.Sprintf("%d: %s; %s", p.Column, p.Message, p.Remedy); !strings.Contains(got, want) {
			t.Errorf("%.40s:\n got %s\nwant %s", text, got, want)
		}
	}
}

func TestWorkIsBounded(t *testing.T) {
	t.Parallel()
	env, vars := setup(t)
	program, problems := env.Check(`lists.range(2000).map(a, lists.range(2000).map(b, a * b).size()).size()`)
	if problems != nil {
		t.Fatal(problems)
	}
	if _, err := program.Eval(NewVars().With(vars)); err == nil || !strings.Contains(err.Error(), "too much work") {
		t.Errorf("a million rounds ended with %v", err)
	}
}

func TestUsesFollowLoops(t *testing.T) {
	t.Parallel()
	env, _ := setup(t)
	program, problems := env.Check(`worker.filter(w, w.name != inputs.prefix).map(w, w.public_address)`)
	if problems != nil {
		t.Fatal(problems)
	}
	var worker Use
	for _, u := range program.Uses {
		if u.Name == "worker" {
			worker = u
		}
	}
	if !reflect.DeepEqual(worker.Fields, []string{"name", "public_address"}) &&
		!reflect.DeepEqual(worker.Fields, []string{"public_address", "name"}) {
		t.Errorf("of worker are read %v, want name and public_address", worker.Fields)
	}
}

func FuzzCheck(f *testing.F) {
	for _, s := range []string{`inputs.prefix`, `worker.map(w, w.name)`, `carve("10.0.0.0/8", ["a/24"]).a`,
		`"\u00e9" + 1`, `maybe.public_address.orValue("x")`} {
		f.Add(s)
	}
	env, vars := setup(f)
	f.Fuzz(func(_ *testing.T, text string) {
		if program, problems := env.Check(text); problems == nil {
			program.Eval(NewVars().With(vars))
		}
	})
}
