package fit

import (
	"fmt"
	"net/netip"
	"slices"

	"undersail/internal/core/address"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// holder is who has a range.
type holder struct {
	at    netip.Prefix
	words string
	// wanted says that an open proposal would take it, and has not yet.
	wanted bool
}

// networks reports new networks whose range somebody has: a network that is there, a
// peer or the premises, or an open proposal; with the nearest range of the same length
// that is free. The stack's own networks never stand in its way: what they free is a
// matter of order.
func (c *check) networks(recorded []change.Recorded) {
	own := map[string]bool{}
	for _, r := range recorded {
		if r.Kept == "" {
			own[r.ID()] = true
		}
	}
	for i, ch := range c.plan.Changes {
		if i >= len(c.plan.Rendering.Resources) || ch.Change != change.Create && ch.Change != change.Rebuild {
			continue
		}
		r := &c.plan.Rendering.Resources[i]
		o := c.offers.In(r.Region)
		at, err := resource.ParseRange(fmt.Sprint(r.Want["range"]))
		if r.Type != resource.TypeNetwork || r.Find != nil || err != nil || o == nil {
			continue
		}
		held := holders(o, own)
		taken := make([]netip.Prefix, 0, len(held))
		for _, h := range held {
			taken = append(taken, h.at)
		}
		for j := range c.plan.Rendering.Resources[:i] {
			other := &c.plan.Rendering.Resources[j]
			p, err := resource.ParseRange(fmt.Sprint(other.Want["range"]))
			if other.Type == resource.TypeNetwork && other.Region == r.Region && err == nil {
				taken = append(taken, p)
			}
		}
		for _, h := range held {
			if h.at.Overlaps(at) {
				c.overlaps(r, at, h, taken)
			}
		}
	}
}

// holders lists who has ranges in a region, but for the stack itself.
func holders(o *offer.Offers, own map[string]bool) []holder {
	var out []holder
	add := func(text, words string, wanted bool) {
		if p, err := netip.ParsePrefix(text); err == nil {
			out = append(out, holder{p, words, wanted})
		}
	}
	for _, n := range o.Networks {
		if !own[n.ID] && !o.Overlapping {
			add(n.Range, fmt.Sprintf("the network %s (%s), which is there already", n.Name, n.ID), false)
		}
	}
	for _, r := range o.Reserved {
		if r.Wanted && o.Overlapping {
			continue
		}
		words := r.About
		if words == "" {
			words = "a peer"
		}
		if !r.Wanted {
			words += ", declared for the account"
		}
		add(r.Range, words, r.Wanted)
	}
	return out
}

func (c *check) overlaps(r *render.Resource, at netip.Prefix, h holder, taken []netip.Prefix) {
	f := render.Finding{
		Severity: lang.Error,
		Code:     "range-in-use",
		Place:    r.Name + ".range",
		Remedy:   "choose another range",
		Message:  fmt.Sprintf("%s overlaps %s of %s", at, h.at, h.words),
	}
	if h.wanted {
		f.Severity, f.Message = lang.Warning, f.Message+": whoever is applied later is refused"
	}
	if free, ok := address.Nearest(at, taken); ok {
		f.Take = free.String()
		f.Remedy = fmt.Sprintf("choose another range; %s is the nearest that is free", free)
	} else {
		f.Remedy = fmt.Sprintf("no private range of /%d is free any more: choose a smaller one", at.Bits())
	}
	c.add(f)
}

// ranges reports subnets outside their network.
func (c *check) ranges() {
	for i := range c.plan.Rendering.Resources {
		r := &c.plan.Rendering.Resources[i]
		at, err := resource.ParseRange(fmt.Sprint(r.Want["range"]))
		if r.Type != resource.TypeSubnet || err != nil {
			continue
		}
		network := c.target(r.Want["network"])
		if network == nil {
			c.withinExisting(r, at)
			continue
		}
		whole, err := resource.ParseRange(fmt.Sprint(network.Want["range"]))
		if err == nil && !address.Inside(at, whole) {
			c.find(lang.Error, "address-plan", r.Name+".range", "choose a part of "+whole.String(),
				"%s lies outside the network %s, which has %s", at, network.Name, whole)
		}
	}
}

// withinExisting checks a new subnet against a network that is there: it lies inside,
// and beside the subnets that the network has.
func (c *check) withinExisting(r *render.Resource, at netip.Prefix) {
	o := c.offers.In(r.Region)
	id, _ := r.Want["network"].(string)
	if o == nil || id == "" || r.Find != nil || !c.made(r.Name) {
		return
	}
	i := slices.IndexFunc(o.Networks, func(n offer.Network) bool { return n.ID == id })
	if i < 0 {
		return
	}
	whole, err := netip.ParsePrefix(o.Networks[i].Range)
	if err != nil {
		return
	}
	if !address.Inside(at, whole) {
		c.find(lang.Error, "address-plan", r.Name+".range", "choose a part of "+whole.String(),
			"%s lies outside the network %s, which has %s", at, o.Networks[i].Name, whole)
		return
	}
	var taken []netip.Prefix
	for _, s := range o.Subnets {
		if p, err := netip.ParsePrefix(s.Range); err == nil && s.Network == id && c.ids[s.ID] == "" {
			taken = append(taken, p)
		}
	}
	for _, p := range taken {
		if !p.Overlaps(at) {
			continue
		}
		f := render.Finding{
			Severity: lang.Error,
			Code:     "range-in-use",
			Place:    r.Name + ".range",
			Remedy:   fmt.Sprintf("no /%d is free in the network any more: choose a smaller one", at.Bits()),
			Message: fmt.Sprintf("%s overlaps %s of a subnet that the network %s has already", at, p,
				o.Networks[i].Name),
		}
		if free, ok := address.FirstFree(whole, taken, at.Bits()); ok {
			f.Take, f.Remedy = free.String(), fmt.Sprintf("choose another part; %s is free", free)
		}
		c.add(f)
	}
}

// made reports whether a resource is made by the plan.
func (c *check) made(name string) bool {
	return slices.ContainsFunc(c.plan.Changes, func(ch change.Change) bool {
		return ch.Resource == name && (ch.Change == change.Create || ch.Change == change.Rebuild)
	})
}

// rooms reports subnets that have fewer addresses than members want.
func (c *check) rooms() {
	want, first := map[string]int64{}, map[string]*render.Resource{}
	for i := range c.plan.Rendering.Resources {
		r := &c.plan.Rendering.Resources[i]
		if r.Find != nil {
			continue
		}
		switch r.Type {
		case resource.TypeInstance:
			c.counted(want, first, r, r.Want["subnet"], 1)
		case resource.TypePool:
			most, _ := r.Want["most"].(int64)
			list, _ := r.Want["subnets"].([]any)
			for _, id := range list {
				c.counted(want, first, r, id, (most+int64(len(list))-1)/int64(len(list)))
			}
		}
	}
	for i := range c.plan.Rendering.Resources {
		s := &c.plan.Rendering.Resources[i]
		o := c.offers.In(s.Region)
		at, err := resource.ParseRange(fmt.Sprint(s.Want["range"]))
		if s.Type != resource.TypeSubnet || s.Find != nil || err != nil || o == nil {
			continue
		}
		c.room(o, s.Name, s.Name+".range", at, o.KeptAddresses, want[s.Name])
	}
	home := c.offers.Home
	for _, s := range home.Subnets {
		at, err := netip.ParsePrefix(s.Range)
		if r := first[s.ID]; r != nil && err == nil && c.ids[s.ID] == "" {
			c.room(home, s.Name, r.Name+".subnet", at, s.Used, want[s.ID])
		}
	}
}

// counted counts members of a subnet: of the rendering by its name, of one that is
// there by its id. A member that has its address already counts only in the former.
func (c *check) counted(want map[string]int64, first map[string]*render.Resource, r *render.Resource, subnet any,
	n int64) {
	key, _ := subnet.(string)
	if s := c.target(subnet); s != nil && s.Find == nil {
		key = s.Name
	} else if s != nil {
		key = c.idOf(s.Name)
	}
	if key == "" || c.target(subnet) == nil && !c.made(r.Name) {
		return
	}
	if want[key] += n; first[key] == nil {
		first[key] = r
	}
}

func (c *check) idOf(name string) string {
	for id, n := range c.ids {
		if n == name {
			return id
		}
	}
	return ""
}

func (c *check) room(o *offer.Offers, name, place string, at netip.Prefix, kept, want int64) {
	total := address.Count(at)
	if have := total - kept; want > max(have, 0) {
		bits := at.Bits()
		for b := bits - 1; b > 0 && bits == at.Bits(); b-- {
			if address.Count(netip.PrefixFrom(at.Addr(), b))-kept >= want {
				bits = b
			}
		}
		c.find(lang.Error, "address-plan", place,
			fmt.Sprintf("give it a /%d or wider, or spread them over several subnets", bits),
			"the subnet %s has %d addresses of which %d are taken or kept by the cloud; %d are wanted", name, total,
			kept, want)
	}
}

// exists reports ids of networks, subnets and key pairs that are not there, or that
// are those of something else.
func (c *check) exists(o *offer.Offers, place, kind, id string) {
	if kind != "network" && kind != "subnet" && kind != "key_pair" || c.ids[id] != "" {
		return
	}
	found, otherwise, names := o.Find(kind, id)
	if found == id {
		return
	}
	switch {
	case found != "":
		otherwise = "its id is " + found
	case otherwise == "":
		otherwise = choose(id, names, func(s string) string { return s })
	}
	c.find(lang.Error, "not-there", place, otherwise, "region %s has no %s %q", o.Region, resource.Words(kind), id)
}
