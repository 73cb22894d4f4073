package service_test

import (
	"context"
	"fmt"
	"testing"

	"undersail/internal/core/lang"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
	"undersail/sim/world"
)

func TestMain(m *testing.M) { servicetest.Main(m) }

const site = `undersail: 1
about: {name: site, version: %s, title: Site, maturity: %s}
inputs:
  range: {type: string, format: cidr, default: 10.70.0.0/24}
  word: {secret: true, rules: {length: 8, classes: 1}, generate: true}
  %s: {type: string, default: a}
resources:
  net: {type: network, want: {range: =inputs.range, tags: {note: =inputs.%s}}}
  word: {type: secret, want: {value: =inputs.word}}
outputs:
  id: =net.id
  word: =inputs.word
`

func text(version, maturity, input string) string {
	return fmt.Sprintf(site, version, maturity, input, input)
}

func TestTheLibraryKeepsVersions(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 150)
	s, _ := r.Replica(0)
	ctx := context.Background()
	for _, version := range []string{"1.0.0", "1.10.0", "1.9.0", "2.0.0"} {
		maturity := "supported"
		if version == "2.0.0" {
			maturity = "withdrawn"
		}
		_, _, err := s.Templates.Publish(ctx, r.Admin, lang.Bundle{
			File:   "site.sail.yaml",
			Source: text(version, maturity, "note"),
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for ref, want := range map[string]string{
		"site":       "2.0.0",
		"site@^1":    "1.10.0",
		"site@1.9.0": "1.9.0",
		"site@<1.5":  "1.0.0",
	} {
		if got, err := s.Templates.Find(ctx, ref); err != nil || got.Version != want {
			t.Errorf("%s is %s, %v; want %s", ref, got.Version, err, want)
		}
	}
	_, err := s.Templates.Find(ctx, "site@^9")
	servicetest.WantKind(t, err, refusal.NotFound, "has no version ^9")
	_, err = s.Templates.Find(ctx, "site@newest")
	servicetest.WantKind(t, err, refusal.Invalid, "is not a version")
	_, _, err = s.Templates.Publish(ctx, r.Admin, lang.Bundle{
		File:   "site.sail.yaml",
		Source: text("1.0.0", "supported", "other"),
	})
	servicetest.WantKind(t, err, refusal.Conflict, "raise the version")
	_, _, err = s.Templates.Publish(ctx, r.Admin, lang.Bundle{File: "site.sail.yaml", Source: "undersail: 1"})
	servicetest.WantKind(t, err, refusal.Findings, "the template has errors")
	_, _, err = s.Templates.Publish(ctx, people.User{Roles: []string{"operator"}}, lang.Bundle{
		File:   "site.sail.yaml",
		Source: text("3.0.0", "supported", "note"),
	})
	servicetest.WantKind(t, err, refusal.Forbidden, "operator")
	_, err = s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:    "new",
		Template: "site",
		Account:  "saltmere-lab",
		Region:   "north-fell",
	})
	servicetest.WantKind(t, err, refusal.Invalid, "is withdrawn")
	list, err := s.Templates.List(ctx)
	if err != nil || len(list) != 1 || list[0].Version != "2.0.0" {
		t.Errorf("the library lists %v, %v", list, err)
	}
}

