package openstack

import (
	"cmp"
	"context"
	"iter"
	"maps"
	"slices"

	"undersail/internal/cloud"
)

// Search finds what exists, whoever made it. The filters of the services differ and are
// not all heeded, so things are listed by kind and looked at here.
func (a *Adapter) Search(ctx context.Context, q cloud.Query) iter.Seq2[cloud.Live, error] {
	return func(yield func(cloud.Live, error) bool) {
		for _, name := range slices.Sorted(maps.Keys(conducts)) {
			if q.Type != "" && q.Type != name {
				continue
			}
			found, err := a.all(ctx, q.Region, name)
			if absent(err) {
				continue
			}
			if err != nil {
				yield(cloud.Live{}, err)
				return
			}
			for _, l := range found {
				if q.Matches(l) && !yield(l, nil) {
					return
				}
			}
		}
	}
}

// all reads every resource of a type.
func (a *Adapter) all(ctx context.Context, region, name string) ([]cloud.Live, error) {
	main := conducts[name].main
	list, err := a.list(ctx, region, main, nil)
	if err != nil {
		return nil, err
	}
	beside := map[string]*thing{} // parts of others, by kind and mark
	if name == "instance" || name == "network" {
		for _, kind := range map[string][]string{"instance": {"port", "floating"}, "network": {"router"}}[name] {
			more, err := a.list(ctx, region, kind, nil)
			if err != nil {
				return nil, err
			}
			for _, t := range more {
				if m := t.mark(); m != "" {
					beside[kind+" "+m] = &t
				} else if kind == "port" && t.Device != "" && beside["of "+t.Device] == nil {
					beside["of "+t.Device] = &t // of a machine that somebody else made
				}
			}
		}
	}
	var out []cloud.Live
	for _, t := range list {
		if t.External {
			continue // everybody's way out
		}
		token := t.mark()
		if name == "address" && t.Port != "" && token != "" {
			owner, err := a.byID(ctx, region, "port", t.Port)
			if err != nil {
				return nil, err
			}
			if owner != nil && owner.mark() == token {
				continue // a machine's own
			}
		}
		ref := cloud.Ref{Region: region, Type: name, Token: cmp.Or(token, t.ID)}
		w := &work{a: a, ref: ref, have: map[string]*thing{main + " " + ref.Token: &t}}
		for _, p := range conducts[name].parts(ref) {
			if b := beside[p.Kind+" "+token]; b != nil && p.Kind != main {
				w.have[p.Kind+" "+ref.Token] = b
			}
		}
		if p := beside["of "+t.ID]; p != nil && w.part("port") == nil {
			w.have["port "+ref.Token] = p
		}
		l, err := w.live(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}
