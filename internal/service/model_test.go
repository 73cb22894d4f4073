package service_test

import (
	"flag"
	"fmt"
	"testing"

	"undersail/internal/engine"
	"undersail/internal/service/modeltest"
	"undersail/internal/service/servicetest"
)

var seed = flag.Uint64("model.seed", 0, "replay one sequence of the model test")

// TestTheModel changes stacks at random and holds what the cloud has, what is
// recorded and what was wanted against each other. A sequence is replayed by its
// seed: go test ./internal/service -run TestTheModel -model.seed N
func TestTheModel(t *testing.T) {
	t.Parallel()
	seeds := modeltest.Kept()
	for n := range uint64(8) { // make chaos goes through more
		seeds = append(seeds, n+1)
	}
	if *seed > 0 {
		seeds = []uint64{*seed}
	}
	for group := range 4 {
		t.Run(fmt.Sprint(group), func(t *testing.T) {
			t.Parallel()
			r := servicetest.Roomy(t, 2400)
			s, _ := r.Start(engine.Config{CallRate: 100_000}, nil)
			for i, seed := range seeds {
				// Faults are of a whole cloud: sequences with them have their own.
				if (seed%2 == 1) != (group%2 == 1) || i/2%2 != group/2 {
					continue
				}
				q := modeltest.NewSequence(r, s, seed, i)
				if differences := q.Run(); len(differences) > 0 {
					t.Errorf("seed %d:\n%s\ndiffers: %v", seed, q.Log(), differences)
				}
				t.Logf("%s\n%d applied, %d refused", q.Log(), q.Applied, q.Refused)
			}
		})
	}
}
