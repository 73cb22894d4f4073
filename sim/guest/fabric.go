package guest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"undersail/sim/market"
)

// Fabric holds every running guest and the private networks between them.
type Fabric struct {
	software map[string]market.Software
	real     func(cloudSeconds float64) time.Duration
	shift    int

	keep string // folder in which the disks of machines last, or empty

	mu     sync.Mutex
	guests map[string]*Guest
	halted map[string]chan struct{} // by the last one of an id: closed when its ports are free
	offers map[string]Offer         // what is no machine, by its id
	roots  map[string]*root
	closed bool
}

// lowPort is tried once, to find out whether this machine lets us have such ports.
const lowPort = "127.64.0.1:79"

// NewFabric makes an empty fabric. Real turns cloud seconds into real time; keep is a
// folder in which the disks that machines boot from last, or empty. Ports below 1024 are
// shifted by 20000 on a machine that refuses them.
func NewFabric(software map[string]market.Software, real func(float64) time.Duration, keep string) *Fabric {
	f := &Fabric{
		software: software,
		real:     real,
		keep:     keep,
		guests:   map[string]*Guest{},
		halted:   map[string]chan struct{}{},
		offers:   map[string]Offer{},
		roots:    map[string]*root{},
	}
	l, err := net.Listen("tcp", lowPort)
	if errors.Is(err, fs.ErrPermission) { // that it is taken says nothing: another simulator tries it too
		f.shift = 20000
	}
	if err == nil {
		l.Close()
	}
	return f
}

func (f *Fabric) shifted(port int) int {
	if port < 1024 {
		return port + f.shift
	}
	return port
}

// Boot starts a guest. A guest with the same id is replaced, and has let go of its ports by then.
func (f *Fabric) Boot(spec Spec, rules []Rule) *Guest {
	f.Halt(spec.ID)
	g := newGuest(spec, f)
	g.rules = rules
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.closed {
		close(g.ended)
		return g // switched on while the simulator ends: it never runs
	}
	f.guests[spec.ID] = g
	before := f.halted[spec.ID]
	delete(f.halted, spec.ID)
	go func() {
		defer f.freed(g)
		g.runAfter(before)
	}()
	return g
}

// runAfter runs a guest once the one before it has let go of its ports, if there was one.
func (g *Guest) runAfter(before <-chan struct{}) {
	if before != nil {
		<-before
	}
	g.run()
}

// freed says that a guest has let go of its ports.
func (f *Fabric) freed(g *Guest) {
	f.mu.Lock()
	defer f.mu.Unlock()
	close(g.ended)
	if f.halted[g.ID] == g.ended {
		delete(f.halted, g.ID)
	}
}

// Halt stops a guest and closes its ports.
func (f *Fabric) Halt(id string) {
	f.mu.Lock()
	g := f.guests[id]
	delete(f.guests, id)
	if g != nil {
		f.halted[id] = g.ended
	}
	f.mu.Unlock()
	if g != nil {
		close(g.stop)
	}
}

// Close halts every guest and waits until their ports are free.
func (f *Fabric) Close() {
	f.mu.Lock()
	all := f.guests
	f.closed = true
	f.guests = map[string]*Guest{}
	f.mu.Unlock()
	for _, g := range all {
		close(g.stop)
	}
	for _, g := range all {
		<-g.ended
	}
}

// Guest finds a running guest, or nil.
func (f *Fabric) Guest(id string) *Guest {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.guests[id]
}

// Offer is something in a network that is no machine, such as a database.
type Offer struct {
	Network string
	At      []netip.Addr
	// Dial connects to a port of it, for whoever has the source address.
	Dial func(source netip.Addr, port int) (net.Conn, error)
	// Bytes is how much a file system holds that machines mount; the rest is none.
	Bytes int64
}

// Offer shows something that is no machine.
func (f *Fabric) Offer(id string, o Offer) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.offers[id] = o
}

// shared finds the file system that is shared at an address of a network of a machine, and
// how much it holds; nothing where the machine does not reach it.
func (f *Fabric) shared(from *Guest, at netip.Addr) (*root, int64) {
	f.mu.Lock()
	var share Offer
	var id string
	var source netip.Addr
	for name, o := range f.offers {
		if own, joined := from.in(o.Network); joined && o.Bytes > 0 && slices.Contains(o.At, at) {
			share, id, source = o, name, own
		}
	}
	f.mu.Unlock()
	if id == "" {
		return nil, 0
	}
	c, err := share.Dial(source, NFS)
	if err != nil {
		return nil, 0
	}
	c.Close()
	return f.filesOf(id), share.Bytes
}

// Withdraw takes away what was offered.
func (f *Fabric) Withdraw(id string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.offers, id)
}

// resolve gives the first address of a host, which may be one.
func (g *Guest) resolve(host string) (netip.Addr, error) {
	if at, err := netip.ParseAddr(host); err == nil {
		return at, nil
	}
	if g.Resolve != nil {
		for _, text := range g.Resolve(host) {
			if at, err := netip.ParseAddr(text); err == nil {
				return at, nil
			}
		}
	}
	return netip.Addr{}, fmt.Errorf("no such host")
}

