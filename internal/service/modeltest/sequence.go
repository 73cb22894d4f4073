package modeltest

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
	"undersail/sim/world"
)

// Sequence is one stack that is changed again and again.
type Sequence struct {
	Seed uint64
	// Steps is how often it is changed; Faulty says that the cloud misbehaves too.
	// Both follow from the seed, so that it alone replays the sequence.
	Steps  int
	Faulty bool

	rig     *servicetest.Rig
	service *service.Service
	random  *rand.Rand
	now     *stack
	name    string
	log     []string
	by      map[string]bool // ids of what was removed by hand
	wrecks  map[string]bool // ids of what broke while it was made
	agreed  map[string]bool // names of resources whose data may be lost
	applied string
	allows  []string // what it may be refused with too
	noOrder string   // what there was no order for, the last time that it was refused
	Refused int      // proposals that were refused with findings
	Applied int
	// Undone runs, runs that were Given a value in their middle, kept disks that were Taken over.
	Undone, Given, Taken int
	ways                 *ways
}

type ledgered = world.LedgerResource

// NewSequence makes a sequence on a rig. Sequences with other numbers on one rig do
// not meet: each has addresses of its own.
func NewSequence(r *servicetest.Rig, s *service.Service, seed uint64, number int) *Sequence {
	random := rand.New(rand.NewPCG(seed, 8))
	return &Sequence{
		ways:    newWays(seed),
		Seed:    seed,
		Steps:   3 + int(seed/2%3),
		Faulty:  seed%2 == 1,
		rig:     r,
		service: s,
		random:  random,
		now:     &stack{random: random, base: 1 + number%250},
		name:    fmt.Sprintf("model-%d", number),
		by:      map[string]bool{},
		wrecks:  map[string]bool{},
		agreed:  map[string]bool{},
	}
}

// Log tells what the sequence did.
func (q *Sequence) Log() string { return strings.Join(q.log, "\n") }

func (q *Sequence) say(format string, args ...any) {
	q.log = append(q.log, fmt.Sprintf(format, args...))
}

// Run goes through the sequence and gives the differences that were found first.
func (q *Sequence) Run() (differences []string) {
	q.now.first()
	q.say("seed %d: %d declarations", q.Seed, len(q.now.list))
	for step := range q.Steps {
		q.remember(step == 0)
		before := q.now.clone()
		if step > 0 {
			for range 1 + q.random.IntN(3) {
				if what := q.now.edit(); what != "" {
					q.say("%d: %s", step, what)
				}
			}
			q.change()
			q.meddle()
		}
		if q.Faulty && q.random.IntN(3) == 0 {
			q.fault()
		}
		refused, err := q.apply()
		q.lift()
		switch {
		case err != nil:
			return []string{err.Error()}
		case refused:
			q.now = before
			q.now.random = q.random
			// What was altered by hand is put back by what was wanted before.
			again, err := q.apply()
			if again && err == nil { // what was removed by hand may take guarded things with it
				q.unguard()
				again, err = q.apply()
			}
			if err != nil || again {
				return []string{fmt.Sprintf("what was accepted before is refused now (%v)", err)}
			}
		}
		if differences = q.check(); len(differences) > 0 {
			return differences
		}
		for _, d := range q.now.list {
			d.was = ""
		}
	}
	q.ways = nil
	return q.retire()
}

var allowed = []string{"guard", "shrink", "quota", "address-plan", "zones", "taken", "no-order", "disk-size",
	"range-in-use", "not-offered"}

// apply proposes, accepts with every consent, and goes on until the run is done.
func (q *Sequence) apply() (refused bool, err error) {
	ctx := context.Background()
	p, err := q.service.Proposing.Propose(ctx, q.rig.Admin, proposing.NewProposal{
		Stack:   q.name,
		File:    "model.sail.yaml",
		Source:  q.now.text(),
		Account: "saltmere-lab",
		Region:  "north-fell",
	})
	var e *refusal.Error
	q.noOrder = ""
	if errors.As(err, &e) && e.Kind == refusal.Findings && e.Diagnostics == nil {
		for _, f := range e.Findings {
			if f.Code == "no-order" {
				q.noOrder = f.Place
			}
			if f.Severity == "error" && !slices.Contains(allowed, f.Code) && !slices.Contains(q.allows, f.Code) {
				return true, fmt.Errorf("refused with %s: %s: %s", f.Code, f.Place, f.Message)
			}
			if f.Severity == "error" {
				q.say("   refused: %s: %s", f.Place, f.Message)
			}
		}
		q.Refused++
		return true, nil
	}
	if err != nil {
		return false, fmt.Errorf("proposing: %s\n%s", servicetest.Explain(err), q.now.text())
	}
	for tries := 0; ; tries++ {
		if p.State == "nothing" {
			return false, nil
		}
		if tries == 8 {
			return false, errors.New("it never gets done")
		}
		q.say("   %s%s", p.Summary, consents(p))
		run, err := q.carry(p)
		if err != nil {
			return false, err
		}
		q.applied = q.now.text()
		if run.State != state.Done {
			q.say("   run %d %s: %s", run.ID, run.State, run.Reason)
			if run, err = q.service.Stacks.Run(ctx, run.ID); err != nil {
				return false, err
			}
		}
		if q.turnsBack(run) {
			if back, err := q.undo(run); err != nil || back {
				return false, err
			}
		}
		switch {
		case run.State == state.Done:
			q.Applied++
			return false, nil
		case run.State == state.Parked && len(run.Awaits) > 0:
			if err := q.give(); err != nil {
				return false, err
			}
			if run = q.rig.Await(q.service, run.ID); run.State == state.Done {
				q.applied = q.now.text()
				q.Applied++
				return false, nil
			}
		}
		alive, _ := q.mine()
		for _, x := range alive {
			q.wrecks[x.ID] = q.wrecks[x.ID] || x.Phase == "broken"
		}
		if tries > 1 {
			q.lift()
		}
		if p, err = q.service.Proposing.Continue(ctx, q.rig.Admin, q.name); err != nil {
			return false, fmt.Errorf("going on: %s", servicetest.Explain(err))
		}
	}
}

