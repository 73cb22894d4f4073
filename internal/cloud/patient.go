package cloud

import (
	"context"
	"errors"
	"time"

	"undersail/internal/core/offer"
)

// Patient gives an adapter whose reading calls are made again while the cloud
// asks to wait or an answer is lost. It is for those who ask once and want an
// answer; the engine has a schedule of its own and uses the adapter itself.
// Calls that change something are passed on as they are.
func Patient(a Adapter) Adapter { return patient{a} }

type patient struct{ Adapter }

const mostTries = 8

// tried makes a call until it is answered, refused for good, or tried too often.
func tried[T any](ctx context.Context, call func() (T, error)) (T, error) {
	for try := 1; ; try++ {
		v, err := call()
		class := ClassOf(err)
		if err == nil || try == mostTries || class != Throttled && class != Transient && class != UnknownOutcome {
			return v, err
		}
		wait := time.Duration(try*try) * 20 * time.Millisecond
		var e *Error
		if errors.As(err, &e) {
			wait = max(wait, e.RetryAfter)
		}
		select {
		case <-ctx.Done():
			return v, err
		case <-time.After(wait):
		}
	}
}

func (p patient) WhoAmI(ctx context.Context) (Identity, error) {
	return tried(ctx, func() (Identity, error) { return p.Adapter.WhoAmI(ctx) })
}

func (p patient) Offers(ctx context.Context, region string) (offer.Offers, error) {
	return tried(ctx, func() (offer.Offers, error) { return p.Adapter.Offers(ctx, region) })
}

func (p patient) Read(ctx context.Context, ref Ref) (Live, error) {
	return tried(ctx, func() (Live, error) { return p.Adapter.Read(ctx, ref) })
}

func (p patient) Find(ctx context.Context, q Query) ([]Live, error) {
	return tried(ctx, func() ([]Live, error) { return p.Adapter.Find(ctx, q) })
}

func (p patient) List(ctx context.Context, region, tag, value string) ([]Live, error) {
	return tried(ctx, func() ([]Live, error) { return p.Adapter.List(ctx, region, tag, value) })
}
