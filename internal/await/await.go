// Package await waits, in tests, for what comes about by itself.
package await

import "time"

const (
	turn     = 5 * time.Millisecond
	longest  = 75 * time.Millisecond // between two looks: what takes long is not looked at the more often
	patience = 4 * time.Minute       // as long as the longest run of a test may take
	looks    = 600                   // are had at least: on a busy machine they take longer than the patience
	never    = 15 * time.Minute
)

// T is what this package needs of a test.
type T interface {
	Helper()
	Fatalf(format string, args ...any)
}

// Holds looks until something holds, and reports whether it ever did. How long that may take
// is decided here alone: by a clock and by the looks that were had, since a busy machine gives
// few of them in a second.
func Holds(holds func() bool) bool {
	for n, began := 1, time.Now(); ; n++ {
		if holds() {
			return true
		}
		if spent := time.Since(began); spent > never || spent > patience && n >= looks {
			return false
		}
		time.Sleep(min(turn*time.Duration(n), longest)) // the one pause of all tests that wait for something
	}
}

// Until is [Holds] for what has to come about.
func Until(t T, what string, holds func() bool) {
	t.Helper()
	if began := time.Now(); !Holds(holds) {
		t.Fatalf("%s: never, in %s", what, time.Since(began).Round(time.Second))
	}
}