func consents(p proposing.Proposal) string {
	text := ""
	for _, c := range p.Consents {
		text += "; " + c.About
	}
	return text
}

// carry accepts a proposal unless it is, and waits for its run.
func (q *Sequence) carry(p proposing.Proposal) (stacks.Run, error) {
	ctx := context.Background()
	var agree []string
	for _, c := range p.Consents {
		agree = append(agree, c.Name)
	}
	for _, c := range p.Changes {
		if c.Loses {
			q.agreed[strings.TrimSuffix(c.Resource, " (old)")] = true
			if c.Was != "" {
				q.agreed[c.Was] = true
			}
		}
	}
	if p.State == state.Open {
		if _, err := q.service.Proposing.Accept(ctx, q.rig.Admin, p.ID, agree, ""); err != nil {
			return stacks.Run{}, fmt.Errorf("accepting: %s", servicetest.Explain(err))
		}
	}
	run, err := q.service.Proposing.Apply(ctx, q.rig.Admin, p.ID, "")
	if err != nil {
		return stacks.Run{}, fmt.Errorf("applying: %s", servicetest.Explain(err))
	}
	return q.rig.Await(q.service, run.ID), nil
}

// mine are the resources in the cloud that carry the mark of the stack.
func (q *Sequence) mine() (alive, gone []world.LedgerResource) {
	l := q.rig.Ledger()
	ours := func(x world.LedgerResource) bool { return x.Tags["undersail-stack"] == q.name }
	return slices.DeleteFunc(l.Alive,
			func(x world.LedgerResource) bool { return !ours(x) || x.Phase == "removing" }), slices.DeleteFunc(l.Gone,
			func(x world.LedgerResource) bool { return !ours(x) })
}

// meddle removes or alters something by hand.
func (q *Sequence) meddle() {
	if q.random.IntN(4) > 0 {
		return
	}
	alive, _ := q.mine()
	if len(alive) == 0 {
		return
	}
	x := pick(q.random, alive)
	switch {
	case x.Kind == "firewalls" && q.random.IntN(2) == 0:
		q.rig.ByHand("PATCH", x.ID, map[string]any{"inbound": []any{map[string]any{"source": "0.0.0.0/0", "port": 22}}})
		q.say("   by hand: the rules of %s", x.Label)
	case x.Kind == "disks" && x.Tags["undersail-resource"] != "" && q.random.IntN(2) == 0:
		return
	default:
		q.by[x.ID] = true
		q.rig.RemoveByHand(x.ID)
		q.say("   by hand: removed %s", x.Label)
	}
}

// fault lets the cloud misbehave towards this stack for a while.
func (q *Sequence) fault() {
	kind := pick(q.random, []string{"lose-answer", "server-error", "late-failure", "denied"})
	on := pick(q.random, []string{"networks", "subnets", "firewalls", "disks", "instances", ""})
	count := 1 + q.random.IntN(2)
	q.rig.Fault(world.Fault{Kind: kind, On: on, Label: q.name + "-", Count: count})
	q.say("   fault: %s on %s, %d times", kind, on, count)
}

func (q *Sequence) lift() {
	if q.Faulty {
		q.rig.Lift()
	}
}

// unguard takes every guard out of the template.
func (q *Sequence) unguard() {
	for _, d := range q.now.list {
		d.guard = false
	}
}

// retire ends the sequence: guards are lifted, and nothing may be left but what is
// kept.
func (q *Sequence) retire() []string {
	ctx := context.Background()
	q.unguard()
	if len(q.now.list) == 0 {
		return nil // everything is undone, and a stack of nothing is no template
	}
	if refused, err := q.apply(); err != nil || refused {
		return []string{fmt.Sprintf("lifting the guards: refused %t, %v", refused, err)}
	}
	p, err := q.service.Proposing.Retire(ctx, q.rig.Admin, q.name)
	if err != nil {
		return []string{"retiring: " + servicetest.Explain(err)}
	}
	run, err := q.carry(p)
	if err == nil && run.State == state.Failed && strings.Contains(run.Reason, "patience") {
		// At this pace a second is longer than the patience of a removal.
		if p, err = q.service.Proposing.Retire(ctx, q.rig.Admin, q.name); err == nil {
			run, err = q.carry(p)
		}
	}
	if err != nil || run.State != state.Done {
		return []string{fmt.Sprintf("retiring ends %s: %s (%v)", run.State, run.Reason, err)}
	}
	kept, err := q.service.Proposing.Kept(ctx)
	if err != nil {
		return []string{err.Error()}
	}
	ids := map[string]bool{}
	for _, k := range kept {
		ids[k.ID] = true
	}
	var out []string
	alive, _ := q.mine()
	for _, x := range alive {
		if !ids[x.ID] {
			out = append(out, fmt.Sprintf("left after retiring: %s %s", x.Kind, x.Label))
		}
		delete(ids, x.ID)
	}
	for _, k := range kept {
		if ids[k.ID] && k.Stack == q.name && !q.by[k.ID] {
			out = append(out, fmt.Sprintf("%s is listed as kept and is not there", k.Resource))
		}
	}
	return out
}
