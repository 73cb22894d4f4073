package service_test

import (
	"testing"

	"undersail/internal/service/momenttest"
)

// TestTwoAtOnce lets pairs of deeds meet at random points; make chaos goes through all.
func TestTwoAtOnce(t *testing.T) {
	t.Parallel()
	seed, most := uint64(24), 30
	momenttest.Explore([]*momenttest.Bench{momenttest.NewBench(t)}, momenttest.Pairs(), seed, most, func(m momenttest.Meeting) {
		if len(m.Wrong) > 0 {
			t.Errorf("%s", m)
		}
	})
}
