package service_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
	"undersail/sim"
	"undersail/sim/world"
)

// bench is a service on a rig with what these tests do again and again.
type bench struct {
	t *testing.T
	r *servicetest.Rig
	s *service.Service
}

func newBench(t *testing.T, quotas map[string]int64) *bench {
	t.Helper()
	t.Parallel()
	r := servicetest.NewWith(t, sim.Config{Pace: 600, Rate: 100_000, Quotas: quotas})
	s, _ := r.Start(engine.Config{CallRate: 100_000}, nil)
	return &bench{t, r, s}
}

// template writes a template whose resources are one to a line.
func resources(lines ...string) string {
	return "undersail: 1\nabout: {name: coast, version: 1.0.0, title: Coast}\nresources:\n  " + strings.ReplaceAll(strings.Join(lines, "\n  "), "want:", "patience: 9h, want:") + "\n"
}

func (b *bench) ask(stack, source string) (proposing.Proposal, error) {
	return b.s.Proposing.Propose(context.Background(), b.r.Admin, proposing.NewProposal{Stack: stack, File: "coast.sail.yaml", Source: source, Account: "saltmere-lab", Region: "north-fell"})
}

func (b *bench) propose(stack, source string) proposing.Proposal {
	b.t.Helper()
	p, err := b.ask(stack, source)
	if err != nil {
		b.t.Fatal(servicetest.Explain(err))
	}
	return p
}

func (b *bench) apply(stack, source string) stacks.Run {
	b.t.Helper()
	return b.done(b.propose(stack, source))
}

func (b *bench) done(p proposing.Proposal) stacks.Run {
	b.t.Helper()
	run := b.r.Await(b.s, b.r.Carry(b.s, p))
	if run.State != "done" {
		b.t.Fatalf("run %d is %s: %s", run.ID, run.State, run.Reason)
	}
	return run
}

// refused gives the findings of a proposal that is refused.
func (b *bench) refused(stack, source, code string) string {
	b.t.Helper()
	_, err := b.ask(stack, source)
	if text := fmt.Sprint(err); err == nil || !strings.Contains(servicetest.Explain(err), code) {
		b.t.Errorf("not refused with %s: %s", code, text)
		return ""
	}
	return servicetest.Explain(err)
}

// said lists what changes.
func said(p proposing.Proposal) string {
	var out []string
	for _, c := range p.Changes {
		if c.Change != change.Same {
			out = append(out, fmt.Sprintf("%s %s", c.Change, c.Resource))
		}
	}
	return strings.Join(out, ", ")
}

func (b *bench) alive(kind string) (labels []string) {
	for _, x := range b.r.Ledger().Alive {
		if x.Kind == kind && x.Phase != "removing" {
			labels = append(labels, x.ID)
		}
	}
	return labels
}

const (
	netLine  = "net: {type: network, want: {range: 10.20.0.0/16}}"
	lanLine  = "lan: {type: subnet, want: {network: =net.id, range: 10.20.1.0/24}}"
	diskLine = "data: {type: disk, at_retire: keep, want: {size: 20GiB, type: solid}}"
)

