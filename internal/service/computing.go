package service

import (
	"context"
	"sync"
	"time"

	"undersail/internal/gentle"
	"undersail/internal/proposal"
	"undersail/internal/turnstile"
)

// computeBudget is how long one request may compute, all that it computes together and
// without what it waits for. What takes longer is stopped, and so is what nobody waits for
// any more.
const computeBudget = 20 * time.Second

// mostResources is how many resources one stack may have here.
const mostResources = 10_000

// How much is computed at a time: one thing for each who asks. Nobody knows beforehand what
// takes long, so everything begins among what is short, and what is not done in time begins
// again among what is long, where there is room for less. So a few who ask for much keep
// nobody waiting who asks for little.
const (
	computingEach   = 1
	computePatience = 30 * time.Second
	shortly         = time.Second
)

func computingAll() int { return max(1, gentle.Processors/2) }

type turns struct{ short, long *turnstile.Turnstile }

func newTurns() turns { return turns{turnstile.New(computingAll()), turnstile.New(computingAll())} }

type computingKey struct{}

// budget is what is left to one request.
type budget struct {
	who string

	mu   sync.Mutex
	left time.Duration
}

func (b *budget) rest() time.Duration {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.left
}

func (b *budget) spend(d time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.left -= d
}

// Compute does something that only computes, when it is its turn; do asks stop from time to
// time whether to give up, and may be done twice. What is not done for a request has no
// budget.
func (s *Service) Compute(ctx context.Context, do func(stop func() bool)) error {
	b, ok := ctx.Value(computingKey{}).(*budget)
	if !ok {
		do(func() bool { return ctx.Err() != nil })
		return ctx.Err()
	}
	whole, err := b.within(ctx, s.computing.short, shortly, do)
	if err == nil && !whole {
		whole, err = b.within(ctx, s.computing.long, b.rest(), do)
	}
	if err == nil && !whole {
		err = refuse(TooMuch, "ask for less: fewer members of repetitions, smaller lists", "this takes more than the %d seconds that one request may compute", int(computeBudget.Seconds()))
	}
	return err
}

// within computes at most for a time, when it is its turn, and reports whether it came to
// its end.
func (b *budget) within(ctx context.Context, turns *turnstile.Turnstile, most time.Duration, do func(stop func() bool)) (whole bool, err error) {
	leave, ok := turns.Enter(ctx, b.who, computingEach, computePatience)
	if ok {
		defer leave()
	}
	if err := ctx.Err(); err != nil {
		return false, err
	}
	if !ok {
		return false, waitFor(2*time.Second, "too much is being computed at this moment")
	}
	began := time.Now()
	end := began.Add(min(most, b.rest()))
	over := false
	gentle.Do(func() {
		do(func() bool {
			over = over || time.Now().After(end)
			return over || ctx.Err() != nil
		})
	})
	b.spend(time.Since(began))
	return !over && b.rest() > 0, ctx.Err()
}

// render computes the rendering of a proposal and its changes.
func (s *Service) render(ctx context.Context, r *reading) (changed proposal.Changed, err error) {
	err = s.Compute(ctx, func(stop func() bool) {
		r.Stop, r.Most = stop, mostResources
		changed = r.Facts.Render()
	})
	return changed, err
}
