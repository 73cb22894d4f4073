package main

import (
	"fmt"
	"sync"

	"undersail/internal/service/modeltest"
	"undersail/internal/service/servicetest"
)

// restored lets stacks go on from backups of random moments, and counts those in which something
// was removed unasked, made twice, or told by nobody.
func (h *harness) restored(restores int, seed uint64) int {
	failed, middle, told, found := 0, 0, 0, 0
	var mu sync.Mutex
	var workers sync.WaitGroup
	next := make(chan int)
	for range 3 {
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
					x, wrong := modeltest.Restored(inner, seed+uint64(n))
					mu.Lock()
					defer mu.Unlock()
					told, found = told+x.Told, found+x.Found
					if x.Middle {
						middle++
					}
					if len(wrong) > 0 {
						failed++
						fmt.Printf("seed %d:\n%s\n    came apart: %v\n", seed+uint64(n), x.Log(), wrong)
					}
				}()
			}
		})
	}
	for n := range restores {
		next <- n
		if n%50 == 49 {
			say("%d restores, %d came apart", n+1, failed)
		}
	}
	close(next)
	workers.Wait()
	say("restores: %d from seed %d, %d in the middle of a run, %d told to be otherwise, %d of it listed as recorded nowhere, %d came apart", restores, seed, middle, told, found, failed)
	return failed
}
