package request

import (
	"context"
	"math"
	"sync"
	"time"

	"undersail/internal/core/budget"
	"undersail/internal/gentle"
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

// Turns shares the processors out among those who ask for something to be computed.
type Turns struct{ short, long *turnstile.Turnstile }

// NewTurns has as many turns at a time as half of the processors.
func NewTurns() *Turns {
	return &Turns{turnstile.New(computingAll()), turnstile.New(computingAll())}
}

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

// Spent is how much was computed for the request of a context so far.
func Spent(ctx context.Context) int64 {
	a, ok := ctx.Value(computingKey{}).(*allowance)
	if !ok {
		return 0
	}
	left, _ := a.rest()
	return computeBudget - left
}

func (a *allowance) spend(units int64, took time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.left, a.guard = a.left-units, a.guard-took
}

// Compute does something that only computes, when it is its turn; do counts what it computes
// against the budget that it is given, and may be done twice. What is not done for a request
// is bounded by its caller alone.
func (t *Turns) Compute(ctx context.Context, do func(b *budget.Budget)) error {
	a, ok := ctx.Value(computingKey{}).(*allowance)
	if !ok {
		do(budget.Of(ctx, math.MaxInt64/2, nil))
		return ctx.Err()
	}
	whole, err := a.within(ctx, t.short, shortly, do)
	if err == nil && !whole {
		left, _ := a.rest()
		whole, err = a.within(ctx, t.long, left, do)
	}
	if err == nil && !whole {
		err = refusal.New(refusal.TooMuch, "ask for less: fewer members of repetitions, smaller lists",
			"this takes more than the %d million units that one request may compute", computeBudget/1_000_000)
	}
	return err
}

// within computes at most so much, when it is its turn, and reports whether it came to its
// end.
func (a *allowance) within(ctx context.Context, turns *turnstile.Turnstile, most int64,
	do func(b *budget.Budget)) (whole bool, err error) {
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
