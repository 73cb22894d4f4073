package main

import (
	"fmt"
	"math"
	"sync"
	"sync/atomic"

	"undersail/internal/service/servicetest"
	"undersail/internal/service/verdicttest"
)

// eachMarket is how many proposals are made on one market.
const eachMarket = 20

// judged proposes at random on random markets and lets the simulated cloud make what
// comes of it. It prints how often we were wrong, and how.
func (h *harness) judged(count int, seed uint64) int {
	var accepted, refused, own, failed, wrongly atomic.Int64
	var mu sync.Mutex
	var wrong []string
	markets := make(chan uint64)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for market := range markets {
				func() {
					inner := &servicetest.Harness{}
					defer inner.End()
					defer func() {
						if fault := recover(); fault != nil {
							failed.Add(1)
							fmt.Printf("    market %d: broken off: %v\n", market, fault)
						}
					}()
					trials := verdicttest.New(inner, market)
					for range eachMarket {
						o, err := trials.Next()
						if err != nil {
							panic(err)
						}
						bad, needless := o.Wrong()
						switch {
						case o.Refused == nil:
							accepted.Add(1)
						case o.Judged:
							refused.Add(1)
						default:
							own.Add(1)
						}
						if bad || needless {
							mu.Lock()
							wrong = append(wrong, fmt.Sprintf("market %d: %v", market, o))
							mu.Unlock()
						}
						if bad {
							failed.Add(1)
						}
						if needless {
							wrongly.Add(1)
						}
					}
				}()
			}
		})
	}
	for i := range int(math.Ceil(float64(count) / eachMarket)) {
		markets <- seed + uint64(i)
	}
	close(markets)
	all.Wait()
	for _, w := range wrong {
		fmt.Println("    " + w)
	}
	say("verdicts: %d accepted, of which %d failed; %d refused for the cloud's sake, of which it would have taken %d; %d refused by a template's own rules", accepted.Load(), failed.Load(), refused.Load(), wrongly.Load(), own.Load())
	code := int(failed.Load())
	if wrongly.Load()*200 > int64(count) {
		code++
	}
	return code
}
