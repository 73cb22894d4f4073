package service_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
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
	if run.State != state.Parked || !strings.Contains(run.Reason, "the value of serial; give it with: undersail continue serialised --input serial=VALUE") {
		t.Fatal(run.State, run.Reason)
	}
	run, err := s.Run(ctx, id)
	if a := run.Awaits; err != nil || len(a) != 2 || a[0].Name != "serial" || a[0].Title != "Serial number on the case" {
		t.Errorf("it can be given %v (%v)", a, err)
	}
	quit() // whoever gives it meets another engine
	next, _ := r.Replica(time.Second)
	_, err = next.Give(ctx, r.Admin, "serialised", map[string]any{"serial": "no serial"})
	wantKind(t, err, service.Findings, "the value of serial does not do")
	_, err = next.Give(ctx, r.Admin, "serialised", map[string]any{"stern": "SALT-1"})
	wantKind(t, err, service.Invalid, "no value that is given later")
	for _, nothing := range []map[string]any{{}, {"serial": nil}, {"serial": ""}} {
		_, err = next.Give(ctx, r.Admin, "serialised", nothing)
		wantKind(t, err, service.Invalid, "give what the run waits for")
	}
	_, err = next.Give(ctx, service.User{Name: "wren", Role: "viewer"}, "serialised", map[string]any{"serial": "SALT-1"})
	wantKind(t, err, service.Forbidden, "")
	if _, err := next.Give(ctx, r.Admin, "serialised", map[string]any{"serial": "SALT-42"}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run = r.Await(next, id); run.State != state.Parked || !strings.Contains(run.Reason, "the value of berths") {
		t.Fatal(run.State, run.Reason)
	}
	if _, err := next.Give(ctx, r.Admin, "serialised", map[string]any{"berths": "3"}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run = r.Await(next, id); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if told := r.Events(next, id); !strings.Contains(told, "front waits for the value of serial") || !strings.Contains(told, "ines gave the value of serial") {
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
	_, err = next.Give(ctx, r.Admin, "serialised", map[string]any{"serial": "SALT-43"})
	wantKind(t, err, service.Conflict, "waits for no value")
	// Given beforehand, nothing waits.
	if p := r.Propose(next, "serialised", serialised, map[string]any{"serial": "SALT-44"}); p.Summary != "1 alter, 3 same" {
		t.Errorf("another value: %s", p.Summary)
	}
}
