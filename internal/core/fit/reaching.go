package fit

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// probeEvery is how many seconds of a cloud's clock lie between two looks at least.
const probeEvery = 3

// Reaching reports checks that can never pass: those that ask an address with no way
// to it, a port that no rule opens, a login that the image does not know, and those
// that have less time than they take. Checks are computed as if everything were made.
// Changes tell what would be made, in the order of the rendering's resources; nil is
// everything. Known tells what is there already, and may be nil.
func Reaching(r *render.Rendering, known func(render.Resource) map[string]any, changes []change.Change,
	offers offer.Everywhere) []render.Finding {
	if render.HasErrors(r.Findings) || r.Stopped {
		return nil // what is missing is told, and all else would follow from it
	}
	c := &reaching{
		check: check{
			plan:   change.Plan{Rendering: r},
			offers: offers,
			ids:    ids(known, r),
			told:   map[render.Finding]bool{},
		},
		doors:    map[string][]door{},
		machines: map[string]*machine{},
	}
	for i := range r.Resources {
		if res := &r.Resources[i]; res.Type == resource.TypeFirewall {
			c.doors[res.Name] = doors(res)
		}
	}
	c.rehearsal = r.Rehearse(known, c.ports)
	changed := func(i int) bool {
		return changes == nil || i < len(changes) && changes[i].Change != change.Same
	}
	for i := range r.Resources {
		if res := &r.Resources[i]; changed(i) && res.Find == nil {
			for _, x := range res.Checks {
				c.time(res.Name, x)
			}
		}
	}
	if c.rehearsal == nil {
		return c.out
	}
	c.machinesAt()
	for i := range r.Resources {
		res := &r.Resources[i]
		if !changed(i) || res.Find != nil {
			continue
		}
		if fault := c.rehearsal.Faults[res.Name]; fault != nil {
			c.unread(res, fault)
		}
		for _, x := range c.rehearsal.Checks[res.Name] {
			c.way(res.Name, res.Name+".health", x)
		}
		if login, is := c.rehearsal.Logins[res.Name]; is {
			c.way(res.Name, res.Name+".on", login)
		}
	}
	return c.out
}

// ids are the ids of what is there, with the names in the rendering.
func ids(known func(render.Resource) map[string]any, r *render.Rendering) map[string]string {
	out := map[string]string{}
	if known == nil {
		return out
	}
	for _, res := range r.Resources {
		if id, ok := known(res)["id"].(string); ok {
			out[id] = res.Name
		}
	}
	return out
}

type reaching struct {
	check
	rehearsal *render.Rehearsal
	doors     map[string][]door // by firewall
	machines  map[string]*machine
}

// door is one inbound rule.
type door struct {
	from netip.Prefix
	port int64
	of   string // the firewall
}

func doors(r *render.Resource) []door {
	var out []door
	rules, _ := r.Want["rules"].([]any)
	for _, item := range rules {
		m, _ := item.(map[string]any)
		port, _ := m["port"].(int64)
		if protocol, _ := m["protocol"].(string); protocol != "" && protocol != "tcp" {
			continue
		}
		if p, err := resource.ParseRange(fmt.Sprint(m["from"])); err == nil {
			out = append(out, door{p, port, r.Name})
		}
	}
	return out
}

// machine is one that would be made, with the doors to it.
type machine struct {
	*render.Resource
	doors   []door
	known   bool // all firewalls before it are part of the rendering
	private netip.Addr
}

// rules gives the doors to a machine. False says that a firewall stands before it of
// which nothing is known.
func (c *reaching) rules(r *render.Resource) ([]door, bool) {
	list, isList := r.Want["firewalls"].([]any)
	if u, pending := r.Want["firewalls"].(resource.Unresolved); pending { // computed from ids: each of them counts
		for _, wait := range u.Waits {
			list = append(list, resource.Unresolved{Waits: []string{wait}})
		}
	} else if !isList && r.Want["firewalls"] != nil {
		return nil, false
	}
	var out []door
	for _, id := range list {
		fw := c.target(id)
		if fw == nil || fw.Find != nil {
			return nil, false
		}
		out = append(out, c.doors[fw.Name]...)
	}
	return out, true
}

