package change

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/graph"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Action is one step on one recorded or wanted resource. A rebuild is two: the new
// one is made, and the old one is removed or kept.
type Action struct {
	Do       Kind   `json:"do"` // create, alter, remove or keep
	Resource string `json:"resource"`
	Change   int    `json:"change"` // its place among the changes
	Needs    []Need `json:"needs,omitempty"`
}

// Need is an action that comes first. Made says that it is enough when its
// resource exists.
type Need struct {
	Action int  `json:"action"`
	Made   bool `json:"made,omitempty"`
}

// ordering is an order while it is worked out.
type ordering struct {
	changes  []Change
	render   *render.Rendering
	recorded map[string]*Recorded
	offers   offer.Everywhere
	actions  []Action
	findings []render.Finding
	making   map[string]int      // the action that makes or alters, by resource
	leaving  map[string]int      // the action that removes or keeps, by recorded name
	users    map[string][]string // recorded names of what rests on a recorded one
	newFirst map[string]bool     // rebuilds that make the new one first, by resource
	barred   map[string]string   // why a rebuild cannot, by resource
}

// Ordered works out the actions of the changes and what comes before each: what is
// needed before what needs it, users before what they use when both go, what frees
// a range, a name, a disk or a quota before what takes it, and the members of a
// group at their pace. Where there is no such order it says so in findings.
func (p Plan) Ordered(recorded []Recorded, offers offer.Everywhere) Plan {
	if p.Nothing() {
		return p
	}
	leaves := slices.ContainsFunc(p.Changes,
		func(c Change) bool { return c.Change == Rebuild || c.Change == Remove || c.Change == Keep })
	o := &ordering{
		changes:  slices.Clone(p.Changes),
		render:   p.Rendering,
		recorded: make(map[string]*Recorded, len(recorded)),
		offers:   offers,
		making:   map[string]int{},
		leaving:  map[string]int{},
		users:    map[string][]string{},
		newFirst: map[string]bool{},
		barred:   map[string]string{},
	}
	for i := range recorded {
		if recorded[i].Kept == "" {
			o.recorded[recorded[i].Name] = &recorded[i]
		}
	}
	if leaves {
		o.findUsers(recorded)
		o.chooseNewFirst()
	}
	o.act()
	o.follow()
	o.makeRoom()
	o.paced()
	if offers.Home != nil {
		o.withinQuotas()
	}
	if leaves { // else the order is that of the rendering
		o.checkCycles()
	}
	p.Changes, p.Actions, p.Findings = o.changes, o.actions, append(slices.Clone(p.Findings), o.findings...)
	return p
}

func (o *ordering) find(severity lang.Severity, code, place, remedy, format string, args ...any) {
	o.findings = append(o.findings, render.Finding{
		Severity: severity,
		Code:     code,
		Place:    place,
		Message:  fmt.Sprintf(format, args...),
		Remedy:   remedy,
	})
}

// findUsers notes what rests on what: by its order, and by the ids it holds.
func (o *ordering) findUsers(recorded []Recorded) {
	byID := map[string]string{}
	for _, r := range recorded {
		if id := r.ID(); id != "" {
			byID[id] = r.Name
		}
	}
	for _, r := range recorded {
		if r.Kept != "" || r.Missing {
			continue
		}
		on := slices.Clone(r.After)
		t, _ := resource.ByName(r.Type)
		t.References(r.Want, func(_ resource.Property, v any) {
			if id, ok := v.(string); ok && byID[id] != "" {
				on = append(on, byID[id])
			}
		})
		slices.Sort(on)
		for _, name := range slices.Compact(on) {
			if name != r.Name {
				o.users[name] = append(o.users[name], r.Name)
			}
		}
	}
}

// wanted is the rendered resource of a change, or nil for one that leaves.
func (o *ordering) wanted(c Change) *render.Resource {
	if o.render == nil || c.Change == Remove || c.Change == Keep {
		return nil
	}
	return o.render.Resource(c.Resource)
}

// act lists the actions.
func (o *ordering) act() {
	add := func(i int, do Kind, name string) int {
		o.actions = append(o.actions, Action{Do: do, Resource: name, Change: i})
		return len(o.actions) - 1
	}
	for i, c := range o.changes {
		switch c.Change {
		case Create, Alter:
			o.making[c.Resource] = add(i, c.Change, c.Resource)
		case Remove, Keep:
			o.leaving[c.Resource] = add(i, c.Change, c.Resource)
		case Rebuild:
			goes := Remove
			if c.Keeps {
				goes = Keep
			}
			if c.Old != "" {
				o.making[c.Resource] = add(i, Create, c.Resource)
				o.leaving[c.recordedAs()] = add(i, goes, c.Old)
				o.need(o.leaving[c.recordedAs()], o.making[c.Resource], false)
				continue
			}
			o.leaving[c.recordedAs()] = add(i, goes, c.Resource)
			o.making[c.Resource] = add(i, Create, c.Resource)
			o.need(o.making[c.Resource], o.leaving[c.recordedAs()], false)
		case Same:
		}
	}
}

