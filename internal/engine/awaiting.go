package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/store"
)

// A template may leave a value to a person who knows it only in the middle of a run. The
// run parks when it gets to what reads it, and says what it waits for.

// awaitsError says that a step needs values that somebody has to give.
type awaitsError struct {
	resource string
	inputs   []string
}

func (a *awaitsError) Error() string {
	return a.resource + " waits for the value of " + strings.Join(a.inputs, ", ")
}

// laterInputs lists the inputs among what values wait for.
func laterInputs(waits []string) (out []string) {
	for _, w := range waits {
		if name, is := strings.CutPrefix(w, "inputs."); is {
			out = append(out, name)
		}
	}
	return out
}

// awaiting notes what a step needs of a person, and lets the run park.
func (x *execution) awaiting(ctx context.Context, s *store.Step, a *awaitsError) (schedule.Event, error) {
	x.mu.Lock()
	for _, name := range a.inputs {
		if !slices.Contains(x.awaits, name) {
			x.awaits = append(x.awaits, name)
		}
	}
	slices.Sort(x.awaits)
	x.mu.Unlock()
	return schedule.Event{Outcome: schedule.Halted, Reason: a.Error()}, x.note(ctx, store.Event{Kind: "call", Resource: s.Resource, Text: a.Error()}, nil)
}

// parkForInputs lets the run wait for values, and reports whether it does.
func (x *execution) parkForInputs(ctx context.Context) (bool, error) {
	x.mu.Lock()
	inputs := x.awaits
	x.mu.Unlock()
	if len(inputs) == 0 {
		return false, nil
	}
	flags := ""
	for _, name := range inputs {
		flags += fmt.Sprintf(" --input %s=VALUE", name)
	}
	reason := fmt.Sprintf("it needs what only a person can tell, the value of %s; give it with: undersail continue %s%s", strings.Join(inputs, ", "), x.run.Stack, flags)
	return true, x.note(ctx, store.Event{Kind: "run", State: state.Parked, Text: fmt.Sprintf("run %d is parked: %s", x.run.ID, reason)}, func(w *store.Write) { w.Park(state.ForInput, reason) })
}
