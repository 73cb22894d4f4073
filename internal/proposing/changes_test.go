package proposing_test

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
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

func TestWhatIsToBeKeptIsKeptListedTakenOverAndRemovedForGood(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	first := b.Alive("disks")

	// A rebuild keeps the old one, without a consent.
	rebuilt := b.Propose("coast",
		servicetest.Source(servicetest.NetLine,
			strings.Replace(servicetest.DiskLine, "type: solid", "type: solid-plus", 1)))
	if servicetest.Changes(rebuilt) != "rebuild data" || len(rebuilt.Consents) != 0 ||
		!strings.Contains(rebuilt.Changes[1].Reason, "the old one is kept") {
		t.Errorf("%s, consents %v, because %s", servicetest.Changes(rebuilt), rebuilt.Consents,
			rebuilt.Changes[1].Reason)
	}
	b.Done(rebuilt)
	kept, err := b.Service.Proposing.Kept(ctx)
	if err != nil || len(kept) != 1 || kept[0].ID != first[0] || kept[0].Hour <= 0 || kept[0].Stack != "coast" ||
		kept[0].Resource != "data" {
		t.Fatalf("kept are %+v (%v)", kept, err)
	}

	// So does a rename that is not told, and it is asked about.
	p := b.Propose("coast", servicetest.Source(servicetest.NetLine,
		strings.Replace(strings.Replace(servicetest.DiskLine, "data:", "store:", 1), "type: solid", "type: solid-plus",
			1)))
	if servicetest.Changes(p) != "create store, keep data" ||
		!slices.ContainsFunc(p.Findings,
			func(f finding) bool { return f.Code == "renamed" && strings.Contains(f.Remedy, "`was: data`") }) {
		t.Errorf("%s %v", servicetest.Changes(p), p.Findings)
	}

	// Retiring keeps too, and says so.
	retire, err := b.Service.Proposing.Retire(ctx, b.Rig.Admin, "coast")
	if err != nil || servicetest.Changes(retire) != "keep data, remove net" || len(retire.Consents) != 0 {
		t.Fatalf("%s %v %v", servicetest.Changes(retire), retire.Consents, err)
	}
	run := b.Done(retire)
	events := b.Rig.Events(b.Service, run.ID)
	if strings.Contains(events, "nothing of it is left") ||
		!strings.Contains(events, "kept, and still paid for: data, data") {
		t.Errorf("it is told: %s", events)
	}

	// A new stack of the name takes over the newest that fits.
	p = b.Propose("coast", servicetest.Source(servicetest.NetLine,
		strings.Replace(servicetest.DiskLine, "type: solid", "type: solid-plus", 1)))
	if servicetest.Changes(p) != "create net, alter data" || p.Changes[1].TakesOver != "coast/data" {
		t.Errorf("%s %+v", servicetest.Changes(p), p.Changes[1])
	}
	b.Done(p)
	if kept, _ := b.Service.Proposing.Kept(ctx); len(kept) != 1 || kept[0].ID != first[0] {
		t.Errorf("left among the kept are %v", kept)
	}
	if d := b.Rig.Differences(b.Service, "coast", false); d != nil {
		t.Error(d)
	}
	// One that does not fit is left alone, and why is said.
	p = b.Propose("coast", servicetest.Source(servicetest.NetLine,
		strings.Replace(servicetest.DiskLine, "type: solid", "type: solid-plus", 1), "other: {type: address}"))
	b.Done(p)

	gone, err := b.Service.Proposing.Discard(ctx, b.Rig.Admin, "coast/data")
	if err != nil || len(gone.Consents) != 1 || gone.Consents[0].Name != "lose-data" ||
		!strings.Contains(gone.Consents[0].About, "data (disk of 20GiB)") {
		t.Fatalf("%+v %v", gone.Consents, err)
	}
	_, err = b.Service.Proposing.Accept(ctx, b.Rig.Admin, gone.ID, nil, "")
	servicetest.WantKind(t, err, refusal.Consent, "consent that was not given")
	b.Done(gone)
	if kept, _ := b.Service.Proposing.Kept(ctx); len(kept) != 0 || slices.Contains(b.Alive("disks"), first[0]) {
		t.Errorf("kept are still %v", kept)
	}
	if d := b.Rig.Differences(b.Service, "coast", false); d != nil {
		t.Errorf("the stack beside it: %v", d)
	}
	p = b.Propose("coast", servicetest.Source(servicetest.NetLine,
		strings.Replace(servicetest.DiskLine, "type: solid", "type: solid-plus", 1), "other: {type: address}"))
	if p.State != "nothing" {
		t.Errorf("after that it would be %s", servicetest.Changes(p))
	}
}

