package proposing_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/secrets"
	"undersail/internal/service/servicetest"
	"undersail/sim"
)

const relays = `undersail: 1
about: {name: relays, version: 1.0.0, title: Relays}
inputs: {word: {secret: true, generate: true}, old: {secret: true, generate: true}}
resources:
  net: {type: network, want: {range: 10.38.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.38.0.0/24}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  access: {type: key_pair}
  data: {type: disk, want: {size: 10GiB, type: solid}}
  host:
    type: instance
    want:
      size: plain-1
      image: debian-12
      subnet: =lan.id
      public: true
      key_pair: =access.id
      firewalls: ["=door.id"]
      disks: [{disk: =data.id, mount: /data, format: xfs}]
  berth:
    type: task
    want: {on: =host.public_address, user: admin, key: =access.private_key, command: echo quay-7}
    after: {host: healthy}
  tell:
    type: task
    want:
      on: =host.public_address
      user: admin
      key: =access.private_key
      command: '="echo " + inputs.word + " > " + berth.output.trim()'
  beside: {type: address, after: {berth: healthy}}
`

// TestARunWaitsForAnAgreement: what a machine answered stands beside the secret, and nobody saw
// it when they agreed. The run opens nothing, lets all else go on and asks; it goes on when
// somebody who may read the secret agrees.
func TestARunWaitsForAnAgreement(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(0)
	ctx := context.Background()
	// The disk of its machine was on another, which was given something else.
	first, _, _ := strings.Cut(strings.Replace(relays, "format: xfs}]",
		"format: xfs}]\n      user_data: {write_files: [{path: /data/old, content: =inputs.old}]}", 1), "  berth:")
	if run := r.Await(s, r.ApplySource(s, "relay", first, nil)); run.State != state.Done {
		t.Fatal(run.Reason)
	}
	id := r.ApplySource(s, "relay", relays, nil)
	run := r.Await(s, id)
	if run.State != state.Parked || run.ParkedFor != state.ForAgreement ||
		!strings.Contains(run.Reason, "it would use secrets in a way that nobody agreed to (tell, tell (key))") {
		t.Fatal(run.State, run.ParkedFor, run.Reason)
	}
	for _, x := range run.Steps {
		if done := x.State == "succeeded"; done == (x.Resource == "tell") && x.Resource != "" {
			t.Errorf("%s is %s: all else goes on", x.Resource, x.State)
		}
	}
	oda := people.User{Name: "oda", Roles: []string{"operator"}}
	p, err := s.Proposing.Continue(ctx, oda, "relay")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	fresh := slices.DeleteFunc(slices.Clone(p.Uses), func(u use.Use) bool { return !u.New })
	if at := use.Places(fresh); !slices.Equal(at, []string{"tell", "tell (key)"}) {
		t.Errorf("what was agreed to is asked again: %q", at)
	}
	if p.Kind != state.KindGive || !slices.Contains(servicetest.ConsentNames(p), "secret-use") || len(fresh) == 0 ||
		fresh[0].At != "tell" || !strings.Contains(fmt.Sprint(fresh[0].Text), "quay-7") ||
		strings.Contains(fmt.Sprint(fresh[0].Text), "pending") {
		t.Errorf("%s asks for %v with %v", p.Kind, p.Consents, fresh)
	}
	if again, err := s.Proposing.Continue(ctx, oda, "relay"); err != nil || again.ID != p.ID {
		t.Errorf("asked again it is another proposal: %v %v", again.ID, err)
	}
	if _, err := s.Proposing.Accept(ctx, oda, p.ID, servicetest.ConsentNames(p),
		""); servicetest.Kind(err) != refusal.Forbidden {
		t.Errorf("agreed to by somebody who may not read it: %v", err)
	}
	if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, nil, ""); servicetest.Kind(err) != refusal.Consent {
		t.Errorf("accepted without the consent: %v", err)
	}
	if now, err := s.Stacks.Run(ctx, id); err != nil || now.State != state.Parked {
		t.Errorf("the run is %s: %v", now.State, err)
	}
	accepted, err := s.Proposing.Accept(ctx, r.Admin, p.ID, servicetest.ConsentNames(p), "")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if accepted.State == "accepted" {
		if _, err := s.Proposing.Apply(ctx, r.Admin, p.ID, ""); err != nil {
			t.Fatal(servicetest.Explain(err))
		}
	}
	if run = r.Await(s, id); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	again := r.Propose(s, "relay", relays, nil)
	if slices.Contains(servicetest.ConsentNames(again), "secret-use") {
		t.Errorf("what was agreed to in the middle is asked again: %v", again.Consents)
	}
}

