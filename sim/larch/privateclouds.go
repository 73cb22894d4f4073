package larch

import (
	"crypto/subtle"
	"crypto/tls"
	"fmt"
	"html"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"time"

	"undersail/sim/guest"
	"undersail/sim/world"
)

// hostJoins is how many cloud seconds each host of a private cloud needs to come in, once
// its management is there.
const hostJoins = 30

// purposes are the ranges that a private cloud needs.
var purposes = []string{"management", "moves", "storage", "uplink"}

// privateCloud is a cloud of hosts of the account's own with its own management: in one
// zone, or stretched over two with a witness in a third that keeps the quorum.
func (m *making) privateCloud() error {
	network, err := m.needs("network_id", m.text("network_id"), "networks")
	if err != nil {
		return err
	}
	if err := m.ownRanges(network); err != nil {
		return err
	}
	family := m.text("family")
	kind, sold := m.cloud.market.Host(m.x.Region, family)
	if !sold {
		return refuse(422, "not-sold", fmt.Sprintf("region %s has no dedicated hosts of family %q", m.x.Region, family),
			map[string]any{"property": "family"})
	}
	if err := m.layout(kind.Zones); err != nil {
		return err
	}
	if m.text("password") == "" {
		return invalid("password", "the administrator has a password")
	}
	return nil
}

// ownRanges checks that a private cloud has a range for each purpose, and that none of
// them overlaps another, a network, or what another private cloud has.
func (m *making) ownRanges(network *world.Resource) error {
	ranges, _ := m.x.Properties["ranges"].(map[string]any)
	type held struct {
		at  netip.Prefix
		who string
	}
	var all []held
	for _, o := range m.others("private-clouds", func(*world.Resource) bool { return true }) {
		theirs, _ := o.Properties["ranges"].(map[string]any)
		for purpose, v := range theirs {
			if p, err := netip.ParsePrefix(str(v)); err == nil {
				all = append(all, held{p, purpose + " of " + o.Label})
			}
		}
	}
	for _, o := range m.others("networks", func(*world.Resource) bool { return true }) {
		if p, err := netip.ParsePrefix(str(o.Properties["cidr"])); err == nil {
			all = append(all, held{p, "network " + o.Label})
		}
	}
	for _, purpose := range purposes {
		at, err := netip.ParsePrefix(str(ranges[purpose]))
		if err != nil || at.Masked() != at || !at.Addr().Is4() {
			return invalid("ranges", "the range for %s is no IPv4 range: %v", purpose, ranges[purpose])
		}
		for _, h := range all {
			if h.at.Overlaps(at) {
				return refuse(409, "overlap",
					fmt.Sprintf("the range for %s, %s, overlaps %s of %s", purpose, at, h.at, h.who), map[string]any{
						"property": "ranges",
					})
			}
		}
		all = append(all, held{at, purpose})
	}
	management, _ := netip.ParsePrefix(str(ranges["management"]))
	at := management.Addr().Next().Next().Next().Next().String()
	m.x.Attributes["private_address"], m.x.Attributes["console"] = at, "https://"+at+"/"
	return nil
}