type finding = render.Finding

func TestLosingDataNeedsAConsentThatNamesIt(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	line := "data: {type: disk, repeat: 3, want: {size: 20GiB, type: solid}}"
	b.Apply("coast", servicetest.Source(line))
	for about, source := range map[string]string{
		"encryption":             strings.Replace(line, "type: solid", "type: solid, encrypted: true", 1),
		"a rename":               strings.Replace(line, "data:", "store:", 1),
		"fewer":                  strings.Replace(line, "repeat: 3", "repeat: 1", 1),
		"gone from the template": "net: {type: network, want: {range: 10.0.0.0/16}}",
	} {
		p := b.Propose("coast", servicetest.Source(source))
		if len(p.Consents) != 1 || p.Consents[0].Name != "lose-data" ||
			!strings.Contains(p.Consents[0].About, "data[2] (disk of 20GiB)") {
			t.Errorf("%s asks for %v", about, p.Consents)
		}
	}
	p, err := b.Service.Proposing.Retire(ctx, b.Rig.Admin, "coast")
	if err != nil || len(p.Consents) != 1 || strings.Count(p.Consents[0].About, "disk of 20GiB") != 3 {
		t.Errorf("retiring asks for %v (%v)", p.Consents, err)
	}
	_, err = b.Service.Proposing.Accept(ctx, b.Rig.Admin, p.ID, []string{"lose-face"}, "")
	servicetest.WantKind(t, err, refusal.Invalid, "it asks for lose-data")
	_, err = b.Service.Proposing.Accept(ctx, b.Rig.Admin, p.ID, nil, "")
	servicetest.WantKind(t, err, refusal.Consent, "needs a consent")
	if run := b.Done(p); !strings.Contains(b.Rig.Events(b.Service, run.ID), "nothing of it is left") {
		t.Error("that nothing is left is not said")
	}
}

func TestAConsentOfTheTemplateIsAskedForByTheInputsName(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	source := strings.Replace(servicetest.Source("front: {type: address, want: {tags: "+
		"{open: '=string(inputs.open)'}}}"),
		"resources:", "inputs: {open: {type: boolean, asks_consent: Everybody may come in}}\nresources:", 1)
	ask := func(open bool) proposing.Proposal {
		p, err := b.Service.Proposing.Propose(ctx, b.Rig.Admin, proposing.NewProposal{
			Stack:   "coast",
			Source:  source,
			Account: "saltmere-lab",
			Region:  "north-fell",
			Inputs:  map[string]any{"open": open},
		})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		return p
	}
	p := ask(true)
	_, err := b.Service.Proposing.Accept(ctx, b.Rig.Admin, p.ID, nil, "")
	servicetest.WantKind(t, err, refusal.Consent, "consent")
	b.Done(p)
	if again := ask(true); again.State != "nothing" {
		t.Errorf("asked for again it is %s", again.State)
	}
	if closed := ask(false); len(closed.Consents) != 0 {
		t.Errorf("closing asks for %v", closed.Consents)
	}
}

func TestWhatTradesPlacesGoesInAnOrderThatWorks(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	subnets := func(one, two string) string {
		return servicetest.Source(servicetest.NetLine, "one: {type: subnet, want: {network: =net.id, range: "+one+"}}",
			"two: {type: subnet, want: {network: =net.id, range: "+two+"}}",
			"door: {type: firewall, want: {network: =net.id, rules: [{from: 10.0.0.0/8, port: 22}]}}")
	}
	b.Apply("coast", subnets("10.20.1.0/24", "10.20.2.0/24"))
	b.Apply("coast", subnets("10.20.2.0/24", "10.20.1.0/24"))
	// it shrinks
	b.Apply("coast", strings.ReplaceAll(subnets("10.20.2.0/24", "10.20.1.0/24"), "10.20.0.0/16", "10.20.0.0/20"))
	if d := b.Rig.Differences(b.Service, "coast", false); d != nil {
		t.Error(d)
	}
}

