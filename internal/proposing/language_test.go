package proposing_test

import (
	"context"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"undersail/examples"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/library/librarytest"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/templates"
)

// author proposes, accepts and applies templates written in a test.
type author struct {
	t *testing.T
	r *servicetest.Rig
	s *service.Service
}

func newAuthor(t *testing.T) author {
	r := servicetest.New(t, 150)
	s, _ := r.Replica(0)
	return author{t, r, s}
}

func named(name, rest string) string {
	return "undersail: 1\nabout: {name: " + name + ", version: 1.0.0, title: T}\n" + rest
}

func (a author) propose(n proposing.NewProposal) proposing.Proposal {
	a.t.Helper()
	if st, err := a.s.Stacks.Show(context.Background(), n.Stack); err != nil || st.Template == "" {
		n.Account, n.Region = "saltmere-lab", "north-fell"
	}
	p, err := a.s.Proposing.Propose(context.Background(), a.r.Admin, n)
	if err != nil {
		a.t.Fatal(err)
	}
	return p
}

func (a author) apply(p proposing.Proposal) {
	a.t.Helper()
	ctx := context.Background()
	if _, err := a.s.Proposing.Accept(ctx, a.r.Admin, p.ID, servicetest.All(p), ""); err != nil {
		a.t.Fatal(err)
	}
	run, err := a.s.Proposing.Apply(ctx, a.r.Admin, p.ID, "")
	if err != nil {
		a.t.Fatal(err)
	}
	if done := a.r.Await(a.s, run.ID); done.State != "done" {
		a.t.Fatal(done.Reason)
	}
}

func (a author) outputs(stack string) map[string]any {
	a.t.Helper()
	list, err := a.s.Stacks.Outputs(context.Background(), stack)
	if err != nil {
		a.t.Fatal(err)
	}
	out := map[string]any{}
	for _, o := range list {
		out[o.Name] = o.Value
	}
	return out
}

func of(p proposing.Proposal, resource string) change.Change {
	for _, c := range p.Changes {
		if c.Resource == resource {
			return c
		}
	}
	return change.Change{}
}

func TestWhereEachInputCameFromIsInTheProposal(t *testing.T) {
	t.Parallel()
	a := newAuthor(t)
	source := named("desk", `inputs:
  size: {type: string, format: amount, default: 10GiB}
  label: {type: string, default: desk}
  kind: {type: string, default: solid}
  zone: {type: string, default: north-fell-a}
presets: {large: {title: Large, inputs: {size: 20GiB, label: big}}}
resources: {store: {type: disk, want: {size: =inputs.size, type: =inputs.kind, zone: =inputs.zone, tags: {label: =inputs.label}}}}
`)
	origins := func(p proposing.Proposal) string {
		var out []string
		for _, in := range p.Inputs {
			out = append(out, fmt.Sprintf("%s=%v (%s)", in.Name, in.Value, in.Origin))
		}
		return strings.Join(out, ", ")
	}
	p := a.propose(proposing.NewProposal{
		Stack:  "desk",
		Source: source,
		Preset: "large",
		Layers: []render.Layer{{From: "file desk.yaml", Inputs: map[string]any{"label": "filed"}}},
		Inputs: map[string]any{"zone": "north-fell-b"},
	})
	got, want := origins(p),
		"size=20GiB (preset large), label=filed (file desk.yaml), kind=solid (default), zone=north-fell-b (given)"
	if got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	a.apply(p)
	p = a.propose(proposing.NewProposal{
		Stack:  "desk",
		Source: strings.Replace(source, "default: solid", "default: solid-plus", 1),
		Inputs: map[string]any{"label": "new"},
	})
	got, want = origins(p), "size=20GiB (recorded), label=new (given), kind=solid-plus (default), "+
		"zone=north-fell-b (recorded)"
	if got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	moved := false
	for _, f := range p.Findings {
		moved = moved || f.Code == "default-moved" && f.Place == "inputs.kind" &&
			strings.Contains(f.Message, "was solid and is now solid-plus")
	}
	if !moved {
		t.Errorf("nothing tells that a default has moved: %v", p.Findings)
	}
	_, err := a.s.Proposing.Propose(context.Background(), a.r.Admin, proposing.NewProposal{
		Stack:  "desk",
		Preset: "larg",
		Source: source,
	})
	servicetest.WantKind(t, err, refusal.Invalid, "did you mean large?")
}

