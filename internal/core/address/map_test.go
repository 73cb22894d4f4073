package address

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
)

func TestTheMapShowsWhatIsTakenAndWhatIsFree(t *testing.T) {
	t.Parallel()
	p := netip.MustParsePrefix
	m := Draw([]Taken{
		{Range: p("10.8.0.0/16"), Kind: Network, ID: "n2", Name: "pier"},
		{Range: p("10.0.0.0/16"), Kind: Network, ID: "n1", Name: "quay"},
		{Range: p("10.0.2.0/24"), Kind: Subnet, ID: "s1", Network: "n1", Used: 9},
		{Range: p("172.20.0.0/16"), Kind: Reserved, Name: "the office"},
	}, 17)
	if len(m.Areas) != 3 || m.Areas[0].Name != "quay" || m.Areas[2].Kind != Reserved || m.Areas[0].Parts[0].Used != 9 ||
		m.Areas[0].Addresses != 65536 {
		t.Errorf("areas: %+v", m.Areas)
	}
	if got := fmt.Sprint(m.Areas[0].Free[:3]); got != "[10.0.0.0/23 10.0.3.0/24 10.0.4.0/22]" {
		t.Errorf("free of quay: %s", got)
	}
	if got := fmt.Sprint(m.Next); got != "[10.1.0.0/17 10.1.128.0/17 10.2.0.0/17 10.2.128.0/17 10.3.0.0/17]" {
		t.Errorf("next: %s", got)
	}
	for _, beyond := range []int{0, 7, 33, 128} {
		if m := Draw(nil, beyond); m.Next != nil {
			t.Errorf("free /%d: %v", beyond, m.Next)
		}
	}
	if Count(p("fd00::/8")) != 1<<63-1 {
		t.Error("counts are cut off at 63 bits")
	}
}

func TestTheNearestFreeRangeIsFreeAndNear(t *testing.T) {
	t.Parallel()
	p := netip.MustParsePrefix
	taken := []netip.Prefix{p("10.9.0.0/16"), p("10.10.0.0/15"), p("192.168.0.0/16")}
	for to, want := range map[string]string{
		"10.9.4.0/24":    "10.12.0.0/24",
		"10.10.0.0/15":   "10.12.0.0/15",
		"192.168.7.0/24": "10.0.0.0/24",
		"8.8.8.0/24":     "10.0.0.0/24",
		"10.255.0.0/16":  "10.255.0.0/16",
	} {
		if got, ok := Nearest(p(to), taken); !ok || got.String() != want {
			t.Errorf("nearest to %s is %s, want %s", to, got, want)
		}
	}
	got, ok := Nearest(p("10.0.0.0/8"), []netip.Prefix{p("10.0.0.0/8"), p("172.16.0.0/12"), p("192.168.0.0/16")})
	if ok {
		t.Errorf("nothing is free, and %s is named", got)
	}
}

// TestWhatIsFreeOverlapsNothingAndLeavesNothingOut draws ranges at random: what is free and
// what is taken make up the whole.
func TestWhatIsFreeOverlapsNothingAndLeavesNothingOut(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(1, 2))
	whole := netip.MustParsePrefix("10.0.0.0/16")
	for range 200 {
		var taken []netip.Prefix
		for range random.IntN(12) {
			a := netip.AddrFrom4([4]byte{10, 0, byte(random.IntN(256)), byte(random.IntN(256))})
			taken = append(taken, netip.PrefixFrom(a, 17+random.IntN(12)).Masked())
		}
		free := Free(whole, taken)
		left := Count(whole)
		for i, f := range free {
			left -= Count(f)
			for _, x := range append(taken, free[:i]...) {
				if f.Overlaps(x) {
					t.Fatalf("%s is free and overlaps %s of %v", f, x, taken)
				}
			}
		}
		for i, x := range taken { // each address counts once
			inside := false
			for j, y := range taken {
				inside = inside || i != j && y.Overlaps(x) && (y.Bits() < x.Bits() || y.Bits() == x.Bits() && j < i)
			}
			if !inside {
				left -= Count(x)
			}
		}
		if left != 0 {
			t.Fatalf("%d addresses of %v are neither free nor taken", left, taken)
		}
	}
}
