package larch

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"

	"undersail/internal/cloud"
	"undersail/internal/core/resource"
)

// A pool of Larch makes new members from what it is wanted to be, and leaves those that it has
// as they are. So altering it is over when every member is as wanted: they are taken out, a
// quarter at a time, and the pool makes new ones.

// ofMembers are what members have of their pool and tell, by Larch's names; their subnet is one
// of the pool's. First-boot configuration is told by nobody: of it the edition tells, which a
// member has of its pool.
var ofMembers = []string{"size", "image", "key_id", "role_id", "firewall_ids"}

// poolPause is how long, in cloud seconds, until members that are on their way are looked at
// again.
const poolPause = 15

// members lists the machines of a pool.
func (a *Adapter) members(ctx context.Context, region, pool string) (out []report, err error) {
	q := url.Values{"kind": {"instances"}, "tag": {"larch-pool:" + pool}}
	err = a.pages(ctx, "/v1/regions/"+url.PathEscape(region)+"/resources?"+q.Encode(), func(r report) {
		if r.Tags["larch-pool"] == pool && r.Phase != "removing" {
			out = append(out, r)
		}
	})
	return out, err
}

// isOdd reports whether a member was made from something else than its pool makes new ones of.
func isOdd(pool, member report) bool {
	return pool.Attributes["edition"] != member.Attributes["edition"]
}

// odd names the property, and its value, in which a member is not as its pool is, if that is
// told.
func odd(pool, member report) (property string, has any, is bool) {
	for _, name := range ofMembers {
		if told := member.Properties[name]; !sameValue(pool.Properties[name], told) {
			return name, told, true
		}
	}
	subnets, _ := pool.Properties["subnet_ids"].([]any)
	if !slices.Contains(subnets, member.Properties["subnet_id"]) {
		return "subnet_ids", []any{member.Properties["subnet_id"]}, true
	}
	return "", nil, false
}

func sameValue(a, b any) bool {
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	empty := func(raw []byte) bool { return string(raw) == "null" || string(raw) == "[]" || string(raw) == `""` }
	return errX == nil && errY == nil && (string(x) == string(y) || empty(x) && empty(y))
}

// asMembersAre tells of a pool what its members are, where one is not as the pool.
func (a *Adapter) asMembersAre(ctx context.Context, l cloud.Live, pool report, region string) (cloud.Live, error) {
	if l.Type != resource.TypePool || l.Phase == cloud.Removing {
		return l, nil
	}
	all, err := a.members(ctx, region, pool.ID)
	if err != nil {
		return l, err
	}
	for _, m := range all {
		if property, has, is := odd(pool, m); is {
			told := mappings["pool"].ours(report{Properties: map[string]any{property: has}})
			delete(told, "name")
			for name, v := range told {
				if l.Has[name] = v; has == nil { // it has none of it
					delete(l.Has, name)
				}
			}
		}
	}
	return l, nil
}

// renewMembers takes the next odd member out of a pool, where enough others are ready, and
// reports whether there is more to do.
func (a *Adapter) renewMembers(ctx context.Context, pool report, region string) (more bool, err error) {
	all, err := a.members(ctx, region, pool.ID)
	if err != nil {
		return false, err
	}
	var next *report
	away := 0
	for i, m := range all {
		if m.Phase != "ready" || m.Attributes["host_key"] == nil {
			away++
		}
		if isOdd(pool, m) && next == nil {
			next = &all[i]
		}
	}
	if next == nil {
		return false, nil
	}
	if away >= max(1, len(all)/4) && next.Phase == "ready" {
		return true, nil // those that were taken out come back first
	}
	_, err = a.do(ctx, http.MethodDelete, path(region, "instances", next.Name), nil, nil)
	if cloud.ClassOf(err) == cloud.Gone {
		err = nil
	}
	if err != nil {
		return true, fmt.Errorf("replace member %s of a pool: %w", next.Label, err)
	}
	return true, nil
}

// alterPool alters the pool, then its members, one call at a time.
func (a *Adapter) alterPool(ctx context.Context, at string, doc document, region string) (cloud.Progress, error) {
	var now report
	if _, err := a.do(ctx, http.MethodGet, at, nil, &now); err != nil {
		return cloud.Progress{}, fmt.Errorf("read pool: %w", err)
	}
	// What nobody tells is asked for again; Larch changes nothing where it is so already.
	same := doc.Label == "" || doc.Label == now.Label
	for name, v := range doc.Properties {
		same = same && sameValue(v, now.Properties[name])
	}
	same = same && (doc.Tags == nil || maps.Equal(doc.Tags, now.Tags))
	if !same {
		var answer struct{ Resource report }
		if _, err := a.do(ctx, http.MethodPatch, at, doc, &answer); err != nil {
			return cloud.Progress{}, fmt.Errorf("alter pool: %w", err)
		}
		changed := answer.Resource.Generation != now.Generation
		if now = answer.Resource; changed {
			more, err := a.hasOdd(ctx, now, region)
			return cloud.Progress{Live: live(now, region), More: more}, err
		}
	}
	more, err := a.renewMembers(ctx, now, region)
	l := live(now, region)
	if more {
		l.ReadyIn = poolPause
	}
	return cloud.Progress{Live: l, More: more}, err
}

func (a *Adapter) hasOdd(ctx context.Context, pool report, region string) (bool, error) {
	all, err := a.members(ctx, region, pool.ID)
	return slices.ContainsFunc(all, func(m report) bool { return isOdd(pool, m) }), err
}