// dial connects from inside a network to a private address of it, or to a name.
func (f *Fabric) dial(from *Guest, host string, number int) (net.Conn, error) {
	to, err := from.resolve(host)
	if err != nil {
		return nil, err
	}
	f.mu.Lock()
	var target *Guest
	var source netip.Addr
	door := 0
	for _, g := range f.guests {
		for card, at := range g.cards() {
			if own, joined := from.in(at.Network); joined && at.Private == to {
				target, source, door = g, own, card
			}
		}
	}
	for _, o := range f.offers {
		if own, joined := from.in(o.Network); joined && slices.Contains(o.At, to) {
			f.mu.Unlock()
			return o.Dial(own, number)
		}
	}
	f.mu.Unlock()
	if to.IsLoopback() {
		target = from // what listens on the machine itself, before any firewall
	} else if target == nil || !target.allows(source, door, number) {
		return nil, fmt.Errorf("timed out") // as a packet that nothing answers
	}
	target.mu.Lock()
	p := target.ports[number]
	target.mu.Unlock()
	if p == nil {
		return nil, fmt.Errorf("connection refused")
	}
	return p.private.Dial()
}

// Listener is a listener without a socket.
type Listener struct {
	addr  net.Addr
	conns chan net.Conn
	done  chan struct{}
	once  sync.Once
}

// NewListener makes one that stands at an address.
func NewListener(addr netip.Addr, number int) *Listener {
	return &Listener{
		addr:  net.TCPAddrFromAddrPort(netip.AddrPortFrom(addr, uint16(number))),
		conns: make(chan net.Conn),
		done:  make(chan struct{}),
	}
}

func (l *Listener) Accept() (net.Conn, error) {
	select {
	case c := <-l.conns:
		return c, nil
	case <-l.done:
		return nil, net.ErrClosed
	}
}

func (l *Listener) Close() error   { l.once.Do(func() { close(l.done) }); return nil }
func (l *Listener) Addr() net.Addr { return l.addr }

func (l *Listener) hand(c net.Conn) bool {
	select {
	case l.conns <- c:
		return true
	case <-l.done:
		c.Close()
		return false
	}
}

// Dial connects to it.
func (l *Listener) Dial() (net.Conn, error) {
	near, far := net.Pipe()
	if !l.hand(far) {
		near.Close()
		return nil, fmt.Errorf("connection refused")
	}
	return near, nil
}

// forward hands the connections of a socket to what speaks on the port. A source
// that is not allowed gets no further than a reset: where the kernel takes no
// filter for the socket, that is the closest there is to a packet that is dropped.
func forward(socket net.Listener, to *Listener, allowed func(netip.Addr) bool) {
	for {
		c, err := socket.Accept()
		if err != nil {
			return
		}
		from, err := netip.ParseAddrPort(c.RemoteAddr().String())
		if err != nil || !allowed(from.Addr()) {
			c.(*net.TCPConn).SetLinger(0)
			c.Close()
			continue
		}
		if !to.hand(c) {
			return
		}
	}
}

func serveTCP(l net.Listener, name string) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			c.SetDeadline(time.Now().Add(30 * time.Second))
			io.WriteString(c, name+" ready\n")
			io.Copy(io.Discard, c)
		}()
	}
}

// listenAt binds a port of a public address, or another when that one can't be
// had. Multipath TCP is off: its sockets take no filter.
func listenAt(addr netip.Addr, number int) (net.Listener, error) {
	var c net.ListenConfig
	c.SetMultipathTCP(false)
	var err error
	for _, n := range []int{number, number + 20000, 0} {
		var l net.Listener
		if l, err = c.Listen(context.Background(), "tcp", netip.AddrPortFrom(addr, uint16(n)).String()); err == nil {
			return l, nil
		}
	}
	return nil, err
}

// onlyFrom attaches a socket filter that drops packets of every other source,
// so that a client that is not allowed sees a true time-out. It handles IPv4,
// which is all that loopback addresses need. Some kernels take filters from root
// only.
func onlyFrom(l net.Listener, from []netip.Prefix) error {
	const netOffset = 0xfff00000 // SKF_NET_OFF: offsets count from the IP header
	var program []bpf.Instruction
	for _, p := range from {
		if !p.Addr().Is4() {
			continue
		}
		a := p.Masked().Addr().As4()
		value := uint32(a[0])<<24 | uint32(a[1])<<16 | uint32(a[2])<<8 | uint32(a[3])
		mask := uint32(0)
		if p.Bits() > 0 {
			mask = ^uint32(0) << (32 - p.Bits())
		}
		program = append(program,
			bpf.LoadAbsolute{Off: netOffset + 12, Size: 4},
			bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: mask},
			bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: value, SkipTrue: 1},
			bpf.RetConstant{Val: 0x7fffffff})
	}
	raw, err := bpf.Assemble(append(program, bpf.RetConstant{Val: 0}))
	if err != nil {
		return err
	}
	filter := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		filter[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	conn, err := l.(*net.TCPListener).SyscallConn()
	if err != nil {
		return err
	}
	var failed error
	err = conn.Control(func(fd uintptr) {
		failed = unix.SetsockoptSockFprog(int(fd), unix.SOL_SOCKET, unix.SO_ATTACH_FILTER, &unix.SockFprog{
			Len:    uint16(len(filter)),
			Filter: &filter[0],
		})
	})
	if err != nil {
		return fmt.Errorf("reading who may come in: %w", err)
	}
	return failed
}
