package engine

import (
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/schedule"
	"undersail/internal/store"
)

// now is the database's clock as it was when the run was claimed, and what was spent since:
// within one execution no clock jumps.
func (x *execution) now() time.Time { return x.claimed.Add(time.Since(x.began)) }

// spent tells how much of their patience the steps have spent that are under way.
func (x *execution) spent() (out []store.Spent) {
	x.mu.Lock()
	defer x.mu.Unlock()
	now := x.now()
	for i, at := range x.intents {
		if at.IsZero() {
			continue
		}
		s := store.Spent{
			Run:     x.run.ID,
			Step:    x.steps[i].Number,
			SpentMS: max(0, now.Sub(at)-x.waits[i].since).Milliseconds(),
		}
		if made := x.mades[i]; !made.IsZero() {
			s.SettleMS = max(0, now.Sub(made)-x.waits[i].sinceMade).Milliseconds()
		}
		out = append(out, s)
	}
	return out
}

// underWay notes when a step began, and when it made what it makes.
func (x *execution) underWay(number int, at, made time.Time) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.intents[number], x.mades[number] = at, made
}

func (x *execution) madeNow(number int, at time.Time) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.mades[number] = at
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
