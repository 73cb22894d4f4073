package main

import (
	"fmt"
	"sync"

	"undersail/internal/engine"
	"undersail/internal/service/modeltest"
	"undersail/internal/service/servicetest"
	"undersail/sim"
)

// modelled changes stacks at random, each in a sequence of its own, and counts the
// sequences in which cloud, records and what was wanted came apart.
func (h *harness) modelled(sequences int, seed uint64) int {
	failed, applied, refused := 0, 0, 0
	var mu sync.Mutex
	var workers sync.WaitGroup
	next := make(chan int)
	for worker := range 4 {
		workers.Go(func() {
			for n := range next {
				func() {
					inner := &servicetest.Harness{}
					defer inner.End()
					defer func() {
						if fault := recover(); fault != nil {
							mu.Lock()
							failed++
							mu.Unlock()
							fmt.Printf("    seed %d: broken off: %v\n", seed+uint64(n), fault)
						}
					}()
					r := servicetest.NewWith(inner, sim.Config{Pace: 2400, Rate: 100_000, Quotas: map[string]int64{"networks": 1000, "disk_gib": 1_000_000, "vcpus": 10_000, "addresses": 240}})
					s, _ := r.Start(engine.Config{CallRate: 100_000}, nil)
					q := modeltest.NewSequence(r, s, seed+uint64(n), worker)
					differences := q.Run()
					mu.Lock()
					defer mu.Unlock()
					applied, refused = applied+q.Applied, refused+q.Refused
					if len(differences) > 0 {
						failed++
						fmt.Printf("%s\n    differs: %v\n", q.Log(), differences)
					}
				}()
			}
		})
	}
	for n := range sequences {
		next <- n
		if n%100 == 99 {
			say("%d sequences, %d differ", n+1, failed)
		}
	}
	close(next)
	workers.Wait()
	say("model: %d sequences from seed %d, %d proposals applied, %d refused, %d sequences differ", sequences, seed, applied, refused, failed)
	return failed
}
