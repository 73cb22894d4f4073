package change

import (
	"net/netip"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// holder is a recorded resource that holds something only one can have, until its
// action; -1 says that it is kept.
type holder struct {
	action int
	was    *Recorded
	name   string // from now on
	at     netip.Prefix
}

// holders are what change among the recorded resources, by what they hold: by type,
// property and value, ranges without their value.
func (o *ordering) holders() map[string][]holder {
	out := map[string][]holder{}
	for _, c := range o.changes {
		was := o.recorded[c.recordedAs()]
		if was == nil || was.Missing || c.Change == Same {
			continue // what stays as it is clashes with the rendering itself, and that is told there
		}
		h := holder{action: -1, was: was, name: c.Resource}
		if n, goes := o.leaving[c.recordedAs()]; goes && o.actions[n].Do == Remove {
			h.action = n
		} else if n, alters := o.making[c.Resource]; alters && c.Change == Alter {
			h.action = n
		}
		t, _ := resource.ByName(was.Type)
		for _, u := range t.Unique {
			for _, v := range u.Values(was.Want) {
				h.at, _ = resource.ParseRange(v)
				key := uniqueKey(was.Type, u, v)
				out[key] = append(out[key], h)
			}
		}
	}
	return out
}

func uniqueKey(typeName string, u resource.Unique, v string) string {
	if u.Overlap {
		v = ""
	}
	return typeName + " " + u.Property + " " + v
}

// makeRoom lets what frees a range, a name or a disk come before what takes it.
func (o *ordering) makeRoom() {
	holders := o.holders()
	if len(holders) == 0 {
		return
	}
	for _, c := range o.changes {
		n, takes := o.making[c.Resource]
		r := o.wanted(c)
		if !takes || r == nil {
			continue
		}
		t, _ := resource.ByName(r.Type)
		for _, u := range t.Unique {
			for _, v := range u.Values(r.Want) {
				at, _ := resource.ParseRange(v)
				for _, h := range holders[uniqueKey(r.Type, u, v)] {
					if h.name == c.Resource || h.was.Region != r.Region || u.Overlap && !h.at.Overlaps(at) ||
						u.Clash(h.was.Want, r.Want) == "" {
						continue
					}
					o.afterHolder(c, n, u, v, h, r)
				}
			}
		}
	}
}

// afterHolder lets an action that takes a value come after the one that frees it.
func (o *ordering) afterHolder(c Change, n int, u resource.Unique, v string, h holder, r *render.Resource) {
	var now *render.Resource
	if o.render != nil {
		now = o.render.Resource(h.name)
	}
	switch {
	case h.action >= 0 && (now == nil || o.actions[h.action].Do == Remove || u.Clash(now.Want, r.Want) == ""):
		o.need(n, h.action, false)
	case now == nil:
		o.find(lang.Error, "no-order", c.Resource+"."+u.Property, "choose another value, or remove it first",
			"%s is held by %s, which is kept", v, h.name)
	} // else the rendering itself clashes, which is told there
}