func TestWhatIsToBeKeptIsKeptListedTakenOverAndRemovedForGood(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	b.apply("coast", resources(netLine, diskLine))
	first := b.alive("disks")

	// A rebuild keeps the old one, without a consent.
	rebuilt := b.propose("coast", resources(netLine, strings.Replace(diskLine, "type: solid", "type: solid-plus", 1)))
	if said(rebuilt) != "rebuild data" || len(rebuilt.Consents) != 0 || !strings.Contains(rebuilt.Changes[1].Reason, "the old one is kept") {
		t.Errorf("%s, consents %v, because %s", said(rebuilt), rebuilt.Consents, rebuilt.Changes[1].Reason)
	}
	b.done(rebuilt)
	kept, err := b.s.Proposing.Kept(ctx)
	if err != nil || len(kept) != 1 || kept[0].ID != first[0] || kept[0].Hour <= 0 || kept[0].Stack != "coast" || kept[0].Resource != "data" {
		t.Fatalf("kept are %+v (%v)", kept, err)
	}

	// So does a rename that is not told, and it is asked about.
	p := b.propose("coast", resources(netLine, strings.Replace(strings.Replace(diskLine, "data:", "store:", 1), "type: solid", "type: solid-plus", 1)))
	if said(p) != "create store, keep data" || !slices.ContainsFunc(p.Findings, func(f finding) bool { return f.Code == "renamed" && strings.Contains(f.Remedy, "`was: data`") }) {
		t.Errorf("%s %v", said(p), p.Findings)
	}

	// Retiring keeps too, and says so.
	retire, err := b.s.Proposing.Retire(ctx, b.r.Admin, "coast")
	if err != nil || said(retire) != "keep data, remove net" || len(retire.Consents) != 0 {
		t.Fatalf("%s %v %v", said(retire), retire.Consents, err)
	}
	run := b.done(retire)
	if events := b.r.Events(b.s, run.ID); strings.Contains(events, "nothing of it is left") || !strings.Contains(events, "kept, and still paid for: data, data") {
		t.Errorf("it is told: %s", events)
	}

	// A new stack of the name takes over the newest that fits.
	p = b.propose("coast", resources(netLine, strings.Replace(diskLine, "type: solid", "type: solid-plus", 1)))
	if said(p) != "create net, alter data" || p.Changes[1].TakesOver != "coast/data" {
		t.Errorf("%s %+v", said(p), p.Changes[1])
	}
	b.done(p)
	if kept, _ := b.s.Proposing.Kept(ctx); len(kept) != 1 || kept[0].ID != first[0] {
		t.Errorf("left among the kept are %v", kept)
	}
	if d := b.r.Differences(b.s, "coast", false); d != nil {
		t.Error(d)
	}
	// One that does not fit is left alone, and why is said.
	p = b.propose("coast", resources(netLine, strings.Replace(diskLine, "type: solid", "type: solid-plus", 1), "other: {type: address}"))
	b.done(p)

	gone, err := b.s.Proposing.Discard(ctx, b.r.Admin, "coast/data")
	if err != nil || len(gone.Consents) != 1 || gone.Consents[0].Name != "lose-data" || !strings.Contains(gone.Consents[0].About, "data (disk of 20GiB)") {
		t.Fatalf("%+v %v", gone.Consents, err)
	}
	_, err = b.s.Proposing.Accept(ctx, b.r.Admin, gone.ID, nil, "")
	wantKind(t, err, refusal.Consent, "consent that was not given")
	b.done(gone)
	if kept, _ := b.s.Proposing.Kept(ctx); len(kept) != 0 || slices.Contains(b.alive("disks"), first[0]) {
		t.Errorf("kept are still %v", kept)
	}
	if d := b.r.Differences(b.s, "coast", false); d != nil {
		t.Errorf("the stack beside it: %v", d)
	}
	if p := b.propose("coast", resources(netLine, strings.Replace(diskLine, "type: solid", "type: solid-plus", 1), "other: {type: address}")); p.State != "nothing" {
		t.Errorf("after that it would be %s", said(p))
	}
}

type finding = render.Finding

func TestLosingDataNeedsAConsentThatNamesIt(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	line := "data: {type: disk, repeat: 3, want: {size: 20GiB, type: solid}}"
	b.apply("coast", resources(line))
	for about, source := range map[string]string{
		"encryption":             strings.Replace(line, "type: solid", "type: solid, encrypted: true", 1),
		"a rename":               strings.Replace(line, "data:", "store:", 1),
		"fewer":                  strings.Replace(line, "repeat: 3", "repeat: 1", 1),
		"gone from the template": "net: {type: network, want: {range: 10.0.0.0/16}}",
	} {
		p := b.propose("coast", resources(source))
		if len(p.Consents) != 1 || p.Consents[0].Name != "lose-data" || !strings.Contains(p.Consents[0].About, "data[2] (disk of 20GiB)") {
			t.Errorf("%s asks for %v", about, p.Consents)
		}
	}
	p, err := b.s.Proposing.Retire(ctx, b.r.Admin, "coast")
	if err != nil || len(p.Consents) != 1 || strings.Count(p.Consents[0].About, "disk of 20GiB") != 3 {
		t.Errorf("retiring asks for %v (%v)", p.Consents, err)
	}
	_, err = b.s.Proposing.Accept(ctx, b.r.Admin, p.ID, []string{"lose-face"}, "")
	wantKind(t, err, refusal.Invalid, "it asks for lose-data")
	_, err = b.s.Proposing.Accept(ctx, b.r.Admin, p.ID, nil, "")
	wantKind(t, err, refusal.Consent, "needs a consent")
	if run := b.done(p); !strings.Contains(b.r.Events(b.s, run.ID), "nothing of it is left") {
		t.Error("that nothing is left is not said")
	}
}