// ports are those at which a machine can be reached from outside.
func (c *reaching) ports(r *render.Resource) []int64 {
	list, known := c.rules(r)
	var out []int64
	for _, d := range list {
		if !slices.Contains(out, d.port) {
			out = append(out, d.port)
		}
	}
	if !known {
		out = append(out, 22, 80, 443)
	}
	return out
}

// machinesAt finds the machines by their stand-in addresses.
func (c *reaching) machinesAt() {
	r := c.plan.Rendering
	for i := range r.Resources {
		res := &r.Resources[i]
		if !resource.IsMachine(res.Type) || res.Find != nil {
			continue
		}
		report := c.rehearsal.Reports[res.Name]
		m := &machine{Resource: res}
		m.doors, m.known = c.rules(res)
		text, _ := report["private_address"].(string)
		m.private, _ = netip.ParseAddr(text)
		c.machines[text] = m
		if public, _ := report["public_address"].(string); public != "" {
			c.machines[public] = m
		}
		if fixed := c.target(res.Want["address"]); fixed != nil {
			if text, _ := c.rehearsal.Reports[fixed.Name]["address"].(string); text != "" {
				c.machines[text] = m
			}
		}
	}
}

// time reports a check with less time than it takes.
func (c *reaching) time(name string, x health.Check) {
	takes := max(x.SteadyFor, int64(max(x.Passes, 1)-1)*probeEvery)
	if x.Within > 0 && takes >= x.Within && x.Kind != "phase" {
		c.find(lang.Error, "check-never", name+".health",
			fmt.Sprintf("give it more time, such as `within: %s`, or ask less of it", resource.FormatSpan(takes+60)),
			"%s must stay right for %s, and has only %s for all of it", x.Name, resource.FormatSpan(takes),
			resource.FormatSpan(x.Within))
	}
}

// unread reports a check that reads a report which nothing gives, such as the way to a
// port that no rule opens.
func (c *reaching) unread(r *render.Resource, fault error) {
	if port := missingKey(fault.Error()); port != "" {
		c.find(lang.Error, "check-never", r.Name+".health",
			fmt.Sprintf("add a rule for port %s to its firewalls, and see that it is public", port),
			"a check asks %s at port %s, and nothing opens that port to the outside", r.Name, port)
	}
}

// missingKey finds the number of a port in the complaint about a missing key.
func missingKey(message string) string {
	_, after, found := strings.Cut(message, "no such key: ")
	if !found {
		return ""
	}
	end := strings.IndexFunc(after, func(r rune) bool { return r < '0' || r > '9' })
	if end >= 0 {
		after = after[:end]
	}
	return after
}

// way follows a check from this service to what it asks.
func (c *reaching) way(name, place string, x health.Check) {
	host, port := x.Target()
	if host == "" {
		return
	}
	from, hop := c.from(name), ""
	jump, ok := x.Spec["through"].(map[string]any)
	if x.Spec["through"] != nil && !ok {
		return // a jump host that is computed with its key: the whole of it is a secret
	}
	if ok {
		at, _ := jump["host"].(string)
		m := c.machines[at]
		if m == nil {
			return // it is none of ours
		}
		port, given := jump["port"].(int64)
		if !given {
			port = health.SSHPort
		}
		if !c.opens(place, x, m, port, from, at, "") || !c.knows(place, x, m, jump) {
			return
		}
		from, hop = m.private, m.Name
	}
	m := c.machines[host]
	if m == nil || !c.opens(place, x, m, port, from, host, hop) {
		return
	}
	if x.Kind == "ssh" {
		c.knows(place, x, m, x.Spec)
	}
}

// from is the address that this service is seen at, as far as the cloud tells.
func (c *reaching) from(name string) netip.Addr {
	r := c.plan.Rendering.Resource(name)
	if r == nil {
		return netip.Addr{}
	}
	if o := c.offers.In(r.Region); o != nil {
		a, _ := netip.ParseAddr(o.SeenFrom)
		return a
	}
	return netip.Addr{}
}