func (o *ordering) need(action, first int, made bool) {
	if action == first || slices.ContainsFunc(o.actions[action].Needs,
		func(n Need) bool { return n.Action == first && (made || !n.Made) }) {
		return
	}
	o.actions[action].Needs = append(o.actions[action].Needs, Need{first, made})
}

// follow lets what is made come after what it needs, and what goes after what used
// it: each user is gone by then, or has been altered so that it uses it no more.
func (o *ordering) follow() {
	nowCalled := map[string]string{}
	for _, c := range o.changes {
		if c.Was != "" {
			nowCalled[c.Was] = c.Resource
		}
	}
	standing := o.standing()
	for _, c := range o.changes {
		if n, ok := o.making[c.Resource]; ok {
			for _, a := range c.After {
				for _, m := range standing[a.Name] {
					o.need(n, m, a.Gate == lang.GateMade)
				}
			}
		}
		n, goes := o.leaving[c.recordedAs()]
		if !goes || o.actions[n].Do != Remove {
			continue
		}
		if c.Change == Remove {
			for _, a := range c.After {
				if m, changes := o.leaving[a.Name]; changes {
					o.need(n, m, false)
				}
			}
		}
		was := o.recorded[c.recordedAs()]
		for _, user := range o.users[c.recordedAs()] {
			if m, also := o.leaving[user]; also {
				if o.actions[m].Do == Remove {
					o.need(n, m, false)
				}
				continue
			}
			if m, altered := o.making[cmp.Or(nowCalled[user], user)]; altered && was != nil && o.holds(user, was) {
				o.need(n, m, false)
			}
		}
	}
}

// standing lists the actions after which each resource is what it is to be: its own, or, of
// one that stays as it is, those of what it stands on. A task on a machine that stays is to
// see the subnet that is altered around it.
func (o *ordering) standing() map[string][]int {
	out := make(map[string][]int, len(o.changes))
	for _, c := range o.changes { // in their order, so that what a resource needs came before
		if n, changes := o.making[c.Resource]; changes {
			out[c.Resource] = []int{n}
			continue
		}
		var on []int
		for _, a := range c.After {
			on = append(on, out[a.Name]...)
		}
		slices.Sort(on)
		out[c.Resource] = slices.Compact(on)
	}
	return out
}

// paced lets a member of a group begin once the member so many places before it
// is proved, and its old one gone. Where the order of other things forbids it, that
// is said.
func (o *ordering) paced() {
	type span struct{ first, last int }
	groups := map[string][]span{}
	told := map[string]bool{}
	leaves := len(o.leaving) > 0 // only then can a pace stand against the order
	for _, c := range o.changes {
		if c.AtOnce == 0 {
			continue
		}
		making, changing := o.making[c.Resource]
		if !changing {
			continue
		}
		s := span{making, making}
		if goes, rebuilt := o.leaving[c.recordedAs()]; rebuilt && c.Change == Rebuild {
			s.first, s.last = min(goes, making), max(goes, making)
		}
		before := groups[c.Group]
		if int64(len(before)) >= c.AtOnce {
			earlier := before[int64(len(before))-c.AtOnce]
			switch {
			case !leaves || !o.restsOn(earlier.last, s.first):
				o.need(s.first, earlier.last, false)
			case !told[c.Group]:
				told[c.Group] = true
				o.find(lang.Warning, "no-pace", c.Group, "plan for the time in which all of them are away",
					"its members cannot change %d at a time: what they stand in is rebuilt, and they all have to "+
						"go before it", c.AtOnce)
			}
		}
		groups[c.Group] = append(before, s)
	}
}

// restsOn reports whether an action comes after another, directly or not.
func (o *ordering) restsOn(action, first int) bool {
	seen := make([]bool, len(o.actions))
	todo := []int{action}
	for len(todo) > 0 {
		n := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if n == first {
			return true
		}
		if seen[n] {
			continue
		}
		seen[n] = true
		for _, need := range o.actions[n].Needs {
			todo = append(todo, need.Action)
		}
	}
	return false
}

// checkCycles says where there is no order.
func (o *ordering) checkCycles() {
	g := graph.Graph{Needs: make([][]int, len(o.actions))}
	for i, a := range o.actions {
		for _, n := range a.Needs {
			g.Needs[i] = append(g.Needs[i], n.Action)
		}
	}
	if _, cycle := g.Order(); cycle != nil {
		var words []string
		for _, n := range cycle {
			words = append(words, string(o.actions[n].Do)+" "+o.actions[n].Resource)
		}
		o.find(lang.Error, "no-order", o.actions[cycle[0]].Resource,
			"change these in two proposals, one after the other",
			"there is no order for it: each of these has to wait for the next: %s",
			strings.Join(append(words, words[0]), ", "))
	}
}
