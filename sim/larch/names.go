package larch

import (
	"fmt"
	"log/slog"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"undersail/sim/world"
)

// nameZone is a zone that the cloud's name servers answer for, for everybody or, where
// it names a network, inside that only.
func (m *making) nameZone() error {
	if _, ok := dns.IsDomainName(m.text("domain")); !ok {
		return invalid("domain", "%q is no domain", m.text("domain"))
	}
	if m.text("network_id") != "" {
		_, err := m.needs("network_id", m.text("network_id"), "networks")
		return err
	}
	m.x.Attributes["servers"] = []any{m.cloud.nameServer}
	return m.alone("domain")
}

// nameRecord is one name of a zone.
func (m *making) nameRecord() error {
	zone, err := m.needs("zone_id", m.text("zone_id"), "name-zones")
	if err != nil {
		return err
	}
	kind := m.text("type")
	full := m.text("name") + "." + str(zone.Properties["domain"])
	if m.text("name") == "@" {
		full = str(zone.Properties["domain"])
	}
	if _, ok := dns.IsDomainName(full); !ok {
		return invalid("name", "%q is no name", full)
	}
	values, _ := m.x.Properties["values"].([]any)
	if len(values) == 0 {
		return invalid("values", "a name stands for something")
	}
	if kind == "CNAME" && len(values) > 1 {
		return invalid("values", "a name is an alias of one other")
	}
	for _, v := range values {
		rr, err := record(full, kind, str(v), 300)
		if err != nil || rr == nil || kind == "CNAME" && net.ParseIP(str(v)) != nil {
			return invalid("values", "%q is no value of a record of type %s", str(v), kind)
		}
	}
	for _, o := range m.others("name-records", func(o *world.Resource) bool {
		return o.Properties["zone_id"] == zone.ID && o.Properties["name"] == m.text("name")
	}) {
		if o.Properties["type"] == kind || kind == "CNAME" || o.Properties["type"] == "CNAME" {
			return refuse(409, "conflict", "the zone has the name "+full+" already", map[string]any{"property": "name"})
		}
	}
	m.x.Attributes["full_name"] = full
	if servers, public := zone.Attributes["servers"]; public {
		m.x.Attributes["servers"] = servers
	}
	return nil
}

// record writes one value as a record of the wire.
func record(name, kind, value string, ttl int64) (dns.RR, error) {
	switch kind {
	case "TXT":
		value = fmt.Sprintf("%q", value)
	case "CNAME":
		value = dns.Fqdn(value)
	}
	return dns.NewRR(fmt.Sprintf("%s %d IN %s %s", dns.Fqdn(name), ttl, kind, value))
}

// serveNames begins the cloud's name server on an address of its block, at the usual port
// if it can be had.
func (c *Cloud) serveNames() {
	for _, port := range []int{53, 20053, 0} {
		l, err := net.Listen("tcp", fmt.Sprintf("%s.253:%d", c.block, port))
		if err != nil {
			continue
		}
		at := l.Addr().(*net.TCPAddr).AddrPort()
		packets, err := net.ListenPacket("udp", at.String())
		if err != nil {
			l.Close()
			continue
		}
		c.nameServer = at.String()
		handler := dns.HandlerFunc(c.answerName)
		for _, s := range []*dns.Server{{Listener: l, Handler: handler}, {PacketConn: packets, Handler: handler}} {
			c.servers = append(c.servers, s)
			go s.ActivateAndServe()
		}
		return
	}
	slog.Warn("no port is free for the cloud's name server")
}