// TestOneInputOnlyChangesWhatDependsOnIt is the same promise as in rendering,
// held in the next proposal of a stack.
func TestOneInputOnlyChangesWhatDependsOnIt(t *testing.T) {
	t.Parallel()
	a := newAuthor(t)
	source := named("pair", `inputs: {red: {type: string, default: a}, blue: {type: string, default: b}}
resources:
  one: {type: address, want: {tags: {c: =inputs.red}}}
  two: {type: address, want: {tags: {c: =inputs.blue}}}
  net: {type: network, want: {range: 10.71.0.0/24, tags: {c: =inputs.blue + one.address}}}
`)
	a.apply(a.propose(proposing.NewProposal{Stack: "pair", Source: source}))
	p := a.propose(proposing.NewProposal{Stack: "pair", Inputs: map[string]any{"blue": "x"}})
	if p.Summary != "2 alter, 1 same" || of(p, "one").Change != change.Same {
		t.Errorf("%s %v", p.Summary, p.Changes)
	}
	p = a.propose(proposing.NewProposal{Stack: "pair", Inputs: map[string]any{"red": "x"}})
	if p.Summary != "1 alter, 2 same" || of(p, "one").Change != change.Alter {
		t.Errorf("%s %v", p.Summary, p.Changes)
	}
}

func TestAnEmbeddedTemplatesSecretIsDrawnOnceForEachMember(t *testing.T) {
	t.Parallel()
	a := newAuthor(t)
	part := lang.Bundle{
		Ref:  "./vault.sail.yaml",
		File: "vault.sail.yaml",
		Source: named("vault", "inputs: {word: {secret: true, generate: true, rules: {length: 20}}}\nresources: "+
			"{kept: {type: secret, want: {value: =inputs.word}}}\noutputs: {word: =inputs.word}\n"),
	}
	n := proposing.NewProposal{
		Stack: "vaults",
		Source: named("vaults", "resources: {vault: {type: template, from: ./vault.sail.yaml, repeat: 2}}\noutputs: "+
			"{first: '=vault[0].outputs.word', second: '=vault[1].outputs.word'}\n"),
		Parts: []lang.Bundle{part},
	}
	a.apply(a.propose(n))
	out := a.outputs("vaults")
	got := fmt.Sprint(out["first"], out["second"])
	if got != "secret:vaults/vault[0].word@1 secret:vaults/vault[1].word@1" {
		t.Error(got)
	}
	if p := a.propose(proposing.NewProposal{Stack: "vaults"}); p.Summary != "2 same" {
		t.Errorf("it is drawn again: %s", p.Summary)
	}
}

func TestAnExistingNetworkIsUsedAndNeverTouched(t *testing.T) {
	t.Parallel()
	a := newAuthor(t)
	a.apply(a.propose(proposing.NewProposal{
		Stack: "base",
		Source: named("base", "resources: {net: {type: network, want: {range: 10.72.0.0/20, tags: {use: "+
			"shared}}}}\noutputs: {id: =net.id, range: =net.range}\n"),
	}))
	source := named("guest", `inputs: {network: {picks: network, optional: true}}
resources:
  net: {type: network, find: =inputs.network.orValue(""), want: {range: 10.73.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.72.1.0/24}}
outputs: {network: =net.id}
`)
	p := a.propose(proposing.NewProposal{Stack: "guest", Source: source, Inputs: map[string]any{"network": "base-net"}})
	if p.Summary != "1 create, 1 same" ||
		!strings.Contains(strings.Join(of(p, "net").Notes, " "), `never changed nor removed`) {
		t.Errorf("%s %v", p.Summary, of(p, "net"))
	}
	a.apply(p)
	if got, want := a.outputs("guest")["network"], a.outputs("base")["id"]; got != want || want == nil {
		t.Errorf("it stands in %v, not in %v", got, want)
	}
	retire, err := a.s.Proposing.Retire(context.Background(), a.r.Admin, "guest")
	if err != nil || retire.Summary != "1 remove" {
		t.Fatal(retire.Summary, err)
	}
	a.apply(retire)
	if v, err := a.s.Stacks.Verify(context.Background(), a.r.Admin, "base"); err != nil || !v.Healthy {
		t.Errorf("the network that was used: %+v %v", v, err)
	}
	_, err = a.s.Proposing.Propose(context.Background(), a.r.Admin, proposing.NewProposal{
		Stack:   "other",
		Account: "saltmere-lab",
		Region:  "north-fell",
		Source:  source,
		Inputs:  map[string]any{"network": "gone"},
	})
	servicetest.WantKind(t, err, refusal.Findings, "would not work")
}

