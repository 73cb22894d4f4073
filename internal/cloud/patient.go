package cloud

import (
	"context"
	"errors"
	"iter"
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
func tried(ctx context.Context, call func() error) error {
	for try := 1; ; try++ {
		err := call()
		class := ClassOf(err)
		if err == nil || try == mostTries || class != Throttled && class != Transient && class != UnknownOutcome {
			return err
		}
		wait := time.Duration(try*try) * 20 * time.Millisecond
		var e *Error
		if errors.As(err, &e) {
			wait = max(wait, e.RetryAfter)
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(wait):
		}
	}
}

func (p patient) WhoAmI(ctx context.Context) (me Identity, err error) {
	err = tried(ctx, func() error { me, err = p.Adapter.WhoAmI(ctx); return err })
	return me, err
}

func (p patient) Offers(ctx context.Context, region string) (o offer.Offers, err error) {
	err = tried(ctx, func() error { o, err = p.Adapter.Offers(ctx, region); return err })
	return o, err
}

// AcceptTerms passes the word on; saying it twice is no fault.
func (p patient) AcceptTerms(ctx context.Context, name string) error {
	a, can := p.Adapter.(Accepter)
	if !can {
		return &Error{
			Class:   Invalid,
			Message: "the cloud takes no word for the terms " + name,
			Remedy:  "accept them where the account was opened",
		}
	}
	return tried(ctx, func() error { return a.AcceptTerms(ctx, name) })
}

// Taken passes the question on. A cloud whose names are nobody else's business takes none.
func (p patient) Taken(ctx context.Context, region, typeName, name string) (why string, err error) {
	a, can := p.Adapter.(Registrar)
	if !can {
		return "", nil
	}
	err = tried(ctx, func() error { why, err = a.Taken(ctx, region, typeName, name); return err })
	return why, err
}

// TurnOn passes the wish on.
func (p patient) TurnOn(ctx context.Context, region, feature string) error {
	a, can := p.Adapter.(Enabler)
	if !can {
		return &Error{
			Class:   Invalid,
			Message: "the cloud lets nobody turn the feature " + feature + " on from here",
			Remedy:  "turn it on where the account was opened",
		}
	}
	return tried(ctx, func() error { return a.TurnOn(ctx, region, feature) })
}

// Log gives nil where the cloud does not tell.
func (p patient) Log(ctx context.Context, r Ref) (lines []string, err error) {
	if a, can := p.Adapter.(Logger); can {
		err = tried(ctx, func() error { lines, err = a.Log(ctx, r); return err })
	}
	return lines, err
}

func (p patient) Look(ctx context.Context, ref Ref) (live Live, there Presence, err error) {
	err = tried(ctx, func() error { live, there, err = p.Adapter.Look(ctx, ref); return err })
	return live, there, err
}

// Search begins anew when a page fails, and yields nothing before all are read.
func (p patient) Search(ctx context.Context, q Query) iter.Seq2[Live, error] {
	return func(yield func(Live, error) bool) {
		var all []Live
		err := tried(ctx, func() (err error) { all, err = Collect(p.Adapter.Search(ctx, q)); return err })
		for _, l := range all {
			if !yield(l, nil) {
				return
			}
		}
		if err != nil {
			yield(Live{}, err)
		}
	}
}

// Collect reads a search to its end, or to its first error.
func Collect(found iter.Seq2[Live, error]) ([]Live, error) {
	var all []Live
	for l, err := range found {
		if err != nil {
			return nil, err
		}
		all = append(all, l)
	}
	return all, nil
}
