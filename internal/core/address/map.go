package address

import (
	"cmp"
	"math/big"
	"net/netip"
	"slices"
)

// Private are the ranges for networks of one's own (RFC 1918).
var Private = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"),
	netip.MustParsePrefix("192.168.0.0/16")}

// Kind is what takes a range.
type Kind string

// The kinds.
const (
	Network  Kind = "network"
	Subnet   Kind = "subnet"
	Reserved Kind = "reserved" // of a peer or the premises
	Wanted   Kind = "wanted"   // by a proposal that may still be made
)

// Taken is a range that something has. Network is the id of the network that a subnet
// is in; Used is how many addresses of a subnet are taken.
type Taken struct {
	Range   netip.Prefix
	Kind    Kind
	ID      string
	Name    string
	Network string
	Used    int64
}

// Map is what is taken and what is free of addresses.
type Map struct {
	Areas []Area `json:"areas"`
	// Free are the largest free ranges among the private ones, in order.
	Free []netip.Prefix `json:"free"`
	// Next are free ranges of the length that was asked for, lowest first, at most 5.
	Next []netip.Prefix `json:"next,omitempty"`
}

// Area is a network, or a range that something outside has.
type Area struct {
	Range netip.Prefix `json:"range"`
	Kind  Kind         `json:"kind"`
	ID    string       `json:"id,omitempty"`
	Name  string       `json:"name"`
	// Addresses is how many the range has, Used how many of a subnet are taken; counts
	// beyond 63 bits are cut off.
	Addresses int64 `json:"addresses"`
	Used      int64 `json:"used,omitempty"`
	// Parts are the subnets of a network, Free the ranges between them.
	Parts []Area         `json:"parts,omitempty"`
	Free  []netip.Prefix `json:"free,omitempty"`
}

// Draw puts what is taken into one map: networks with their subnets, in the order of
// their addresses. Length, when it is not 0, asks for free ranges of that many bits.
func Draw(taken []Taken, length int) *Map {
	m := &Map{Areas: []Area{}, Free: []netip.Prefix{}}
	var top []netip.Prefix
	for _, t := range taken {
		if t.Kind == Subnet {
			continue
		}
		a := area(t)
		if t.Kind == Network {
			var parts []netip.Prefix
			for _, s := range taken {
				if s.Kind == Subnet && s.Network == t.ID {
					a.Parts = append(a.Parts, area(s))
					parts = append(parts, s.Range)
				}
			}
			slices.SortFunc(a.Parts, inOrder)
			a.Free = Free(t.Range, parts)
		}
		top = append(top, t.Range)
		m.Areas = append(m.Areas, a)
	}
	slices.SortStableFunc(m.Areas, inOrder)
	for _, whole := range Private {
		m.Free = append(m.Free, Free(whole, top)...)
	}
	for _, free := range m.Free {
		for at := free; length >= at.Bits() && length <= at.Addr().BitLen() && len(m.Next) < 5; {
			next := netip.PrefixFrom(at.Addr(), length)
			m.Next = append(m.Next, next)
			past, ok := after(next)
			if !ok || !free.Contains(past) {
				break
			}
			at = netip.PrefixFrom(past, at.Bits())
		}
	}
	return m
}

func inOrder(a, b Area) int {
	return cmp.Or(a.Range.Addr().Compare(b.Range.Addr()), cmp.Compare(a.Range.Bits(), b.Range.Bits()))
}

func area(t Taken) Area {
	return Area{Range: t.Range, Kind: t.Kind, ID: t.ID, Name: t.Name, Addresses: Count(t.Range), Used: t.Used}
}

// Count is how many addresses a range has, at most what 63 bits hold.
func Count(p netip.Prefix) int64 {
	n := new(big.Int).Lsh(big.NewInt(1), uint(p.Addr().BitLen()-p.Bits()))
	if !n.IsInt64() {
		return 1<<63 - 1
	}
	return n.Int64()
}

// Free gives the largest aligned ranges of a whole that overlap nothing taken, in
// order.
func Free(whole netip.Prefix, taken []netip.Prefix) []netip.Prefix {
	var within []netip.Prefix
	for _, t := range taken {
		switch {
		case Inside(whole, t):
			return nil
		case t.Overlaps(whole):
			within = append(within, t)
		}
	}
	if within == nil {
		return []netip.Prefix{whole}
	}
	low := netip.PrefixFrom(whole.Addr(), whole.Bits()+1)
	above, _ := after(low)
	return append(Free(low, within), Free(netip.PrefixFrom(above, low.Bits()), within)...)
}

// FreePrivate finds the lowest free private range of a length.
func FreePrivate(taken []netip.Prefix, bits int) (netip.Prefix, bool) {
	for _, whole := range Private {
		if p, ok := FirstFree(whole, taken, bits); ok {
			return p, true
		}
	}
	return netip.Prefix{}, false
}

// Nearest finds the free private range of a length that lies nearest to another, so
// that a remedy stays close to what was meant.
func Nearest(to netip.Prefix, taken []netip.Prefix) (netip.Prefix, bool) {
	whole := netip.Prefix{}
	for _, p := range Private {
		if Inside(to, p) {
			whole = p
		}
	}
	if !whole.IsValid() {
		return FreePrivate(taken, to.Bits())
	}
	// The free range after it, else the lowest one there is.
	for at := to; whole.Contains(at.Addr()); {
		by, blocked := overlapping(at, taken)
		if !blocked {
			return at, true
		}
		past := at
		if by.Bits() < at.Bits() {
			past = by
		}
		next, ok := after(past)
		if !ok {
			break
		}
		at = netip.PrefixFrom(next, to.Bits()).Masked()
	}
	return FreePrivate(taken, to.Bits())
}
