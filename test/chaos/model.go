package main

import (
	"sync/atomic"

	"undersail/internal/engine"
	"undersail/internal/service/modeltest"
	"undersail/internal/service/servicetest"
)

// modelled changes stacks at random, each in a sequence of its own, and counts the
// sequences in which cloud, records and what was wanted came apart.
func (h *harness) modelled(sequences int, seed uint64) int {
	var applied, refused, undone, given, taken atomic.Int64
	failed := bySeed("sequences", sequences, 4, seed,
		func(inner *servicetest.Harness, worker int, seed uint64) (string, []string) {
			r := servicetest.Roomy(inner, 2400)
			s, _ := r.Start(engine.Config{CallRate: 100_000}, nil)
			q := modeltest.NewSequence(r, s, seed, worker)
			wrong := q.Run()
			applied.Add(int64(q.Applied))
			refused.Add(int64(q.Refused))
			undone.Add(int64(q.Undone))
			given.Add(int64(q.Given))
			taken.Add(int64(q.Taken))
			return q.Log(), wrong
		})
	say("model: %d sequences from seed %d, %d proposals applied, %d refused, %d runs undone, %d given a value in "+
		"their middle, %d kept disks taken over again, %d sequences differ",
		sequences, seed, applied.Load(), refused.Load(), undone.Load(), given.Load(), taken.Load(), failed)
	return failed
}
