package engine

import (
	"context"
	"fmt"
	"strings"

	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/store"
)

// A step opens the secrets of uses that somebody agreed to: which, for what, to where, with
// what around them. What comes out otherwise than was shown, or was not known then, is asked
// about first: the step waits, all else goes on, and the run parks with the question.

// beyondError says that a step would use secrets in ways that nobody agreed to.
type beyondError struct {
	resource string
	uses     []use.Use
}

func (b *beyondError) Error() string {
	return fmt.Sprintf("%s would use secrets in a way that nobody agreed to (%s)", b.resource,
		strings.Join(use.Places(b.uses), ", "))
}

// permitted gives the values of uses that were all agreed to.
func (x *execution) permitted(s *store.Step, list []use.Use) (func(reference string) (string, bool), error) {
	reveal, beyond := x.secrets.Opens(list)
	if len(beyond) > 0 {
		return nil, &beyondError{s.Resource, beyond}
	}
	return reveal, nil
}

// agreeing notes what a step needs an agreement to, and lets the step wait.
func (x *execution) agreeing(ctx context.Context, s *store.Step, b *beyondError) (schedule.Event, error) {
	x.questions.agree(b.uses)
	return schedule.Event{
			Outcome: schedule.Asked,
			Reason:  b.Error(),
		}, x.note(ctx, store.Event{
			Kind:     "call",
			Resource: s.Resource,
			Text:     b.Error() + "; look at them with: undersail continue " + x.run.Stack,
		}, nil)
}

// parkForAgreement lets the run wait until somebody agreed.
func (x *execution) parkForAgreement(ctx context.Context) error {
	_, uses := x.questions.open()
	b := &beyondError{"it", uses}
	reason := fmt.Sprintf("%s; look at them with: undersail continue %s", b, x.run.Stack)
	x.engine.Metrics.ended.WithLabelValues(x.run.Kind, state.Parked).Inc()
	return x.note(ctx, store.Event{
		Kind:  "run",
		State: state.Parked,
		Text:  fmt.Sprintf("run %d is parked: %s", x.run.ID, reason),
	}, func(w *store.Write) {
		w.Park(state.ForAgreement, reason)
		w.UnlessAgreed(ctx, len(x.run.Agreed), Grace, x.engine.Enqueue(ctx))
	})
}