func TestARenamedResourceIsNotRebuilt(t *testing.T) {
	t.Parallel()
	a := newAuthor(t)
	source := named("names",
		"resources:\n  old: {type: key_pair, want: {name: fixed}}\n  lan: {type: network, want: {range: "+
			"10.74.0.0/24, tags: {key: =old.fingerprint}}}\noutputs: {key: =old.private_key}\n")
	a.apply(a.propose(proposing.NewProposal{Stack: "names", Source: source}))
	before := len(a.r.Ledger().Alive)
	renamed := strings.NewReplacer("old: {type: key_pair,", "fresh: {type: key_pair, was: old,", "=old.",
		"=fresh.").Replace(source)
	p := a.propose(proposing.NewProposal{Stack: "names", Source: renamed})
	if c := of(p, "fresh"); p.Summary != "1 alter, 1 same" || c.Was != "old" || c.Reason != "it was called old" {
		t.Errorf("%s %+v", p.Summary, c)
	}
	a.apply(p)
	if l := a.r.Ledger(); len(l.Alive) != before || len(l.Gone) != 0 {
		t.Errorf("renaming removed or made something: %d alive, %d gone", len(l.Alive), len(l.Gone))
	}
	if p := a.propose(proposing.NewProposal{Stack: "names"}); p.Summary != "2 same" {
		t.Errorf("after renaming: %s %v", p.Summary, p.Changes)
	}
	if key := fmt.Sprint(a.outputs("names")["key"]); key != "secret:names/old@1" {
		t.Errorf("the key of the renamed pair is %s", key)
	}
	retire, err := a.s.Proposing.Retire(context.Background(), a.r.Admin, "names")
	if err != nil {
		t.Fatal(err)
	}
	a.apply(retire)
	if l := a.r.Ledger(); len(l.Alive) != 0 {
		t.Errorf("%d are left", len(l.Alive))
	}
}

func TestAStackThatIsReadCannotBeRetired(t *testing.T) {
	t.Parallel()
	a := newAuthor(t)
	ctx := context.Background()
	lamp := named("lamp", "resources: {a: {type: address}}\noutputs: {at: =a.address, lamps: 4, store: "+
		"'=amount(\"3GiB\")'}\n")
	_, _, err := a.s.Templates.Publish(ctx, a.r.Admin, lang.Bundle{File: "lamp.sail.yaml", Source: lamp})
	if err != nil {
		t.Fatal(err)
	}
	a.apply(a.propose(proposing.NewProposal{Stack: "red", Template: "lamp"}))
	reader := named("reader",
		"inputs: {lamp: {picks: stack, of: lamp@^1}}\nresources: {a: {type: address, want: {tags: {at: "+
			"=inputs.lamp.outputs.at, n: '=string(inputs.lamp.outputs.lamps + 1)', s: "+
			"'=string(inputs.lamp.outputs.store * 2)'}}}}\noutputs: {seen: =inputs.lamp.outputs.at}\n")
	a.apply(a.propose(proposing.NewProposal{Stack: "reader", Source: reader, Inputs: map[string]any{"lamp": "red"}}))
	if st, err := a.s.Stacks.Show(ctx, "reader"); err != nil ||
		fmt.Sprint(st.Resources[0].Want["tags"]) != fmt.Sprintf("map[at:%v n:5 s:6GiB]", a.outputs("red")["at"]) {
		t.Errorf("%v %v", st.Resources, err)
	}
	if got, want := a.outputs("reader")["seen"], a.outputs("red")["at"]; got != want || got == nil {
		t.Errorf("it reads %v, not %v", got, want)
	}
	_, err = a.s.Proposing.Retire(ctx, a.r.Admin, "red")
	servicetest.WantKind(t, err, refusal.Conflict, "stack reader reads the outputs of red")
	_, err = a.s.Proposing.Propose(ctx, a.r.Admin, proposing.NewProposal{
		Stack:   "other",
		Account: "saltmere-lab",
		Region:  "north-fell",
		Source:  reader,
		Inputs:  map[string]any{"lamp": "reader"},
	})
	servicetest.WantKind(t, err, refusal.Invalid, "wants a stack of template lamp")
	_, err = a.s.Proposing.Propose(ctx, a.r.Admin, proposing.NewProposal{
		Stack:   "other",
		Account: "saltmere-lab",
		Region:  "north-fell",
		Source:  reader,
		Inputs:  map[string]any{"lamp": "gone"},
	})
	servicetest.WantKind(t, err, refusal.Invalid, `no stack "gone"`)
}

