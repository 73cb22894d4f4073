package address

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
)

func TestCarvePlacesPartsAtTheLowestAlignedPlace(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		within string
		parts  []string
		want   map[string]string
		fault  string
	}{
		{"10.40.0.0/20", []string{"edge/26", "workers/24"},
			map[string]string{"edge": "10.40.0.0/26", "workers": "10.40.1.0/24"}, ""},
		{"10.40.0.0/24", []string{"a/26", "b/25", "c/26"},
			map[string]string{"a": "10.40.0.0/26", "b": "10.40.0.128/25", "c": "10.40.0.64/26"}, ""},
		{"fd00::/56", []string{"a/64", "b/64"}, map[string]string{"a": "fd00::/64", "b": "fd00:0:0:1::/64"}, ""},
		{"10.0.0.0/28", []string{"a/29", "b/28"}, nil,
			"b/28 needs 16 addresses and 10.0.0.0/28 has only 8 free in one piece; take a range of /27"},
		{"10.0.0.0/24", []string{"a/26", "a/26"}, nil, "named twice"},
		{"10.0.0.0/24", []string{"A/26"}, nil, "NAME/BITS"},
		{"here", []string{"a/26"}, nil, "not an address range"},
	} {
		got, err := Carve(c.within, c.parts)
		if c.fault != "" {
			if err == nil || !strings.Contains(err.Error(), c.fault) {
				t.Errorf("Carve(%s, %v): error %v, want one with %q", c.within, c.parts, err, c.fault)
			}
			continue
		}
		for name, want := range c.want {
			if got[name].String() != want {
				t.Errorf("Carve(%s, %v)[%s] = %s, want %s (%v)", c.within, c.parts, name, got[name], want, err)
			}
		}
	}
}

func TestAppendingAPartMovesNothing(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		var parts []string
		var before map[string]netip.Prefix
		for i := range 12 {
			parts = append(parts, string(rune('a'+i))+"/"+[]string{"24", "25", "26", "27", "28"}[r.IntN(5)])
			now, err := Carve("10.0.0.0/20", parts)
			if err != nil {
				break
			}
			for name, p := range before {
				if now[name] != p {
					t.Fatalf("%v: appending moved %s from %s to %s", parts, name, p, now[name])
				}
			}
			for a, p := range now {
				for b, q := range now {
					if a != b && p.Overlaps(q) {
						t.Fatalf("%v: %s %s overlaps %s %s", parts, a, p, b, q)
					}
				}
			}
			before = now
		}
	}
}

func TestNth(t *testing.T) {
	t.Parallel()
	if a, err := Nth("10.0.0.0/24", 5); err != nil || a.String() != "10.0.0.5" {
		t.Errorf("Nth = %v, %v", a, err)
	}
	for _, n := range []int64{-1, 256} {
		if _, err := Nth("10.0.0.0/24", n); err == nil {
			t.Errorf("Nth(%d) found an address outside the range", n)
		}
	}
}
