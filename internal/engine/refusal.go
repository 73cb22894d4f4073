package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/store"
)

// refused turns what a cloud answered into an event of the schedule and records
// what people should know of it.
func (x *execution) refused(ctx context.Context, s *store.Step, err error) (schedule.Event, error) {
	var unseen *unseenError
	if errors.As(err, &unseen) {
		return schedule.Event{
			Outcome: schedule.Retry,
			At:      unseen.until,
			Reason:  unseen.Error(),
		}, x.note(ctx, store.Event{Kind: "call", Resource: s.Resource, Text: unseen.Error()}, nil)
	}
	var beyond *beyondError
	if errors.As(err, &beyond) {
		return x.agreeing(ctx, s, beyond)
	}
	var awaits *awaitsError
	if errors.As(err, &awaits) {
		return x.awaiting(ctx, s, awaits)
	}
	reason := x.scrub(err.Error())
	class := cloud.ClassOf(err)
	var e *cloud.Error
	errors.As(err, &e)
	keep := func(w *store.Write) {
		w.StepParts(s.Number, s.Parts)
		w.ResourceParts(x.run.StackID, s.Resource, s.Parts)
	}
	switch {
	case class == cloud.Throttled:
		wait := max(e.RetryAfter, 100*time.Millisecond)
		return schedule.Event{
				Outcome: schedule.Throttled,
				At:      x.now().Add(wait),
				Waited:  wait,
			}, x.note(ctx, store.Event{Kind: "call", Resource: s.Resource,
				Text: fmt.Sprintf("the cloud asks to wait %s before the next call", e.RetryAfter)}, keep)
	case class == cloud.SignIn:
		return schedule.Event{
				Outcome: schedule.Halted,
				Reason:  reason,
			}, x.note(ctx, store.Event{
				Kind:     "call",
				Resource: s.Resource,
				Text: fmt.Sprintf("%s waits: the credentials of account %s are not accepted any more", s.Resource,
					x.account.Name),
			}, keep)
	case class == cloud.Capacity && x.nextZone(s, e):
		text := fmt.Sprintf("%s: %s; trying zone %v", s.Resource, e.Message, s.Want["zone"])
		return schedule.Event{
				Outcome: schedule.More,
			}, x.note(ctx, store.Event{Kind: "call", Resource: s.Resource, Text: text}, func(w *store.Write) {
				w.StepIntent(*s)
				if row := x.records.of(s); row != nil {
					w.PutResource(*row)
				}
			})
	case class.Passing():
		return schedule.Event{
				Outcome: schedule.Retry,
				Reason:  reason,
			}, x.note(ctx, store.Event{
				Kind:     "call",
				Resource: s.Resource,
				Text:     s.Resource + ": " + reason + "; trying again",
			}, keep)
	}
	return x.broken(ctx, s, reason)
}

// unsend takes back that a part was sent: the cloud refused the very call that
// would have made it. An error of a look says nothing of an earlier call.
func (x *execution) unsend(s *store.Step) {
	ref := x.ref(s)
	for _, p := range s.Parts {
		if !p.Sent.IsZero() && !p.Seen {
			p.Sent = time.Time{}
			ref = ref.With(p)
		}
	}
	x.setParts(s, ref.Parts)
}

// broken fails a step for good. A creation that the cloud refused leaves no
// record; one whose outcome nobody knows keeps it, and every later proposal asks
// the cloud for it.
func (x *execution) broken(ctx context.Context, s *store.Step, reason string) (schedule.Event, error) {
	reason = x.scrub(reason)
	x.engine.Metrics.steps.WithLabelValues(s.Action, string(schedule.Failed)).Inc()
	err := x.note(ctx, store.Event{
		Kind:     "step",
		Resource: s.Resource,
		State:    string(schedule.Failed),
		Text:     s.Resource + " failed: " + reason,
	}, func(w *store.Write) {
		w.StepState(s.Number, string(schedule.Failed), reason)
		w.StepParts(s.Number, s.Parts)
		if s.Action == ActionProve {
			return
		}
		row := x.records.of(s)
		if s.Action == ActionCreate && row != nil && row.State == state.Absent && nothingMade(s.Parts) {
			x.records.forget(s.Resource)
			w.RemoveResource(x.run.StackID, s.Resource)
			return
		}
		x.markUnhealthy(w, s, reason)
	})
	return schedule.Event{Outcome: schedule.Broken, Reason: reason}, err
}

func nothingMade(parts []cloud.Part) bool {
	for _, p := range parts {
		if p.Seen || !p.Sent.IsZero() {
			return false
		}
	}
	return true
}
