// Package guest runs the machines of the simulated clouds: real TCP, TLS, HTTP
// and SSH listeners on loopback addresses, first-boot configuration, services
// that come up after a delay, and a private network without sockets that can
// only be reached through a guest with a public address.
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
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"undersail/sim/market"
)

// Rule lets a source range connect to a port.
type Rule struct {
	From netip.Prefix
	Port int
}

// Disk is an attached disk.
type Disk struct {
	ID    string
	Bytes int64
	Mount string
}

// Spec is what a guest is made from. Durations are cloud seconds.
type Spec struct {
	ID, Label   string
	Network     string
	Private     netip.Addr
	Public      netip.Addr // the zero address when there is none
	Image       market.Image
	Key         string // authorized key of the image's user, or empty
	VCPUs       int64
	MemoryBytes int64
	Disks       []Disk
	UserData    map[string]any
	Booted      time.Time
	HostKey     ssh.Signer
	Certificate tls.Certificate
	// Held reports whether a fault keeps services from coming up.
	Held func() bool
	// Dead reports whether the guest answers nothing at all, Turns after how long
	// its services fail for good once they are up, Failed whether a disk broke.
	Dead   func() bool
	Turns  func() (time.Duration, bool)
	Failed func(disk string) bool
}

// sshAfter is how long after the boot the SSH server answers, and settleAfter
// how long first-boot configuration takes beyond its packages.
const (
	sshAfter    = 4.0
	settleAfter = 2.0
)

// Guest is one running machine.
type Guest struct {
	Spec
	fabric   *Fabric
	software map[string]market.Software
	real     func(cloudSeconds float64) time.Duration
	files    map[string]string
	users    map[string][]ssh.PublicKey
	services []*service
	faults   []string // of the first boot
	stop     chan struct{}
	ended    chan struct{}
	wake     chan struct{}

	mu      sync.Mutex
	rules   []Rule
	ports   map[int]*port
	release time.Time // when a fault that held the services was lifted
	held    bool
	// turned is since when services have failed for good.
	up     map[string]time.Time
	turned map[string]bool
}

// service is one service of the guest.
type service struct {
	name     string
	software market.Software
	packaged string
	after    float64 // cloud seconds after boot when its start begins
}

// port is one open port: a socket if the guest is public, and the way in
// through the fabric.
type port struct {
	number  int
	reach   string
	socket  net.Listener
	private *chanListener
	close   func()
}

func newGuest(spec Spec, f *Fabric) *Guest {
	g := &Guest{Spec: spec, fabric: f, software: f.software, real: f.real, files: map[string]string{},
		users: map[string][]ssh.PublicKey{}, stop: make(chan struct{}), ended: make(chan struct{}), wake: make(chan struct{}, 1), ports: map[int]*port{}, up: map[string]time.Time{}, turned: map[string]bool{}}
	g.firstBoot()
	return g
}

// firstBoot reads the cloud-init document.
func (g *Guest) firstBoot() {
	g.addKey(g.Image.User, g.Key)
	for _, item := range list(g.UserData["ssh_authorized_keys"]) {
		g.addKey(g.Image.User, fmt.Sprint(item))
	}
	for _, item := range list(g.UserData["users"]) {
		u, _ := item.(map[string]any)
		for _, key := range list(u["ssh_authorized_keys"]) {
			g.addKey(fmt.Sprint(u["name"]), fmt.Sprint(key))
		}
	}
	for _, item := range list(g.UserData["write_files"]) {
		if f, ok := item.(map[string]any); ok {
			g.files[fmt.Sprint(f["path"])] = fmt.Sprint(f["content"])
		}
	}
	at := sshAfter + settleAfter
	for _, item := range list(g.UserData["packages"]) {
		name := fmt.Sprint(item)
		sw, known := g.software[name]
		if !known || !g.Image.Installs(name) {
			g.faults = append(g.faults, "E: Unable to locate package "+name) // nothing of it comes up
			continue
		}
		at += sw.Install
		if sw.Service != "" {
			g.services = append(g.services, &service{name: sw.Service, software: sw, packaged: name, after: at})
		}
	}
}

