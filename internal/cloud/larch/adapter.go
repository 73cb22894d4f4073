package larch

import (
	"context"
	"fmt"
	"iter"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/resource"
)

// document is a resource as it is sent.
type document struct {
	Label      string            `json:"label,omitempty"`
	Properties map[string]any    `json:"properties,omitempty"`
	Tags       map[string]string `json:"tags,omitempty"`
	version    string            // of what is changed, or empty
}

// report is a resource as Larch tells it.
type report struct {
	Name       string            `json:"name"`
	ID         string            `json:"id"`
	Kind       string            `json:"kind"`
	Label      string            `json:"label"`
	Phase      string            `json:"phase"`
	Why        string            `json:"why"`
	Properties map[string]any    `json:"properties"`
	Attributes map[string]any    `json:"attributes"`
	Tags       map[string]string `json:"tags"`
	ReadyIn    float64           `json:"ready_in"`
	Generation int               `json:"generation"`
	MadeAt     time.Time         `json:"made_at"`
	MadeBy     string            `json:"made_by"`
}

// WhoAmI tells the account, its clock and where its guests are.
func (a *Adapter) WhoAmI(ctx context.Context) (cloud.Identity, error) {
	var me struct {
		Account     string    `json:"account"`
		Roles       []string  `json:"roles"`
		Regions     []string  `json:"regions"`
		ClockRate   float64   `json:"clock_rate"`
		GuestRange  string    `json:"guest_range"`
		NameServer  string    `json:"name_server"`
		Ends        time.Time `json:"credentials_end"`
		Permissions []string  `json:"permissions"`
	}
	if _, err := a.do(ctx, http.MethodGet, "/v1/me", nil, &me); err != nil {
		return cloud.Identity{}, fmt.Errorf("ask Larch who this account is: %w", err)
	}
	return cloud.Identity{
		Account:    me.Account,
		Roles:      me.Roles,
		Regions:    me.Regions,
		Ends:       me.Ends,
		Makes:      makes(me.Permissions),
		ClockRate:  max(me.ClockRate, 0.001),
		GuestRange: me.GuestRange,
		NameServer: me.NameServer,
	}, nil
}

// Taken asks whether somebody has a name that only one customer can have.
func (a *Adapter) Taken(ctx context.Context, region, typeName, name string) (string, error) {
	var answer struct{ Why string }
	q := url.Values{"kind": {mappings[typeName].kind}, "name": {name}}
	_, err := a.do(ctx, http.MethodGet, "/v1/regions/"+url.PathEscape(region)+"/taken?"+q.Encode(), nil, &answer)
	if err != nil {
		return "", fmt.Errorf("ask whether the name %s is taken: %w", name, err)
	}
	return answer.Why, nil
}

// pages reads every page of a list.
func (a *Adapter) pages(ctx context.Context, next string, each func(report)) error {
	for next != "" {
		var page struct{ Resources []report }
		header, err := a.do(ctx, http.MethodGet, next, nil, &page)
		if err != nil {
			return fmt.Errorf("list resources: %w", err)
		}
		for _, r := range page.Resources {
			each(r)
		}
		next = ""
		if target, rel, ok := strings.Cut(header.Get("Link"), ">;"); ok && strings.Contains(rel, "next") {
			next = strings.TrimPrefix(target, "<")
		}
	}
	return nil
}

func path(region, kind, name string) string {
	return "/v1/regions/" + url.PathEscape(region) + "/" + kind + "/" + url.PathEscape(name)
}

// Visibility is short: Larch reads its own writes, but its lists and reads are
// served by copies that may lag for a moment.
func (a *Adapter) Visibility() float64 { return 10 }

// Step makes the one call that a task needs in Larch.
func (a *Adapter) Step(ctx context.Context, t cloud.Task, intend func(cloud.Part) error) (cloud.Progress, error) {
	m, ok := mappings[t.Ref.Type]
	if !ok {
		return cloud.Progress{}, &cloud.Error{
			Class:   cloud.Invalid,
			Message: "Larch has no resources of type " + t.Ref.Type,
		}
	}
	at := path(t.Ref.Region, m.kind, t.Ref.Token)
	if t.Action == cloud.Remove {
		_, err := a.do(ctx, http.MethodDelete, at, nil, nil)
		if cloud.ClassOf(err) == cloud.Gone {
			err = nil // it is gone already
		}
		if err != nil {
			return cloud.Progress{}, fmt.Errorf("remove %s: %w", t.Ref.Type, err)
		}
		return cloud.Progress{Live: cloud.Live{Ref: t.Ref, Phase: cloud.Removing}}, nil
	}
	part := t.Ref.Part(m.kind, t.Ref.Token)
	if t.Action == cloud.Create && part != nil && part.Seen {
		return a.takeUp(ctx, t.Ref)
	}
	doc := document{Tags: t.Tags}
	var err error
	if doc.Properties, err = m.theirs(t.Want); err != nil {
		return cloud.Progress{}, err
	}
	if name, named := t.Want["name"]; named {
		doc.Label = fmt.Sprint(name)
	}
	method := http.MethodPut
	if t.Action == cloud.Alter {
		method = http.MethodPatch
		if part != nil {
			doc.version = part.Version
		}
		for _, name := range t.Unset {
			if name != "name" && name != "tags" {
				doc.Properties[m.their(name)] = nil
			}
		}
	} else {
		if err := intend(m.part(t.Ref.Token)); err != nil {
			return cloud.Progress{}, err
		}
	}
	if t.Action == cloud.Alter && t.Ref.Type == resource.TypePool {
		return a.alterPool(ctx, at, doc, t.Ref.Region)
	}
	var answer struct{ Resource report }
	if _, err := a.do(ctx, method, at, doc, &answer); err != nil {
		return cloud.Progress{}, fmt.Errorf("%s %s: %w", t.Action, t.Ref.Type, err)
	}
	return cloud.Progress{Live: live(answer.Resource, t.Ref.Region)}, nil
}