// answerName answers one question: from the zones of all customers, or, for names that the
// cloud itself gives, from the addresses that have them.
func (c *Cloud) answerName(w dns.ResponseWriter, q *dns.Msg) {
	m := new(dns.Msg)
	m.SetReply(q)
	m.Authoritative = true
	defer func() { w.WriteMsg(m) }()
	if len(q.Question) != 1 {
		m.Rcode = dns.RcodeFormatError
		return
	}
	name, kind := strings.ToLower(strings.TrimSuffix(q.Question[0].Name, ".")), dns.TypeToString[q.Question[0].Qtype]
	known, ours := false, strings.HasSuffix(name, ".larch.example")
	c.world.Update(func(tx *world.Tx) error {
		now := time.Now()
		for _, x := range tx.All(func(x *world.Resource) bool {
			return x.Kind == "name-zones" || x.Kind == "name-records" || x.Kind == "addresses"
		}) {
			switch {
			case x.Kind == "name-zones" && x.Attributes["servers"] != nil:
				domain := str(x.Properties["domain"])
				ours = ours || name == domain || strings.HasSuffix(name, "."+domain)
			case x.Kind == "addresses" && str(x.Attributes["public_name"]) == name && x.PhaseAt(now) != world.Making:
				known = true
				c.give(m, name, "A", kind, []any{x.Attributes["address"]}, 60)
			case x.Kind == "name-records" && str(x.Attributes["full_name"]) == name && x.Attributes["servers"] != nil:
				if x.PhaseAt(now) == world.Making {
					continue // not everybody knows of it yet
				}
				if before := tx.Before(x); x.PhaseAt(now) == world.Changing && before != nil {
					x = before
				}
				known = true
				ttl := number(x.Properties["ttl"])
				if ttl <= 0 {
					ttl = 300
				}
				values, _ := x.Properties["values"].([]any)
				c.give(m, name, str(x.Properties["type"]), kind, values, ttl)
			}
		}
		return nil
	})
	switch {
	case !ours:
		m.Rcode = dns.RcodeRefused
	case !known:
		m.Rcode = dns.RcodeNameError
	}
}

// resolve gives the addresses of a name as a machine of some networks sees it: from the
// zones of these networks, and from those that everybody sees.
func (c *Cloud) resolve(account string, networks []string, name string) (out []string) {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	c.world.Update(func(tx *world.Tx) error {
		for range 8 { // so many aliases, at most
			alias := ""
			for _, x := range tx.All(func(x *world.Resource) bool {
				return x.Kind == "name-records" && str(x.Attributes["full_name"]) == name &&
					x.PhaseAt(time.Now()) != world.Making
			}) {
				zone := tx.ByID(x.Account, str(x.Properties["zone_id"]))
				within := zone != nil && str(zone.Properties["network_id"]) != ""
				if zone == nil || within &&
					(x.Account != account || !slices.Contains(networks, str(zone.Properties["network_id"]))) {
					continue
				}
				values, _ := x.Properties["values"].([]any)
				for _, v := range values {
					switch str(x.Properties["type"]) {
					case "A":
						out = append(out, str(v))
					case "CNAME":
						alias = strings.ToLower(strings.TrimSuffix(str(v), "."))
					}
				}
			}
			if alias == "" || len(out) > 0 {
				break
			}
			name = alias
		}
		return nil
	})
	return out
}

// give adds the values of a name to an answer, where their kind is asked for.
func (c *Cloud) give(m *dns.Msg, name, kind, asked string, values []any, ttl int64) {
	if kind != asked {
		return
	}
	for _, v := range values {
		if rr, err := record(name, kind, str(v), ttl); err == nil {
			m.Answer = append(m.Answer, rr)
		}
	}
}

// label checks the public name that a customer wants for an address, and gives it.
func (m *making) label() error {
	label := m.text("label")
	if label == "" {
		return nil
	}
	if why := m.cloud.taken(m.tx, "addresses", m.x.Account, m.x.Region, label, m.x.ID); why != "" {
		return refuse(409, "name-taken", fmt.Sprintf("the label %q is taken: %s", label, why), map[string]any{
			"property": "label",
		})
	}
	m.x.Attributes["public_name"] = label + "." + m.x.Region + ".larch.example"
	return nil
}