func TestWhatStandsInTheWayFromElsewhereIsFoundBeforehand(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.LanLine))
	net := b.Alive("networks")[0]
	b.Apply("pier", servicetest.Source(fmt.Sprintf("lan: {type: subnet, want: {network: %s, range: 10.20.9.0/24}}",
		net)))
	_, err := b.Service.Proposing.Retire(context.Background(), b.Rig.Admin, "coast")
	servicetest.WantKind(t, err, refusal.Findings, "cannot be retired")
	if text := servicetest.Explain(err); !strings.Contains(text, "net is used by lan of stack pier") {
		t.Error(text)
	}
	b.Refused("coast", servicetest.Source(strings.Replace(servicetest.NetLine, "/16", "/20", 1), servicetest.LanLine),
		"in-use")
}

func TestARebuildMakesTheNewOneFirstWhereItCan(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	host := "host: {type: instance, repeat: 2, rebuild: new_first, pace: {at_once: 1}, want: {size: plain-1, image: " +
		"debian-12, subnet: =lan.id, user_data: {hostname: NAME}}}"
	at := func(name string, more ...string) string {
		return servicetest.Source(append([]string{servicetest.NetLine, servicetest.LanLine,
			strings.Replace(host, "NAME", name, 1)}, more...)...)
	}
	b.Apply("coast", at("first"))
	p := b.Propose("coast", at("second"))
	if servicetest.Changes(p) != "rebuild host[0], rebuild host[1]" || p.Changes[2].Old != "host[0] (old)" {
		t.Fatalf("%s %+v", servicetest.Changes(p), p.Changes)
	}
	run := b.Done(p)
	var order []string
	for line := range strings.Lines(b.Rig.Events(b.Service, run.ID)) {
		for _, end := range []string{" is healthy", " is removed"} {
			if name, ok := strings.CutSuffix(strings.TrimSpace(line), end); ok {
				order = append(order, name+end)
			}
		}
	}
	got := strings.Join(order, ", ")
	if got != "host[0] is healthy, host[0] (old) is removed, host[1] is healthy, host[1] (old) is removed" {
		t.Errorf("it went %s", got)
	}
	if d := b.Rig.Differences(b.Service, "coast", false); d != nil {
		t.Error(d)
	}
	// With a disk that only one machine can have, the old one has to go first.
	solo := func(name string) string {
		return servicetest.Source(servicetest.NetLine, servicetest.LanLine, servicetest.DiskLine,
			strings.NewReplacer("repeat: 2, ", "", "pace: {at_once: 1}, ", "", "NAME", name, "subnet: =lan.id",
				"subnet: =lan.id, disks: [{disk: =data.id}]").Replace(host))
	}
	b.Apply("pier", strings.ReplaceAll(solo("first"), "10.20.", "10.21."))
	p = b.Propose("pier", strings.ReplaceAll(solo("second"), "10.20.", "10.21."))
	if c := p.Changes[len(p.Changes)-1]; c.Old != "" || !slices.ContainsFunc(p.Findings, func(f finding) bool {
		return f.Code == "old-first" && strings.Contains(f.Message, "holds the `disks.disk` data")
	}) {
		t.Errorf("%+v %v", c, p.Findings)
	}
	b.Done(p)
}

