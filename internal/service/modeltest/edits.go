package modeltest

import (
	"fmt"
	"slices"

	"undersail/internal/core/resource"
)

// first fills a new stack.
func (s *stack) first() {
	for _, typ := range []string{"network", "subnet", "firewall", "disk", "instance"} {
		s.add(typ)
	}
	for range 1 + s.random.IntN(4) {
		s.add(pick(s.random, []string{"subnet", "firewall", "disk", "instance", "instance", "address", "secret",
			"key_pair"}))
	}
}

// add declares one more resource of a type, if what it needs is there.
func (s *stack) add(typ string) string {
	d := &declaration{name: s.newName(typ), typ: typ, want: map[string]any{}}
	nets, lans := s.of("network"), s.of("subnet")
	switch typ {
	case resource.TypeNetwork:
		block := s.freeBlock()
		if block < 0 {
			return ""
		}
		d.want["block"] = block
	case resource.TypeSubnet:
		if len(nets) == 0 {
			return ""
		}
		net := pick(s.random, nets)
		d.want["network"], d.want["slot"] = of(net), s.freeSlot(net.name)
		if s.random.IntN(3) == 0 {
			d.zones = slices.Clone(zones[:1+s.random.IntN(3)])
		}
	case resource.TypeFirewall:
		if len(nets) == 0 {
			return ""
		}
		d.want["network"], d.want["rules"] = of(pick(s.random, nets)), s.rules()
	case resource.TypeDisk:
		d.want["size"], d.want["type"], d.keep = disks[s.random.IntN(2)], "solid", s.random.IntN(3) == 0
		if s.random.IntN(3) == 0 {
			d.count = 1 + s.random.IntN(3)
		}
	case resource.TypeSecret:
		d.want["value"] = fmt.Sprintf("word-%d", s.random.IntN(1000))
	case resource.TypeInstance:
		if len(lans) == 0 {
			return ""
		}
		lan := pick(s.random, lans)
		d.want["size"], d.want["image"], d.want["subnet"] = pick(s.random, sizes), "debian-12", of(lan)
		if lan.zones != nil {
			d.zones = slices.Clone(lan.zones)
		} else if s.random.IntN(2) == 0 {
			d.count = 1 + s.random.IntN(3)
		}
		s.arm(d)
		if s.random.IntN(3) == 0 {
			d.atOnce = 1
		}
		d.newFirst = s.random.IntN(4) == 0
	}
	if s.random.IntN(3) == 0 {
		d.want["tags"] = map[string]any{"owner": pick(s.random, owners)}
	}
	s.list = append(s.list, d)
	return "add " + d.name
}

func of(d *declaration) map[string]any { return map[string]any{"of": d.name} }

// arm gives a machine firewalls of its network, and disks that nobody has.
func (s *stack) arm(d *declaration) {
	lan := s.find(d.want["subnet"].(map[string]any)["of"].(string))
	var firewalls []any
	for _, f := range s.of("firewall") {
		if refersTo(f.want["network"], lan.want["network"].(map[string]any)["of"].(string)) && s.random.IntN(2) == 0 {
			firewalls = append(firewalls, of(f))
		}
	}
	delete(d.want, "firewalls")
	if firewalls != nil {
		d.want["firewalls"] = firewalls
	}
	delete(d.want, "disks")
	if d.zones != nil || d.count > 1 || lan.zones != nil {
		return // their disks would have to be as many, and in their zones
	}
	for _, disk := range s.of("disk") {
		if disk.count == 0 && disk.want["zone"] == nil &&
			!slices.ContainsFunc(s.list,
				func(x *declaration) bool { return x != d && refersTo(x.want["disks"], disk.name) }) &&
			s.random.IntN(2) == 0 {
			list, _ := d.want["disks"].([]any)
			d.want["disks"] = append(list, map[string]any{"disk": of(disk), "mount": "/data/" + disk.name})
		}
	}
}

func (s *stack) rules() []any {
	out := []any{}
	for _, port := range []int{22, 80, 443, 8443} {
		if s.random.IntN(2) == 0 {
			rule := map[string]any{"from": fmt.Sprintf("10.%d.0.0/16", s.random.IntN(3)), "port": port}
			if s.random.IntN(3) == 0 {
				rule["about"] = pick(s.random, owners)
			}
			out = append(out, rule)
		}
	}
	if len(out) == 0 {
		out = append(out, map[string]any{"from": "10.0.0.0/8", "port": 22})
	}
	return out
}

func (s *stack) freeBlock() int {
	for block := range 4 {
		if !slices.ContainsFunc(s.of("network"), func(d *declaration) bool { return d.want["block"] == block }) {
			return block
		}
	}
	return -1
}

// freeSlot finds a place for a subnet with up to three zones.
func (s *stack) freeSlot(net string) int {
	for {
		slot := 4 * s.random.IntN(14)
		if !slices.ContainsFunc(s.of("subnet"),
			func(d *declaration) bool { return refersTo(d.want["network"], net) && d.want["slot"] == slot }) {
			return slot
		}
	}
}