func (g *Guest) addKey(user, authorized string) {
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(authorized)); err == nil {
		g.users[user] = append(g.users[user], key)
	}
}

func list(v any) []any { l, _ := v.([]any); return l }

// since is how many cloud seconds have passed since the boot.
func (g *Guest) since(now time.Time) float64 {
	return float64(now.Sub(g.Booted)) / float64(g.real(1))
}

// Initialised reports whether first-boot configuration is over.
func (g *Guest) Initialised(now time.Time) bool {
	last := sshAfter + settleAfter
	for _, s := range g.services {
		last = max(last, s.after)
	}
	return g.since(now) >= last
}

// Console is what the machine has written to its console since it booted, oldest
// line first.
func (g *Guest) Console(now time.Time) []string {
	lines := []string{"cloud-init: " + g.Label + " boots " + g.Image.Name}
	if g.since(now) < sshAfter {
		return lines
	}
	lines = append(lines, "sshd: server listening on port 22")
	if len(g.faults) > 0 {
		lines = append(append(lines, g.faults...), "cloud-init: installing packages failed")
	}
	for _, s := range g.services {
		if g.since(now) >= s.after {
			lines = append(lines, "systemd: "+s.name+" is "+g.state(s, now))
		}
	}
	if g.Initialised(now) {
		lines = append(lines, "cloud-init: finished")
	}
	return lines
}

// state tells a service's state in the words of systemd.
func (g *Guest) state(s *service, now time.Time) string {
	g.mu.Lock()
	held, release := g.held, g.release
	g.mu.Unlock()
	started := g.since(now)
	if !release.IsZero() {
		started = min(started, s.after+float64(now.Sub(release))/float64(g.real(1)))
	}
	switch {
	case started < s.after:
		return "inactive"
	case held:
		return "activating"
	case s.software.NeedsMount != "" && !g.mounted(s.software.NeedsMount):
		return "failed"
	case started < s.after+s.software.Start:
		return "activating"
	case g.turnedBack(s.name, now):
		return "failed"
	}
	return "active"
}

// turnedBack reports whether a service that was up has failed for good.
func (g *Guest) turnedBack(name string, now time.Time) bool {
	if g.Turns == nil {
		return false
	}
	after, planned := g.Turns()
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.up[name].IsZero() {
		g.up[name] = now
	}
	g.turned[name] = planned && (g.turned[name] || now.Sub(g.up[name]) >= after)
	return g.turned[name]
}

func (g *Guest) mounted(path string) bool {
	return slices.ContainsFunc(g.Disks, func(d Disk) bool { return d.Mount == path && (g.Failed == nil || !g.Failed(d.ID)) })
}

// warm tells how many of its feeds a service has, out of all.
func (g *Guest) warm(s *service, now time.Time) (have, all int) {
	all = s.software.Feeds
	if all == 0 || s.software.Warm == 0 {
		return all, all
	}
	began := s.after + s.software.Start
	g.mu.Lock()
	up := g.since(now)
	if !g.release.IsZero() {
		up = min(up, s.after+float64(now.Sub(g.release))/float64(g.real(1)))
	}
	g.mu.Unlock()
	return min(all, max(0, int(float64(all)*(up-began)/s.software.Warm))), all
}

// run opens and closes ports as services come and go.
func (g *Guest) run() {
	for {
		now := time.Now()
		g.watchFault(now)
		g.openPorts(now)
		wait := g.untilNext(now)
		select {
		case <-g.stop:
			g.mu.Lock()
			for _, p := range g.ports {
				p.close()
			}
			clear(g.ports)
			g.mu.Unlock()
			return
		case <-g.wake:
		case <-time.After(wait):
		}
	}
}

func (g *Guest) watchFault(now time.Time) {
	held := g.Held != nil && g.Held()
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.held && !held {
		g.release = now
	}
	g.held = held
}

