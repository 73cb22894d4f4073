// Package turnstile shares out what many want at a time: so many are inside in all and of
// each, and those who wait are let in one of each in turn. It knows nothing of what they do.
package turnstile

import (
	"context"
	"slices"
	"sync"
	"time"
)

// Turnstile lets in so many at a time, in all and of each, and those who wait one of each
// in turn.
type Turnstile struct {
	mu     sync.Mutex
	all    int // 0 is any number
	inside int
	each   map[string]*queue
	turns  []string // who waits, in the order of their turns
}

type queue struct {
	inside, most int
	waiting      []chan struct{}
}

// New makes one that lets in so many in all; 0 is any number.
func New(all int) *Turnstile { return &Turnstile{all: all, each: map[string]*queue{}} }

// Enter waits for a turn, at most as long as patience and only while fewer than sixteen
// times most of the same wait. Leave is called once, when ok.
func (t *Turnstile) Enter(ctx context.Context, who string, most int, patience time.Duration) (leave func(), ok bool) {
	leave = func() { t.leave(who) }
	t.mu.Lock()
	q := t.each[who]
	if q == nil {
		q = &queue{}
		t.each[who] = q
	}
	q.most = most
	if len(q.waiting) == 0 && t.free(q) {
		q.inside++
		t.inside++
		t.mu.Unlock()
		return leave, true
	}
	if patience == 0 || len(q.waiting) >= 16*most {
		t.tidy(who)
		t.mu.Unlock()
		return nil, false
	}
	turn := make(chan struct{})
	if q.waiting = append(q.waiting, turn); len(q.waiting) == 1 {
		t.turns = append(t.turns, who)
	}
	t.mu.Unlock()
	late := time.NewTimer(patience)
	defer late.Stop()
	select {
	case <-turn:
		return leave, true
	case <-late.C:
	case <-ctx.Done():
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for i, w := range q.waiting {
		if w == turn {
			if q.waiting = append(q.waiting[:i], q.waiting[i+1:]...); len(q.waiting) == 0 {
				// its turn goes with it
				t.turns = slices.DeleteFunc(t.turns, func(name string) bool { return name == who })
			}
			t.tidy(who)
			return nil, false
		}
	}
	return leave, true // it was let in at that very moment
}

func (t *Turnstile) free(q *queue) bool { return q.inside < q.most && (t.all == 0 || t.inside < t.all) }

func (t *Turnstile) leave(who string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.each[who].inside--
	t.inside--
	for i := 0; i < len(t.turns); {
		next := t.turns[i]
		q := t.each[next]
		if q == nil || len(q.waiting) == 0 {
			t.turns = append(t.turns[:i], t.turns[i+1:]...)
			continue
		}
		if !t.free(q) {
			i++
			continue
		}
		q.inside++
		t.inside++
		close(q.waiting[0])
		q.waiting = q.waiting[1:]
		t.turns = append(t.turns[:i], t.turns[i+1:]...)
		if len(q.waiting) > 0 {
			t.turns = append(t.turns, next) // behind all others who wait
		}
	}
	t.tidy(who)
}

// tidy forgets who has nothing here.
func (t *Turnstile) tidy(who string) {
	if q := t.each[who]; q != nil && q.inside == 0 && len(q.waiting) == 0 {
		delete(t.each, who)
	}
}
