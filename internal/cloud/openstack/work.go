package openstack

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"

	"undersail/internal/cloud"
)

// conduct says how one neutral type is made of things. Each function makes at most one
// changing call and gives progress that says whether another is needed.
type conduct struct {
	// main is the kind whose id is the resource's own. Without it nothing is altered; where
	// it was once and is not, nothing is made.
	main string
	// see builds what the resource is from its things.
	see    func(ctx context.Context, w *work) (cloud.Live, error)
	create func(ctx context.Context, w *work) (cloud.Progress, error)
	alter  func(ctx context.Context, w *work) (cloud.Progress, error)
	remove func(ctx context.Context, w *work) (cloud.Progress, error)
	// parts are the kinds and marks that a token's things have.
	parts func(ref cloud.Ref) []cloud.Part
}

// conducts are the types that the adapter speaks; see init in each file of types.
var conducts = map[string]conduct{}

// work is one step of a task: what is there of the resource, and what may be done.
type work struct {
	a      *Adapter
	ref    cloud.Ref
	task   cloud.Task
	intend func(cloud.Part) error
	have   map[string]*thing // by kind and mark
}

// soon is when to come again, in seconds, where the cloud is at work on a part and tells
// no moment.
const soon = 2

func single(kinds ...string) func(cloud.Ref) []cloud.Part {
	return func(ref cloud.Ref) []cloud.Part {
		var out []cloud.Part
		for _, k := range kinds {
			out = append(out, cloud.Part{Kind: k, Mark: ref.Token})
		}
		return out
	}
}

// working finds what is there of a resource. Parts that were recorded beyond the usual
// ones, such as those of further cards, are looked for too.
func (a *Adapter) working(ctx context.Context, ref cloud.Ref) (*work, error) {
	w := &work{a: a, ref: ref, have: map[string]*thing{}}
	wanted := conducts[ref.Type].parts(ref)
	for _, p := range ref.Parts {
		_, known := kinds[p.Kind]
		if known && !slices.ContainsFunc(wanted,
			func(x cloud.Part) bool { return x.Kind == p.Kind && x.Mark == p.Mark }) {
			wanted = append(wanted, p)
		}
	}
	for _, p := range wanted {
		t, err := a.find(ctx, ref, p.Kind, p.Mark)
		if err != nil {
			return nil, err
		}
		if t != nil {
			w.have[p.Kind+" "+p.Mark] = t
		}
	}
	return w, nil
}

// part gives a thing of the resource by its kind, that of the token itself.
func (w *work) part(kind string) *thing { return w.have[kind+" "+w.ref.Token] }

// make makes a thing: its part is intended first. Whatever it is, another step follows,
// which sees it.
func (w *work) make(ctx context.Context, kind, mark string, body map[string]any) (cloud.Progress, error) {
	if err := w.intend(cloud.Part{Kind: kind, Mark: mark}); err != nil {
		return cloud.Progress{}, err
	}
	t, err := w.a.post(ctx, w.ref.Region, kind, body)
	if err != nil {
		return cloud.Progress{}, err
	}
	w.have[kind+" "+mark] = &t
	return w.next(ctx)
}

// next says that another step is needed at once.
func (w *work) next(ctx context.Context) (cloud.Progress, error) {
	l, err := w.live(ctx)
	l.ReadyIn = 0
	return cloud.Progress{Live: l, More: true}, err
}

// more says that the cloud is at work and another step is needed.
func (w *work) more(ctx context.Context) (cloud.Progress, error) {
	l, err := w.live(ctx)
	l.ReadyIn = soon
	return cloud.Progress{Live: l, More: true}, err
}

// done says that every call of the task is made.
func (w *work) done(ctx context.Context) (cloud.Progress, error) {
	l, err := w.live(ctx)
	return cloud.Progress{Live: l}, err
}

