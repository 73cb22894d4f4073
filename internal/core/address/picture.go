package address

import (
	"net/netip"
	"slices"
)

// Piece is a part of a drawn range: what one thing has, or what is free.
type Piece struct {
	Range netip.Prefix `json:"range"`
	// Kind is taken, ours, overlap, where what is ours lies over something taken, or free.
	Kind string `json:"kind"`
	Name string `json:"name,omitempty"`
	// Over names what is overlapped.
	Over string `json:"over,omitempty"`
	// From and Share tell where it lies in the whole, and how much of it it is, from 0 to
	// 1; From is that of its own row.
	From      float64 `json:"from"`
	Share     float64 `json:"share"`
	Addresses int64   `json:"addresses"`
}

// Own is a range that is wanted.
type Own struct {
	Range netip.Prefix
	Name  string
}

// Picture divides a range into what is taken by others, what is ours, and what is free
// between both, in the order of their addresses. What is ours and lies over something
// else is an overlap, and stands beside what it overlaps. Ranges that reach beyond the
// whole are cut to it.
func Picture(whole netip.Prefix, taken []Taken, own []Own) []Piece {
	if !whole.IsValid() {
		return nil
	}
	whole = whole.Masked()
	var out []Piece
	var all []netip.Prefix
	add := func(p netip.Prefix, kind, name, over string) {
		from, share := within(whole, p)
		out = append(out, Piece{
			Range:     p,
			Kind:      kind,
			Name:      name,
			Over:      over,
			From:      from,
			Share:     share,
			Addresses: Count(p),
		})
	}
	cut := func(p netip.Prefix) netip.Prefix {
		if p.Bits() < whole.Bits() {
			return whole
		}
		return p
	}
	for _, t := range taken {
		if t.Range.Overlaps(whole) {
			add(cut(t.Range), "taken", t.Name, "")
			all = append(all, cut(t.Range))
		}
	}
	for _, o := range own {
		if !o.Range.Overlaps(whole) {
			continue
		}
		kind, over := "ours", ""
		for _, t := range taken {
			if t.Range.Overlaps(o.Range) {
				kind, over = "overlap", t.Name
			}
		}
		add(cut(o.Range), kind, o.Name, over)
		all = append(all, cut(o.Range))
	}
	for _, f := range Free(whole, all) {
		add(f, "free", "", "")
	}
	slices.SortStableFunc(out, func(a, b Piece) int {
		if c := a.Range.Addr().Compare(b.Range.Addr()); c != 0 {
			return c
		}
		return a.Range.Bits() - b.Range.Bits()
	})
	return out
}

// within tells where a part lies in a whole, and how much of it it is.
func within(whole, part netip.Prefix) (from, share float64) {
	share = 1
	for range part.Bits() - whole.Bits() {
		share /= 2
	}
	at, step := part.Addr().AsSlice(), 1.0
	for bit := whole.Bits(); bit < part.Bits(); bit++ {
		step /= 2
		if at[bit/8]&(0x80>>(bit%8)) != 0 {
			from += step
		}
	}
	return from, share
}