// edit changes something at random and tells what; "" when it found nothing to do.
func (s *stack) edit() string {
	if len(s.list) == 0 {
		return s.add("network")
	}
	d := pick(s.random, s.list)
	switch s.random.IntN(16) {
	case 0, 1:
		return s.add(pick(s.random,
			[]string{"subnet", "firewall", "disk", "instance", "address", "secret", "key_pair", "network"}))
	case 2:
		if len(s.list) < 4 {
			return ""
		}
		s.drop(d.name)
		return "drop " + d.name
	case 3:
		from, to := d.name, s.newName(d.typ)
		s.rename(from, to)
		if d.was = ""; s.random.IntN(3) > 0 {
			d.was = from
			return "rename " + from + " to " + to
		}
		return "rename " + from + " to " + to + " without saying so"
	case 4:
		if _, has := d.want["tags"]; has && s.random.IntN(2) == 0 {
			delete(d.want, "tags")
			return "take the tags of " + d.name + " away"
		}
		d.want["tags"] = map[string]any{"owner": pick(s.random, owners)}
		return "tag " + d.name
	case 5:
		d.guard = !d.guard
		return fmt.Sprintf("guard of %s: %t", d.name, d.guard)
	case 6:
		lans := s.of("subnet")
		if len(lans) < 2 {
			return ""
		}
		a, b := lans[0], lans[1]
		if a.want["network"].(map[string]any)["of"] != b.want["network"].(map[string]any)["of"] {
			return ""
		}
		a.want["slot"], b.want["slot"] = b.want["slot"], a.want["slot"]
		return "trade the ranges of " + a.name + " and " + b.name
	case 7:
		if d.zones != nil {
			s.random.Shuffle(len(d.zones), func(i, j int) { d.zones[i], d.zones[j] = d.zones[j], d.zones[i] })
			for _, x := range s.list { // machines stand where their subnet is
				if refersTo(x.want["subnet"], d.name) && x.zones != nil {
					x.zones = slices.Clone(d.zones)
				}
			}
			return "shuffle the zones of " + d.name
		}
		if d.count > 0 {
			d.count = 1 + s.random.IntN(4)
			return fmt.Sprintf("%d of %s", d.count, d.name)
		}
	case 8:
		if earlier := pick(s.random, s.list); earlier != d && !s.comesAfter(earlier, d.name) {
			if slices.Contains(d.after, earlier.name) {
				d.after = slices.DeleteFunc(d.after, func(x string) bool { return x == earlier.name })
			} else {
				d.after = append(d.after, earlier.name)
			}
			return fmt.Sprintf("%s comes after %v", d.name, d.after)
		}
	}
	return s.editProperty(d)
}

// comesAfter reports whether a declaration needs another, directly or not.
func (s *stack) comesAfter(d *declaration, name string) bool {
	if d.name == name {
		return true
	}
	for _, x := range s.list {
		if (refersTo(d.want, x.name) || slices.Contains(d.after, x.name)) && x != d && s.comesAfter(x, name) {
			return true
		}
	}
	return false
}

// editProperty changes a property of a declaration.
func (s *stack) editProperty(d *declaration) string {
	said := func(what string) string { return what + " of " + d.name }
	switch d.typ {
	case "network":
		if block := s.freeBlock(); block >= 0 {
			d.want["block"] = block
			return said("another range")
		}
	case "subnet":
		d.want["slot"] = s.freeSlot(d.want["network"].(map[string]any)["of"].(string))
		return said("another range")
	case "firewall":
		rules, _ := d.want["rules"].([]any)
		switch s.random.IntN(3) {
		case 0:
			s.random.Shuffle(len(rules), func(i, j int) { rules[i], rules[j] = rules[j], rules[i] })
			return said("another order of the rules")
		case 1:
			if len(rules) > 1 {
				d.want["rules"] = slices.Delete(slices.Clone(rules), 0, 1)
				return said("one rule less")
			}
		}
		d.want["rules"] = s.rules()
		return said("other rules")
	case "disk":
		switch s.random.IntN(4) {
		case 0:
			d.want["encrypted"] = d.want["encrypted"] != true
			return said("other encryption")
		case 1:
			d.keep = !d.keep
			return fmt.Sprintf("keep %s: %t", d.name, d.keep)
		case 2:
			d.want["type"] = pick(s.random, []string{"solid", "solid-plus"})
			return said("another type")
		}
		d.want["size"] = pick(s.random, disks)
		return said("another size")
	case "secret":
		d.want["value"] = fmt.Sprintf("word-%d", s.random.IntN(1000))
		return said("another value")
	case "instance":
		switch s.random.IntN(5) {
		case 0:
			d.newFirst = !d.newFirst
			return said("another order of rebuilding")
		case 1:
			s.arm(d)
			return said("other firewalls and disks")
		case 2:
			d.want["user_data"] = map[string]any{"hostname": pick(s.random, owners)}
			return said("another first boot")
		}
		d.want["size"] = pick(s.random, sizes)
		return said("another size")
	}
	return ""
}