// TestWhatWasAppliedBeforeUsesWereListedGoesOn: it counts as agreed as it is recorded, is told
// once, and whatever is new is asked as ever.
func TestWhatWasAppliedBeforeUsesWereListedGoesOn(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	const entry = "undersail: 1\nabout: {name: entry, version: 1.0.0, title: Entry}\ninputs: {word: {secret: true, " +
		"generate: true}, note: {type: string, default: a}}\nresources: {entry: {type: secret, patience: 99h, want: " +
		"{value: '=\"word \" + inputs.word', tags: {note: =inputs.note}}}}\n"
	if run := r.Await(s, r.ApplySource(s, "entry", entry, nil)); run.State != state.Done {
		t.Fatal(run.Reason)
	}
	if run := r.Await(s, r.ApplySource(s, "giver", giver, nil)); run.State != state.Done {
		t.Fatal(run.Reason)
	}
	servicetest.Query(t, r, "UPDATE proposals SET document = document - 'uses' - 'uses_listed' - 'text_by', "+
		"agreement = NULL")
	servicetest.Query(t, r, "DELETE FROM settings WHERE name = 'agreements-sealed'")
	if err := s.OpenSealed(context.Background()); err != nil {
		t.Fatal(err)
	}
	servicetest.Query(t, r, "DO $$ BEGIN IF EXISTS (SELECT FROM proposals WHERE agreement IS NULL) OR NOT EXISTS "+
		"(SELECT FROM settings WHERE name = 'agreements-sealed') THEN RAISE 'not everything is sealed'; END IF; END $$")
	told := func(p proposing.Proposal) (n int) {
		for _, f := range p.Findings {
			if f.Code == "uses-recorded" && strings.Contains(f.Message, "count as agreed") {
				n++
			}
		}
		return n
	}
	for what, c := range map[string]struct {
		source string
		asks   bool
	}{
		"an input":           {entry, false},
		"the text":           {strings.Replace(entry, `"word "`, `"key "`, 1), true},
		"the text elsewhere": {strings.Replace(entry, "title: Entry", "title: Entry as ever", 1), true},
	} {
		p := r.Propose(s, "entry", c.source, map[string]any{"note": "b"})
		asks := slices.Contains(servicetest.ConsentNames(p), "secret-use")
		if asks != c.asks || told(p) != 1 || p.Summary != "1 alter" && !c.asks {
			t.Errorf("%s: %s %v, told %d times: %v", what, p.Summary, p.Consents, told(p), p.Findings)
		}
	}
}

// TestASecretThatIsGoneIsAgreedToByNobody, not even by who may read all that there are.
func TestASecretThatIsGoneIsAgreedToByNobody(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, end := r.Still(engine.Config{}, nil)
	t.Cleanup(end)
	ctx := context.Background()
	_, err := s.Secrets.Put(ctx, r.Admin, secrets.NewNamed{Name: "gate", Kind: "secret", Account: "saltmere-lab"})
	if err != nil {
		t.Fatal(err)
	}
	p := r.Propose(s, "vouched", vouched, map[string]any{"word": "secret:gate"})
	servicetest.Query(t, r, "DELETE FROM secrets WHERE reference = 'gate@1'")
	_, err = s.Proposing.Accept(ctx, r.Admin, p.ID, servicetest.ConsentNames(p), "")
	if servicetest.Kind(err) != refusal.NotFound || !strings.Contains(err.Error(), "there is no secret gate@1") {
		t.Errorf("%v", err)
	}
}

// TestACheckThatAsksWhatIsOnlyMadeNowIsAskedAbout: where a secret goes is what the resource itself
// reports when it is made. Whoever is asked sees it, and the run goes on once they agreed.
func TestACheckThatAsksWhatIsOnlyMadeNowIsAskedAbout(t *testing.T) {
	t.Parallel()
	r := servicetest.NewWith(t, sim.Config{Pace: 1200, Quotas: map[string]int64{"hosts": 20, "vcpus": 1000}})
	s, _ := r.Replica(0)
	ctx := context.Background()
	id := r.Apply(s, "whole", "stretched-cloud", map[string]any{
		"zones":  []any{"north-fell-a", "north-fell-b", "north-fell-c"},
		"office": "127.0.0.0/8",
	})
	if run := r.Await(s, id); run.State != state.Parked || run.ParkedFor != state.ForAgreement {
		t.Fatal(run.State, run.ParkedFor, run.Reason)
	}
	p, err := s.Proposing.Continue(ctx, r.Admin, "whole")
	if err != nil || p.ID == 0 {
		t.Fatalf("nothing is asked: %+v (%v)", p, err)
	}
	fresh := slices.DeleteFunc(slices.Clone(p.Uses), func(u use.Use) bool { return !u.New })
	if len(fresh) != 1 || fresh[0].At != "cliff http-1" || len(fresh[0].Waits) != 0 ||
		!strings.Contains(fmt.Sprint(fresh[0].Text), "https://10.") {
		t.Errorf("asked is %+v", fresh)
	}
	if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, servicetest.All(p), ""); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run := r.Await(s, id); run.State != state.Done {
		t.Error(run.State, run.Reason)
	}
}
