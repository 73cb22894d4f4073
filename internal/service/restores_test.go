package service_test

import (
	"fmt"
	"testing"

	"undersail/internal/service/modeltest"
)

// TestALifeGoesOnFromABackup takes a backup at some moment of a change, changes on, and goes on
// from the backup: nothing is removed unasked, nothing made twice, nothing untold. make chaos
// does 200.
func TestALifeGoesOnFromABackup(t *testing.T) {
	t.Parallel()
	for _, seed := range []uint64{1, 2, 243} { // 243: a machine that was found held a disk that was found too
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			if x, wrong := modeltest.Restored(t, seed); len(wrong) > 0 {
				t.Errorf("%s\ncame apart: %v", x.Log(), wrong)
			}
		})
	}
}
