package main

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/service/momenttest"
)

// met lets every pair of deeds meet at every point of the first, or so many of the meetings, and
// counts those after which cloud, records and what both were told came apart. Only names a pair,
// or the first of one.
func (h *harness) met(most int, seed uint64, only string) int {
	pairs := momenttest.Pairs()
	if only != "" {
		pairs = slices.DeleteFunc(pairs,
			func(p momenttest.Pair) bool { return p.First != only && p.First+"/"+p.Second != only })
	}
	done := 0
	counts := momenttest.Explore(8, pairs, seed, most, func(m momenttest.Meeting) {
		if len(m.Wrong) > 0 {
			fmt.Println("    " + strings.ReplaceAll(m.String(), "\n", " "))
		}
		if done++; done%500 == 0 {
			say("%d meetings, now %s with %s", done, m.First, m.Second)
		}
	})
	var all momenttest.Count
	for _, name := range slices.Sorted(maps.Keys(counts)) {
		c := counts[name]
		say("%-18s held at each point: %5d meetings, %4d with a wait for its locks, %5d in which one is "+
			"refused, %d wrong", name, c.Meetings, c.Blocked, c.Refused, c.Wrong)
		all.Meetings, all.Blocked, all.Refused, all.Wrong = all.Meetings+c.Meetings, all.Blocked+c.Blocked,
			all.Refused+c.Refused, all.Wrong+c.Wrong
	}
	say("two at once: %d pairs, %d meetings, %d with a wait for a lock, %d in which one is refused, %d wrong",
		len(pairs), all.Meetings, all.Blocked, all.Refused, all.Wrong)
	return all.Wrong
}
