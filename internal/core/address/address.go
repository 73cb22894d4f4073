// Package address computes address plans: carving ranges, finding addresses,
// telling what overlaps and what is free. It is pure arithmetic on ranges.
package address

import (
	"fmt"
	"math/big"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
)

var partPattern = regexp.MustCompile(`^([a-z][a-z0-9_-]*)/([0-9]{1,3})$`)

// Carve places named parts ("edge/26") inside a range in written order, each at
// the lowest aligned free place, so that appending a part moves none before it.
// The error says which part does not fit and how many addresses are missing.
func Carve(within string, parts []string) (map[string]netip.Prefix, error) {
	whole, err := netip.ParsePrefix(within)
	if err != nil {
		return nil, fmt.Errorf("carve: %q is not an address range such as 10.40.0.0/20", within)
	}
	whole = whole.Masked()
	out := map[string]netip.Prefix{}
	var taken []netip.Prefix
	for _, part := range parts {
		m := partPattern.FindStringSubmatch(part)
		if m == nil {
			return nil, fmt.Errorf("carve: write a part as NAME/BITS, such as edge/26, not %q", part)
		}
		bits, _ := strconv.Atoi(m[2])
		if _, twice := out[m[1]]; twice {
			return nil, fmt.Errorf("carve: the part %s is named twice", m[1])
		}
		if bits > whole.Addr().BitLen() {
			return nil, fmt.Errorf("carve: %s has more bits than an address", part)
		}
		place, ok := FirstFree(whole, taken, bits)
		if !ok {
			return nil, fmt.Errorf("carve: %s needs %s addresses and %s has only %s free in one piece; take a range "+
				"of /%d or larger",
				part, size(whole.Addr().BitLen()-bits), whole, largestFree(whole, taken), max(0, wider(whole, parts)))
		}
		out[m[1]] = place
		taken = append(taken, place)
	}
	return out, nil
}

// FirstFree finds the lowest aligned place of a length inside whole that
// overlaps nothing taken.
func FirstFree(whole netip.Prefix, taken []netip.Prefix, bits int) (netip.Prefix, bool) {
	if bits < whole.Bits() {
		return netip.Prefix{}, false
	}
	at := whole.Addr()
	for whole.Contains(at) {
		candidate := netip.PrefixFrom(at, bits).Masked()
		blocker, blocked := overlapping(candidate, taken)
		if !blocked {
			return candidate, true
		}
		// Jump past whichever is larger, the blocker or the candidate, and align again.
		past := candidate
		if blocker.Bits() < candidate.Bits() {
			past = blocker
		}
		next, ok := after(past)
		if !ok {
			break
		}
		at = next
	}
	return netip.Prefix{}, false
}

func overlapping(p netip.Prefix, taken []netip.Prefix) (netip.Prefix, bool) {
	for _, t := range taken {
		if t.Overlaps(p) {
			return t, true
		}
	}
	return netip.Prefix{}, false
}

// after is the first address past a range; false at the end of the space.
func after(p netip.Prefix) (netip.Addr, bool) {
	n := new(big.Int).SetBytes(p.Masked().Addr().AsSlice())
	n.Add(n, new(big.Int).Lsh(big.NewInt(1), uint(p.Addr().BitLen()-p.Bits())))
	return fromInt(n, p.Addr().BitLen())
}

func fromInt(n *big.Int, bits int) (netip.Addr, bool) {
	if n.Sign() < 0 || n.BitLen() > bits {
		return netip.Addr{}, false
	}
	raw := n.FillBytes(make([]byte, bits/8))
	addr, ok := netip.AddrFromSlice(raw)
	return addr, ok
}

func size(bits int) string { return new(big.Int).Lsh(big.NewInt(1), uint(bits)).String() }

func largestFree(whole netip.Prefix, taken []netip.Prefix) string {
	for bits := whole.Bits(); bits <= whole.Addr().BitLen(); bits++ {
		if _, ok := FirstFree(whole, taken, bits); ok {
			return size(whole.Addr().BitLen() - bits)
		}
	}
	return "0"
}

// wider finds the longest prefix length in which all parts fit.
func wider(whole netip.Prefix, parts []string) int {
	for bits := whole.Bits() - 1; bits >= 0; bits-- {
		bigger := netip.PrefixFrom(whole.Addr(), bits).Masked()
		var taken []netip.Prefix
		fits := true
		for _, part := range parts {
			want, _ := strconv.Atoi(part[strings.LastIndex(part, "/")+1:])
			place, ok := FirstFree(bigger, taken, want)
			if !ok {
				fits = false
				break
			}
			taken = append(taken, place)
		}
		if fits {
			return bits
		}
	}
	return 0
}

// Nth returns the n-th address of a range, its first address being 0.
func Nth(within string, n int64) (netip.Addr, error) {
	p, err := netip.ParsePrefix(within)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("address_in: %q is not an address range", within)
	}
	base := new(big.Int).SetBytes(p.Masked().Addr().AsSlice())
	addr, ok := fromInt(base.Add(base, big.NewInt(n)), p.Addr().BitLen())
	if n < 0 || !ok || !p.Contains(addr) {
		return netip.Addr{}, fmt.Errorf("address_in: %s has no address number %d", within, n)
	}
	return addr, nil
}

// Inside reports whether inner lies wholly inside outer.
func Inside(inner, outer netip.Prefix) bool {
	return outer.Bits() <= inner.Bits() && outer.Contains(inner.Addr())
}
