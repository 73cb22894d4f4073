package service

import (
	"context"
	"time"

	"undersail/internal/gentle"
	"undersail/internal/proposal"
)

// computeBudget is how long one request may compute, all that it computes together and
// without what it waits for. What takes longer is stopped, and so is what nobody waits for
// any more.
const computeBudget = 20 * time.Second

// mostResources is how many resources one stack may have here.
const mostResources = 20_000

// How much is computed at a time: one thing for each who asks, while half of the processors
// are left to those who read.
const (
	computingEach   = 1
	computePatience = 30 * time.Second
)

func computingAll() int { return max(1, gentle.Processors/2) }

type computingKey struct{}

// budget is what is left to one request.
type budget struct {
	who  string
	left time.Duration
}

// compute does something that only computes, when it is its turn; do asks stop from time to
// time whether to give up. What is not done for a request has no budget.
func (s *Service) compute(ctx context.Context, do func(stop func() bool)) error {
	b, ok := ctx.Value(computingKey{}).(*budget)
	if !ok {
		do(func() bool { return ctx.Err() != nil })
		return ctx.Err()
	}
	leave, ok := s.computing.Enter(ctx, b.who, computingEach, computePatience)
	if err := ctx.Err(); err != nil {
		if ok {
			leave()
		}
		return err
	}
	if !ok {
		return waitFor(2*time.Second, "too much is being computed at this moment")
	}
	defer leave()
	began := time.Now()
	end := began.Add(b.left)
	over := false
	gentle.Do(func() {
		do(func() bool {
			over = over || time.Now().After(end)
			return over || ctx.Err() != nil
		})
	})
	b.left -= time.Since(began)
	if err := ctx.Err(); err != nil {
		return err
	}
	if over || b.left <= 0 {
		return refuse(TooMuch, "ask for less: fewer members of repetitions, smaller lists", "this takes more than the %d seconds that one request may compute", int(computeBudget.Seconds()))
	}
	return nil
}

// Compute is for what others compute for a request.
func (s *Service) Compute(ctx context.Context, do func(stop func() bool)) error {
	return s.compute(ctx, do)
}

// render computes the rendering of a proposal and its changes.
func (s *Service) render(ctx context.Context, r *reading) (changed proposal.Changed, err error) {
	err = s.compute(ctx, func(stop func() bool) {
		r.Stop, r.Most = stop, mostResources
		changed = r.Facts.Render()
	})
	return changed, err
}
