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
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
)

// ways are what else happens to a stack between its changes: runs are undone, when they are over
// and when they failed or wait; what is kept is taken over again; a value is asked for in the
// middle of a run. They draw from a stream of their own, so that a seed goes through the same
// changes with them and without.
type ways struct {
	random  *rand.Rand
	before  *stack
	applied string
	held    map[string]string // ids of disks before the change, by name
	there   map[string]bool   // ids of all that was alive before it
}

// newWays gives the ways of a seed; sequences of every third seed have none.
func newWays(seed uint64) *ways {
	if seed%3 == 2 {
		return nil
	}
	return &ways{random: rand.New(rand.NewPCG(seed, 12))}
}

// remember notes what the stack is before it is changed; at first it is nothing.
func (q *Sequence) remember(first bool) {
	if q.ways == nil {
		return
	}
	q.ways.before, q.ways.applied = q.now.clone(), q.applied
	if first {
		q.ways.before.list = nil
	}
	q.ways.held, q.ways.there = map[string]string{}, map[string]bool{}
	alive, _ := q.mine()
	for _, x := range alive {
		q.ways.there[x.ID] = true
	}
	for _, d := range q.now.list {
		for _, name := range d.members() {
			for _, x := range alive {
				if d.typ == "disk" && x.Tags["undersail-resource"] == name {
					q.ways.held[name] = x.ID
				}
			}
		}
	}
}

// change drops a disk that is kept, brings one back, or lets something ask for a value later.
func (q *Sequence) change() {
	if q.ways == nil {
		return
	}
	if len(q.now.dropped) > 0 && q.ways.random.IntN(2) == 0 {
		if d := q.now.back(); d != nil {
			q.say("   bring %s back", d.name)
			q.Taken++
		}
		return
	}
	switch q.ways.random.IntN(4) {
	case 0:
		for _, d := range q.now.of("disk") {
			if d.keep {
				q.say("   drop %s, which is kept", d.name)
				q.now.drop(d.name)
				return
			}
		}
	case 1:
		if len(q.now.list) > 0 {
			d := q.now.list[q.ways.random.IntN(len(q.now.list))]
			if d.asks = !d.asks; d.asks {
				q.say("   %s asks for a word later", d.name)
			}
		}
	}
}

// back declares a kept disk again that was dropped; nil where there is none.
func (s *stack) back() *declaration {
	for i, d := range s.dropped {
		if s.find(d.name) == nil {
			s.dropped = slices.Delete(slices.Clone(s.dropped), i, i+1)
			s.list = append(s.list, d.clone())
			return d
		}
	}
	return nil
}

// give answers a run that waits for a word.
func (q *Sequence) give() error {
	q.Given++
	q.now.word = fmt.Sprintf("word-%d", q.ways.random.IntN(1000))
	q.say("   give %s", q.now.word)
	_, err := q.service.Proposing.Give(context.Background(), q.rig.Admin, q.name, map[string]any{"word": q.now.word})
	if err != nil {
		return fmt.Errorf("giving: %s", servicetest.Explain(err))
	}
	return nil
}

// turnsBack says by chance whether a run is undone: one that is over, or one that failed or waits.
func (q *Sequence) turnsBack(run stacks.Run) bool {
	if q.ways == nil || q.ways.before == nil {
		return false
	}
	chance := 4
	if run.State != state.Done {
		chance = 2
	}
	return q.ways.random.IntN(chance) == 0
}

// undo undoes a run: what was before the change is there again, or it is said beforehand what
// cannot be put back. False says that there is no way back, and why was told.
func (q *Sequence) undo(run stacks.Run) (bool, error) {
	ctx := context.Background()
	p, err := q.service.Proposing.Undo(ctx, q.rig.Admin, run.ID)
	var refused *refusal.Error
	if errors.As(err, &refused) && refused.Kind == refusal.Findings {
		for _, f := range refused.Findings {
			if f.Severity == "error" && !slices.Contains(allowed, f.Code) {
				return false, fmt.Errorf("undoing run %d is refused with %s: %s: %s", run.ID, f.Code, f.Place,
					f.Message)
			}
			if f.Severity == "error" {
				q.say("   no way back: %s: %s", f.Place, f.Message)
			}
		}
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("undoing run %d, which is %s: %s", run.ID, run.State, servicetest.Explain(err))
	}
	q.Undone++
	stood, _ := q.mine()
	q.say("   undo run %d: %s%s", run.ID, p.Summary, consents(p))
	if run.State != state.Done { // nobody relied yet on what it made
		alive, _ := q.mine()
		for _, x := range alive {
			q.wrecks[x.ID] = q.wrecks[x.ID] || !q.ways.there[x.ID]
		}
	}
	for tries := 0; ; tries++ {
		if p.State == "nothing" {
			break
		}
		back, err := q.carry(p)
		if err != nil {
			return false, err
		}
		if back.State == state.Done {
			break
		}
		q.say("   run %d %s: %s", back.ID, back.State, back.Reason)
		if q.lift(); tries == 6 {
			return false, errors.New("the undoing never gets done")
		}
		if p, err = q.service.Proposing.Undo(ctx, q.rig.Admin, run.ID); err == nil {
			q.say("   undo it once more: %s%s", p.Summary, consents(p))
		}
		if err != nil {
			return false, fmt.Errorf("undoing run %d once more: %s", run.ID, servicetest.Explain(err))
		}
	}
	after := q.now
	q.now, q.applied = q.ways.before.clone(), q.ways.applied
	told := map[string]bool{}
	for _, f := range p.Findings {
		told[f.Place] = told[f.Place] || f.Code == "not-put-back"
	}
	if err := q.restored(stood, told); err != nil {
		return true, err
	}
	return true, q.follow(p, after)
}

// follow writes into the template what was told to stay as it is, and applies it.
func (q *Sequence) follow(p proposing.Proposal, after *stack) error {
	stays := false
	for _, f := range p.Findings {
		name, property, _ := strings.Cut(f.Place, ".")
		declared, _, _ := strings.Cut(name, "[")
		d := q.now.find(declared)
		if f.Code != "not-put-back" || property != "size" || d == nil {
			continue
		}
		for _, was := range after.list { // under whatever name it had then
			if was.name == declared || was.was == declared {
				d.want["size"], stays = was.want["size"], true
			}
		}
	}
	if !stays {
		return nil
	}
	q.ways.before = nil
	_, err := q.apply()
	return err
}

// restored tells of disks that were there before the change and still stood when it was undone,
// and are not what the stack has now, but for those that were told of.
func (q *Sequence) restored(stood []ledgered, told map[string]bool) error {
	alive, _ := q.mine()
	kept, err := q.service.Proposing.Kept(context.Background())
	if err != nil {
		return err
	}
	for name, id := range q.ways.held {
		is := func(x ledgered) bool { return x.ID == id }
		there := slices.ContainsFunc(alive, is)
		if !there && slices.ContainsFunc(stood, is) && !q.by[id] {
			return fmt.Errorf("the disk %s (%s) was part of the stack before, and undoing the change removed it", name,
				id)
		}
		if there && !told[name] && slices.ContainsFunc(kept, func(k proposing.Kept) bool { return k.ID == id }) {
			return fmt.Errorf("the disk %s (%s) was part of the stack before, is alive, and is kept instead of "+
				"being part of it again", name, id)
		}
	}
	return nil
}
