package main

import (
	"fmt"
	"sync"

	"undersail/internal/service/servicetest"
)

// bySeed goes through so many seeds from one on, some at a time, each with a harness of its own,
// and counts those that came apart or were broken off. One gives what it did and what is wrong;
// only one at a time tells it.
func bySeed(what string, many, workers int, seed uint64,
	one func(h *servicetest.Harness, worker int, seed uint64) (log string, wrong []string)) (failed int) {
	var mu sync.Mutex
	var all sync.WaitGroup
	next := make(chan int)
	guarded := func(worker int, seed uint64) (log string, wrong []string) {
		inner := &servicetest.Harness{}
		defer inner.End()
		defer func() {
			if fault := recover(); fault != nil {
				wrong = append(wrong, fmt.Sprint("broken off: ", fault))
			}
		}()
		return one(inner, worker, seed)
	}
	for worker := range workers {
		all.Go(func() {
			for n := range next {
				log, wrong := guarded(worker, seed+uint64(n))
				if len(wrong) == 0 {
					continue
				}
				mu.Lock()
				failed++
				fmt.Printf("seed %d:\n%s\n    came apart: %v\n", seed+uint64(n), log, wrong)
				mu.Unlock()
			}
		})
	}
	for n := range many {
		next <- n
		if n%50 == 49 {
			mu.Lock()
			say("%d of the %s begun, %d came apart", n+1, what, failed)
			mu.Unlock()
		}
	}
	close(next)
	all.Wait()
	return failed
}
