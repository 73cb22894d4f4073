package main

import (
	"context"
	"fmt"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/sim"
)

const coast = `undersail: 1
about: {name: coast, version: 1.0.0, title: Coast}
inputs:
  range: {type: string, format: cidr}
  store: {type: string, format: amount, default: 20GiB}
  class: {type: string, default: solid}
  stores: {type: integer, default: 2}
  port: {type: integer, default: 80}
resources:
  net: {type: network, want: {range: =inputs.range}}
  lan: {type: subnet, want: {network: =net.id, range: '=carve(inputs.range, ["lan/26"]).lan'}}
  rules: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: =inputs.port}]}}
  data: {type: disk, repeat: =inputs.stores, want: {size: =inputs.store, type: =inputs.class}}
  host: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, firewalls: [=rules.id]}}
`

// kinds are the runs that are cut off; each changes what the one before left.
var kinds = []struct {
	name   string
	inputs map[string]any // nil retires
	undo   bool
}{
	{"create", map[string]any{}, false},
	{"alter", map[string]any{"store": "40GiB", "port": 443}, false},
	{"rebuild", map[string]any{"class": "solid-plus"}, false},
	{"remove", map[string]any{"stores": 1}, false},
	{"undo", nil, true},
	{"retire", nil, false},
}

// killed starts a process, kills it at a random moment of a run, lets a new one
// finish the run, and compares.
func (h *harness) killed(kills int) int {
	r := servicetest.NewWith(h, sim.Config{
		Pace:   25,
		Quotas: map[string]int64{"networks": 200, "disk_gib": 100_000, "vcpus": 500},
	})
	author, end := r.Still(engine.Config{}, nil)
	h.Cleanup(end)
	ctx := context.Background()
	bad, hits, lastRun := 0, 0, int64(0)
	p := h.replica(r, r.KeyFile)
	for i := range kills {
		kind := kinds[i%len(kinds)]
		stack := fmt.Sprintf("coast-%d", i/len(kinds))
		inputs := map[string]any{"range": fmt.Sprintf("10.%d.0.0/24", i/len(kinds))}
		for k, v := range kind.inputs {
			inputs[k] = v
		}
		var proposal proposing.Proposal
		var err error
		switch {
		case kind.undo:
			proposal, err = author.Proposing.Undo(ctx, r.Admin, lastRun)
		case kind.inputs == nil:
			proposal, err = author.Proposing.Retire(ctx, r.Admin, stack)
		default:
			proposal = r.Propose(author, stack, coast, inputs)
		}
		if err != nil {
			panic(servicetest.Explain(err))
		}
		id := r.Carry(author, proposal)
		lastRun = id
		after, hit := h.strike(author, p, id, proposal.Seconds)
		hits += hit
		p = h.replica(r, r.KeyFile)
		run := r.Await(author, id)
		var differences []string
		if run.State != state.Done {
			differences = append(differences, fmt.Sprintf("run %d ended %s: %s", id, run.State, run.Reason))
		}
		differences = append(differences, r.Differences(author, stack, kind.name == "retire")...)
		if d := drift(r, author, stack, inputs); kind.inputs != nil && d != "" {
			differences = append(differences, d)
		}
		bad += len(differences)
		if len(differences) > 0 {
			verdict(fmt.Sprintf("kill %d of %d, %s after %s", i+1, kills, kind.name, after), differences)
		}
	}
	p.kill()
	say("kill -9: %d kills, %d in the middle of a run, %d differences", kills, hits, bad)
	return bad
}

// strike kills a process at a random moment of a run that is expected to last so many
// seconds; hit is 1 when the run was not over by then.
func (h *harness) strike(s *service.Service, p *replica, run int64, seconds float64) (after time.Duration, hit int) {
	after = time.Duration(h.random.Float64() * seconds * float64(time.Second))
	time.Sleep(after)
	before, err := s.Stacks.RunRow(context.Background(), run)
	if err != nil {
		panic(err)
	}
	p.kill()
	if before.EndedAt == nil {
		hit = 1
	}
	return after, hit
}

// drift says what would still have to change for what is wanted.
func drift(r *servicetest.Rig, s *service.Service, stack string, inputs map[string]any) string {
	p := r.Propose(s, stack, coast, inputs)
	for _, c := range p.Changes {
		if c.Change != "same" {
			return fmt.Sprintf("%s: what was wanted is not there: %s of %s: %s %v", stack, c.Change, c.Resource,
				c.Reason, c.Fields)
		}
	}
	return ""
}
