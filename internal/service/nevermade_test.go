package service_test

import (
	"context"
	"testing"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/service/servicetest"
)

// TestATaskThatNeverRanIsRetired at the first try: there is nothing of it to undo.
func TestATaskThatNeverRanIsRetired(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	ctx := context.Background()
	id := r.ApplySource(s, "idle",
		"undersail: 1\nabout: {name: idle, version: 1.0.0, title: Idle}\nresources:\n  pair: {type: key_pair}\n  "+
			"left: {type: task, patience: 99h, want: {command: date, undo: date, on: 127.0.0.1, port: 1, user: "+
			"tide, key: =pair.private_key}}\n", nil)
	r.Until(s, id, "creating left")
	if _, err := s.Stacks.Stop(ctx, r.Admin, id); err != nil {
		t.Fatal(err)
	}
	if run := r.Await(s, id); run.State != state.Stopped {
		t.Fatal(run.State, run.Reason)
	}
	p, err := s.Proposing.Retire(ctx, r.Admin, "idle")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Errorf("%s: %s", run.State, run.Reason)
	}
}