func (m *making) layout(zones []string) error {
	layout, _ := m.x.Properties["layout"].([]any)
	carrying, witnesses := map[string]int64{}, 0
	for i, item := range layout {
		part, _ := item.(map[string]any)
		zone, hosts := str(part["zone"]), number(part["hosts"])
		witness, _ := part["witness"].(bool)
		switch {
		case !slices.Contains(m.cloud.market.Regions[m.x.Region].Zones, zone):
			return invalid(fmt.Sprintf("layout[%d].zone", i), "region %s has no zone %q", m.x.Region, zone)
		case witness:
			if witnesses++; hosts != 1 {
				return invalid(fmt.Sprintf("layout[%d].hosts", i), "a witness is one host")
			}
		case !slices.Contains(zones, zone):
			return invalid(fmt.Sprintf("layout[%d].zone", i), "zone %s has no such hosts", zone)
		case carrying[zone] != 0:
			return invalid(fmt.Sprintf("layout[%d].zone", i), "zone %s is named twice", zone)
		default:
			carrying[zone] = hosts
		}
	}
	needs, known := m.cloud.market.Limits["private-clouds.protection"].Needs[m.text("protection")]
	if !known && m.text("protection") != "" {
		return invalid("protection", "there is no protection %q", m.text("protection"))
	}
	counts := []int64{}
	for _, n := range carrying {
		if counts = append(counts, n); n < needs {
			return invalid("protection", "%s needs %d hosts in each zone", m.text("protection"), needs)
		}
	}
	switch {
	case len(counts) == 1 && witnesses == 0 && counts[0] >= 3:
	case len(counts) == 2 && witnesses == 1 && counts[0] == counts[1]:
	default:
		return invalid("layout",
			"three hosts or more stand in one zone, or as many in each of two zones with a witness in a third")
	}
	return nil
}

// openPrivateCloud shows the management of a private cloud that is there in its network.
func (c *Cloud) openPrivateCloud(id, account string) {
	var x *world.Resource
	c.world.Update(func(tx *world.Tx) error { x = tx.ByID(account, id); return nil })
	if x == nil || x.PhaseAt(time.Now()) != world.Ready {
		return
	}
	at, err := netip.ParseAddr(str(x.Attributes["private_address"]))
	if err != nil {
		return
	}
	listener := guest.NewListener(at, 443)
	server := &http.Server{Handler: c.management(id, account), ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(tls.NewListener(listener, &tls.Config{
		Certificates: []tls.Certificate{certificate(x, at)},
		MinVersion:   tls.VersionTLS12,
	}))
	c.fabric.Offer(id, guest.Offer{
		Network: str(x.Properties["network_id"]),
		At:      []netip.Addr{at},
		Dial: func(_ netip.Addr, port int) (net.Conn, error) {
			if port != 443 {
				return nil, fmt.Errorf("connection refused")
			}
			return listener.Dial()
		},
	})
}

// management is the page of a private cloud: its administrator signs in.
func (c *Cloud) management(id, account string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var x *world.Resource
		c.world.Update(func(tx *world.Tx) error { x = tx.ByID(account, id); return nil })
		user, password, _ := r.BasicAuth()
		if r.Method == http.MethodPost {
			user, password = r.PostFormValue("user"), r.PostFormValue("password")
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		switch {
		case x == nil:
			w.WriteHeader(http.StatusServiceUnavailable)
		case user != "admin" || subtle.ConstantTimeCompare([]byte(password),
			[]byte(str(x.Properties["password"]))) != 1:
			w.Header().Set("WWW-Authenticate", `Basic realm="management"`)
			w.WriteHeader(http.StatusUnauthorized)
			fmt.Fprint(w, "<!doctype html><title>Management</title><p>sign in as the administrator")
		default:
			fmt.Fprintf(w, "<!doctype html><title>Management</title><h1>%s</h1><p>signed in as admin<p>%d hosts",
				html.EscapeString(x.Label), c.hostsIn(x))
		}
	})
}

// hostsIn is how many hosts of a private cloud have come in.
func (c *Cloud) hostsIn(x *world.Resource) int64 {
	all := layoutHosts(x)
	in := int64(time.Since(x.ReadyAt)/c.world.Real(hostJoins)) + 1
	if _, spoilt := c.world.Planned("spoilt", x.Account, "hosts", x.Label+" "+x.Name); spoilt {
		all--
	}
	return max(0, min(in, all))
}

// layoutHosts counts the hosts of a layout.
func layoutHosts(x *world.Resource) int64 {
	n := int64(0)
	layout, _ := x.Properties["layout"].([]any)
	for _, item := range layout {
		part, _ := item.(map[string]any)
		n += max(0, number(part["hosts"]))
	}
	return n
}
