package main

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
	"undersail/sim"
)

const shore = `undersail: 1
about: {name: shore, version: 1.0.0, title: Shore}
inputs:
  range: {type: string, format: cidr}
resources:
  net: {type: network, want: {range: =inputs.range}}
  lan: {type: subnet, repeat: 2, want: {network: =net.id, range: '=carve(inputs.range, ["a/27", "b/27"])[index == 0 ? "a" : "b"]'}}
  rules: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 80}]}}
  data: {type: disk, repeat: 2, after: {lan: healthy}, want: {size: 20GiB, type: solid}}
`

// oneAccount lets 100 stacks be made at once in one account, by two replicas, and
// compares the time with what the account's rate of calls gives.
func oneAccount(int) ([]row, error) {
	return withDatabase(func(h *servicetest.Harness) ([]row, error) {
		const stacks, perSecond = 100, 40
		r := servicetest.NewWith(h, sim.Config{
			Pace:   30,
			Rate:   perSecond,
			Quotas: map[string]int64{"networks": 1000, "disk_gib": 1_000_000},
		})
		one, _ := r.Replica(0)
		two, _ := r.Replica(0)
		// Proposing calls too; what is measured is the carrying out.
		var proposals []proposing.Proposal
		for i := range stacks {
			proposals = append(proposals,
				r.Propose(one, fmt.Sprintf("shore-%03d", i), shore, map[string]any{
					"range": fmt.Sprintf("10.%d.0.0/24", i),
				}))
		}
		before := len(r.Ledger().Calls)
		began := time.Now()
		var runs []int64
		for i, p := range proposals {
			s := one
			if i%2 == 1 {
				s = two
			}
			runs = append(runs, r.Carry(s, p))
		}
		failed := 0
		ctx := context.Background()
		for _, id := range runs {
			for {
				run, err := one.Stacks.RunRow(ctx, id)
				if err != nil {
					return nil, err
				}
				if run.EndedAt != nil {
					if run.State != state.Done {
						failed++
						fmt.Println(run.Stack, run.State, run.Reason)
					}
					break
				}
				time.Sleep(50 * time.Millisecond)
			}
		}
		took := time.Since(began)
		calls, refused := 0, 0
		for _, c := range r.Ledger().Calls[before:] {
			switch {
			case strings.HasPrefix(c.Path, "/sign-in"):
			case c.Status == http.StatusTooManyRequests:
				refused++
			default:
				calls++
			}
		}
		bound := time.Duration(float64(calls) / perSecond * float64(time.Second))
		return []row{
			{
				id:        "R4",
				what:      fmt.Sprintf("%d stacks in one account: time over the calls at its rate", stacks),
				measured:  short(took),
				reference: short(bound),
				ratio:     took.Seconds() / bound.Seconds(),
				target:    1.3,
				note:      fmt.Sprintf("%d calls, %d refused", calls, refused),
			},
			{
				id:        "R4",
				what:      "of these, stacks that did not end done",
				measured:  fmt.Sprint(failed),
				reference: "0",
				ratio:     float64(failed),
				target:    0,
			},
		}, nil
	})
}