// live builds what the resource is.
func (w *work) live(ctx context.Context) (cloud.Live, error) {
	c := conducts[w.ref.Type]
	l, err := c.see(ctx, w)
	if err != nil {
		return l, err
	}
	if l.Phase == cloud.Making {
		l.ReadyIn = soon // it tells no moment, and most of it takes seconds
	}
	l.Ref = cloud.Ref{Region: w.ref.Region, Type: w.ref.Type, Token: w.ref.Token}
	for _, p := range c.parts(w.ref) {
		if t := w.have[p.Kind+" "+p.Mark]; t != nil {
			l.Parts = append(l.Parts, t.part(p.Mark))
		}
	}
	for _, p := range w.ref.Parts {
		if t := w.have[p.Kind+" "+p.Mark]; t != nil && l.Ref.Part(p.Kind, p.Mark) == nil {
			l.Parts = append(l.Parts, t.part(p.Mark))
		}
	}
	if main := w.part(c.main); main != nil {
		l.ID = main.ID
		if l.Attributes == nil {
			l.Attributes = map[string]any{}
		}
		l.Attributes["id"] = main.ID
		if l.Tags == nil {
			l.Tags = main.tagMap()
		}
		if l.Name == "" {
			l.Name = main.Name
		}
		if l.Has == nil {
			l.Has = map[string]any{}
		}
		if main.kind != "floating" { // it has a description alone, and no name to compare
			l.Has["name"] = l.Name
		}
	}
	return l, nil
}

// tagged keeps the tags of a part equal to the wanted ones, beside what the adapter keeps
// there and what it is given to keep; false says that they are.
func (w *work) tagged(ctx context.Context, kind string, keep map[string]string) (cloud.Progress, bool, error) {
	t := w.part(kind)
	if t == nil || w.task.Tags == nil {
		return cloud.Progress{}, false, nil
	}
	wanted := maps.Clone(w.task.Tags)
	maps.Copy(wanted, t.own())
	maps.Copy(wanted, keep)
	form, same := "metadata", maps.Equal(wanted, t.Metadata)
	var body any = wanted
	list := tagsOf(wanted)
	if !t.hasMetadata() {
		form, same, body = "tags", slices.Equal(list, slices.Sorted(slices.Values(t.Tags))), list
	}
	if same {
		return cloud.Progress{}, false, nil
	}
	k := kinds[kind]
	err := w.a.do(ctx, w.ref.Region, call{
		service: k.service,
		method:  http.MethodPut,
		path:    k.path + "/" + t.ID + "/" + form,
		in:      map[string]any{form: body},
	})
	if err != nil {
		return cloud.Progress{}, false, fmt.Errorf("tag a %s: %w", kind, err)
	}
	if t.hasMetadata() {
		t.Metadata = wanted
	} else {
		t.Tags = list
	}
	p, err := w.next(ctx)
	return p, true, err
}

// renamed gives a thing its wanted name; false says that it has it. Floating addresses
// have none.
func (w *work) renamed(ctx context.Context, kind string) (cloud.Progress, bool, error) {
	name, named := w.task.Want["name"]
	t := w.part(kind)
	if !named || t == nil || kind == "floating" || t.Name == fmt.Sprint(name) {
		return cloud.Progress{}, false, nil
	}
	if err := w.put(ctx, kind, t, map[string]any{"name": fmt.Sprint(name)}); err != nil {
		return cloud.Progress{}, false, err
	}
	p, err := w.reread(ctx, t)
	return p, true, err
}

// described gives things their wanted name and tags; false says that they have them.
func (w *work) described(ctx context.Context, kinds ...string) (cloud.Progress, bool, error) {
	for _, kind := range kinds {
		if p, did, err := w.renamed(ctx, kind); did || err != nil {
			return p, did, err
		}
		if p, did, err := w.tagged(ctx, kind, nil); did || err != nil {
			return p, did, err
		}
	}
	return cloud.Progress{}, false, nil
}

// describes alters what can be altered of most types: name and tags.
func describes(kinds ...string) func(context.Context, *work) (cloud.Progress, error) {
	return func(ctx context.Context, w *work) (cloud.Progress, error) {
		if p, did, err := w.described(ctx, kinds...); did || err != nil {
			return p, err
		}
		return w.done(ctx)
	}
}

// reread reads a thing that was changed, whose revision is a new one by the very call that
// was made. Another step is needed at once.
func (w *work) reread(ctx context.Context, t *thing) (cloud.Progress, error) {
	now, err := w.a.byID(ctx, w.ref.Region, t.kind, t.ID)
	if err != nil {
		return cloud.Progress{}, err
	}
	if now == nil {
		return cloud.Progress{}, gone()
	}
	w.have[t.kind+" "+t.mark()] = now
	return w.next(ctx)
}