func TestSecretsAreDrawnOnceAndHaveVersions(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 150)
	s, _ := r.Replica(0)
	ctx := context.Background()
	propose := func(n proposing.NewProposal) proposing.Proposal {
		t.Helper()
		n.Stack = "vault"
		p, err := s.Proposing.Propose(ctx, r.Admin, n)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	apply := func(p proposing.Proposal) {
		t.Helper()
		if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, servicetest.All(p), ""); err != nil {
			t.Fatal(err)
		}
		run, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
		if err != nil {
			t.Fatal(err)
		}
		if done := r.Await(s, run.ID); done.State != "done" {
			t.Fatal(done.Reason)
		}
	}
	reference := func() string {
		t.Helper()
		outputs, err := s.Stacks.Outputs(ctx, "vault")
		if err != nil || !outputs[1].Secret {
			t.Fatal(outputs, err)
		}
		return fmt.Sprint(outputs[1].Value)
	}
	apply(propose(proposing.NewProposal{
		Source:  text("1.0.0", "supported", "note"),
		Account: "saltmere-lab",
		Region:  "north-fell",
	}))
	if got := reference(); got != "secret:vault/word@1" {
		t.Errorf("generated: %s", got)
	}
	if p := propose(proposing.NewProposal{}); p.Summary != "2 same" {
		t.Errorf("a generated secret was drawn again: %s", p.Summary)
	}
	p := propose(proposing.NewProposal{Secrets: map[string]string{"word": "kelpandshingle"}})
	if p.Summary != "1 alter, 1 same" {
		t.Errorf("a new value: %s", p.Summary)
	}
	apply(p)
	if got := reference(); got != "secret:vault/word@2" {
		t.Errorf("given: %s", got)
	}
	p = propose(proposing.NewProposal{Secrets: map[string]string{"word": "kelpandshingle"}})
	if p.Summary != "2 same" {
		t.Errorf("the same value again: %s", p.Summary)
	}
	_, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "vault",
		Secrets: map[string]string{"word": "neap"},
	})
	servicetest.WantKind(t, err, refusal.Findings, "would not work")
	_, err = s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "vault",
		Secrets: map[string]string{"note": "x"},
	})
	servicetest.WantKind(t, err, refusal.Invalid, "no secret input note")
}

func TestInputsAreRecordedAndANewerTemplateMayDropOne(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 150)
	s, _ := r.Replica(0)
	ctx := context.Background()
	p, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "site",
		Source:  text("1.0.0", "supported", "note"),
		Account: "saltmere-lab",
		Region:  "north-fell",
		Inputs:  map[string]any{"range": "10.71.0.0/24", "note": "low water"},
	})
	if err != nil {
		t.Fatal(err)
	}
	s.Proposing.Accept(ctx, r.Admin, p.ID, servicetest.All(p), "")
	run, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
	if err != nil {
		t.Fatal(err)
	}
	r.Await(s, run.ID)
	again, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
	if err != nil || again.ID != run.ID {
		t.Errorf("applying twice gives run %d and %d (%v)", run.ID, again.ID, err)
	}
	next, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:  "site",
		Source: text("1.1.0", "supported", "remark"),
	})
	if err != nil || next.Summary != "1 alter, 1 same" {
		t.Fatalf("a newer template: %s, %v", next.Summary, err)
	}
	if next.Inputs[0].Value != "10.71.0.0/24" {
		t.Errorf("the recorded range became %v", next.Inputs[0].Value)
	}
	field := next.Changes[0].Fields[0]
	if field.Name != "tags.note" || field.Before != "low water" || field.After != "a" {
		t.Errorf("changed: %+v", field)
	}
	_, err = s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{Stack: "site", Region: "long-sound"})
	servicetest.WantKind(t, err, refusal.Conflict, "is in saltmere-lab, region north-fell")
}

