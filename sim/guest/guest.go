// Package guest runs the machines of the simulated clouds: real TCP, TLS, HTTP
// and SSH listeners on loopback addresses, first-boot configuration, services
// that come up after a delay, and a private network without sockets that can
// only be reached through a guest with a public address.
package guest

import (
	"context"
	"crypto/tls"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"undersail/sim/market"
)

// Rule lets a source range connect to a port of one of the cards, the first being 0.
type Rule struct {
	From netip.Prefix
	Port int
	Card int
}

// Card is where a machine stands in a network; the zero address is none.
type Card struct {
	Network         string
	Private, Public netip.Addr
}

// Disk is an attached disk.
type Disk struct {
	ID    string
	Bytes int64
	Mount string
	// Format is its file system.
	Format string
	// Optional says that the machine boots without it.
	Optional bool
}

// Lease is what the network tells a machine of itself beside its address: the servers that
// it asks for names and the time.
type Lease struct{ Names, Times []string }

// Spec is what a guest is made from. Durations are cloud seconds.
type Spec struct {
	ID, Label string
	Card
	Further  []Card // beside the first
	NoWayOut bool   // no packets get out of its subnet
	Lease
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
	// Attached are the disks that it has now, where they may come and go.
	Attached func() []Disk
	// Leased is what its network tells it now, where that may change.
	Leased func() Lease
	// Spoilt reports whether a fault spoils what the guest tells of something, such as
	// cores or replication.
	Spoilt func(what string) bool
	// Make lets the machine make others by itself, as many as there are to be in all.
	Make func(machines int) error
	// Submit queues jobs in the network of the guest, and Queue tells of them.
	Submit func(jobs int) (pool string, err error)
	Queue  func() (queued, done, members int64)
	Zones  []string // of its region
	// Fetch reads what the cloud itself serves at a URL, such as an object of a bucket, with
	// the rights of the machine; 0 says that it serves nothing there.
	Fetch func(url string) (status int, body string)
	// Resolve gives the addresses of a name, as the machine sees them.
	Resolve func(name string) []string
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
	fabric    *Fabric
	software  map[string]market.Software
	real      func(cloudSeconds float64) time.Duration
	root      *root
	users     map[string][]ssh.PublicKey
	passwords map[string]string
	services  []*service
	faults    []string // of the first boot
	stop      chan struct{}
	ended     chan struct{}
	wake      chan struct{}

	mu      sync.Mutex
	rules   []Rule
	ports   map[int]*port
	release time.Time // when a fault that held the services was lifted
	held    bool
	// turned is since when services have failed for good.
	up     map[string]time.Time
	turned map[string]bool
	// restarted is when services were started again, in cloud seconds since the boot.
	restarted map[string]float64
	sessions  map[string]string // users by session
	cut       bool              // no packets get out
	byHand    []sharedMount     // after the first boot
	through   bool              // the boot waited for nothing any more
	running   map[int]bool      // shells, by their number
	lastShell int
	// alive ends when the machine stops.
	alive context.Context
	dies  context.CancelFunc
}

// service is one service of the guest.
type service struct {
	name     string
	software market.Software
	packaged string
	after    float64 // cloud seconds after boot when its start begins
}

func newGuest(spec Spec, f *Fabric) *Guest {
	g := &Guest{
		Spec:      spec,
		fabric:    f,
		software:  f.software,
		real:      f.real,
		root:      f.rootOf(spec.ID),
		users:     map[string][]ssh.PublicKey{},
		passwords: map[string]string{},
		stop:      make(chan struct{}),
		ended:     make(chan struct{}),
		wake:      make(chan struct{}, 1),
		ports:     map[int]*port{},
		up:        map[string]time.Time{},
		turned:    map[string]bool{},
		restarted: map[string]float64{},
		running:   map[int]bool{},
		sessions:  map[string]string{},
	}
	g.cut = spec.NoWayOut
	g.alive, g.dies = context.WithCancel(context.Background())
	g.firstBoot()
	g.Renew(spec.Lease)
	return g
}

// cards are all of them, the first one first.
func (g *Guest) cards() []Card { return append([]Card{g.Card}, g.Further...) }

// in gives the address of the machine in a network.
func (g *Guest) in(network string) (netip.Addr, bool) {
	for _, c := range g.cards() {
		if c.Network == network {
			return c.Private, true
		}
	}
	return netip.Addr{}, false
}

// firstBoot reads the cloud-init document. What it writes to the disk it writes once.
func (g *Guest) firstBoot() {
	g.addKey(g.Image.User, g.Key)
	for _, item := range list(g.UserData["ssh_authorized_keys"]) {
		g.addKey(g.Image.User, fmt.Sprint(item))
	}
	for _, item := range list(g.UserData["users"]) {
		u, _ := item.(map[string]any)
		name := fmt.Sprint(u["name"])
		for _, key := range list(u["ssh_authorized_keys"]) {
			g.addKey(name, fmt.Sprint(key))
		}
		if password, ok := u["plain_text_passwd"].(string); ok && u["lock_passwd"] == false {
			g.passwords[name] = password
		}
	}
	if g.root.begin() {
		for _, item := range list(g.UserData["write_files"]) {
			if f, ok := item.(map[string]any); ok {
				g.root.write(fmt.Sprint(f["path"]), fmt.Sprint(f["content"]))
			}
		}
	}
	at := sshAfter + settleAfter
	for _, item := range list(g.UserData["packages"]) {
		name := fmt.Sprint(item)
		sw, fault := g.packaged(name)
		if fault != "" {
			g.faults = append(g.faults, fault) // nothing of it comes up
			continue
		}
		at += sw.Install
		g.services = append(g.services, &service{name: sw.Service, software: sw, packaged: name, after: at})
	}
	for _, name := range g.root.installed() { // by hand, before it was stopped
		if sw, known := g.software[name]; known {
			g.services = append(g.services, &service{name: sw.Service, software: sw, packaged: name, after: sshAfter})
		}
	}
}

