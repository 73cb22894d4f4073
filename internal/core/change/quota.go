package change

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/graph"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// share is what an action takes of a quota of a region, or frees.
type share struct {
	action int
	n      int64
}

// quota is one quota of one region.
type quota struct{ region, name string }

// withinQuotas finds what does not fit into the quotas of a region. What the
// changes free counts from when it is free: where it is needed, what takes it waits
// for that.
func (o *ordering) withinQuotas() {
	takes, frees := o.shares()
	for _, q := range slices.SortedFunc(maps.Keys(takes),
		func(a, b quota) int { return cmp.Or(cmp.Compare(a.name, b.name), cmp.Compare(a.region, b.region)) }) {
		offers := o.offers.In(q.region)
		if offers == nil {
			continue
		}
		limit, known := offers.Quotas[q.name]
		if !known {
			continue // a quota that the cloud does not tell has no limit
		}
		need, left := total(takes[q]), limit.Left()
		o.wantedByOthers(q, offers, need)
		if need <= left || o.waitForRoom(takes[q], frees[q], left) {
			continue
		}
		freed := total(frees[q])
		missing, also := max(need-freed-left, 1), ""
		if freed > 0 {
			also = fmt.Sprintf(" and frees %d", freed)
		}
		if need-freed <= left {
			also += " that cannot be free in time"
			missing = need - left
		}
		has := fmt.Sprintf("has %d", limit.Used)
		if limit.Running > 0 {
			has += fmt.Sprintf(", and runs of other stacks are about to take %d", limit.Running)
		}
		o.find(lang.Error, "quota", "quota."+q.name, o.room(q, takes, left+freed, missing),
			"the account may have %d %s in %s and %s; this needs %d%s, %d too many", limit.Limit, q.name, offers.Region,
			has, need, also, missing)
	}
}

// wantedByOthers warns of room that open proposals of other stacks would take first.
func (o *ordering) wantedByOthers(q quota, offers *offer.Offers, need int64) {
	limit := offers.Quotas[q.name]
	if left := limit.Left(); limit.Wanted > 0 && need <= left && need > left-limit.Wanted {
		o.find(lang.Warning, "quota", "quota."+q.name, "accept this first, or refuse the others: undersail proposals",
			"%d %s are left in %s, this needs %d, and open proposals of other stacks want %d", left, q.name,
			offers.Region, need, limit.Wanted)
	}
}

// total adds shares up.
func total(list []share) (n int64) {
	for _, s := range list {
		n += s.n
	}
	return n
}

// room says what would make the takers of a quota fit: fewer of them, a higher quota,
// another region.
func (o *ordering) room(q quota, takes map[quota][]share, left, missing int64) string {
	type group struct{ count, each, total int64 }
	groups := map[string]*group{}
	most := ""
	for _, t := range takes[q] {
		name := o.changes[o.actions[t.action].Change].Resource
		if r := o.wanted(o.changes[o.actions[t.action].Change]); r != nil {
			name = r.Declared
		}
		g := groups[name]
		if g == nil {
			g = &group{}
			groups[name] = g
		}
		g.count, g.each, g.total = g.count+1, max(g.each, t.n), g.total+t.n
		if most == "" || g.total > groups[most].total {
			most = name
		}
	}
	words := fmt.Sprintf("ask for %d more", missing)
	if g := groups[most]; g != nil && g.count > 1 {
		if fits := (left - (total(takes[q]) - g.total)) / g.each; fits > 0 && fits < g.count {
			words = fmt.Sprintf("%d of %d %s fit; for %d ask for %d more", fits, g.count, most, g.count, missing)
		}
	}
	var elsewhere []string
	for _, other := range o.offers.Others {
		if other.Region != o.offers.Home.Region && hasRoom(other.Quotas, takes) {
			elsewhere = append(elsewhere, other.Region)
		}
	}
	if len(elsewhere) > 0 && q.region == "" {
		return words + "; there is room for all of it in " + strings.Join(elsewhere, ", ")
	}
	return words + ", or choose smaller or fewer resources"
}

// hasRoom reports whether quotas leave room for all that is taken of the home region's.
func hasRoom(quotas map[string]offer.Quota, takes map[quota][]share) bool {
	for q, list := range takes {
		if limit, told := quotas[q.name]; q.region == "" && told && limit.Left() < total(list) {
			return false
		}
	}
	return true
}

// shares tells by quota what each action takes and frees.
func (o *ordering) shares() (takes, frees map[quota][]share) {
	takes, frees = map[quota][]share{}, map[quota][]share{}
	type amount struct {
		quota
		n int64
	}
	var amounts []amount // of one action: what it takes, less what it gives up
	add := func(region, name string, n int64) {
		for i := range amounts {
			if amounts[i].region == region && amounts[i].name == name {
				amounts[i].n += n
				return
			}
		}
		amounts = append(amounts, amount{quota{region, name}, n})
	}
	of := func(typeName, region string, want map[string]any, sign int64) {
		t, _ := resource.ByName(typeName)
		if offers := o.offers.In(region); offers != nil {
			t.Takes(want, offers, func(name string, n int64) { add(region, name, sign*n) })
		}
	}
	for i, a := range o.actions {
		c := o.changes[a.Change]
		amounts = amounts[:0]
		if was := o.recorded[c.recordedAs()]; was != nil && a.Do != Create && a.Do != Keep && !was.Missing {
			of(was.Type, was.Region, was.Want, -1)
		}
		if r := o.wanted(c); r != nil && (a.Do == Create || a.Do == Alter) && c.TakesOver == "" {
			of(r.Type, r.Region, r.Want, 1)
			if a.Do == Create {
				for _, m := range r.Makes { // it may make them at any time
					for range m.Most {
						of(m.Type, r.Region, m.Want, 1)
					}
				}
			}
		}
		for _, x := range amounts {
			switch {
			case x.n > 0:
				takes[x.quota] = append(takes[x.quota], share{i, x.n})
			case x.n < 0:
				frees[x.quota] = append(frees[x.quota], share{i, -x.n})
			}
		}
	}
	return takes, frees
}

// waitForRoom lets each taker that finds no room wait for what frees some, and
// reports whether all of them find it.
func (o *ordering) waitForRoom(takes, frees []share, left int64) bool {
	at := o.places()
	if at == nil {
		return true // there is no order at all, which is told
	}
	byPlace := func(a, b share) int { return cmp.Compare(at[a.action], at[b.action]) }
	slices.SortFunc(takes, byPlace)
	slices.SortFunc(frees, byPlace)
	used := make([]bool, len(frees))
	// What a taker waits for anyway counts for it first.
	for _, t := range takes {
		for own := range 2 {
			for i, f := range frees {
				if left >= t.n {
					break
				}
				if used[i] || own == 0 && !o.restsOn(t.action, f.action) || o.restsOn(f.action, t.action) {
					continue
				}
				o.need(t.action, f.action, false)
				used[i] = true
				left += f.n
			}
		}
		if left -= t.n; left < 0 {
			return false
		}
	}
	return true
}

// places gives the place of each action in an order, or nil when there is none.
func (o *ordering) places() []int {
	g := graph.Graph{Needs: make([][]int, len(o.actions))}
	for i, a := range o.actions {
		for _, n := range a.Needs {
			g.Needs[i] = append(g.Needs[i], n.Action)
		}
	}
	order, cycle := g.Order()
	if cycle != nil {
		return nil
	}
	at := make([]int, len(order))
	for i, n := range order {
		at[n] = i
	}
	return at
}
