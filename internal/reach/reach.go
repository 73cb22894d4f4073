// Package reach is the one dialler of everything that goes out to where somebody else
// said: endpoints of clouds, machines that are probed, repositories. It resolves names
// itself, holds every address against the policy, and connects to the address that it
// held, so that a name cannot mean another one a moment later.
//
// Public addresses may be reached. Private and loopback ones only where an administrator
// opened them. Never: link-local addresses, where clouds answer for the machine that
// asks, and our own listeners and database.
package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"time"
)

// Policy says which addresses may be reached. The zero policy opens public ones. It is
// safe for concurrent use.
type Policy struct {
	open []opening

	mu   sync.Mutex
	ours map[netip.AddrPort]bool
	// everywhere are ports that we listen at on every address of this machine.
	everywhere map[uint16]bool
}

// opening is a range, and a port of it or all of them.
type opening struct {
	prefix netip.Prefix
	port   uint16 // 0 opens all
}

// NewPolicy opens private addresses and ranges, each as ADDRESS, ADDRESS:PORT or RANGE.
func NewPolicy(openings ...string) (*Policy, error) {
	p := &Policy{ours: map[netip.AddrPort]bool{}, everywhere: map[uint16]bool{}}
	for _, text := range openings {
		o, err := parse(text)
		if err != nil {
			return nil, err
		}
		p.open = append(p.open, o)
	}
	return p, nil
}

func parse(text string) (opening, error) {
	if prefix, err := netip.ParsePrefix(text); err == nil {
		return opening{prefix: prefix.Masked()}, nil
	}
	if at, err := netip.ParseAddrPort(text); err == nil {
		return opening{netip.PrefixFrom(at.Addr().Unmap(), at.Addr().Unmap().BitLen()), at.Port()}, nil
	}
	if addr, err := netip.ParseAddr(text); err == nil {
		return opening{prefix: netip.PrefixFrom(addr.Unmap(), addr.Unmap().BitLen())}, nil
	}
	return opening{}, fmt.Errorf("%q is no address, address:port or range", text)
}

// Ours closes an address of ourselves, whatever else opens it; where that is every address,
// the port at each that this machine has.
func (p *Policy) Ours(at string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	a, err := netip.ParseAddrPort(at)
	switch {
	case err != nil:
	case a.Addr().IsUnspecified():
		p.everywhere[a.Port()] = true
	default:
		p.ours[netip.AddrPortFrom(a.Addr().Unmap(), a.Port())] = true
	}
}

// Refused says that an address may not be reached. Its words are fixed: they tell nothing
// of what is there.
type Refused struct{ Why string }

func (r *Refused) Error() string { return r.Why }

// The words of refusals.
var (
	errNever   = &Refused{"this address is never reached from here"}
	errPrivate = &Refused{"private and loopback addresses are reached only where an administrator opened them " +
		"(serve --reach)"}
)

// closed are ranges that are never reached: they name no host, or this one, whatever their
// packets would do (RFC 6890, RFC 4291, RFC 3879).
var closed = prefixes("0.0.0.0/8", "192.0.0.0/24", "240.0.0.0/4", "::/96", "fec0::/10", "100::/64", "2001::/23",
	"5f00::/16")

// shared are ranges that are as little public as private ones: of networks of providers
// (RFC 6598), of benchmarks (RFC 2544), and what a translator of one's own sends on
// (RFC 8215).
var shared = prefixes("100.64.0.0/10", "198.18.0.0/15", "64:ff9b:1::/48")

func prefixes(texts ...string) (out []netip.Prefix) {
	for _, text := range texts {
		out = append(out, netip.MustParsePrefix(text))
	}
	return out
}

func within(list []netip.Prefix, addr netip.Addr) bool {
	return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(addr) })
}

// Check holds an address against the policy.
func (p *Policy) Check(at netip.AddrPort) error {
	addr := at.Addr().Unmap()
	addr = embedded(addr)
	at = netip.AddrPortFrom(addr, at.Port())
	if !addr.IsValid() || addr.IsLinkLocalUnicast() || addr.IsMulticast() || addr.IsUnspecified() ||
		addr.Zone() != "" || within(closed, addr) && addr != netip.IPv6Loopback() || p.isOurs(at) {
		return errNever
	}
	if !addr.IsPrivate() && !addr.IsLoopback() && !within(shared, addr) {
		return nil
	}
	if p != nil {
		for _, o := range p.open {
			if o.prefix.Contains(addr) && (o.port == 0 || o.port == at.Port()) {
				return nil
			}
		}
	}
	return errPrivate
}

// embedded is the address of version 4 inside one of version 6 that a translator would
// send on (RFC 6052, RFC 3056).
func embedded(addr netip.Addr) netip.Addr {
	if !addr.Is6() {
		return addr
	}
	b := addr.As16()
	switch {
	case netip.MustParsePrefix("64:ff9b::/96").Contains(addr):
		return netip.AddrFrom4([4]byte(b[12:16]))
	case netip.MustParsePrefix("2002::/16").Contains(addr):
		return netip.AddrFrom4([4]byte(b[2:6]))
	}
	return addr
}

func (p *Policy) isOurs(at netip.AddrPort) bool {
	if p == nil {
		return false
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.ours[at] || p.everywhere[at.Port()] && isHere(at.Addr())
}

// isHere reports whether an address is one of this machine.
func isHere(addr netip.Addr) bool {
	if addr.IsLoopback() {
		return true
	}
	list, err := net.InterfaceAddrs()
	if err != nil {
		return true // who cannot tell stays away
	}
	return slices.ContainsFunc(list, func(a net.Addr) bool {
		p, err := netip.ParsePrefix(a.String())
		return err == nil && p.Addr().Unmap() == addr
	})
}

// Dial connects to host:port, to the first of its addresses that may be reached and
// answers.
func (p *Policy) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	host, text, err := net.SplitHostPort(address)
	if err != nil {
		return nil, errors.New("that is no host and port")
	}
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil {
		return nil, errors.New("that is no host and port")
	}
	var addrs []netip.Addr
	if addr, err := netip.ParseAddr(host); err == nil {
		addrs = []netip.Addr{addr}
	} else if addrs, err = net.DefaultResolver.LookupNetIP(ctx, "ip", host); err != nil || len(addrs) == 0 {
		return nil, errors.New("the name of the host cannot be resolved")
	}
	d := net.Dialer{Timeout: 15 * time.Second}
	var last error
	for _, addr := range addrs {
		at := netip.AddrPortFrom(addr.Unmap(), uint16(port))
		if err := p.Check(at); err != nil {
			last = err
			continue
		}
		conn, err := d.DialContext(ctx, network, at.String())
		if err == nil {
			return conn, nil
		}
		last = err
	}
	return nil, last
}

// Transport reaches over HTTP what the policy allows, without proxies.
func (p *Policy) Transport() *http.Transport {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.Proxy = nil
	t.DialContext = p.Dial
	return t
}

// Redirects lets a client follow at most five redirects, to http and https only, and
// never from https to http. The addresses are held against the policy when dialled.
func Redirects(req *http.Request, via []*http.Request) error {
	switch {
	case len(via) >= 5:
		return errors.New("there are too many redirects")
	case req.URL.Scheme != "https" && req.URL.Scheme != "http":
		return errors.New("it redirects to something else than HTTP")
	case req.URL.Scheme == "http" && via[0].URL.Scheme == "https":
		return errors.New("it redirects from https to http")
	}
	return nil
}
