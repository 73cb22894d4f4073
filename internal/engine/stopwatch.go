package engine

import (
	"sync"
	"time"
)

// stopwatch counts what the steps of one execution spend of their patience, by the database's
// clock as it was when the run was claimed, and what was spent since: within one execution no
// clock jumps. It is safe for concurrent use.
type stopwatch struct {
	claimed, began time.Time // the same moment by the database's clock and by our own

	mu     sync.Mutex
	spells map[int]*spell
}

// spell is what is known of the time of one step. Zero times are not known.
type spell struct {
	begun, made time.Time
	// waited counts against no patience: since it began, and since it made what it makes.
	waited, waitedMade time.Duration
}

func newStopwatch(claimed time.Time) *stopwatch {
	return &stopwatch{claimed: claimed, began: time.Now(), spells: map[int]*spell{}}
}

func (w *stopwatch) now() time.Time { return w.claimed.Add(time.Since(w.began)) }

// of gives the time of a step to be looked at or changed, while nobody else does.
func (w *stopwatch) of(step int, do func(*spell)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	s := w.spells[step]
	if s == nil {
		s = &spell{}
		w.spells[step] = s
	}
	do(s)
}

// underWay notes when a step began, and when it made what it makes.
func (w *stopwatch) underWay(step int, begun, made time.Time) {
	w.of(step, func(s *spell) { s.begun, s.made = begun, made })
}

func (w *stopwatch) madeNow(step int, at time.Time) { w.of(step, func(s *spell) { s.made = at }) }

// wait notes time that counts against no patience; made says that the step made what it makes
// before.
func (w *stopwatch) wait(step int, span time.Duration, made bool) {
	w.of(step, func(s *spell) {
		s.waited += span
		if made {
			s.waitedMade += span
		}
	})
}

// waited is that time: since a step began, and since it made what it makes.
func (w *stopwatch) waited(step int) (all, made time.Duration) {
	w.of(step, func(s *spell) { all, made = s.waited, s.waitedMade })
	return all, made
}

// spent is how much of its patience a step has spent, and how much of it since it made what it
// makes; false says that it has not begun.
func (w *stopwatch) spent(step int) (all, settling time.Duration, begun bool) {
	now := w.now()
	w.of(step, func(s *spell) {
		if begun = !s.begun.IsZero(); begun {
			all = max(0, now.Sub(s.begun)-s.waited)
		}
		if !s.made.IsZero() {
			settling = max(0, now.Sub(s.made)-s.waitedMade)
		}
	})
	return all, settling, begun
}
