package engine

import (
	"testing"

	"undersail/internal/store"
)

// TestAnExecutionThatWasReplacedDoesNotRemoveItsSuccessor: after an absence of the
// database the same engine may hold a run twice; the old execution leaves, and a
// wish to stop reaches the new one.
func TestAnExecutionThatWasReplacedDoesNotRemoveItsSuccessor(t *testing.T) {
	t.Parallel()
	e := &Engine{running: map[int64]*execution{}}
	hold := func(number int64) *execution {
		return &execution{
			run:     store.Run{ID: 7},
			number:  number,
			leaving: make(chan struct{}),
			stopped: make(chan struct{}),
		}
	}
	closed := func(c chan struct{}) bool {
		select {
		case <-c:
			return true
		default:
			return false
		}
	}
	old, successor := hold(1), hold(2)
	e.enter(old)
	e.enter(successor)
	if !closed(old.leaving) || closed(successor.leaving) {
		t.Error("the old execution does not leave, or the new one does")
	}
	e.exit(old)
	e.AskStop(7)
	if !closed(successor.stopped) {
		t.Error("a wish to stop reached nobody")
	}
	e.exit(successor)
	if len(e.running) != 0 {
		t.Error("an execution that ended is still held")
	}
}