// takeUp goes on with a resource that was made before.
func (a *Adapter) takeUp(ctx context.Context, ref cloud.Ref) (cloud.Progress, error) {
	l, there, err := a.Look(ctx, ref)
	if err == nil && there == cloud.Absent {
		err = &cloud.Error{Class: cloud.Gone, Message: "it was made and is there no more", Remedy: "propose again"}
	}
	return cloud.Progress{Live: l}, err
}

// Look reads one resource.
func (a *Adapter) Look(ctx context.Context, ref cloud.Ref) (cloud.Live, cloud.Presence, error) {
	var got report
	_, err := a.do(ctx, http.MethodGet, path(ref.Region, mappings[ref.Type].kind, ref.Token), nil, &got)
	if cloud.ClassOf(err) == cloud.Gone {
		return cloud.Live{Ref: ref}, cloud.Absent, nil
	}
	if err != nil {
		return cloud.Live{}, "", fmt.Errorf("read %s: %w", ref.Type, err)
	}
	l, err := a.asMembersAre(ctx, live(got, ref.Region), got, ref.Region)
	return l, cloud.Present, err
}

// Search reads all pages of a region, narrowed down by the first tag.
func (a *Adapter) Search(ctx context.Context, q cloud.Query) iter.Seq2[cloud.Live, error] {
	return func(yield func(cloud.Live, error) bool) {
		next := "/v1/regions/" + url.PathEscape(q.Region) + "/resources"
		narrow := url.Values{}
		for _, tag := range slices.Sorted(maps.Keys(q.Tags)) {
			narrow.Set("tag", tag+":"+q.Tags[tag])
			break
		}
		if m, ok := mappings[q.Type]; ok {
			narrow.Set("kind", m.kind)
		}
		more, seen := true, map[string]bool{}
		for ids := range slices.Chunk(q.Uses, idsAtOnce) {
			narrow.Set("refers", strings.Join(ids, ","))
			if !more {
				return
			}
			more = a.matching(ctx, next+"?"+narrow.Encode(), q, seen, yield)
		}
		if q.Uses == nil {
			a.matching(ctx, next+"?"+narrow.Encode(), q, seen, yield)
		}
	}
}

// idsAtOnce is how many ids a list is asked for at a time: addresses have a length.
const idsAtOnce = 50

// matching reads the pages of a list and yields what is meant, each once; false says
// that whoever asked has enough.
func (a *Adapter) matching(ctx context.Context, list string, q cloud.Query, seen map[string]bool,
	yield func(cloud.Live, error) bool) bool {
	more := true
	err := a.pages(ctx, list, func(r report) {
		if l := live(r, q.Region); more && q.Matches(l) && !seen[l.ID] {
			seen[l.ID] = true
			l, err := a.asMembersAre(ctx, l, r, q.Region)
			more = yield(l, err) && err == nil
		}
	})
	if err != nil && more {
		return yield(cloud.Live{}, err)
	}
	return more
}

var phases = map[string]cloud.Phase{
	"making":   cloud.Making,
	"changing": cloud.Making,
	"ready":    cloud.Ready,
	"broken":   cloud.Broken,
	"removing": cloud.Removing,
}

// live turns Larch's report into neutral attributes.
func live(r report, region string) cloud.Live {
	l := cloud.Live{
		ID:         r.ID,
		Name:       r.Label,
		Phase:      phases[r.Phase],
		Why:        r.Why,
		Tags:       r.Tags,
		ReadyIn:    r.ReadyIn,
		Attributes: map[string]any{"id": r.ID},
		Ref: cloud.Ref{
			Region: region,
			Type:   typeOf(r.Kind),
			Token:  r.Name,
			Parts:  []cloud.Part{{Kind: r.Kind, ID: r.ID, Mark: r.Name, Version: fmt.Sprint(r.Generation), Seen: true}},
		},
	}
	l.Has, l.Maker, l.MadeAt = mappings[l.Type].ours(r), r.MadeBy, r.MadeAt
	for name, v := range r.Attributes {
		switch name {
		case "memory_gib":
			if n, ok := v.(float64); ok {
				l.Attributes["memory"] = resource.FormatData(int64(n) << 30)
			}
		case "vcpus", "version", "count", "hosts", "port", "places":
			if n, ok := v.(float64); ok {
				l.Attributes[name] = int64(n)
			}
		case "host_key":
			l.Attributes[name] = strings.TrimSpace(fmt.Sprint(v))
		default:
			l.Attributes[name] = v
		}
	}
	if l.Type == resource.TypeInstance && l.Attributes["public_address"] == nil {
		l.Attributes["public_address"] = ""
	}
	if l.Type == resource.TypeInstance && l.Phase == cloud.Ready && l.Attributes["host_key"] == nil {
		l.Phase = cloud.Making // it is switched on, and has not shown its key yet
	}
	if l.Type == resource.TypeAddress && l.Attributes["public_name"] == nil {
		l.Attributes["public_name"] = ""
	}
	if l.Type == resource.TypeKeyPair {
		l.Attributes["public_key"] = r.Properties["public_key"]
	}
	if l.Type == resource.TypeDisk {
		if n, ok := r.Properties["gib"].(float64); ok {
			l.Attributes["size"] = resource.FormatData(int64(n) << 30)
		}
	}
	return l
}