// opens reports that a machine cannot be reached at a port: from outside at a private
// address, or because no rule lets anybody in.
func (c *reaching) opens(place string, x health.Check, m *machine, port int64, from netip.Addr, at, hop string) bool {
	if hop == "" && at == m.private.String() {
		c.find(lang.Error, "check-never", place, "ask it `through:` a jump host, or give the machine a public address",
			"%s asks %s at its private address, and there is no way to it from outside", x.Name, m.Name)
		return false
	}
	if !m.known {
		return true
	}
	opened := slices.ContainsFunc(m.doors, func(d door) bool { return d.port == port })
	lets := slices.ContainsFunc(m.doors,
		func(d door) bool { return d.port == port && (!from.IsValid() || d.from.Contains(from)) })
	who := "this service, which the cloud sees at " + from.String()
	if hop != "" {
		who = hop
	}
	switch {
	case !opened && len(m.doors) > 0:
		c.findFrom(m.doors[0].of+".rules", "", place,
			fmt.Sprintf("add a rule for port %d to a firewall of %s", port, m.Name),
			"%s asks %s at port %d, and no rule opens that port", x.Name, m.Name, port)
	case !opened:
		c.find(lang.Error, "check-never", place,
			fmt.Sprintf("add a rule for port %d to a firewall of %s", port, m.Name),
			"%s asks %s at port %d, and no rule opens that port", x.Name, m.Name, port)
	case !lets:
		at := m.doors[slices.IndexFunc(m.doors, func(d door) bool { return d.port == port })]
		c.findFrom(at.of+".rules", rangeOf(from), place,
			fmt.Sprintf("let %s in at port %d, or ask it another way", cmp.Or(addressOf(from), who), port),
			"%s asks %s at port %d, and no rule lets in %s", x.Name, m.Name, port, who)
	}
	return lets
}

// findFrom reports a check that cannot pass for what stands somewhere else, with the value that would let it.
func (c *reaching) findFrom(from, take, place, remedy, format string, args ...any) {
	n := len(c.out)
	if c.find(lang.Error, "check-never", place, remedy, format, args...); len(c.out) > n {
		c.out[n].From, c.out[n].Take = from, take
	}
}

// rangeOf is the range of one address alone.
func rangeOf(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return netip.PrefixFrom(a, a.BitLen()).String()
}

func addressOf(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// knows reports a login that a machine does not have: a user that its image lacks, or
// a key that it was not given.
func (c *reaching) knows(place string, x health.Check, m *machine, login map[string]any) bool {
	user, _ := login["user"].(string)
	if data, _ := m.Want["user_data"].(map[string]any); data["users"] != nil {
		return true // it makes users of its own
	}
	o := c.offers.In(m.Region)
	name, _ := m.Want["image"].(string)
	if o != nil {
		if image, sold := o.Image(name); sold && image.User != "" && user != "" && user != image.User {
			c.find(lang.Error, "check-never", place,
				fmt.Sprintf("log in as %s, or make the user under `user_data`", image.User),
				"%s logs in to %s as %s, and image %s has the user %s", x.Name, m.Name, user, name, image.User)
			return false
		}
	}
	pair, isOurs := "", false
	if secrets := resource.Secrets(login["key"]); len(secrets) == 1 { // a stand-in names the pair
		pair, isOurs = strings.CutPrefix(secrets[0], "private_key of ")
	}
	has := c.target(m.Want["key_pair"])
	switch {
	case !isOurs:
		return true
	case m.Want["key_pair"] == nil:
		c.find(lang.Error, "check-never", place, fmt.Sprintf("add `key_pair: =%s.id` to %s", pair, m.Declared),
			"%s logs in to %s with the key pair %s, and the machine has none", x.Name, m.Name, pair)
		return false
	case has != nil && has.Name != pair:
		c.find(lang.Error, "check-never", place, fmt.Sprintf("log in with %s.private_key", has.Name),
			"%s logs in to %s with the key pair %s, and the machine has %s", x.Name, m.Name, pair, has.Name)
		return false
	}
	return true
}
