package service

import (
	"context"
	"maps"
	"slices"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/store"
)

// facts are what a cloud says of everything that is recorded of a stack.
type facts struct {
	live  map[string]cloud.Live // by name of the resource; what is absent is not in it
	found []cloud.Live          // everything with the stack's mark
}

// look asks the cloud about every recorded resource: all at once by the mark of
// the stack, and those that are not found there one by one, until each is seen or
// proved absent. An outcome stays unknown until the cloud has been asked.
func (s *Service) look(ctx context.Context, adapter cloud.Adapter, a store.Account, st store.Stack, recorded []store.Resource) (facts, error) {
	f := facts{live: map[string]cloud.Live{}}
	regions := map[string]bool{}
	for _, r := range recorded {
		regions[r.Region] = true
	}
	byToken := map[string]cloud.Live{}
	for _, region := range slices.Sorted(maps.Keys(regions)) {
		found, err := cloud.Collect(adapter.Search(ctx, cloud.Query{Region: region, Tags: map[string]string{cloud.TagStackID: st.ID}}))
		if err != nil {
			return f, cloudSays(err)
		}
		f.found = append(f.found, found...)
		for _, l := range found {
			byToken[l.Token] = l
		}
	}
	for _, r := range recorded {
		if l, ok := byToken[r.Token]; ok {
			f.live[r.Name] = l
			continue
		}
		l, there, err := s.surely(ctx, adapter, a, r)
		if err != nil {
			return f, err
		}
		if there {
			f.live[r.Name] = l
		}
	}
	return f, nil
}

// surely looks at one resource until it is seen, or has been unseen for longer
// than a fresh thing may be.
func (s *Service) surely(ctx context.Context, adapter cloud.Adapter, a store.Account, r store.Resource) (cloud.Live, bool, error) {
	visibility := time.Duration(adapter.Visibility() / max(a.ClockRate, 0.001) * float64(time.Second))
	for {
		l, there, err := adapter.Look(ctx, r.Ref())
		if err != nil {
			return l, false, cloudSays(err)
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

// begun reports whether the making of a resource was begun and never proved to
// have come to anything.
func begun(r store.Resource) bool { return r.MadeAt == nil }

// recordedForChange is what changes are computed from: what is recorded, as the
// cloud has it.
func (w *work) recordedForChange() []change.Recorded {
	var out []change.Recorded
	for _, r := range w.recorded {
		l, there := w.facts.live[r.Name]
		if !there && begun(r) {
			continue // it was begun, and is proved absent
		}
		broken, _ := r.Attributes["broken"].(bool)
		c := w.conduct[r.Name]
		row := change.Recorded{Name: r.Name, Type: r.Type, Declared: r.Declared, Want: r.Want, Attributes: r.Attributes,
			Healthy: r.State == state.Healthy, Broken: broken || l.Phase == cloud.Broken, Missing: !there, Undoing: w.undoes != nil, After: r.After, Guard: c.Guard, AtRetire: c.AtRetire}
		if there {
			row.Strayed = change.Strayed(r.Type, r.Want, l.Has, c.Leave)
			if begun(r) {
				row.Attributes = l.Attributes
			}
		}
		out = append(out, row)
	}
	return out
}

// absent names what is recorded and proved not to be there, so that the records go
// when the run begins.
func (w *work) absent() []string {
	var names []string
	for _, r := range w.recorded {
		if _, there := w.facts.live[r.Name]; !there && begun(r) {
			names = append(names, r.Name)
		}
	}
	return names
}

// paidFor are the recorded resources that are there, in the form in which they
// have a price.
func (w *work) paidFor() []render.Resource {
	var out []render.Resource
	for _, r := range w.recorded {
		if _, there := w.facts.live[r.Name]; there {
			out = append(out, render.Resource{Name: r.Name, Type: r.Type, Want: r.Want})
		}
	}
	return out
}

// othersNetworks are the networks of a region that do not belong to the stack: its
// own never stand in its way.
func (w *work) othersNetworks() []offer.Network {
	own := map[string]bool{}
	for _, l := range w.facts.found {
		own[l.ID] = true
	}
	return slices.DeleteFunc(slices.Clone(w.offers.Networks), func(n offer.Network) bool { return own[n.ID] })
}
