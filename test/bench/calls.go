package main

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
	"undersail/sim"
	"undersail/sim/world"
)

// reasonOf is why a call was made, by what it asks for.
func reasonOf(c world.Call) string {
	switch {
	case strings.HasPrefix(c.Path, "/sign-in"):
		return ""
	case c.Status == http.StatusTooManyRequests:
		return "refused by the limit"
	case c.Method != http.MethodGet:
		return "deeds"
	case strings.Contains(c.Path, "/market"), strings.Contains(c.Path, "?kind="):
		return "facts in the moment of the effect"
	case strings.Contains(c.Path, "?tag="):
		return "lists of what is ours"
	}
	return "looks until it is as wanted"
}

// callsOfEach counts what it takes a cloud, in calls, to have a resource made, altered, looked at
// and removed, by the reason of each call. The reference is one call for each.
func callsOfEach(int) ([]row, error) {
	return withDatabase(func(h *servicetest.Harness) ([]row, error) {
		const stacks, resources = 20, 6
		ctx := context.Background()
		r := servicetest.NewWith(h, sim.Config{Pace: 30, Rate: 400, Quotas: map[string]int64{"networks": 1000}})
		s, _ := r.Replica(0)
		name := func(i int) string { return fmt.Sprintf("shore-%03d", i) }
		apply := func(source string) func(i int) (proposing.Proposal, error) {
			return func(i int) (proposing.Proposal, error) {
				return r.Propose(s, name(i), source, map[string]any{"range": fmt.Sprintf("10.%d.0.0/24", i)}), nil
			}
		}
		retire := func(i int) (proposing.Proposal, error) { return s.Proposing.Retire(ctx, r.Admin, name(i)) }
		carried := func(of func(i int) (proposing.Proposal, error)) func(*int) error {
			return func(from *int) error {
				var all []proposing.Proposal
				for i := range stacks {
					p, err := of(i)
					if err != nil {
						return fmt.Errorf("proposing for %s: %w", name(i), err)
					}
					all = append(all, p)
				}
				*from = len(r.Ledger().Calls) // proposing calls too; what is counted is the carrying out
				var ids []int64
				for _, p := range all {
					ids = append(ids, r.Carry(s, p))
				}
				for _, id := range ids {
					if run := r.Await(s, id); run.State != state.Done {
						return fmt.Errorf("run %d of %s ends %s: %s", id, run.Stack, run.State, run.Reason)
					}
				}
				return nil
			}
		}
		var rows []row
		for _, c := range []struct {
			what   string
			things int // of each stack
			target float64
			do     func(from *int) error
		}{
			{"made", resources, 4, carried(apply(shore))},
			{"looked at", resources, 2, func(from *int) error {
				*from = len(r.Ledger().Calls)
				for i := range stacks {
					if _, err := s.Stacks.Verify(ctx, r.Admin, name(i)); err != nil {
						return fmt.Errorf("verifying %s: %w", name(i), err)
					}
				}
				return nil
			}},
			{"altered", 2, 8, carried(apply(strings.Replace(shore, "size: 20GiB", "size: 40GiB", 1)))},
			{"removed", resources, 4, carried(retire)},
		} {
			from := 0
			if err := c.do(&from); err != nil {
				return nil, err
			}
			rows = append(rows, callsRow(c.what, r.Ledger().Calls[from:], stacks*c.things, c.target))
		}
		return rows, nil
	})
}

func callsRow(what string, calls []world.Call, things int, target float64) row {
	why, all := map[string]float64{}, 0.0
	for _, c := range calls {
		if reason := reasonOf(c); reason != "" {
			why[reason] += 1 / float64(things)
			all += 1 / float64(things)
		}
	}
	var notes []string
	for _, reason := range slices.Sorted(maps.Keys(why)) {
		notes = append(notes, fmt.Sprintf("%.2f %s", why[reason], reason))
	}
	return row{
		id:        "calls",
		what:      "calls for each resource that is " + what,
		measured:  fmt.Sprintf("%.2f", all),
		reference: "1",
		ratio:     all,
		target:    target,
		note:      strings.Join(notes, ", "),
	}
}