func TestProposalsAreDecidedOnceByWhoMay(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 150)
	s, _ := r.Replica(0)
	ctx := context.Background()
	p, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "site",
		Source:  text("1.0.0", "supported", "note"),
		Account: "saltmere-lab",
		Region:  "north-fell",
	})
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.Proposing.Apply(ctx, r.Admin, p.ID, "")
	servicetest.WantKind(t, err, refusal.Conflict, "undersail accept")
	_, err = s.Proposing.Accept(ctx, people.User{Roles: []string{"viewer"}}, p.ID, nil, "")
	servicetest.WantKind(t, err, refusal.Forbidden, "viewer")
	plain := r.Propose(s, "plain",
		"undersail: 1\nabout: {name: plain, version: 1.0.0, title: Plain}\nresources: {front: {type: address}}\n", nil)
	_, err = s.Proposing.Accept(ctx, r.Admin, plain.ID, []string{"lose-dta"}, "")
	servicetest.WantKind(t, err, refusal.Invalid,
		fmt.Sprintf("proposal %d asks for no consent, and not for lose-dta", plain.ID))
	if agreed, err := s.Proposing.Accept(ctx, r.Admin, plain.ID, []string{"lose-data"}, ""); err != nil ||
		agreed.State != "accepted" {
		t.Errorf("who agrees to more than is asked for does not agree: %v", err)
	}
	_, err = s.Proposing.Accept(ctx, r.Admin, p.ID, append(servicetest.ConsentNames(p), "lose-dta"), "")
	servicetest.WantKind(t, err, refusal.Invalid, "asks for no consent lose-dta")
	_, err = s.Proposing.Agree(ctx, r.Admin, p.ID, proposing.Acceptance{OnFailure: "explode"})
	servicetest.WantKind(t, err, refusal.Invalid, `"explode" is not what can become of a run that fails`)
	refusedBy := r.Person("tomas", "reviewer")
	done, err := s.Proposing.Refuse(ctx, refusedBy, p.ID, "after the spring tide")
	if err != nil || done.State != "refused" || done.Why != "after the spring tide" || done.DecidedBy != "tomas" {
		t.Errorf("%+v, %v", done, err)
	}
	_, err = s.Proposing.Accept(ctx, r.Admin, p.ID, nil, "")
	servicetest.WantKind(t, err, refusal.Stale, "is refused")
	_, err = s.Proposing.Apply(ctx, r.Admin, p.ID, "")
	servicetest.WantKind(t, err, refusal.Stale, "propose again")
	_, err = s.Proposing.Continue(ctx, r.Admin, "site")
	servicetest.WantKind(t, err, refusal.NotFound, "propose it first")
	_, err = s.Stacks.Verify(ctx, r.Admin, "site")
	servicetest.WantKind(t, err, refusal.Conflict, "nothing to verify")
	_, err = s.Stacks.Outputs(ctx, "site")
	servicetest.WantKind(t, err, refusal.Conflict, "apply it first")
	_, err = s.Stacks.Show(ctx, "elsewhere")
	servicetest.WantKind(t, err, refusal.NotFound, "there is no stack elsewhere")
}

func TestRetiringFreesTheName(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 150)
	s, _ := r.Replica(0)
	ctx := context.Background()
	if run := r.Await(s, r.Apply(s, "site", "warning-site", nil)); run.State != "done" {
		t.Fatal(run.Reason)
	}
	retire := func() stacks.Run {
		t.Helper()
		p, err := s.Proposing.Retire(ctx, r.Admin, "site")
		if err != nil {
			t.Fatal(err)
		}
		s.Proposing.Accept(ctx, r.Admin, p.ID, servicetest.All(p), "")
		run, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
		if err != nil {
			t.Fatal(err)
		}
		return r.Await(s, run.ID)
	}
	// The cloud stumbles in the middle.
	r.Fault(world.Fault{Kind: "server-error", On: "subnets", Method: "DELETE", Count: 2})
	run := retire()
	if run.State != "done" {
		t.Errorf("passing faults ended the run: %s", run.Reason)
	}
	if l := r.Ledger(); len(l.Alive) != 0 {
		t.Errorf("left over: %v", l.Alive)
	}
	_, err := s.Proposing.Retire(ctx, r.Admin, "site")
	servicetest.WantKind(t, err, refusal.NotFound, "was retired")
	// The name is free again, and its new stack is another one.
	if run := r.Await(s, r.Apply(s, "site", "warning-site", nil)); run.State != "done" {
		t.Error(run.Reason)
	}
}

func TestAListOfProposalsTellsWhatItsRowsHold(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Await(s, r.Apply(s, "site", "warning-site", nil))
	list, err := s.Proposing.List(ctx, "site", 0, 10)
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	p, err := s.Proposing.Show(ctx, list[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	row := list[0]
	if row.Account != "saltmere-lab" || row.Region != p.Region || row.Template != p.Template ||
		row.Summary != p.Summary || row.Seconds != p.Seconds || row.State != "applied" || *row.RunID != *p.RunID {
		t.Errorf("the row tells %+v", row)
	}
	if row.Cost.Hour == 0 || row.Cost.Hour != p.Cost.Hour || row.Cost.Currency != p.Cost.Currency ||
		row.Cost.Lines == nil || row.Changes == nil {
		t.Errorf("the row costs %+v, the proposal %+v", row.Cost, p.Cost)
	}
}
