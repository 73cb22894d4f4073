package proposing_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
)

// TestANameThatSomebodyHasIsFoundBeforehand asks the cloud for names that only one of all
// its customers can have.
func TestANameThatSomebodyHasIsFoundBeforehand(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	bucket := func(label string) string {
		return "undersail: 1\nabout: {name: store, version: 1.0.0, title: Store}\nresources: {pictures: {type: " +
			"bucket, want: {label: " + label + "}}}\n"
	}
	ask := func(stack, source string) error {
		_, err := s.Proposing.Propose(context.Background(), r.Admin, proposing.NewProposal{
			Stack:   stack,
			File:    "store.sail.yaml",
			Source:  source,
			Account: "saltmere-lab",
			Region:  "north-fell",
		})
		return err
	}
	refused := func(err error) bool {
		var e *refusal.Error
		return errors.As(err, &e) && slices.ContainsFunc(e.Findings, func(f render.Finding) bool {
			return f.Code == "name-taken" && f.Place == "pictures.label" &&
				strings.Contains(f.Message, "somebody has it")
		})
	}
	if err := ask("store", bucket("tides")); !refused(err) {
		t.Errorf("a name that a customer has whom nobody sees: %v", err)
	}
	if run := r.Await(s, r.ApplySource(s, "store", bucket("saltmere-pictures"), nil)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if err := ask("other", bucket("saltmere-pictures")); !refused(err) {
		t.Errorf("a name that another stack has: %v", err)
	}
	err := ask("store", strings.Replace(bucket("saltmere-pictures"), "label: ", "versions: true, label: ", 1))
	if err != nil {
		t.Errorf("its own name stands in its way: %v", err)
	}
}
