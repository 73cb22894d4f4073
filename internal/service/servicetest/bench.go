package servicetest

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"undersail/internal/core/change"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/service"
	"undersail/internal/stacks"
	"undersail/sim"
)

// Bench is a service on a rig with what these tests do again and again.
type Bench struct {
	T       *testing.T
	Rig     *Rig
	Service *service.Service
}

// NewBench begins a test that runs beside others.
func NewBench(t *testing.T, quotas map[string]int64) *Bench {
	t.Helper()
	t.Parallel()
	r := NewWith(t, sim.Config{Pace: 600, Rate: 100_000, Quotas: quotas})
	s, _ := r.Start(engine.Config{CallRate: 100_000}, nil)
	return &Bench{t, r, s}
}

// Source writes a template whose resources are one to a line.
func Source(lines ...string) string {
	return "undersail: 1\nabout: {name: coast, version: 1.0.0, title: Coast}\nresources:\n  " +
		strings.ReplaceAll(strings.Join(lines, "\n  "), "want:", "patience: 99h, want:") + "\n"
}

// Sells has the service hear what every region sells, however long that takes on a busy machine:
// a form waits for it a few seconds only.
func (b *Bench) Sells() {
	b.T.Helper()
	a, err := b.Service.Accounts.Find(context.Background(), "saltmere-lab")
	if err != nil {
		b.T.Fatal(err)
	}
	for _, region := range a.Regions {
		if _, err := b.Service.Accounts.OffersOf(context.Background(), a, region, false); err != nil {
			b.T.Fatal(Explain(err))
		}
	}
}

// Ask proposes a text.
func (b *Bench) Ask(stack, source string) (proposing.Proposal, error) {
	return b.Service.Proposing.Propose(context.Background(), b.Rig.Admin, proposing.NewProposal{
		Stack:   stack,
		File:    "coast.sail.yaml",
		Source:  source,
		Account: "saltmere-lab",
		Region:  "north-fell",
	})
}

// Propose proposes a text that is not refused.
func (b *Bench) Propose(stack, source string) proposing.Proposal {
	b.T.Helper()
	p, err := b.Ask(stack, source)
	if err != nil {
		b.T.Fatal(Explain(err))
	}
	return p
}

// Apply proposes a text and carries it out.
func (b *Bench) Apply(stack, source string) stacks.Run {
	b.T.Helper()
	return b.Done(b.Propose(stack, source))
}

// Done carries a proposal out to its end.
func (b *Bench) Done(p proposing.Proposal) stacks.Run {
	b.T.Helper()
	run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, p))
	if run.State != "done" {
		b.T.Fatalf("run %d is %s: %s", run.ID, run.State, run.Reason)
	}
	return run
}

// Refused gives the findings of a proposal that is refused.
func (b *Bench) Refused(stack, source, code string) string {
	b.T.Helper()
	_, err := b.Ask(stack, source)
	if text := fmt.Sprint(err); err == nil || !strings.Contains(Explain(err), code) {
		b.T.Errorf("not refused with %s: %s", code, text)
		return ""
	}
	return Explain(err)
}

// Changes lists what changes.
func Changes(p proposing.Proposal) string {
	var out []string
	for _, c := range p.Changes {
		if c.Change != change.Same {
			out = append(out, fmt.Sprintf("%s %s", c.Change, c.Resource))
		}
	}
	return strings.Join(out, ", ")
}

// Alive are the ids of what the cloud has of a kind.
func (b *Bench) Alive(kind string) (labels []string) {
	for _, x := range b.Rig.Ledger().Alive {
		if x.Kind == kind && x.Phase != "removing" {
			labels = append(labels, x.ID)
		}
	}
	return labels
}

// Lines of templates.
const (
	NetLine  = "net: {type: network, want: {range: 10.20.0.0/16}}"
	LanLine  = "lan: {type: subnet, want: {network: =net.id, range: 10.20.1.0/24}}"
	DiskLine = "data: {type: disk, at_retire: keep, want: {size: 20GiB, type: solid}}"
)
