package proposing_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

const serialised = `undersail: 1
about: {name: serialised, version: 1.0.0, title: Serialised}
inputs:
  serial: {type: string, pattern: '^SALT-[0-9]+$', later: true, title: Serial number on the case}
  berths: {type: integer, minimum: 1, maximum: 4, later: true}
calc: {mark: '="serial " + inputs.serial'}
resources:
  net: {type: network, want: {range: 10.38.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.38.0.0/24}, after: {net: healthy}}
  front: {type: address, want: {tags: {mark: =calc.mark}}, after: {lan: healthy}}
  back: {type: address, want: {tags: {berths: =string(inputs.berths)}}, after: {front: healthy}}
outputs: {mark: {value: =calc.mark}}
`

// TestARunWaitsForAValueThatAPersonGives parks where it needs one, refuses what does not do,
// goes on with it, and keeps it for later.
func TestARunWaitsForAValueThatAPersonGives(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, quit := r.Replica(time.Second)
	ctx := context.Background()
	id := r.ApplySource(s, "serialised", serialised, nil)
	run := r.Await(s, id)
	if run.State != state.Parked ||
		!strings.Contains(run.Reason,
			"the value of serial; give it with: undersail continue serialised --input serial=VALUE") {
		t.Fatal(run.State, run.Reason)
	}
	run, err := s.Stacks.Run(ctx, id)
	a := run.Awaits
	if err != nil || len(a) != 2 || a[0].Name != "serial" || a[0].Title != "Serial number on the case" {
		t.Errorf("it can be given %v (%v)", a, err)
	}
	quit() // whoever gives it meets another engine
	next, _ := r.Replica(time.Second)
	_, err = next.Proposing.Give(ctx, r.Admin, "serialised", map[string]any{"serial": "no serial"})
	servicetest.WantKind(t, err, refusal.Findings, "the value of serial does not do")
	_, err = next.Proposing.Give(ctx, r.Admin, "serialised", map[string]any{"stern": "SALT-1"})
	servicetest.WantKind(t, err, refusal.Invalid, "no value that is given later")
	for _, nothing := range []map[string]any{{}, {"serial": nil}, {"serial": ""}} {
		_, err = next.Proposing.Give(ctx, r.Admin, "serialised", nothing)
		servicetest.WantKind(t, err, refusal.Invalid, "give what the run waits for: serial, berths")
	}
	_, err = next.Proposing.Give(ctx, people.User{Name: "wren", Roles: []string{"viewer"}}, "serialised",
		map[string]any{"serial": "SALT-1"})
	servicetest.WantKind(t, err, refusal.Forbidden, "")
	if _, err := next.Proposing.Give(ctx, r.Admin, "serialised", map[string]any{"serial": "SALT-42"}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run = r.Await(next, id); run.State != state.Parked || !strings.Contains(run.Reason, "the value of berths") {
		t.Fatal(run.State, run.Reason)
	}
	if _, err := next.Proposing.Give(ctx, r.Admin, "serialised", map[string]any{"berths": "3"}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run = r.Await(next, id); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	told := r.Events(next, id)
	if !strings.Contains(told, "front waits for the value of serial") ||
		!strings.Contains(told, "ines gave the value of serial") {
		t.Error(told)
	}
	for _, x := range r.Ledger().Alive {
		if x.Kind == "addresses" && x.Tags["mark"] != "serial SALT-42" && x.Tags["berths"] != "3" {
			t.Errorf("made with %v", x.Tags)
		}
	}
	if p := r.Propose(next, "serialised", serialised, nil); p.State != "nothing" {
		t.Errorf("the values are not kept: %s", p.Summary)
	}
	_, err = next.Proposing.Give(ctx, r.Admin, "serialised", map[string]any{"serial": "SALT-43"})
	servicetest.WantKind(t, err, refusal.Conflict, "waits for no value")
	// Given beforehand, nothing waits.
	p := r.Propose(next, "serialised", serialised, map[string]any{"serial": "SALT-44"})
	if p.Summary != "1 alter, 3 same" {
		t.Errorf("another value: %s", p.Summary)
	}
}

const halfAsked = `undersail: 1
about: {name: half-asked, version: 1.0.0, title: Half asked}
inputs:
  serial: {type: string, later: true}
  other: {type: string, later: true}
resources:
  net: {type: network, want: {range: 10.39.0.0/16, tags: {mark: =inputs.serial}}}
  lan: {type: subnet, want: {network: =net.id, range: 10.39.0.0/24}}
  front: {type: address}
  side: {type: address, after: {front: healthy}}
  lot: {type: database, want: {engine: postgresql-16, size: plain-1, storage: 20GiB, subnets: ["=quay.id"], users: [{name: reader, password: Not-a-secret-12}]}}
  harbour: {type: network, want: {range: 10.40.0.0/16}}
  quay: {type: subnet, want: {network: =harbour.id, range: 10.40.0.0/24}}
`

// TestWhatNeedsNoValueGoesOnWhileOneIsAwaited makes all else, takes a value while it does,
// and parks only when nothing else can go on.
func TestWhatNeedsNoValueGoesOnWhileOneIsAwaited(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(time.Second)
	ctx := context.Background()
	run := r.Await(s, r.ApplySource(s, "first", halfAsked, nil))
	if run.State != state.Parked || run.Finished != 5 {
		t.Fatal(run.State, run.Reason, run.Finished)
	}
	if _, err := s.Proposing.Give(ctx, r.Admin, "first", map[string]any{"serial": "SALT-1"}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run = r.Await(s, run.ID); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	p, err := s.Proposing.Retire(ctx, r.Admin, "first")
	if err != nil || r.Await(s, r.Carry(s, p)).State != state.Done {
		t.Fatal(p.ID, err)
	}

	// A database takes 480 seconds of the cloud: long enough to answer before the rest is over.
	id := r.ApplySource(s, "second", strings.Replace(halfAsked, "=quay.id", "=lan.id", 1), nil)
	r.Until(s, id, "net waits for the value of serial; give it with: undersail continue second --input serial=VALUE")
	if _, err := s.Proposing.Give(ctx, r.Admin, "second", map[string]any{"serial": "SALT-2"}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	_, err = s.Proposing.Give(ctx, r.Admin, "second", map[string]any{"serial": "SALT-3"})
	servicetest.WantKind(t, err, refusal.Conflict, "serial has its value: SALT-2")
	if run = r.Await(s, id); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if told := r.Events(s, id); strings.Contains(told, "is parked") && !strings.Contains(told, "gave the value") {
		t.Error(told)
	}

	// What failed ends the run, although a value is awaited too.
	r.Fault(world.Fault{Kind: "denied", On: "addresses", Count: -1})
	if run = r.Await(s, r.ApplySource(s, "third",
		strings.ReplaceAll(strings.ReplaceAll(halfAsked, "10.39", "10.41"), "10.40", "10.42"),
		nil)); run.State != state.Failed || !strings.Contains(run.Reason, "front: ") {
		t.Error(run.State, run.Reason)
	}
}