// put changes a thing, guarded by the revision that was seen where there is one.
func (w *work) put(ctx context.Context, kind string, t *thing, body map[string]any) error {
	k := kinds[kind]
	revision := ""
	if p := w.ref.Part(kind, t.mark()); p != nil && k.service == network {
		revision = p.Version
	}
	err := w.a.do(ctx, w.ref.Region, call{
		service:  k.service,
		method:   http.MethodPut,
		path:     k.path + "/" + t.ID,
		in:       map[string]any{k.singular: body},
		revision: revision,
	})
	if err != nil {
		return fmt.Errorf("change a %s: %w", kind, err)
	}
	return nil
}

// act makes an action on a server or volume.
func (w *work) act(ctx context.Context, kind, id string, action map[string]any) error {
	k := kinds[kind]
	return w.a.do(ctx, w.ref.Region, call{
		service: k.service,
		method:  http.MethodPost,
		path:    k.path + "/" + url.PathEscape(id) + "/action",
		in:      action,
	})
}

// removes removes the things of a type, in order.
func removes(kinds ...string) func(context.Context, *work) (cloud.Progress, error) {
	return func(ctx context.Context, w *work) (cloud.Progress, error) { return w.removing(ctx, kinds...) }
}

// removing begins the removal of the first of some parts that is there; then another step
// looks what is left.
func (w *work) removing(ctx context.Context, kinds ...string) (cloud.Progress, error) {
	for _, kind := range kinds {
		if t := w.part(kind); t != nil {
			if err := w.a.drop(ctx, w.ref.Region, kind, t.ID); err != nil {
				return cloud.Progress{}, err
			}
			return cloud.Progress{
				Live: cloud.Live{Ref: w.ref, Phase: cloud.Removing},
				More: kind != kinds[len(kinds)-1],
			}, nil
		}
	}
	return cloud.Progress{Live: cloud.Live{Ref: w.ref, Phase: cloud.Removing}}, nil
}

// Step makes the next call of a task.
func (a *Adapter) Step(ctx context.Context, t cloud.Task, intend func(cloud.Part) error) (cloud.Progress, error) {
	c, ok := conducts[t.Ref.Type]
	if !ok {
		return cloud.Progress{}, &cloud.Error{
			Class:   cloud.Invalid,
			Message: "OpenStack has no resources of type " + t.Ref.Type,
		}
	}
	w, err := a.working(ctx, t.Ref)
	if err != nil {
		return cloud.Progress{}, err
	}
	w.task, w.intend = t, intend
	if t.Action == cloud.Create && w.lost(c.main) || t.Action == cloud.Alter && w.part(c.main) == nil {
		return cloud.Progress{}, fmt.Errorf("%s %s: %w", t.Action, t.Ref.Type, gone())
	}
	do := map[cloud.Action]func(context.Context, *work) (cloud.Progress, error){
		cloud.Create: c.create,
		cloud.Alter:  c.alter,
		cloud.Remove: c.remove,
	}[t.Action]
	p, err := do(ctx, w)
	if err != nil {
		return cloud.Progress{}, fmt.Errorf("%s %s: %w", t.Action, t.Ref.Type, err)
	}
	return p, nil
}

// Look sees one resource by the things that it is made of.
func (a *Adapter) Look(ctx context.Context, ref cloud.Ref) (cloud.Live, cloud.Presence, error) {
	if _, ok := conducts[ref.Type]; !ok {
		return cloud.Live{}, "", &cloud.Error{
			Class:   cloud.Invalid,
			Message: "OpenStack has no resources of type " + ref.Type,
		}
	}
	w, err := a.working(ctx, ref)
	if err != nil {
		return cloud.Live{}, "", err
	}
	if len(w.have) == 0 {
		return cloud.Live{Ref: ref}, cloud.Absent, nil
	}
	l, err := w.live(ctx)
	if err != nil {
		return cloud.Live{}, "", err
	}
	return l, cloud.Present, nil
}

// Visibility is short: the services read their own writes; a copy of a database may lag
// for a moment.
func (a *Adapter) Visibility() float64 { return 10 }

// gone is the error of a resource that was made and is there no more.
func gone() error {
	return &cloud.Error{Class: cloud.Gone, Message: "it was made and is there no more", Remedy: "propose again"}
}
