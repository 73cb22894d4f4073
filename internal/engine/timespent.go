package engine

import (
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/schedule"
	"undersail/internal/store"
)

// spending tells how much of their patience the steps have spent that are under way.
func (x *execution) spending() (out []store.Spent) {
	for i := range x.steps {
		if all, settling, begun := x.spent(i); begun {
			out = append(out, store.Spent{
				Run:      x.run.ID,
				Step:     x.steps[i].Number,
				SpentMS:  all.Milliseconds(),
				SettleMS: settling.Milliseconds(),
			})
		}
	}
	return out
}

// resume counts the time of steps that are under way from what they have spent, whatever the
// clock was then. What was sent and not seen by whoever had the run before may be unseen for as
// long as if it were sent now.
func (x *execution) resume() {
	now := x.now()
	for i := range x.steps {
		s := &x.steps[i]
		if s.IntentAt == nil || s.State != string(schedule.Working) && s.State != string(schedule.Settling) {
			continue
		}
		began, before := now.Add(-time.Duration(s.SpentMS+s.WaitedMS)*time.Millisecond), *s.IntentAt
		s.IntentAt = &began
		made := time.Time{}
		if s.MadeAt != nil {
			made = now.Add(-time.Duration(s.SettleSpentMS+s.SettleWaitedMS) * time.Millisecond)
			s.MadeAt = &made
		}
		if s.CalledAt != nil {
			s.CalledAt = &now
		}
		for j, part := range s.Parts {
			switch {
			case part.Sent.IsZero():
			case !part.Seen:
				s.Parts[j].Sent = now
			case sentFor(part, before) && !sentFor(part, began): // what the step sent stays its own
				s.Parts[j].Sent = began
			case !sentFor(part, before) && sentFor(part, began): // and what an earlier one sent does not become it
				s.Parts[j].Sent = began.Add(-time.Second)
			}
		}
		x.underWay(i, began, made)
	}
}

// sentFor reports whether a part was sent for a step that began at a moment, and not for one before it.
func sentFor(p cloud.Part, began time.Time) bool {
	return !p.Sent.Before(began.Add(-time.Millisecond))
}
