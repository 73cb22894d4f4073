package engine

import (
	"context"
	"fmt"
	"strings"

	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/store"
)

// A template may leave a value to a person who knows it only in the middle of a run. What
// reads it waits and says so, all else goes on, and the run parks when nothing else can.

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

// awaiting notes what a step needs of a person, and lets the step wait.
func (x *execution) awaiting(ctx context.Context, s *store.Step, a *awaitsError) (schedule.Event, error) {
	x.questions.ask(a.inputs)
	text := fmt.Sprintf("%s; give it with: undersail continue %s%s", a, x.run.Stack, asFlags(a.inputs))
	return schedule.Event{
		Outcome: schedule.Asked,
		Reason:  a.Error(),
	}, x.note(ctx, store.Event{Kind: "call", Resource: s.Resource, Text: text}, nil)
}

// given lets the run go on anew when a value was given that something waits for.
func (x *execution) given(values []string) {
	if x.questions.answeredBy(values) {
		x.leave()
	}
}

// parkForInputs lets the run wait for values. One that was given in the meantime lets it
// go on at once.
func (x *execution) parkForInputs(ctx context.Context) error {
	inputs, _ := x.questions.open()
	reason := fmt.Sprintf("it needs what only a person can tell, the value of %s; give it with: undersail "+
		"continue %s%s", strings.Join(inputs, ", "), x.run.Stack, asFlags(inputs))
	x.engine.Metrics.ended.WithLabelValues(x.run.Kind, state.Parked).Inc()
	return x.note(ctx, store.Event{
		Kind:  "run",
		State: state.Parked,
		Text:  fmt.Sprintf("run %d is parked: %s", x.run.ID, reason),
	}, func(w *store.Write) {
		w.Park(state.ForInput, reason)
		w.UnlessGiven(ctx, inputs, Grace, x.engine.Enqueue(ctx))
	})
}

func asFlags(inputs []string) (flags string) {
	for _, name := range inputs {
		flags += fmt.Sprintf(" --input %s=VALUE", name)
	}
	return flags
}
