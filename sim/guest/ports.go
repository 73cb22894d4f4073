package guest

import (
	"crypto/tls"
	"fmt"
	"log"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// port is one open port: a socket on each public address that a rule opens, and the way
// in through the fabric.
type port struct {
	number  int
	sockets map[int]net.Listener // by card
	private *Listener
	close   func()
}

func (p *port) closeSockets() {
	for card, socket := range p.sockets {
		socket.Close()
		delete(p.sockets, card)
	}
}

// wanted lists the ports that answer now with what speaks there.
func (g *Guest) wanted(now time.Time) map[int]*service {
	out := map[int]*service{}
	if g.Dead != nil && g.Dead() {
		return out
	}
	if g.since(now) >= sshAfter && g.waitsFor(now) == "" {
		out[22] = nil
	}
	for _, s := range g.all() {
		if g.state(s, now) == "active" {
			for _, p := range s.software.Ports {
				out[p.Port] = s
			}
		}
	}
	return out
}

func (g *Guest) openPorts(now time.Time) {
	wanted := g.wanted(now)
	g.mu.Lock()
	defer g.mu.Unlock()
	for number, p := range g.ports {
		if _, still := wanted[number]; !still {
			p.close()
			delete(g.ports, number)
		}
	}
	for _, number := range slices.Sorted(maps.Keys(wanted)) {
		p := g.ports[number]
		if p == nil {
			p = g.open(number, wanted[number])
			g.ports[number] = p
		}
		g.guard(p)
	}
}

// open starts what speaks on a port. The sockets come with guard, when a rule
// allows anybody.
func (g *Guest) open(number int, s *service) *port {
	p := &port{number: number, private: NewListener(g.Private, number), sockets: map[int]net.Listener{}}
	if s == nil {
		go g.serveSSH(p.private)
		p.close = func() { p.private.Close(); p.closeSockets() }
		return p
	}
	speaks := "http"
	for _, sp := range s.software.Ports {
		if sp.Port == number {
			speaks = sp.Speaks
		}
	}
	if speaks == "tcp" {
		go serveTCP(p.private, s.name)
		p.close = func() { p.private.Close(); p.closeSockets() }
		return p
	}
	server := &http.Server{Handler: g.web(s), ReadHeaderTimeout: 10 * time.Second, ErrorLog: quiet}
	go server.Serve(g.secured(p.private, speaks))
	p.close = func() { server.Close(); p.private.Close(); p.closeSockets() }
	return p
}

func (g *Guest) secured(l net.Listener, speaks string) net.Listener {
	if speaks != "https" {
		return l
	}
	return tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{g.Certificate}, MinVersion: tls.VersionTLS12})
}

// guard makes the sockets of a port let in exactly whom the rules allow.
func (g *Guest) guard(p *port) {
	for card, at := range g.cards() {
		if !at.Public.IsValid() {
			continue
		}
		var from []netip.Prefix
		for _, r := range g.rules {
			if r.Port == p.number && r.Card == card {
				from = append(from, r.From)
			}
		}
		socket := p.sockets[card]
		if from == nil {
			if socket != nil {
				socket.Close()
				delete(p.sockets, card)
			}
			continue
		}
		if socket == nil {
			var err error
			if socket, err = listenAt(at.Public, p.number); err != nil {
				continue // no port of the machine is free; nothing answers
			}
			p.sockets[card] = socket
			go forward(socket, p.private, func(source netip.Addr) bool { return g.allows(source, card, p.number) })
		}
		// Without the filter a source that is not allowed is turned away by forward.
		_ = onlyFrom(socket, from)
	}
}

// SetRules replaces the inbound rules.
func (g *Guest) SetRules(rules []Rule) {
	g.mu.Lock()
	g.rules = rules
	g.mu.Unlock()
	g.nudge()
}

// Renew gives the machine what its network tells it now, which it keeps where programs
// look for it.
func (g *Guest) Renew(lease Lease) {
	var names, times strings.Builder
	for _, at := range lease.Names {
		fmt.Fprintf(&names, "nameserver %s\n", at)
	}
	for _, at := range lease.Times {
		fmt.Fprintf(&times, "server %s iburst\n", at)
	}
	g.root.write("/etc/resolv.conf", names.String())
	g.root.write("/run/chrony-dhcp/eth0.sources", times.String())
}

// SetWayOut says whether packets get out of its subnet.
func (g *Guest) SetWayOut(open bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.cut = !open
}

// attached are the disks that it has now.
func (g *Guest) attached() []Disk {
	if g.Attached != nil {
		return g.Attached()
	}
	return g.Disks
}

// cutOff reports whether no packets get out.
func (g *Guest) cutOff() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.cut
}

// nudge lets a guest look at once at what it has to do.
func (g *Guest) nudge() {
	select {
	case g.wake <- struct{}{}:
	default:
	}
}

// Reach tells at which host:port each port is reached: by the port's number on the first
// card, by address:port on further ones. Ports of services that are not up yet are told
// too, so that nobody has to guess; they are the ports themselves unless these can't be
// had.
func (g *Guest) Reach() map[string]any {
	out := map[string]any{}
	numbers := []int{22}
	for _, s := range g.all() {
		for _, p := range s.software.Ports {
			numbers = append(numbers, p.Port)
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for card, at := range g.cards() {
		if !at.Public.IsValid() {
			continue
		}
		for _, n := range numbers {
			key, to := strconv.Itoa(n), netip.AddrPortFrom(at.Public, uint16(g.fabric.shifted(n))).String()
			if card > 0 {
				key = netip.AddrPortFrom(at.Public, uint16(n)).String()
			}
			if p := g.ports[n]; p != nil && p.sockets[card] != nil {
				to = p.sockets[card].Addr().String()
			}
			out[key] = to
		}
	}
	return out
}

// allows reports whether the rules before a card let a source connect to a port.
func (g *Guest) allows(source netip.Addr, card, number int) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.ContainsFunc(g.rules,
		func(r Rule) bool { return r.Card == card && r.Port == number && r.From.Contains(source) })
}

// quiet drops what net/http says about clients that hang up.
var quiet = log.New(discard{}, "", 0)

type discard struct{}

func (discard) Write(b []byte) (int, error) { return len(b), nil }
