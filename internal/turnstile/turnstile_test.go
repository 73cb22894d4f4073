package turnstile

import (
	"context"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"undersail/internal/await"
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
		await.Until(t, who+" waits", func() bool { return s.waiting() != before })
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
			// some give up
			ctx, cancel := context.WithTimeout(context.Background(), time.Duration(1+i%7)*time.Millisecond)
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
			time.Sleep(time.Millisecond) // inside for a while, so that others meet it
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

// TestTurnsAreFairUnderExpiry lets many arrive, leave and give up at random, and holds who is
// let in against a model that is plain: a list of who waits, in which those who wait at all
// have one turn each, in the order in which they began to wait or had their last turn.
func TestTurnsAreFairUnderExpiry(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 7))
		s, m := New(1+r.IntN(3)), &model{each: map[string]int{}}
		m.all = s.all
		var inside []*visitor
		waits := map[*visitor]bool{}
		for step := range 120 {
			switch who := string(rune('a' + r.IntN(4))); {
			case r.IntN(3) > 0:
				v := &visitor{who: who, let: make(chan func(), 1), over: make(chan struct{})}
				ctx, cancel := context.WithCancel(context.Background())
				v.cancel = cancel
				before := s.waiting()
				go func() {
					if leave, ok := s.Enter(ctx, v.who, 2, time.Hour); ok {
						v.let <- leave
					} else {
						close(v.over)
					}
				}()
				if m.arrive(v) {
					v.leave = <-v.let
					inside = append(inside, v)
				} else {
					for s.waiting() == before {
						runtime.Gosched()
					}
					waits[v] = true
				}
			case len(inside) > 0 && r.IntN(2) == 0:
				i := r.IntN(len(inside))
				v := inside[i]
				inside = append(inside[:i], inside[i+1:]...)
				v.leave()
				for _, next := range m.leave(v) {
					select {
					case next.leave = <-next.let:
					case <-time.After(20 * time.Second):
						t.Fatalf("seed %d, step %d: %s should be let in now, and is not", seed, step, next.who)
					}
					delete(waits, next)
					inside = append(inside, next)
				}
			case len(waits) > 0: // somebody's patience is over
				v := m.waiting[r.IntN(len(m.waiting))]
				v.cancel()
				<-v.over
				m.giveUp(v)
				delete(waits, v)
			}
			for v := range waits {
				if len(v.let) > 0 {
					t.Fatalf("seed %d, step %d: %s is let in out of turn", seed, step, v.who)
				}
			}
		}
		for v := range waits {
			v.cancel()
			<-v.over
		}
		for _, v := range inside {
			v.leave()
		}
		if len(s.each) != 0 || s.inside != 0 || len(s.turns) != 0 {
			t.Fatalf("seed %d: something is left: %+v", seed, s)
		}
	}
}

type visitor struct {
	who    string
	let    chan func()
	over   chan struct{}
	cancel func()
	leave  func()
}

// model is who is inside, who waits, and the order of turns.
type model struct {
	all, inside int
	each        map[string]int
	waiting     []*visitor // in the order of their coming
	turns       []string
}

const mostEach = 2

func (m *model) free(who string) bool { return m.inside < m.all && m.each[who] < mostEach }

func (m *model) waits(who string) bool {
	return slices.ContainsFunc(m.waiting, func(v *visitor) bool { return v.who == who })
}

func (m *model) arrive(v *visitor) (in bool) {
	if !m.waits(v.who) && m.free(v.who) {
		m.inside, m.each[v.who] = m.inside+1, m.each[v.who]+1
		return true
	}
	if !m.waits(v.who) {
		m.turns = append(m.turns, v.who)
	}
	m.waiting = append(m.waiting, v)
	return false
}

func (m *model) leave(v *visitor) (let []*visitor) {
	m.inside, m.each[v.who] = m.inside-1, m.each[v.who]-1
	for i := 0; i < len(m.turns); {
		who := m.turns[i]
		if !m.free(who) {
			i++
			continue
		}
		at := slices.IndexFunc(m.waiting, func(v *visitor) bool { return v.who == who })
		next := m.waiting[at]
		m.waiting = append(m.waiting[:at], m.waiting[at+1:]...)
		m.inside, m.each[who] = m.inside+1, m.each[who]+1
		m.turns = append(m.turns[:i], m.turns[i+1:]...)
		if m.waits(who) {
			m.turns = append(m.turns, who)
		}
		let = append(let, next)
	}
	return let
}

func (m *model) giveUp(v *visitor) {
	at := slices.Index(m.waiting, v)
	m.waiting = append(m.waiting[:at], m.waiting[at+1:]...)
	if !m.waits(v.who) {
		m.turns = slices.DeleteFunc(m.turns, func(who string) bool { return who == v.who })
	}
}