func TestAConsentOfTheTemplateIsAskedForByTheInputsName(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	source := strings.Replace(resources("front: {type: address, want: {tags: {open: '=string(inputs.open)'}}}"), "resources:", "inputs: {open: {type: boolean, asks_consent: Everybody may come in}}\nresources:", 1)
	ask := func(open bool) proposing.Proposal {
		p, err := b.s.Proposing.Propose(ctx, b.r.Admin, proposing.NewProposal{Stack: "coast", Source: source, Account: "saltmere-lab", Region: "north-fell", Inputs: map[string]any{"open": open}})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		return p
	}
	p := ask(true)
	_, err := b.s.Proposing.Accept(ctx, b.r.Admin, p.ID, nil, "")
	wantKind(t, err, refusal.Consent, "consent")
	b.done(p)
	if again := ask(true); again.State != "nothing" {
		t.Errorf("asked for again it is %s", again.State)
	}
	if closed := ask(false); len(closed.Consents) != 0 {
		t.Errorf("closing asks for %v", closed.Consents)
	}
}

func TestWhatTradesPlacesGoesInAnOrderThatWorks(t *testing.T) {
	b := newBench(t, nil)
	subnets := func(one, two string) string {
		return resources(netLine, "one: {type: subnet, want: {network: =net.id, range: "+one+"}}", "two: {type: subnet, want: {network: =net.id, range: "+two+"}}",
			"door: {type: firewall, want: {network: =net.id, rules: [{from: 10.0.0.0/8, port: 22}]}}")
	}
	b.apply("coast", subnets("10.20.1.0/24", "10.20.2.0/24"))
	b.apply("coast", subnets("10.20.2.0/24", "10.20.1.0/24"))
	b.apply("coast", strings.ReplaceAll(subnets("10.20.2.0/24", "10.20.1.0/24"), "10.20.0.0/16", "10.20.0.0/20")) // it shrinks
	if d := b.r.Differences(b.s, "coast", false); d != nil {
		t.Error(d)
	}
}

func TestWhatStandsInTheWayFromElsewhereIsFoundBeforehand(t *testing.T) {
	b := newBench(t, nil)
	b.apply("coast", resources(netLine, lanLine))
	net := b.alive("networks")[0]
	b.apply("pier", resources(fmt.Sprintf("lan: {type: subnet, want: {network: %s, range: 10.20.9.0/24}}", net)))
	_, err := b.s.Proposing.Retire(context.Background(), b.r.Admin, "coast")
	wantKind(t, err, refusal.Findings, "cannot be retired")
	if text := servicetest.Explain(err); !strings.Contains(text, "net is used by lan of stack pier") {
		t.Error(text)
	}
	b.refused("coast", resources(strings.Replace(netLine, "/16", "/20", 1), lanLine), "in-use")
}

func TestARebuildMakesTheNewOneFirstWhereItCan(t *testing.T) {
	b := newBench(t, nil)
	host := "host: {type: instance, repeat: 2, rebuild: new_first, pace: {at_once: 1}, want: {size: plain-1, image: debian-12, subnet: =lan.id, user_data: {hostname: NAME}}}"
	at := func(name string, more ...string) string {
		return resources(append([]string{netLine, lanLine, strings.Replace(host, "NAME", name, 1)}, more...)...)
	}
	b.apply("coast", at("first"))
	p := b.propose("coast", at("second"))
	if said(p) != "rebuild host[0], rebuild host[1]" || p.Changes[2].Old != "host[0] (old)" {
		t.Fatalf("%s %+v", said(p), p.Changes)
	}
	run := b.done(p)
	var order []string
	for line := range strings.Lines(b.r.Events(b.s, run.ID)) {
		for _, end := range []string{" is healthy", " is removed"} {
			if name, ok := strings.CutSuffix(strings.TrimSpace(line), end); ok {
				order = append(order, name+end)
			}
		}
	}
	if got := strings.Join(order, ", "); got != "host[0] is healthy, host[0] (old) is removed, host[1] is healthy, host[1] (old) is removed" {
		t.Errorf("it went %s", got)
	}
	if d := b.r.Differences(b.s, "coast", false); d != nil {
		t.Error(d)
	}
	// With a disk that only one machine can have, the old one has to go first.
	solo := func(name string) string {
		return resources(netLine, lanLine, diskLine, strings.NewReplacer("repeat: 2, ", "", "pace: {at_once: 1}, ", "", "NAME", name, "subnet: =lan.id", "subnet: =lan.id, disks: [{disk: =data.id}]").Replace(host))
	}
	b.apply("pier", strings.ReplaceAll(solo("first"), "10.20.", "10.21."))
	p = b.propose("pier", strings.ReplaceAll(solo("second"), "10.20.", "10.21."))
	if c := p.Changes[len(p.Changes)-1]; c.Old != "" || !slices.ContainsFunc(p.Findings, func(f finding) bool {
		return f.Code == "old-first" && strings.Contains(f.Message, "holds the `disks.disk` data")
	}) {
		t.Errorf("%+v %v", c, p.Findings)
	}
	b.done(p)
}