func TestARunThatStopsBetweenTheNewAndTheOldGoesOn(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	host := "host: {type: instance, rebuild: new_first, want: {size: plain-1, image: debian-12, subnet: =lan.id, " +
		"user_data: {hostname: NAME}}}"
	at := func(name string) string {
		return servicetest.Source(servicetest.NetLine, servicetest.LanLine, strings.Replace(host, "NAME", name, 1))
	}
	b.Apply("coast", at("first"))
	b.Rig.Fault(world.Fault{Kind: "denied", On: "instances", Count: 1})
	run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, b.Propose("coast", at("second"))))
	if run.State != "failed" || len(b.Alive("instances")) != 1 {
		t.Fatalf("%s, alive %v", run.State, b.Alive("instances"))
	}
	b.Rig.Lift()
	p, err := b.Service.Proposing.Continue(context.Background(), b.Rig.Admin, "coast")
	if err != nil || p.State != "accepted" || servicetest.Changes(p) != "rebuild host" {
		t.Fatalf("%s %s %v", p.State, servicetest.Changes(p), err)
	}
	b.Done(p)
	if d := b.Rig.Differences(b.Service, "coast", false); d != nil || len(b.Alive("instances")) != 1 {
		t.Error(d, b.Alive("instances"))
	}
}

const firstKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAILyRaI/hC8BZKesjn6bxJlW30teDEawZU1aofkog5YbO " +
	"ines@saltmere.example"

func TestNothingIsRemovedForAValueThatCannotWork(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	source := servicetest.Source(servicetest.NetLine, servicetest.LanLine,
		"key: {type: key_pair, want: {public_key: '"+firstKey+"'}}",
		"host: {type: instance, repeat: 2, want: {size: plain-1, image: debian-12, subnet: =lan.id, "+
			"key_pair: =key.id}}", servicetest.DiskLine)
	b.Apply("coast", source)
	for about, words := range map[string][2]string{
		"a key that is cut off":     {firstKey, firstKey[:60]},
		"a key of nothing":          {firstKey, "ssh-ed25519 none"},
		"a disk of half a GiB":      {"size: 20GiB", "size: 20992MiB"},
		"a range that is too small": {"10.20.1.0/24", "10.20.1.0/30"},
		"a zone that is not there":  {"type: solid}", "type: solid, zone: south-fell-a}"},
		"a size that is not sold":   {"size: plain-1", "size: vast-64"},
	} {
		p, err := b.Ask("coast", strings.ReplaceAll(source, words[0], words[1]))
		if err == nil {
			t.Errorf("%s is proposed: %s", about, servicetest.Changes(p))
		}
	}
}

const secretTemplate = "undersail: 1\nabout: {name: desk, version: 1.0.0, title: Desk}\ninputs: {word: {secret: " +
	"true, rules: {length: 8, classes: 1}}, note: {type: string, default: a}}\nresources:\n  word: {type: secret, " +
	"patience: 99h, want: {value: =inputs.word, tags: {note: =inputs.note}}}\n"

func askSecret(b *servicetest.Bench, word, note string) (proposing.Proposal, error) {
	n := proposing.NewProposal{
		Stack:   "desk",
		Source:  secretTemplate,
		Account: "saltmere-lab",
		Region:  "north-fell",
		Inputs:  map[string]any{"note": note},
	}
	if word != "" {
		n.Secrets = map[string]string{"word": word}
	}
	return b.Service.Proposing.Propose(context.Background(), b.Rig.Admin, n)
}

func TestASecretOfAProposalThatIsNeverAcceptedReachesNoOther(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	p, err := askSecret(b, "kelp and shingle", "a")
	if err != nil {
		t.Fatal(err)
	}
	b.Done(p)
	if p, err = askSecret(b, "neap tide!", "a"); err != nil || servicetest.Changes(p) != "alter word" {
		t.Fatal(err, servicetest.Changes(p))
	}
	if _, err := b.Service.Proposing.Refuse(context.Background(), b.Rig.Admin, p.ID, "not now"); err != nil {
		t.Fatal(err)
	}
	p, err = askSecret(b, "", "b")
	if err != nil || servicetest.Changes(p) != "alter word" || len(p.Changes[0].Fields) != 1 ||
		p.Changes[0].Fields[0].Name != "tags.note" {
		t.Errorf("%v %+v", err, p.Changes)
	}
	if p, err = askSecret(b, "", "a"); err != nil || p.State != "nothing" {
		t.Errorf("it would be %s (%v)", servicetest.Changes(p), err)
	}
}

