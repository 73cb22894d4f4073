package main

import (
	"fmt"
	"math"
	"sync"
	"sync/atomic"

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
	var seeds []uint64
	for i := range int(math.Ceil(float64(count) / eachMarket)) {
		seeds = append(seeds, seed+uint64(i))
	}
	verdicttest.Run(seeds, eachMarket, 8, func(market uint64, o verdicttest.Outcome, err error) {
		bad, needless := o.Wrong()
		switch {
		case err != nil:
			bad = true
		case o.Refused == nil:
			accepted.Add(1)
		case o.Judged:
			refused.Add(1)
		default:
			own.Add(1)
		}
		if bad {
			failed.Add(1)
		}
		if needless {
			wrongly.Add(1)
		}
		if bad || needless {
			mu.Lock()
			defer mu.Unlock()
			wrong = append(wrong, fmt.Sprintf("market %d: %v %v", market, o, err))
		}
	})
	for _, w := range wrong {
		fmt.Println("    " + w)
	}
	say("verdicts: %d accepted, of which %d failed; %d refused for the cloud's sake, of which it would have taken "+
		"%d; %d refused by a template's own rules", accepted.Load(), failed.Load(), refused.Load(), wrongly.Load(),
		own.Load())
	code := int(failed.Load())
	if wrongly.Load()*200 > int64(count) {
		code++
	}
	return code
}
