package main

import (
	"sync/atomic"

	"undersail/internal/service/modeltest"
	"undersail/internal/service/servicetest"
)

// restored lets stacks go on from backups of random moments, and counts those in which something
// was removed unasked, made twice, or told by nobody.
func (h *harness) restored(restores int, seed uint64) int {
	var middle, told, found, stepwise atomic.Int64
	failed := bySeed("restores", restores, 3, seed,
		func(inner *servicetest.Harness, _ int, seed uint64) (string, []string) {
			x, wrong := modeltest.Restored(inner, seed)
			told.Add(int64(x.Told))
			found.Add(int64(x.Found))
			if x.Middle {
				middle.Add(1)
			}
			if x.Stepwise {
				stepwise.Add(1)
			}
			return x.Log(), wrong
		})
	say("restores: %d from seed %d, %d in the middle of a run, %d told to be otherwise, %d of it listed as recorded "+
		"nowhere, %d whose template took two steps, %d came apart",
		restores, seed, middle.Load(), told.Load(), found.Load(), stepwise.Load(), failed)
	return failed
}
