package request

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"undersail/internal/await"
	"undersail/internal/core/budget"
	"undersail/internal/refusal"
)

func askedBy(who string, left int64) context.Context {
	return context.WithValue(context.Background(), computingKey{}, &allowance{who: who, left: left, guard: time.Hour})
}

func TestAComputationEndsWithItsBudgetAndItsCaller(t *testing.T) {
	t.Parallel()
	s := NewTurns()
	until := func(b *budget.Budget) {
		for !b.Over() {
			b.Spend(1)
			time.Sleep(time.Millisecond) // it computes for a while
		}
	}
	var said *refusal.Error
	if err := s.Compute(askedBy("oda", 20), until); !errors.As(err, &said) || said.Kind != refusal.TooMuch {
		t.Errorf("over its budget: %v", err)
	}
	// What a request computes in parts counts together.
	ctx := askedBy("oda", 60)
	spend := func(b *budget.Budget) { b.Spend(40) }
	first, second := s.Compute(ctx, spend), s.Compute(ctx, spend)
	if first != nil || !errors.As(second, &said) || said.Kind != refusal.TooMuch {
		t.Errorf("in parts: %v, then %v", first, second)
	}
	gone, hangUp := context.WithCancel(askedBy("oda", computeBudget))
	began := make(chan struct{})
	var once sync.Once
	ended := make(chan error)
	go func() {
		ended <- s.Compute(gone, func(b *budget.Budget) {
			once.Do(func() { close(began) })
			until(b)
		})
	}()
	<-began
	hangUp()
	if err := <-ended; !errors.Is(err, context.Canceled) {
		t.Errorf("after its caller hung up: %v", err)
	}
}

// TestWhatIsShortNeedNotWaitForWhatIsLong keeps every turn of what is long busy.
func TestWhatIsShortNeedNotWaitForWhatIsLong(t *testing.T) {
	t.Parallel()
	s := NewTurns()
	end := make(chan struct{})
	var all sync.WaitGroup
	var twice atomic.Int64
	for i := range 4 {
		all.Go(func() {
			s.Compute(askedBy(string(rune('a'+i)), computeBudget), func(b *budget.Budget) {
				twice.Add(1)
				for !b.Over() {
					b.Spend(shortly / 4)
					select {
					case <-end:
						return
					case <-time.After(5 * time.Millisecond):
					}
				}
			})
		})
	}
	await.Until(t, "all of them are known to be long, or wait to be", func() bool { return twice.Load() >= 4 })
	done := make(chan error, 1)
	go func() { done <- s.Compute(askedBy("oda", computeBudget), func(*budget.Budget) {}) }()
	select {
	case err := <-done:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(60 * time.Second):
		t.Error("what is short waits for what is long")
	}
	close(end)
	all.Wait()
}