// untilNext is how long nothing will change by itself.
func (g *Guest) untilNext(now time.Time) time.Duration {
	next := 2 * time.Second
	if g.Held != nil {
		next = 300 * time.Millisecond // a fault may come or be lifted
	}
	moments := []float64{sshAfter}
	for _, s := range g.services {
		moments = append(moments, s.after, s.after+s.software.Start)
	}
	for _, m := range moments {
		if d := g.Booted.Add(g.real(m)).Sub(now); d > 0 && d < next {
			next = d
		}
	}
	return next + time.Millisecond
}

// wanted lists the ports that answer now with what speaks there.
func (g *Guest) wanted(now time.Time) map[int]*service {
	out := map[int]*service{}
	if g.Dead != nil && g.Dead() {
		return out
	}
	if g.since(now) >= sshAfter {
		out[22] = nil
	}
	for _, s := range g.services {
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

// open starts what speaks on a port. The socket comes with guard, when a rule
// allows anybody.
func (g *Guest) open(number int, s *service) *port {
	p := &port{number: number, private: newChanListener(g.Private, number)}
	if s == nil {
		go g.serveSSH(p.private)
		p.close = func() { p.private.Close(); closeSocket(p) }
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
		p.close = func() { p.private.Close(); closeSocket(p) }
		return p
	}
	server := &http.Server{Handler: g.web(s), ReadHeaderTimeout: 10 * time.Second, ErrorLog: quiet}
	go server.Serve(g.secured(p.private, speaks))
	p.close = func() { server.Close(); p.private.Close(); closeSocket(p) }
	return p
}

func closeSocket(p *port) {
	if p.socket != nil {
		p.socket.Close()
		p.socket = nil
	}
}

func (g *Guest) secured(l net.Listener, speaks string) net.Listener {
	if speaks != "https" {
		return l
	}
	return tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{g.Certificate}, MinVersion: tls.VersionTLS12})
}

// guard makes the socket of a port let in exactly whom the rules allow.
func (g *Guest) guard(p *port) {
	if !g.Public.IsValid() {
		return
	}
	var from []netip.Prefix
	for _, r := range g.rules {
		if r.Port == p.number {
			from = append(from, r.From)
		}
	}
	if from == nil {
		closeSocket(p)
		return
	}
	if p.socket == nil {
		socket, err := listenAt(g.Public, p.number)
		if err != nil {
			return // no port of the machine is free; nothing answers
		}
		p.socket, p.reach = socket, socket.Addr().String()
		go forward(socket, p.private, func(source netip.Addr) bool { return g.allows(source, p.number) })
	}
	// Without the filter a source that is not allowed is turned away by forward.
	_ = onlyFrom(p.socket, from)
}

// SetRules replaces the inbound rules.
func (g *Guest) SetRules(rules []Rule) {
	g.mu.Lock()
	g.rules = rules
	g.mu.Unlock()
	select {
	case g.wake <- struct{}{}:
	default:
	}
}

// Reach tells at which host:port each port is reached, by the port's number.
// Ports of services that are not up yet are told too, so that nobody has to
// guess; they are the ports themselves unless these can't be had.
func (g *Guest) Reach() map[string]any {
	out := map[string]any{}
	if !g.Public.IsValid() {
		return out
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	numbers := []int{22}
	for _, s := range g.services {
		for _, p := range s.software.Ports {
			numbers = append(numbers, p.Port)
		}
	}
	for _, n := range numbers {
		at := netip.AddrPortFrom(g.Public, uint16(g.fabric.shifted(n))).String()
		if p := g.ports[n]; p != nil && p.reach != "" {
			at = p.reach
		}
		out[strconv.Itoa(n)] = at
	}
	return out
}

// allows reports whether the rules let a source connect to a port.
func (g *Guest) allows(source netip.Addr, number int) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.ContainsFunc(g.rules, func(r Rule) bool { return r.Port == number && r.From.Contains(source) })
}

// quiet drops what net/http says about clients that hang up.
var quiet = log.New(discard{}, "", 0)

type discard struct{}

func (discard) Write(b []byte) (int, error) { return len(b), nil }