func TestTwoPeopleGiveDifferentSecretsAtOnce(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	var all sync.WaitGroup
	var mu sync.Mutex
	references := map[string]string{}
	for i := range 8 {
		all.Go(func() {
			word := fmt.Sprintf("kelp and shingle %d", i)
			p, err := askSecret(b, word, "a")
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
	p, err := askSecret(b, "the one that is applied", "a")
	if err != nil {
		t.Fatal(err)
	}
	b.Done(p)
	for _, x := range b.Rig.Ledger().Alive {
		if x.Kind == "secrets" && x.Phase != "ready" {
			t.Errorf("%+v", x)
		}
	}
}

func TestSecretOutputsOfAnotherStackArrive(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	giver := "undersail: 1\nabout: {name: giver, version: 1.0.0, title: Giver}\ninputs: {word: {secret: true, " +
		"rules: {length: 8, classes: 1}}}\nresources:\n  word: {type: secret, patience: 99h, want: {value: " +
		"=inputs.word}}\noutputs: {word: {value: ='=\"word \" + inputs.word', about: W}}\n"
	giver = strings.Replace(giver, "='=", "'=", 1)
	_, _, err := b.Service.Templates.Publish(ctx, b.Rig.Admin, lang.Bundle{File: "giver.sail.yaml", Source: giver})
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	give := func(word string) {
		t.Helper()
		p, err := b.Service.Proposing.Propose(ctx, b.Rig.Admin, proposing.NewProposal{
			Stack:    "giver",
			Template: "giver",
			Account:  "saltmere-lab",
			Region:   "north-fell",
			Secrets:  map[string]string{"word": word},
		})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		b.Done(p)
	}
	give("kelp and shingle")
	taker := "undersail: 1\nabout: {name: taker, version: 1.0.0, title: Taker}\ninputs: {from: {picks: stack, of: " +
		"giver@^1}}\nresources:\n  copy: {type: secret, patience: 99h, want: {value: =inputs.from.outputs.word}}\n"
	take := func() proposing.Proposal {
		t.Helper()
		p, err := b.Service.Proposing.Propose(ctx, b.Rig.Admin, proposing.NewProposal{
			Stack:   "taker",
			Source:  taker,
			Account: "saltmere-lab",
			Region:  "north-fell",
			Inputs:  map[string]any{"from": "giver"},
		})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		return p
	}
	value := func() string {
		return b.Rig.SecretValue("taker-copy")
	}
	b.Done(take())
	if got := value(); got != "word kelp and shingle" {
		t.Errorf("what arrived is %q", got)
	}
	if p := take(); p.State != "nothing" {
		t.Errorf("taken again: %s", servicetest.Changes(p))
	}
	p := func() proposing.Proposal { give("neap tide!!"); return take() }()
	if servicetest.Changes(p) != "alter copy" {
		t.Errorf("after another was given: %s", servicetest.Changes(p))
	}
	give("slack water")
	if _, err := b.Service.Proposing.Accept(ctx, b.Rig.Admin, p.ID, nil, ""); err != nil {
		t.Fatal(err)
	}
	_, err = b.Service.Proposing.Apply(ctx, b.Rig.Admin, p.ID, "")
	servicetest.WantKind(t, err, refusal.Stale, "another now")
	b.Done(take())
	if got := value(); got != "word slack water" {
		t.Errorf("what arrived is %q", got)
	}
}

func TestContinuingDoesOnlyWhatWasAccepted(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	giver := "undersail: 1\nabout: {name: plan, version: 1.0.0, title: Plan}\ninputs: {range: {type: " +
		"string}}\nresources:\n  front: {type: address}\noutputs: {range: {value: =inputs.range, about: R}}\n"
	_, _, err := b.Service.Templates.Publish(ctx, b.Rig.Admin, lang.Bundle{File: "plan.sail.yaml", Source: giver})
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	plan := func(at string) {
		t.Helper()
		p, err := b.Service.Proposing.Propose(ctx, b.Rig.Admin, proposing.NewProposal{
			Stack:    "plan",
			Template: "plan",
			Account:  "saltmere-lab",
			Region:   "north-fell",
			Inputs:   map[string]any{"range": at},
		})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		b.Done(p)
	}
	plan("10.30.0.0/16")
	source := "undersail: 1\nabout: {name: coast, version: 1.0.0, title: Coast}\ninputs: {plan: {picks: stack, of: " +
		"plan@^1}}\nresources:\n  net: {type: network, patience: 99h, want: {range: =inputs.plan.outputs.range}}\n  " +
		"data: {type: disk, patience: 99h, want: {size: 10GiB, type: solid}}\n"
	b.Rig.Fault(world.Fault{Kind: "denied", On: "disks", Count: -1})
	p, err := b.Service.Proposing.Propose(ctx, b.Rig.Admin, proposing.NewProposal{
		Stack:   "coast",
		Source:  source,
		Account: "saltmere-lab",
		Region:  "north-fell",
		Inputs:  map[string]any{"plan": "plan"},
	})
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, p)); run.State != "failed" {
		t.Fatal(run.State)
	}
	b.Rig.Lift()
	plan("10.31.0.0/16")
	p, err = b.Service.Proposing.Continue(ctx, b.Rig.Admin, "coast")
	if err != nil || p.State != "open" || servicetest.Changes(p) != "rebuild net, create data" {
		t.Fatalf("%s: %s (%v)", p.State, servicetest.Changes(p), err)
	}
	if !slices.ContainsFunc(p.Findings,
		func(f finding) bool { return f.Code == "beyond" && strings.Contains(f.Message, "`range` of net") }) {
		t.Errorf("why is not said: %v", p.Findings)
	}
	plan("10.30.0.0/16")
	if p, err = b.Service.Proposing.Continue(ctx, b.Rig.Admin, "coast"); err != nil || p.State != "accepted" ||
		servicetest.Changes(p) != "create data" {
		t.Errorf("%s: %s (%v)", p.State, servicetest.Changes(p), err)
	}
	b.Done(p)
}

func TestAProposalIsStaleByWhatItRestsOn(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	rules := "door: {type: firewall, want: {network: =net.id, rules: [{from: 10.0.0.0/8, port: PORT}]}}"
	b.Apply("coast", servicetest.Source(servicetest.NetLine, strings.Replace(rules, "PORT", "22", 1)))
	p := b.Propose("coast", servicetest.Source(servicetest.NetLine, strings.Replace(rules, "PORT", "80", 1)))
	if _, err := b.Service.Proposing.Accept(ctx, b.Rig.Admin, p.ID, nil, ""); err != nil {
		t.Fatal(err)
	}
	// As many changes as before, and not the same.
	b.Rig.ByHand("PATCH", b.Alive("firewalls")[0], map[string]any{
		"inbound": []any{map[string]any{"source": "0.0.0.0/0", "port": 22}},
	})
	b.Rig.RemoveByHand(b.Alive("networks")[0])
	_, err := b.Service.Proposing.Apply(ctx, b.Rig.Admin, p.ID, "")
	servicetest.WantKind(t, err, refusal.Stale, "net was to be left as it is and would now be created")
}

func TestOneDiskMoreIsShownAsOneMore(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	for n, form := range []string{`'=data.map(d, {"disk": d.id})'`, `=calc.attached`} {
		with := func(disks int) string {
			source := servicetest.Source(strings.Replace(servicetest.NetLine, ".20.", fmt.Sprintf(".%d.", 20+n), 1),
				strings.Replace(servicetest.LanLine, ".20.", fmt.Sprintf(".%d.", 20+n), 1),
				fmt.Sprintf("data: {type: disk, repeat: %d, want: {size: 20GiB, type: solid}}", disks),
				"host: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, disks: "+form+"}}")
			return strings.Replace(source, "resources:",
				`calc: {attached: '=data.map(d, {"disk": d.id})'}`+"\nresources:", 1)
		}
		stack := fmt.Sprintf("coast-%d", n)
		b.Apply(stack, with(2))
		p := b.Propose(stack, with(3))
		i := slices.IndexFunc(p.Changes, func(c change.Change) bool { return c.Resource == "host" })
		var shown []string
		for _, f := range p.Changes[i].Fields {
			shown = append(shown, fmt.Sprintf("%s %v", f.Name, f.Before))
		}
		if got := strings.Join(shown, "; "); got != "disks[data[2]].disk <nil>; after data[0], data[1], lan" {
			t.Errorf("%s: %s", form, got)
		}
		b.Done(p)
		if d := b.Rig.Differences(b.Service, stack, false); d != nil {
			t.Error(d)
		}
	}
}

func TestQuotasCountForAlterationsAndWhatIsFreed(t *testing.T) {
	b := servicetest.NewBench(t, map[string]int64{"vcpus": 6, "networks": 1, "disk_gib": 100})
	hosts := func(n int, size string) string {
		return servicetest.Source(servicetest.NetLine, servicetest.LanLine,
			fmt.Sprintf("host: {type: instance, repeat: %d, want: {size: %s, image: debian-12, subnet: =lan.id}}", n,
				size))
	}
	b.Apply("coast", hosts(3, "plain-2"))
	b.Refused("coast", hosts(3, "plain-4"), "quota")
	b.Refused("coast", hosts(1, "vast-64"), "not-offered")
	// Two go, and the third may then have what they had; so may a network.
	b.Apply("coast", hosts(1, "plain-4"))
	b.Apply("coast", strings.Replace(hosts(1, "plain-4"), "10.20.0.0/16", "10.20.0.0/17", 1))
	if d := b.Rig.Differences(b.Service, "coast", false); d != nil {
		t.Error(d)
	}
	disk := "data: {type: disk, want: {size: SIZE, type: solid}}"
	b.Apply("store", servicetest.Source(strings.Replace(disk, "SIZE", "60GiB", 1)))
	b.Refused("store", servicetest.Source(strings.Replace(disk, "SIZE", "160GiB", 1)), "quota")
	// Larch refuses the same.
	var live []cloud.Live
	live, err := cloud.Collect(b.Rig.Adapter().Search(context.Background(), cloud.Query{
		Region: "north-fell",
		Type:   "disk",
		Name:   "store-data",
	}))
	if err != nil || len(live) != 1 {
		t.Fatal(err, live)
	}
	_, err = b.Rig.Adapter().Step(context.Background(),
		cloud.Task{Action: cloud.Alter, Ref: live[0].Ref, Want: map[string]any{"size": "160GiB"}}, nil)
	if cloud.ClassOf(err) != cloud.Quota {
		t.Errorf("Larch says %v", err)
	}
}

func TestAnotherRegionIsJudgedByItsOwnOffers(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	b.Apply("coast", servicetest.Source("data: {type: disk, region: quarry-hill, want: {size: 10GiB, type: solid}}"))
	b.Refused("coast", servicetest.Source("data: {type: disk, region: quarry-hill, want: {size: 10GiB, type: "+
		"solid-plus}}"), "not-offered")
	b.Refused("coast", servicetest.Source("data: {type: disk, region: south-fell, want: {size: 10GiB, type: solid}}"),
		"no region")
	p := b.Propose("coast", servicetest.Source("data: {type: disk, region: long-sound, want: {size: 10GiB, type: "+
		"solid-plus}}"))
	if servicetest.Changes(p) != "rebuild data" || len(p.Consents) != 1 {
		t.Errorf("moving it: %s %v", servicetest.Changes(p), p.Consents)
	}
}

func TestAStackThatWasNeverAppliedIsNoStack(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Propose("coast", servicetest.Source(servicetest.NetLine))
	if list, err := b.Service.Stacks.List(ctx, "", 10); err != nil || len(list) != 0 {
		t.Errorf("%v %v", list, err)
	}
	_, err := b.Service.Stacks.Show(ctx, "coast")
	servicetest.WantKind(t, err, refusal.NotFound, "undersail proposals --stack coast")
	// It is bound to no place yet.
	p, err := b.Service.Proposing.Propose(ctx, b.Rig.Admin, proposing.NewProposal{
		Stack:   "coast",
		Source:  servicetest.Source(servicetest.NetLine),
		Account: "saltmere-lab",
		Region:  "long-sound",
	})
	if err != nil || p.Region != "long-sound" {
		t.Errorf("%s %v", p.Region, err)
	}
	b.Done(p)
	if list, err := b.Service.Stacks.List(ctx, "", 10); err != nil || len(list) != 1 || list[0].Region != "long-sound" {
		t.Errorf("%v %v", list, err)
	}
}

func TestOutputsThatReadOffersAreCompleteWhenARunIsDone(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	source := strings.Replace(servicetest.Source("front: {type: address}"), "resources:",
		"calc: {size: '=fit_size(offers, size_need{vcpus: 2, architecture: \"x86_64\"})'}\nresources:", 1) +
		"outputs: {size: {value: =calc.size, about: Size}}\n"
	b.Apply("coast", source)
	outputs, err := b.Service.Stacks.Outputs(context.Background(), "coast")
	if err != nil || len(outputs) != 1 || fmt.Sprint(outputs[0].Value) != "brisk-2" {
		t.Errorf("%v %v", outputs, err)
	}
}

func TestUndoingTakesBackWhatWasKeptAndGivesBackWhatWasTakenOver(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	disk := b.Alive("disks")[0]
	dropped := b.Apply("coast", servicetest.Source(servicetest.NetLine))
	if kept, _ := b.Service.Proposing.Kept(ctx); len(kept) != 1 {
		t.Fatalf("kept are %v", kept)
	}
	p, err := b.Service.Proposing.Undo(ctx, b.Rig.Admin, dropped.ID)
	if err != nil || servicetest.Changes(p) != "alter data" || p.Changes[1].TakesOver != "coast/data" {
		t.Fatalf("%s %v", servicetest.Changes(p), err)
	}
	if run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, p)); run.State != "done" {
		t.Fatal(run.State, run.Reason)
	}
	if kept, _ := b.Service.Proposing.Kept(ctx); len(kept) != 0 || b.Alive("disks")[0] != disk {
		t.Errorf("kept are %v", kept)
	}
	if d := b.Rig.Differences(b.Service, "coast", false); d != nil {
		t.Error(d)
	}
	retire, err := b.Service.Proposing.Retire(ctx, b.Rig.Admin, "coast")
	if err != nil {
		t.Fatal(err)
	}
	b.Done(retire)
	taken := b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	if p, err = b.Service.Proposing.Undo(ctx, b.Rig.Admin, taken.ID); err != nil ||
		servicetest.Changes(p) != "keep data, remove net" || len(p.Consents) != 0 {
		t.Fatalf("%s %v %v", servicetest.Changes(p), p.Consents, err)
	}
	b.Rig.Await(b.Service, b.Rig.Carry(b.Service, p))
	if kept, _ := b.Service.Proposing.Kept(ctx); len(kept) != 1 || kept[0].ID != disk {
		t.Errorf("kept are %v", kept)
	}
}

