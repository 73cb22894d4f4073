package policy

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// openPorts may be open to everybody: they are there to be reached.
var openPorts = map[int64]bool{80: true, 443: true, 8080: true, 8443: true}

// sensitive are ports of administration and of databases, with what answers there.
var sensitive = map[int64]string{22: "SSH", 23: "Telnet", 111: "RPC", 445: "file sharing", 1433: "a database",
	1521: "a database", 2049: "file sharing", 2375: "container administration", 2376: "container administration",
	2379: "a key-value store", 3306: "a database", 3389: "remote desktops", 5432: "a database", 5440: "a database",
	5900: "remote desktops", 5985: "remote administration", 5986: "remote administration", 6379: "a key-value store",
	6443: "cluster administration", 9042: "a database", 9200: "a search index", 10250: "cluster administration",
	11211: "a cache", 27017: "a database"}

// worldly says that ranges cover so much of the internet that it makes no difference:
// half of all addresses.
const worldly = 1

// open tells of ports that are open to the world, in one range or in several that make
// it up, and asks for a consent where administration or a database answers there. A
// rule with an end that is over is told too.
func open(l *look) {
	l.each(func(r *render.Resource) {
		byPort := map[int64][]netip.Prefix{}
		rules, _ := r.Want["rules"].([]any)
		for i, item := range rules {
			m, _ := item.(map[string]any)
			port, _ := m["port"].(int64)
			from, err := resource.ParseRange(fmt.Sprint(m["from"]))
			if err != nil {
				continue
			}
			if until, _ := m["until"].(string); until != "" {
				l.until(r, i, port, until)
			}
			byPort[port] = append(byPort[port], from)
		}
		ports := []int64{}
		for port := range byPort {
			ports = append(ports, port)
		}
		slices.Sort(ports)
		for _, port := range ports {
			if !coversWorld(byPort[port]) || openPorts[port] {
				continue
			}
			what, risky := sensitive[port]
			how := "is open to every address there is"
			if len(byPort[port]) > 1 &&
				!slices.ContainsFunc(byPort[port], func(p netip.Prefix) bool { return p.Bits() == 0 }) {
				how = "is open to every address there is, in parts"
			}
			if risky {
				how += ": " + what + " answers there"
				l.ask(ConsentOpen, fmt.Sprintf("port %d of %s %s", port, r.Name, how))
			}
			l.find(lang.Warning, "open-to-world", r.Name+".rules", "name the range that its users come from",
				"port %d %s", port, how)
		}
	}, "firewall")
}

// until tells of an opening whose end is no date, or over.
func (l *look) until(r *render.Resource, i int, port int64, until string) {
	place := fmt.Sprintf("%s.rules[%d]", r.Name, i)
	switch {
	case !isDate(until):
		l.find(lang.Error, "until", place, "write a date such as 2027-01-31", "%q is no date", until)
	case l.Today != "" && until < l.Today:
		l.find(lang.Warning, "until", place, "take the rule away, or give it a later end",
			"port %d was to be open until %s, which is over", port, until)
	}
}

func isDate(text string) bool {
	_, err := time.Parse(time.DateOnly, text)
	return err == nil
}

// coversWorld reports whether ranges together have half of all addresses of a family.
func coversWorld(ranges []netip.Prefix) bool {
	share := map[bool]float64{}
	sorted := slices.Clone(ranges)
	slices.SortFunc(sorted, func(a, b netip.Prefix) int { return cmp.Compare(a.Bits(), b.Bits()) })
	var counted []netip.Prefix
	for _, p := range sorted {
		if slices.ContainsFunc(counted, p.Overlaps) {
			continue
		}
		counted = append(counted, p)
		share[p.Addr().Is4()] += 1 / float64(uint64(1)<<min(p.Bits(), 63))
	}
	return share[true]*2 >= worldly || share[false]*2 >= worldly
}

// Public reports whether a resource can be reached from outside its network.
func Public(r *render.Resource) bool {
	open, _ := r.Want["public"].(bool)
	return open || r.Want["address"] != nil
}

func publicWithoutFirewall(l *look) {
	l.each(func(r *render.Resource) {
		if Public(r) && r.Want["firewalls"] == nil {
			l.find(lang.Warning, "unreachable", r.Name,
				"list a firewall under `firewalls`, or leave the public address out",
				"it has a public address and no firewall, so nothing can connect to it")
		}
	}, "instance")
}

// publicData tells of machines that hold data and can be reached by everybody.
func publicData(l *look) {
	l.each(func(r *render.Resource) {
		disks, _ := r.Want["disks"].([]any)
		if !Public(r) || len(disks) == 0 {
			return
		}
		firewalls, _ := r.Want["firewalls"].([]any)
		for _, id := range firewalls {
			fw := l.target(id)
			if fw == nil {
				continue
			}
			rules, _ := fw.Want["rules"].([]any)
			for _, item := range rules {
				m, _ := item.(map[string]any)
				if from, err := resource.ParseRange(fmt.Sprint(m["from"])); err == nil && from.Bits() <= worldly {
					l.find(lang.Note, "public-data", r.Name, "put the data on a private machine behind it",
						"it holds data on a disk, has a public address, and %s lets everybody connect to port %v",
						fw.Name, m["port"])
					return
				}
			}
		}
	}, "instance")
}

// passwords tells of logins by password where a key would do.
func passwords(l *look) {
	l.each(func(r *render.Resource) {
		data, _ := r.Want["user_data"].(map[string]any)
		byPassword := data["ssh_pwauth"] == true || data["chpasswd"] != nil
		users, _ := data["users"].([]any)
		for _, item := range users {
			u, _ := item.(map[string]any)
			byPassword = byPassword || u["passwd"] != nil || u["plain_text_passwd"] != nil
		}
		if byPassword {
			l.find(lang.Warning, "password-login", r.Name+".user_data",
				"give the user a key under `ssh_authorized_keys` instead",
				"somebody logs in with a password, where a key would do")
		}
	}, "instance", "pool")
}

// roles asks for a consent to making identity roles.
func roles(l *look) {
	l.each(func(r *render.Resource) {
		var may []string
		grants, _ := r.Want["grants"].([]any)
		for _, item := range grants {
			g, _ := item.(map[string]any)
			rights, _ := g["may"].([]any)
			for _, right := range rights {
				may = append(may, fmt.Sprint(right))
			}
		}
		l.ask(ConsentRoles, fmt.Sprintf("%s may %s", r.Name, cmp.Or(strings.Join(may, ", "), "what its grants say")))
	}, "role")
}
