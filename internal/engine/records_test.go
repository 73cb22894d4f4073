package engine

import (
	"fmt"
	"sync"
	"testing"

	"undersail/internal/store"
)

// TestRecordsAreChangedByTheirOwnStepAlone: a step of something that was replaced meanwhile changes
// nothing of what came in its place, and what was given out is no part of what is recorded.
func TestRecordsAreChangedByTheirOwnStepAlone(t *testing.T) {
	r := newRecords([]store.Resource{{Name: "data", Token: "new"}, {Name: "net", Token: "net"}})
	old, now := &store.Step{Resource: "data", Token: "old"}, &store.Step{Resource: "data", Token: "new"}
	never := func(*store.Resource) { t.Error("another one's record is changed") }
	if r.of(old) != nil || r.change(old, never) != nil || r.of(now) == nil {
		t.Error("a step takes what came in its place for its own")
	}
	given := r.named("data")
	given.State = "spoilt"
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() { r.change(now, func(row *store.Resource) { row.Position++ }) })
		all.Go(func() { r.all() })
	}
	all.Wait()
	if row := r.named("data"); row.Position != 50 || row.State != "" || len(r.all()) != 2 {
		t.Errorf("%+v", row)
	}
	r.forget("data")
	if r.named("data") != nil || r.change(now, never) != nil {
		t.Error("what is forgotten is still there")
	}
	r.put(store.Resource{Name: "data", Token: "old"})
	if r.of(old) == nil {
		t.Error("what is put is not there")
	}
}

// TestAProvingGoesOnUntilAnotherBegins: checks keep their rows of passes from look to look.
func TestAProvingGoesOnUntilAnotherBegins(t *testing.T) {
	p := newProofs()
	if p.of("data") != nil {
		t.Error("nothing has begun")
	}
	first := p.goOn("data")
	if first == nil || p.goOn("data") != first || p.of("data") != first {
		t.Error(fmt.Sprint("it begins anew at every look: ", first))
	}
	if p.begin("data", newProving()); p.of("data") == first || p.of("net") != nil {
		t.Error("what begins anew goes on")
	}
}