// packaged finds a package, or says why it cannot be installed.
func (g *Guest) packaged(name string) (market.Software, string) {
	sw, known := g.software[name]
	switch {
	case !known || !g.Image.Installs(name):
		return sw, "E: Unable to locate package " + name
	case g.cutOff():
		return sw, "E: Failed to fetch " + name + ": no way out of the subnet"
	}
	return sw, ""
}

// install installs a package on the running machine, which takes a while.
func (g *Guest) install(name string) (took time.Duration, fault string) {
	sw, fault := g.packaged(name)
	if fault != "" || slices.ContainsFunc(g.all(), func(s *service) bool { return s.packaged == name }) {
		return 0, fault
	}
	g.root.change(func(c *content) { c.Installed = append(c.Installed, name) })
	g.mu.Lock()
	g.services = append(slices.Clone(g.services), &service{
		name:     sw.Service,
		software: sw,
		packaged: name,
		after:    g.since(time.Now()) + sw.Install,
	})
	g.mu.Unlock()
	g.nudge()
	return g.real(sw.Install), ""
}

// all are the services, of the first boot and later ones.
func (g *Guest) all() []*service {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.services
}

func (g *Guest) addKey(user, authorized string) {
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(authorized)); err == nil {
		g.users[user] = append(g.users[user], key)
	}
}

// restartedAt is when a service was started again, in cloud seconds since the boot.
func (g *Guest) restartedAt(service string) float64 {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.restarted[service]
}

// spoilt reports whether a fault spoils what the guest tells of something.
func (g *Guest) spoilt(what string) bool { return g.Spoilt != nil && g.Spoilt(what) }

// knowsUser reports whether somebody may log in by that name.
func (g *Guest) knowsUser(name string) bool {
	return g.users[name] != nil || g.secretOf(name) != ""
}

// secretOf is the password of a user, or nothing.
func (g *Guest) secretOf(user string) string {
	if p := g.root.password(user); p != "" {
		return p
	}
	return g.passwords[user]
}

// begins gives a shell a number by which it is found while it runs.
func (g *Guest) begins() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.lastShell++
	number := 1000 + g.lastShell
	g.running[number] = true
	return number
}

func (g *Guest) ends(number int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.running, number)
}

func (g *Guest) runs(number int) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.running[number]
}

func (g *Guest) numbers() []int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Sorted(maps.Keys(g.running))
}

func list(v any) []any { l, _ := v.([]any); return l }

// since is how many cloud seconds have passed since the boot.
func (g *Guest) since(now time.Time) float64 {
	return float64(now.Sub(g.Booted)) / float64(g.real(1))
}

// Initialised reports whether first-boot configuration is over.
func (g *Guest) Initialised(now time.Time) bool {
	last := sshAfter + settleAfter
	for _, s := range g.all() {
		last = max(last, s.after)
	}
	return g.since(now) >= last && g.waitsFor(now) == ""
}

// Console is what the machine has written to its console since it booted, oldest
// line first.
func (g *Guest) Console(now time.Time) []string {
	lines := []string{"cloud-init: " + g.Label + " boots " + g.Image.Name}
	if g.since(now) < sshAfter {
		return lines
	}
	if missing := g.waitsFor(now); missing != "" {
		return append(lines, "systemd: timed out waiting for the device of "+missing,
			"systemd: dependency failed for local file systems; you are in emergency mode")
	}
	lines = append(lines, "sshd: server listening on port 22")
	if len(g.faults) > 0 {
		lines = append(append(lines, g.faults...), "cloud-init: installing packages failed")
	}
	for _, s := range g.all() {
		if s.name != "" && g.since(now) >= s.after {
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
	held, release, after := g.held, g.release, max(s.after, g.restarted[s.name])
	g.mu.Unlock()
	started := g.since(now)
	if !release.IsZero() {
		started = min(started, s.after+float64(now.Sub(release))/float64(g.real(1)))
	}
	switch {
	case started < s.after, g.root.off(s.name), g.waitsFor(now) != "":
		return "inactive"
	case held:
		return "activating"
	case s.software.NeedsMount != "" && !g.mounted(s.software.NeedsMount):
		return "failed"
	case started < after+s.software.Start:
		return "activating"
	case g.spoilt("service"):
		return "failed"
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

// mounted reports whether a file system is mounted at a directory.
func (g *Guest) mounted(dir string) bool {
	return slices.ContainsFunc(g.mounts(), func(m mount) bool { return m.dir == dir })
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
			g.dies()
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
	for _, s := range g.all() {
		began := max(s.after, g.restartedAt(s.name))
		moments = append(moments, s.after, began+s.software.Start)
	}
	for _, m := range moments {
		if d := g.Booted.Add(g.real(m)).Sub(now); d > 0 && d < next {
			next = d
		}
	}
	return next + time.Millisecond
}
