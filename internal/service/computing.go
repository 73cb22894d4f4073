package service

import (
	"context"
	"math"
	"sync"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/budget"
	"undersail/internal/gentle"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/turnstile"
)

// computeBudget is how much one request may compute, all that it computes together: a cost
// that is counted, and the same on every machine. What costs more is stopped, and so is what
// nobody waits for any more. Between six and thirteen million units take a second here, so this
// is some ten seconds of a processor; a stack of ten thousand resources costs two million.
const computeBudget = 80_000_000

// computeGuard is how much of a processor's time one request may take whatever the count
// says: far above what the budget takes.
const computeGuard = 2 * time.Minute

// mostResources is how many resources one stack may have here.
const mostResources = 10_000

// How much is computed at a time: one thing for each who asks. Nobody knows beforehand what
// takes long, so everything begins among what is short, and what is not done in time begins
// again among what is long, where there is room for less. So a few who ask for much keep
// nobody waiting who asks for little.
const (
	computingEach   = 1
	computePatience = 30 * time.Second
	shortly         = computeBudget / 20
)

func computingAll() int { return max(1, gentle.Processors/2) }

type turns struct{ short, long *turnstile.Turnstile }

func newTurns() turns { return turns{turnstile.New(computingAll()), turnstile.New(computingAll())} }

type computingKey struct{}

// allowance is what is left to one request.
type allowance struct {
	who string

	mu    sync.Mutex
	left  int64
	guard time.Duration // of a processor
}

func (a *allowance) rest() (int64, time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.left, a.guard
}

func (a *allowance) spend(units int64, took time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.left, a.guard = a.left-units, a.guard-took
}

// Compute does something that only computes, when it is its turn; do counts what it computes
// against the budget that it is given, and may be done twice. What is not done for a request
// is bounded by its caller alone.
func (s *Service) Compute(ctx context.Context, do func(b *budget.Budget)) error {
	a, ok := ctx.Value(computingKey{}).(*allowance)
	if !ok {
		do(budget.Of(ctx, math.MaxInt64/2, nil))
		return ctx.Err()
	}
	whole, err := a.within(ctx, s.computing.short, shortly, do)
	if err == nil && !whole {
		left, _ := a.rest()
		whole, err = a.within(ctx, s.computing.long, left, do)
	}
	if err == nil && !whole {
		err = refusal.New(refusal.TooMuch, "ask for less: fewer members of repetitions, smaller lists", "this takes more than the %d million units that one request may compute", computeBudget/1_000_000)
	}
	return err
}

// within computes at most so much, when it is its turn, and reports whether it came to its
// end.
func (a *allowance) within(ctx context.Context, turns *turnstile.Turnstile, most int64, do func(b *budget.Budget)) (whole bool, err error) {
	leave, ok := turns.Enter(ctx, a.who, computingEach, computePatience)
	if ok {
		defer leave()
	}
	if err := ctx.Err(); err != nil {
		return false, err
	}
	if !ok {
		return false, refusal.Wait(2*time.Second, "too much is being computed at this moment")
	}
	left, guard := a.rest()
	var b *budget.Budget
	var took time.Duration
	over := false
	gentle.Do(func() {
		began := gentle.Clock()
		b = budget.Of(ctx, min(most, left), func() bool { return gentle.Clock()-began > guard })
		do(b)
		over, took = b.Over(), gentle.Clock()-began
	})
	a.spend(b.Spent(), took)
	return !over, ctx.Err()
}

// render computes the rendering of a proposal and its changes.
func (s *Service) render(ctx context.Context, r *reading) (changed proposal.Changed, err error) {
	err = s.Compute(ctx, func(b *budget.Budget) {
		r.Most = mostResources
		changed = r.Facts.Render(b)
	})
	return changed, err
}

// As narrows what is read under a context down to what somebody sees, and gives what is
// done for one request of theirs its budget.
func As(ctx context.Context, u people.User) context.Context {
	ctx = context.WithValue(ctx, computingKey{}, &allowance{who: u.Name, left: computeBudget, guard: computeGuard})
	only, everywhere := u.Grants().Accounts()
	if everywhere {
		return ctx
	}
	return access.Within(ctx, only)
}
