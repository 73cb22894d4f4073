package turnstile

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

func TestOneWhoAsksForEverythingDoesNotTakeTheOthersTurn(t *testing.T) {
	t.Parallel()
	ctx, s := context.Background(), New(2)
	a, ok := s.Enter(ctx, "greedy", 5, 0)
	b, okToo := s.Enter(ctx, "greedy", 5, 0)
	if !ok || !okToo {
		t.Fatal("there was room")
	}
	if _, ok := s.Enter(ctx, "greedy", 5, 0); ok {
		t.Fatal("there was no room in all")
	}
	var order []string
	var mu sync.Mutex
	var all sync.WaitGroup
	waits := func(who string) {
		before := s.waiting()
		all.Go(func() {
			leave, ok := s.Enter(ctx, who, 5, time.Minute)
			if !ok {
				t.Error("it was not let in")
				return
			}
			mu.Lock()
			order = append(order, who)
			mu.Unlock()
			leave()
		})
		for s.waiting() == before {
			time.Sleep(time.Millisecond)
		}
	}
	for range 10 {
		waits("greedy")
	}
	waits("modest")
	a()
	b()
	all.Wait()
	at := -1
	for i, who := range order {
		if who == "modest" {
			at = i
		}
	}
	if at < 0 || at > 2 {
		t.Errorf("the one who asked last and once came in at place %d of %v", at+1, order)
	}
	if len(s.each) != 0 || s.inside != 0 || len(s.turns) != 0 {
		t.Errorf("something is left: %+v", s)
	}
}

func (t *Turnstile) waiting() (n int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, q := range t.each {
		n += len(q.waiting)
	}
	return n
}

func TestNeverMoreAreInsideThanMayBe(t *testing.T) {
	t.Parallel()
	s := New(4)
	var inside, most, entered atomic.Int64
	var all sync.WaitGroup
	for i := range 60 {
		all.Go(func() {
			ctx, cancel := context.WithTimeout(context.Background(), time.Duration(1+i%7)*time.Millisecond) // some give up
			defer cancel()
			leave, ok := s.Enter(ctx, string(rune('a'+i%5)), 2, time.Second)
			if !ok {
				return
			}
			defer leave()
			entered.Add(1)
			if n := inside.Add(1); n > most.Load() {
				most.Store(n)
			}
			time.Sleep(time.Millisecond)
			inside.Add(-1)
		})
	}
	all.Wait()
	if most.Load() > 4 || entered.Load() == 0 {
		t.Errorf("%d were inside at a time; %d came in", most.Load(), entered.Load())
	}
	if len(s.each) != 0 || s.inside != 0 || len(s.turns) != 0 {
		t.Errorf("something is left: %+v", s)
	}
}