func TestARunThatStopsBetweenTheNewAndTheOldGoesOn(t *testing.T) {
	b := newBench(t, nil)
	host := "host: {type: instance, rebuild: new_first, want: {size: plain-1, image: debian-12, subnet: =lan.id, user_data: {hostname: NAME}}}"
	at := func(name string) string { return resources(netLine, lanLine, strings.Replace(host, "NAME", name, 1)) }
	b.apply("coast", at("first"))
	b.r.Fault(world.Fault{Kind: "denied", On: "instances", Count: 1})
	run := b.r.Await(b.s, b.r.Carry(b.s, b.propose("coast", at("second"))))
	if run.State != "failed" || len(b.alive("instances")) != 1 {
		t.Fatalf("%s, alive %v", run.State, b.alive("instances"))
	}
	b.r.Lift()
	p, err := b.s.Proposing.Continue(context.Background(), b.r.Admin, "coast")
	if err != nil || p.State != "accepted" || said(p) != "rebuild host" {
		t.Fatalf("%s %s %v", p.State, said(p), err)
	}
	b.done(p)
	if d := b.r.Differences(b.s, "coast", false); d != nil || len(b.alive("instances")) != 1 {
		t.Error(d, b.alive("instances"))
	}
}

func TestNothingIsRemovedForAValueThatCannotWork(t *testing.T) {
	b := newBench(t, nil)
	source := resources(netLine, lanLine, "key: {type: key_pair, want: {public_key: '"+firstKey+"'}}", "host: {type: instance, repeat: 2, want: {size: plain-1, image: debian-12, subnet: =lan.id, key_pair: =key.id}}", diskLine)
	b.apply("coast", source)
	for about, words := range map[string][2]string{
		"a key that is cut off":     {firstKey, firstKey[:60]},
		"a key of nothing":          {firstKey, "ssh-ed25519 none"},
		"a disk of half a GiB":      {"size: 20GiB", "size: 20992MiB"},
		"a range that is too small": {"10.20.1.0/24", "10.20.1.0/30"},
		"a zone that is not there":  {"type: solid}", "type: solid, zone: south-fell-a}"},
		"a size that is not sold":   {"size: plain-1", "size: vast-64"},
	} {
		p, err := b.ask("coast", strings.ReplaceAll(source, words[0], words[1]))
		if err == nil {
			t.Errorf("%s is proposed: %s", about, said(p))
		}
	}
}

const secretTemplate = "undersail: 1\nabout: {name: desk, version: 1.0.0, title: Desk}\ninputs: {word: {secret: true, rules: {length: 8, classes: 1}}, note: {type: string, default: a}}\nresources:\n  word: {type: secret, patience: 9h, want: {value: =inputs.word, tags: {note: =inputs.note}}}\n"

func (b *bench) askSecret(word, note string) (proposing.Proposal, error) {
	n := proposing.NewProposal{Stack: "desk", Source: secretTemplate, Account: "saltmere-lab", Region: "north-fell", Inputs: map[string]any{"note": note}}
	if word != "" {
		n.Secrets = map[string]string{"word": word}
	}
	return b.s.Proposing.Propose(context.Background(), b.r.Admin, n)
}

