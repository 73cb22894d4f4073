package stacks

import (
	"context"
	"maps"
	"slices"
	"time"

	"undersail/internal/accounts"
	"undersail/internal/cloud"
	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/engine"
	"undersail/internal/store"
)

// Observed are what a cloud says of everything that is recorded of a stack.
type Observed struct {
	Live   map[string]cloud.Live // by name of the resource; what is absent is not in it
	marked []cloud.Live          // everything with the mark of the stack
}

// AsRecorded takes what is recorded for what is there.
func AsRecorded(rows []store.Resource) Observed {
	f := Observed{Live: map[string]cloud.Live{}}
	for _, r := range rows {
		if !Begun(r) {
			f.Live[r.Name] = cloud.Live{Ref: r.Ref(), Has: r.Want, Attributes: r.Attributes, Phase: cloud.Ready}
		}
	}
	return f
}

// Look asks the cloud about every recorded resource: all at once by the mark of
// the stack, and those that are not found there one by one, until each is seen or
// proved absent. An outcome stays unknown until the cloud has been asked.
func (s *Stacks) Look(ctx context.Context, adapter cloud.Adapter, a store.Account, st store.Stack,
	recorded []store.Resource) (Observed, error) {
	f := Observed{Live: map[string]cloud.Live{}}
	regions := map[string]bool{st.Region: true}
	for _, r := range recorded {
		regions[r.Region] = true
	}
	byToken := map[string]cloud.Live{}
	var marked []cloud.Live
	for _, region := range slices.Sorted(maps.Keys(regions)) {
		found, err := cloud.Collect(adapter.Search(ctx, cloud.Query{
			Region: region,
			Tags:   map[string]string{cloud.TagStackID: st.ID},
		}))
		if err != nil {
			return f, accounts.CloudSays(err)
		}
		for _, l := range found {
			byToken[l.Token] = l
		}
		marked = append(marked, found...)
	}
	f.marked = marked
	if err := s.listUnrecorded(ctx, a, marked, recorded); err != nil {
		return f, err
	}
	for _, r := range recorded {
		// What lacks a part that was there is asked for by that part: only then does the
		// adapter know that somebody took it away.
		if l, ok := byToken[r.Token]; ok && isWhole(l, r.Parts) {
			f.Live[r.Name] = l
			continue
		}
		if t, _ := resource.ByName(r.Type); t.Own { // no cloud has it: what is recorded of it holds
			if !Begun(r) || len(r.Parts) > 0 {
				f.Live[r.Name] = cloud.Live{Ref: r.Ref(), Has: r.Want, Attributes: r.Attributes, Phase: cloud.Ready}
			}
			continue
		}
		l, there, err := s.surely(ctx, adapter, a, r)
		if err != nil {
			return f, err
		}
		if there {
			f.Live[r.Name] = l
		}
	}
	return f, nil
}

// listUnrecorded lists with what is kept what carries the mark of a stack and is recorded
// nowhere: it is newer than the records.
func (s *Stacks) listUnrecorded(ctx context.Context, a store.Account, marked []cloud.Live,
	recorded []store.Resource) error {
	marked = slices.DeleteFunc(marked, func(l cloud.Live) bool {
		return slices.ContainsFunc(recorded, func(r store.Resource) bool { return r.Token == l.Token })
	})
	if len(marked) == 0 {
		return nil
	}
	lost, err := engine.Unrecorded(ctx, s.store, marked, 0)
	if err != nil || len(lost) == 0 {
		return err
	}
	var found []store.Kept
	for _, l := range lost {
		found = append(found, s.foundOf(ctx, l, a))
	}
	news, err := s.store.AddFound(ctx, found)
	for _, k := range news {
		s.log.Warn("something carries the mark of a stack and is recorded nowhere", "stack", k.Stack, "resource",
			k.Name, "type", k.Type, "id", k.ID())
	}
	return err
}

// foundOf is what is listed of something that is recorded nowhere, with its price as far as
// the offers that were read last tell it.
func (s *Stacks) foundOf(ctx context.Context, l cloud.Live, a store.Account) store.Kept {
	k := engine.FoundOf(l, a.Name, "")
	if o, err := s.accounts.OffersOf(ctx, a, l.Region, false); err == nil {
		cost := price.Of([]render.Resource{{Name: k.Name, Type: k.Type, Region: k.Region, Want: k.Want}}, offer.At(*o))
		k.Hour, k.Currency = cost.Hour, cost.Currency
	}
	return k
}

// isWhole reports whether every part that was seen once is there.
func isWhole(l cloud.Live, parts []cloud.Part) bool {
	return !slices.ContainsFunc(parts, func(p cloud.Part) bool { return p.Seen && l.Part(p.Kind, p.Mark) == nil })
}

// surely looks at one resource until it is seen, or has been unseen for longer
// than a fresh thing may be.
func (s *Stacks) surely(ctx context.Context, adapter cloud.Adapter, a store.Account,
	r store.Resource) (cloud.Live, bool, error) {
	visibility := time.Duration(adapter.Visibility() / max(a.ClockRate, 0.001) * float64(time.Second))
	for {
		l, there, err := adapter.Look(ctx, r.Ref())
		if err != nil {
			return l, false, accounts.CloudSays(err)
		}
		if there == cloud.Present {
			return l, true, nil
		}
		now := s.engine.Now()
		_, until := r.Ref().Settle(now, visibility)
		if r.MadeAt != nil && until.IsZero() { // an old answer may be all that is left of a fresh one
			if at := r.MadeAt.Add(visibility); now.Before(at) {
				until = at
			}
		}
		if until.IsZero() {
			return l, false, nil
		}
		select {
		case <-ctx.Done():
			return l, false, ctx.Err()
		case <-time.After(max(until.Sub(now)/4, 10*time.Millisecond)):
		}
	}
}

// Begun reports whether the making of a resource was begun and never proved to
// have come to anything.
func Begun(r store.Resource) bool { return r.MadeAt == nil }
