package engine

import (
	"testing"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/schedule"
	"undersail/internal/store"
)

// TestWhatAStepSentStaysItsOwn: an engine that takes a run over counts the time of a step anew, from
// what is recorded of its patience. What the step sent before is still its own, or a task would
// be undone without end, or run a second time; what an earlier step sent is not.
func TestWhatAStepSentStaysItsOwn(t *testing.T) {
	t.Parallel()
	began := time.Date(2026, 12, 1, 12, 15, 0, 388e6, time.UTC)
	for name, c := range map[string]struct {
		claimed time.Time
		spent   time.Duration
	}{
		"killed before any time was recorded": {began.Add(2300 * time.Millisecond), 0},
		"killed after some was":               {began.Add(9 * time.Second), 5 * time.Second},
		"with a clock that was set back":      {began.Add(-time.Hour), time.Second},
		"with a clock that was set ahead":     {began.Add(time.Hour), time.Second},
	} {
		earlier := cloud.Part{Kind: runPart, Mark: "one.1", Sent: began.Add(-3 * time.Second), Seen: true}
		own := cloud.Part{Kind: undoPart, Mark: "one.undo.1", Sent: began.Add(12 * time.Millisecond), Seen: true}
		at := began
		x := &execution{
			stopwatch: newStopwatch(c.claimed),
			steps: []store.Step{{
				Token:    "one",
				Action:   ActionRemove,
				State:    string(schedule.Working),
				IntentAt: &at,
				CalledAt: &at,
				SpentMS:  c.spent.Milliseconds(),
				Parts:    []cloud.Part{earlier, own},
			}},
		}
		x.resume()
		tasks := &tasks{x: x, s: &x.steps[0]}
		ref := x.ref(&x.steps[0])
		if p := tasks.mine(ref, undoPart); p == nil || p.Mark != own.Mark {
			t.Errorf("%s: what it sent is not its own: began %s, sent %s", name, x.steps[0].IntentAt, ref.Parts[1].Sent)
		}
		if p := tasks.mine(ref, runPart); p != nil {
			t.Errorf("%s: what an earlier step sent is taken for its own: began %s, sent %s", name, x.steps[0].IntentAt,
				p.Sent)
		}
	}
}