func TestASecretOfAProposalThatIsNeverAcceptedReachesNoOther(t *testing.T) {
	b := newBench(t, nil)
	p, err := b.askSecret("kelp and shingle", "a")
	if err != nil {
		t.Fatal(err)
	}
	b.done(p)
	if p, err = b.askSecret("neap tide!", "a"); err != nil || said(p) != "alter word" {
		t.Fatal(err, said(p))
	}
	if _, err := b.s.Proposing.Refuse(context.Background(), b.r.Admin, p.ID, "not now"); err != nil {
		t.Fatal(err)
	}
	p, err = b.askSecret("", "b")
	if err != nil || said(p) != "alter word" || len(p.Changes[0].Fields) != 1 || p.Changes[0].Fields[0].Name != "tags.note" {
		t.Errorf("%v %+v", err, p.Changes)
	}
	if p, err = b.askSecret("", "a"); err != nil || p.State != "nothing" {
		t.Errorf("it would be %s (%v)", said(p), err)
	}
}

func TestTwoPeopleGiveDifferentSecretsAtOnce(t *testing.T) {
	b := newBench(t, nil)
	var all sync.WaitGroup
	var mu sync.Mutex
	references := map[string]string{}
	for i := range 8 {
		all.Go(func() {
			word := fmt.Sprintf("kelp and shingle %d", i)
			p, err := b.askSecret(word, "a")
			if err != nil {
				return // somebody else made the stack at this moment
			}
			mu.Lock()
			defer mu.Unlock()
			reference := fmt.Sprint(p.Inputs[0].Value)
			if other := references[reference]; other != "" {
				t.Errorf("%s stands for %q and %q", reference, other, word)
			}
			references[reference] = word
		})
	}
	all.Wait()
	if len(references) == 0 {
		t.Error("nobody could propose")
	}
	p, err := b.askSecret("the one that is applied", "a")
	if err != nil {
		t.Fatal(err)
	}
	b.done(p)
	for _, x := range b.r.Ledger().Alive {
		if x.Kind == "secrets" && x.Phase != "ready" {
			t.Errorf("%+v", x)
		}
	}
}