func TestMembersChangeAtTheirPaceAndTheStackIsProved(t *testing.T) {
	t.Parallel()
	a := newAuthor(t)
	source := named("paced", `inputs: {tag: {type: string, default: a}}
resources:
  site: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, firewalls: [=rules.id], user_data: {packages: [nginx]}}}
  net: {type: network, want: {range: 10.75.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.75.0.0/24}}
  rules: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 80}]}}
  front: {type: address, repeat: 3, pace: {at_once: 1}, want: {tags: {t: =inputs.tag}}}
prove:
  - http: {url: '="http://" + site.reach["80"] + "/"'}
    within: 5m
`)
	p := a.propose(proposing.NewProposal{Stack: "paced", Source: source})
	if notes := of(p, "front[1]").Notes; len(notes) != 1 || notes[0] != "at most 1 at a time" {
		t.Error(notes)
	}
	ctx := context.Background()
	if _, err := a.s.Proposing.Accept(ctx, a.r.Admin, p.ID, servicetest.All(p), ""); err != nil {
		t.Fatal(err)
	}
	run, err := a.s.Proposing.Apply(ctx, a.r.Admin, p.ID, "")
	if err != nil {
		t.Fatal(err)
	}
	if done := a.r.Await(a.s, run.ID); done.State != "done" {
		t.Fatal(done.Reason)
	}
	told := a.r.Events(a.s, run.ID)
	at := func(line string) int {
		i := strings.Index(told, line)
		if i < 0 {
			t.Fatalf("nothing of %q in\n%s", line, told)
		}
		return i
	}
	for i := range 2 {
		if at(fmt.Sprintf("front[%d] is healthy", i)) > at(fmt.Sprintf("creating front[%d]", i+1)) {
			t.Errorf("front[%d] began before front[%d] was healthy:\n%s", i+1, i, told)
		}
	}
	if at("site is healthy") > at("proving the whole stack") ||
		at("the whole stack is proved") < at("proving the whole stack") {
		t.Error(told)
	}
	v, err := a.s.Stacks.Verify(ctx, a.r.Admin, "paced")
	last := v.Resources[len(v.Resources)-1]
	if err != nil || !v.Healthy || last.Name != "whole stack" || len(last.Evidence) != 1 ||
		!strings.Contains(last.Evidence[0].Answer, "200") {
		t.Errorf("%+v %v", v, err)
	}
}