func TestWhatIsKeptAndGoneByHandIsNotTakenOver(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	b.Apply("coast", servicetest.Source(servicetest.NetLine))
	b.Rig.RemoveByHand(b.Alive("disks")[0])
	p := b.Propose("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	if servicetest.Changes(p) != "create data" || !slices.ContainsFunc(p.Findings, func(f finding) bool {
		return f.Code == "kept-missing" && strings.Contains(f.Remedy, "undersail kept remove dsk-")
	}) {
		t.Errorf("%s %v", servicetest.Changes(p), p.Findings)
	}
	gone, err := b.Service.Proposing.Discard(ctx, b.Rig.Admin, "coast/data")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	b.Done(gone)
	if kept, _ := b.Service.Proposing.Kept(ctx); len(kept) != 0 {
		t.Errorf("it is still listed: %v", kept)
	}
}

func TestOneOfTwoTakesAKeptResourceOver(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	b.Apply("coast", servicetest.Source(servicetest.NetLine))
	gone, err := b.Service.Proposing.Discard(ctx, b.Rig.Admin, "coast/data")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if _, err := b.Service.Proposing.Accept(ctx, b.Rig.Admin, gone.ID, []string{"lose-data"}, ""); err != nil {
		t.Fatal(err)
	}
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine)) // takes it over meanwhile
	_, err = b.Service.Proposing.Apply(ctx, b.Rig.Admin, gone.ID, "")
	servicetest.WantKind(t, err, refusal.Stale, "")
	if len(b.Alive("disks")) != 1 {
		t.Error("what was taken over is removed")
	}
}