func TestSecretOutputsOfAnotherStackArrive(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	giver := "undersail: 1\nabout: {name: giver, version: 1.0.0, title: Giver}\ninputs: {word: {secret: true, rules: {length: 8, classes: 1}}}\nresources:\n  word: {type: secret, patience: 9h, want: {value: =inputs.word}}\noutputs: {word: {value: ='=\"word \" + inputs.word', about: W}}\n"
	giver = strings.Replace(giver, "='=", "'=", 1)
	if _, _, err := b.s.Templates.Publish(ctx, b.r.Admin, lang.Bundle{File: "giver.sail.yaml", Source: giver}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	give := func(word string) {
		t.Helper()
		p, err := b.s.Proposing.Propose(ctx, b.r.Admin, proposing.NewProposal{Stack: "giver", Template: "giver", Account: "saltmere-lab", Region: "north-fell", Secrets: map[string]string{"word": word}})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		b.done(p)
	}
	give("kelp and shingle")
	taker := "undersail: 1\nabout: {name: taker, version: 1.0.0, title: Taker}\ninputs: {from: {picks: stack, of: giver@^1}}\nresources:\n  copy: {type: secret, patience: 9h, want: {value: =inputs.from.outputs.word}}\n"
	take := func() proposing.Proposal {
		t.Helper()
		p, err := b.s.Proposing.Propose(ctx, b.r.Admin, proposing.NewProposal{Stack: "taker", Source: taker, Account: "saltmere-lab", Region: "north-fell", Inputs: map[string]any{"from": "giver"}})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		return p
	}
	value := func() string {
		return b.r.SecretValue("taker-copy")
	}
	b.done(take())
	if got := value(); got != "word kelp and shingle" {
		t.Errorf("what arrived is %q", got)
	}
	if p := take(); p.State != "nothing" {
		t.Errorf("taken again: %s", said(p))
	}
	p := func() proposing.Proposal { give("neap tide!!"); return take() }()
	if said(p) != "alter copy" {
		t.Errorf("after another was given: %s", said(p))
	}
	give("slack water")
	if _, err := b.s.Proposing.Accept(ctx, b.r.Admin, p.ID, nil, ""); err != nil {
		t.Fatal(err)
	}
	_, err := b.s.Proposing.Apply(ctx, b.r.Admin, p.ID, "")
	wantKind(t, err, refusal.Stale, "another now")
	b.done(take())
	if got := value(); got != "word slack water" {
		t.Errorf("what arrived is %q", got)
	}
}

func TestContinuingDoesOnlyWhatWasAccepted(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	giver := "undersail: 1\nabout: {name: plan, version: 1.0.0, title: Plan}\ninputs: {range: {type: string}}\nresources:\n  front: {type: address}\noutputs: {range: {value: =inputs.range, about: R}}\n"
	if _, _, err := b.s.Templates.Publish(ctx, b.r.Admin, lang.Bundle{File: "plan.sail.yaml", Source: giver}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	plan := func(at string) {
		t.Helper()
		p, err := b.s.Proposing.Propose(ctx, b.r.Admin, proposing.NewProposal{Stack: "plan", Template: "plan", Account: "saltmere-lab", Region: "north-fell", Inputs: map[string]any{"range": at}})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		b.done(p)
	}
	plan("10.30.0.0/16")
	source := "undersail: 1\nabout: {name: coast, version: 1.0.0, title: Coast}\ninputs: {plan: {picks: stack, of: plan@^1}}\nresources:\n  net: {type: network, patience: 9h, want: {range: =inputs.plan.outputs.range}}\n  data: {type: disk, patience: 9h, want: {size: 10GiB, type: solid}}\n"
	b.r.Fault(world.Fault{Kind: "denied", On: "disks", Count: -1})
	p, err := b.s.Proposing.Propose(ctx, b.r.Admin, proposing.NewProposal{Stack: "coast", Source: source, Account: "saltmere-lab", Region: "north-fell", Inputs: map[string]any{"plan": "plan"}})
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run := b.r.Await(b.s, b.r.Carry(b.s, p)); run.State != "failed" {
		t.Fatal(run.State)
	}
	b.r.Lift()
	plan("10.31.0.0/16")
	p, err = b.s.Proposing.Continue(ctx, b.r.Admin, "coast")
	if err != nil || p.State != "open" || said(p) != "rebuild net, create data" {
		t.Fatalf("%s: %s (%v)", p.State, said(p), err)
	}
	if !slices.ContainsFunc(p.Findings, func(f finding) bool { return f.Code == "beyond" && strings.Contains(f.Message, "`range` of net") }) {
		t.Errorf("why is not said: %v", p.Findings)
	}
	plan("10.30.0.0/16")
	if p, err = b.s.Proposing.Continue(ctx, b.r.Admin, "coast"); err != nil || p.State != "accepted" || said(p) != "create data" {
		t.Errorf("%s: %s (%v)", p.State, said(p), err)
	}
	b.done(p)
}

func TestAProposalIsStaleByWhatItRestsOn(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	rules := "door: {type: firewall, want: {network: =net.id, rules: [{from: 10.0.0.0/8, port: PORT}]}}"
	b.apply("coast", resources(netLine, strings.Replace(rules, "PORT", "22", 1)))
	p := b.propose("coast", resources(netLine, strings.Replace(rules, "PORT", "80", 1)))
	if _, err := b.s.Proposing.Accept(ctx, b.r.Admin, p.ID, nil, ""); err != nil {
		t.Fatal(err)
	}
	// As many changes as before, and not the same.
	b.r.ByHand("PATCH", b.alive("firewalls")[0], map[string]any{"inbound": []any{map[string]any{"source": "0.0.0.0/0", "port": 22}}})
	b.r.RemoveByHand(b.alive("networks")[0])
	_, err := b.s.Proposing.Apply(ctx, b.r.Admin, p.ID, "")
	wantKind(t, err, refusal.Stale, "net was to be left as it is and would now be created")
}

func TestOneDiskMoreIsShownAsOneMore(t *testing.T) {
	b := newBench(t, nil)
	for n, form := range []string{`'=data.map(d, {"disk": d.id})'`, `=calc.attached`} {
		with := func(disks int) string {
			source := resources(strings.Replace(netLine, ".20.", fmt.Sprintf(".%d.", 20+n), 1), strings.Replace(lanLine, ".20.", fmt.Sprintf(".%d.", 20+n), 1),
				fmt.Sprintf("data: {type: disk, repeat: %d, want: {size: 20GiB, type: solid}}", disks), "host: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, disks: "+form+"}}")
			return strings.Replace(source, "resources:", `calc: {attached: '=data.map(d, {"disk": d.id})'}`+"\nresources:", 1)
		}
		stack := fmt.Sprintf("coast-%d", n)
		b.apply(stack, with(2))
		p := b.propose(stack, with(3))
		i := slices.IndexFunc(p.Changes, func(c change.Change) bool { return c.Resource == "host" })
		var shown []string
		for _, f := range p.Changes[i].Fields {
			shown = append(shown, fmt.Sprintf("%s %v", f.Name, f.Before))
		}
		if got := strings.Join(shown, "; "); got != "disks[data[2]].disk <nil>; after data[0], data[1], lan" {
			t.Errorf("%s: %s", form, got)
		}
		b.done(p)
		if d := b.r.Differences(b.s, stack, false); d != nil {
			t.Error(d)
		}
	}
}

func TestQuotasCountForAlterationsAndWhatIsFreed(t *testing.T) {
	b := newBench(t, map[string]int64{"vcpus": 6, "networks": 1, "disk_gib": 100})
	hosts := func(n int, size string) string {
		return resources(netLine, lanLine, fmt.Sprintf("host: {type: instance, repeat: %d, want: {size: %s, image: debian-12, subnet: =lan.id}}", n, size))
	}
	b.apply("coast", hosts(3, "plain-2"))
	b.refused("coast", hosts(3, "plain-4"), "quota")
	b.refused("coast", hosts(1, "vast-64"), "not-offered")
	// Two go, and the third may then have what they had; so may a network.
	b.apply("coast", hosts(1, "plain-4"))
	b.apply("coast", strings.Replace(hosts(1, "plain-4"), "10.20.0.0/16", "10.20.0.0/17", 1))
	if d := b.r.Differences(b.s, "coast", false); d != nil {
		t.Error(d)
	}
	disk := "data: {type: disk, want: {size: SIZE, type: solid}}"
	b.apply("store", resources(strings.Replace(disk, "SIZE", "60GiB", 1)))
	b.refused("store", resources(strings.Replace(disk, "SIZE", "160GiB", 1)), "quota")
	// Larch refuses the same.
	var live []cloud.Live
	live, err := cloud.Collect(b.r.Adapter().Search(context.Background(), cloud.Query{Region: "north-fell", Type: "disk", Name: "store-data"}))
	if err != nil || len(live) != 1 {
		t.Fatal(err, live)
	}
	_, err = b.r.Adapter().Step(context.Background(), cloud.Task{Action: cloud.Alter, Ref: live[0].Ref, Want: map[string]any{"size": "160GiB"}}, nil)
	if cloud.ClassOf(err) != cloud.Quota {
		t.Errorf("Larch says %v", err)
	}
}

func TestAnotherRegionIsJudgedByItsOwnOffers(t *testing.T) {
	b := newBench(t, nil)
	b.apply("coast", resources("data: {type: disk, region: quarry-hill, want: {size: 10GiB, type: solid}}"))
	b.refused("coast", resources("data: {type: disk, region: quarry-hill, want: {size: 10GiB, type: solid-plus}}"), "not-offered")
	b.refused("coast", resources("data: {type: disk, region: south-fell, want: {size: 10GiB, type: solid}}"), "no region")
	p := b.propose("coast", resources("data: {type: disk, region: long-sound, want: {size: 10GiB, type: solid-plus}}"))
	if said(p) != "rebuild data" || len(p.Consents) != 1 {
		t.Errorf("moving it: %s %v", said(p), p.Consents)
	}
}

func TestAStackThatWasNeverAppliedIsNoStack(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	b.propose("coast", resources(netLine))
	if list, err := b.s.Stacks.List(ctx, "", 10); err != nil || len(list) != 0 {
		t.Errorf("%v %v", list, err)
	}
	_, err := b.s.Stacks.Show(ctx, "coast")
	wantKind(t, err, refusal.NotFound, "undersail proposals --stack coast")
	// It is bound to no place yet.
	p, err := b.s.Proposing.Propose(ctx, b.r.Admin, proposing.NewProposal{Stack: "coast", Source: resources(netLine), Account: "saltmere-lab", Region: "long-sound"})
	if err != nil || p.Region != "long-sound" {
		t.Errorf("%s %v", p.Region, err)
	}
	b.done(p)
	if list, err := b.s.Stacks.List(ctx, "", 10); err != nil || len(list) != 1 || list[0].Region != "long-sound" {
		t.Errorf("%v %v", list, err)
	}
}

func TestOutputsThatReadOffersAreCompleteWhenARunIsDone(t *testing.T) {
	b := newBench(t, nil)
	source := strings.Replace(resources("front: {type: address}"), "resources:", "calc: {size: '=fit_size(offers, size_need{vcpus: 2, architecture: \"x86_64\"})'}\nresources:", 1) + "outputs: {size: {value: =calc.size, about: Size}}\n"
	b.apply("coast", source)
	outputs, err := b.s.Stacks.Outputs(context.Background(), "coast")
	if err != nil || len(outputs) != 1 || fmt.Sprint(outputs[0].Value) != "brisk-2" {
		t.Errorf("%v %v", outputs, err)
	}
}

func TestUndoingTakesBackWhatWasKeptAndGivesBackWhatWasTakenOver(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	b.apply("coast", resources(netLine, diskLine))
	disk := b.alive("disks")[0]
	dropped := b.apply("coast", resources(netLine))
	if kept, _ := b.s.Proposing.Kept(ctx); len(kept) != 1 {
		t.Fatalf("kept are %v", kept)
	}
	p, err := b.s.Proposing.Undo(ctx, b.r.Admin, dropped.ID)
	if err != nil || said(p) != "alter data" || p.Changes[1].TakesOver != "coast/data" {
		t.Fatalf("%s %v", said(p), err)
	}
	if run := b.r.Await(b.s, b.r.Carry(b.s, p)); run.State != "done" {
		t.Fatal(run.State, run.Reason)
	}
	if kept, _ := b.s.Proposing.Kept(ctx); len(kept) != 0 || b.alive("disks")[0] != disk {
		t.Errorf("kept are %v", kept)
	}
	if d := b.r.Differences(b.s, "coast", false); d != nil {
		t.Error(d)
	}
	retire, err := b.s.Proposing.Retire(ctx, b.r.Admin, "coast")
	if err != nil {
		t.Fatal(err)
	}
	b.done(retire)
	taken := b.apply("coast", resources(netLine, diskLine))
	if p, err = b.s.Proposing.Undo(ctx, b.r.Admin, taken.ID); err != nil || said(p) != "keep data, remove net" || len(p.Consents) != 0 {
		t.Fatalf("%s %v %v", said(p), p.Consents, err)
	}
	b.r.Await(b.s, b.r.Carry(b.s, p))
	if kept, _ := b.s.Proposing.Kept(ctx); len(kept) != 1 || kept[0].ID != disk {
		t.Errorf("kept are %v", kept)
	}
}

func TestWhatIsKeptAndGoneByHandIsNotTakenOver(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	b.apply("coast", resources(netLine, diskLine))
	b.apply("coast", resources(netLine))
	b.r.RemoveByHand(b.alive("disks")[0])
	p := b.propose("coast", resources(netLine, diskLine))
	if said(p) != "create data" || !slices.ContainsFunc(p.Findings, func(f finding) bool {
		return f.Code == "kept-missing" && strings.Contains(f.Remedy, "undersail kept remove dsk-")
	}) {
		t.Errorf("%s %v", said(p), p.Findings)
	}
	gone, err := b.s.Proposing.Discard(ctx, b.r.Admin, "coast/data")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	b.done(gone)
	if kept, _ := b.s.Proposing.Kept(ctx); len(kept) != 0 {
		t.Errorf("it is still listed: %v", kept)
	}
}

func TestOneOfTwoTakesAKeptResourceOver(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	b.apply("coast", resources(netLine, diskLine))
	b.apply("coast", resources(netLine))
	gone, err := b.s.Proposing.Discard(ctx, b.r.Admin, "coast/data")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if _, err := b.s.Proposing.Accept(ctx, b.r.Admin, gone.ID, []string{"lose-data"}, ""); err != nil {
		t.Fatal(err)
	}
	b.apply("coast", resources(netLine, diskLine)) // takes it over meanwhile
	_, err = b.s.Proposing.Apply(ctx, b.r.Admin, gone.ID, "")
	wantKind(t, err, refusal.Stale, "")
	if len(b.alive("disks")) != 1 {
		t.Error("what was taken over is removed")
	}
}