// TestALibraryInGitPublishesNewVersionsAndNeverChangesOldOnes keeps templates in
// a real git repository.
func TestALibraryInGitPublishesNewVersionsAndNeverChangesOldOnes(t *testing.T) {
	t.Parallel()
	a := newAuthor(t)
	ctx := context.Background()
	repository := librarytest.New(t)
	dir, write := repository.Dir, func(file, text string) { repository.Commit(file, text) }
	a.s.Templates.OpenFolders(dir)
	for _, file := range []string{"coast-tiers.sail.yaml", "parts/tier.sail.yaml", "parts/machine.sail.yaml"} {
		source, err := fs.ReadFile(examples.Files, file)
		if err != nil {
			t.Fatal(err)
		}
		write(file, string(source))
	}
	lamp := named("lamp", "resources: {a: {type: address}}\n")
	write("lamp.sail.yaml", lamp)
	write("broken.sail.yaml", named("broken", "resources: {a: {type: adress}}\n"))
	states := func(l templates.Library) string {
		var out []string
		for _, x := range l.Templates {
			out = append(out, fmt.Sprintf("%s %s %s %s", x.File, x.Version, x.State, x.Problem))
		}
		return strings.Join(out, "\n")
	}
	added, err := a.s.Templates.AddLibrary(ctx, a.r.Admin, templates.NewLibrary{
		Name:      "tide-office",
		Place:     dir,
		Reference: "main",
	})
	if err != nil || len(added.Revision) != 40 {
		t.Fatal(added, err)
	}
	got, want := states(added),
		"broken.sail.yaml 1.0.0 refused broken.sail.yaml:3:23: there is no resource type "+
			"`adress`\ncoast-tiers.sail.yaml 1.0.0 published \nlamp.sail.yaml 1.0.0 published "
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	tiers, err := a.s.Templates.Find(ctx, "coast-tiers")
	if err != nil || !strings.HasPrefix(tiers.Origin, "tide-office at "+added.Revision[:12]) || len(tiers.Parts) != 1 {
		t.Error(tiers.Origin, err)
	}
	// The template in the library stands alone: its parts are part of the version.
	a.propose(proposing.NewProposal{Stack: "tiers", Template: "coast-tiers"})

	write("lamp.sail.yaml", strings.Replace(lamp, "a: {", "b: {", 1)) // other bytes under a published version
	again, err := a.s.Templates.RefreshLibrary(ctx, a.r.Admin, "tide-office")
	if err != nil || !strings.Contains(states(again),
		"lamp.sail.yaml 1.0.0 refused version 1.0.0 of lamp is published with other bytes") {
		t.Error(states(again), err)
	}
	if kept, err := a.s.Templates.Find(ctx, "lamp"); err != nil || kept.Source != lamp {
		t.Error("a published version has changed its bytes")
	}
	write("lamp.sail.yaml", strings.Replace(strings.Replace(lamp, "a: {", "b: {", 1), "1.0.0", "1.1.0", 1))
	if newer, err := a.s.Templates.RefreshLibrary(ctx, a.r.Admin, "tide-office"); err != nil ||
		!strings.Contains(states(newer), "lamp.sail.yaml 1.1.0 published") || newer.Revision == added.Revision {
		t.Error(states(newer), err)
	}
	if versions, err := a.s.Templates.Versions(ctx, "lamp"); err != nil || len(versions) != 2 ||
		versions[0].Version != "1.1.0" {
		t.Error(versions, err)
	}
	// What another library has published may be embedded.
	second := librarytest.New(t)
	second.Commit("street.sail.yaml", named("street", "resources: {lamp: {type: template, from: lamp@^1}}\n"))
	a.s.Templates.OpenFolders(dir, second.Dir)
	other, err := a.s.Templates.AddLibrary(ctx, a.r.Admin, templates.NewLibrary{Name: "streets", Place: second.Dir})
	if err != nil || states(other) != "street.sail.yaml 1.0.0 published " {
		t.Error(states(other), err)
	}
	if street, err := a.s.Templates.Find(ctx, "street"); err != nil || street.Parts[0].File != "lamp@1.1.0" {
		t.Error(street.Parts, err)
	}
	_, err = a.s.Templates.AddLibrary(ctx, a.r.Admin, templates.NewLibrary{Name: "etc", Place: "/etc"})
	servicetest.WantKind(t, err, refusal.Invalid, "is not open to this service")
	_, err = a.s.Templates.RefreshLibrary(ctx, people.User{Roles: []string{"operator"}}, "tide-office")
	servicetest.WantKind(t, err, refusal.Forbidden, "")
	_, err = a.s.Templates.RefreshLibrary(ctx, a.r.Admin, "gone")
	servicetest.WantKind(t, err, refusal.NotFound, "no library")
}
