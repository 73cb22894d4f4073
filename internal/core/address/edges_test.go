package address

import (
	"net/netip"
	"testing"
)

// TestARangeIsReadAsTheNetworkItLiesIn: bits of a host in a range move no part.
func TestARangeIsReadAsTheNetworkItLiesIn(t *testing.T) {
	t.Parallel()
	got, err := Carve("10.40.3.7/22", []string{"edge/26"})
	if err != nil || got["edge"] != netip.MustParsePrefix("10.40.0.0/26") {
		t.Errorf("%v %v", got, err)
	}
}

// TestWhatIsTakenIsJumpedOverWhole: place by place it would take for ever.
func TestWhatIsTakenIsJumpedOverWhole(t *testing.T) {
	t.Parallel()
	taken := []netip.Prefix{netip.MustParsePrefix("fd00::/9")}
	free, ok := FirstFree(netip.MustParsePrefix("fd00::/8"), taken, 128)
	if !ok || free != netip.MustParsePrefix("fd80::/128") {
		t.Errorf("%v %t", free, ok)
	}
}
