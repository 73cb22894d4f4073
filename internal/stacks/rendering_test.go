package stacks_test

import (
	"context"
	"testing"
	"time"

	"undersail/internal/request"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
)

// TestAStackIsNotRenderedAnewAtEachReading reads a stack again and again: only the first
// reading, and the first after a change, computes anything.
func TestAStackIsNotRenderedAnewAtEachReading(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(10 * time.Second)
	source := "undersail: 1\nabout: {name: quay, version: 1.0.0, title: Quay}\ninputs: {mark: {type: string, " +
		"default: ebb}}\n" +
		"resources:\n  quay: {type: address, want: {tags: {mark: =inputs.mark}}}\noutputs: {mark: {value: " +
		"=inputs.mark}, at: {value: =quay.address}}\n"
	r.Await(s, r.ApplySource(s, "quay", source, nil))
	other, _ := r.Replica(10 * time.Second) // it has rendered nothing yet
	spent := func() (int64, stacks.Stack) {
		t.Helper()
		ctx := request.As(context.Background(), r.Admin)
		st, err := other.Stacks.Show(ctx, "quay")
		if err != nil {
			t.Fatal(err)
		}
		return request.Spent(ctx), st
	}
	if first, _ := spent(); first == 0 {
		t.Fatal("the first reading computed nothing: this test cannot tell")
	}
	for range 3 {
		if again, _ := spent(); again != 0 {
			t.Errorf("a reading of what has not changed computed %d units", again)
		}
	}
	r.Await(s, r.ApplySource(s, "quay", source, map[string]any{"mark": "flood"}))
	changed, st := spent()
	if changed == 0 {
		t.Error("what has changed was not rendered again")
	}
	told := ""
	for _, o := range st.Outputs {
		if o.Name == "mark" {
			told, _ = o.Value.(string)
		}
	}
	if told != "flood" {
		t.Errorf("after the change it tells %q", told)
	}
}
