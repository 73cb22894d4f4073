package momenttest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
	simworld "undersail/sim/world"
)

// The states that a stack is in when two begin.
const (
	fresh   = "fresh"   // proposed, and never applied
	healthy = "healthy" // applied
	failed  = "failed"  // its last run failed
	parked  = "parked"  // its run waits for a value
)

// world is what one meeting of two is about: a stack, perhaps one that reads it, and
// something that is kept.
type world struct {
	rig      *servicetest.Rig
	s        *service.Service
	store    *store.Store
	n        int
	state    string
	proposal proposing.Proposal // of the stack, open or accepted
	retiring proposing.Proposal // of the stack, accepted
	reading  proposing.Proposal // of the reader, accepted
	taking   proposing.Proposal // of the taker, accepted
	removing proposing.Proposal // of what is kept, accepted
	run      int64              // the last one of the stack
	last     string             // how it is
}

func (w *world) stack() string  { return fmt.Sprintf("quay-%d", w.n) }
func (w *world) reader() string { return fmt.Sprintf("pier-%d", w.n) }
func (w *world) taker() string  { return fmt.Sprintf("mole-%d", w.n) }
func (w *world) moved() string  { return fmt.Sprintf("berth-%d", w.n) }

func (w *world) admin() people.User { return w.rig.Admin }

const head = "undersail: 1\nabout: {name: %s, version: 1.0.0, title: %s}\n"

func source(state, note string) string {
	text := fmt.Sprintf(head, "quay", "Quay") + `inputs: {note: {type: string, default: ` + note +
		`}, serial: {type: string, default: none, later: true}}
resources:
  pair: {type: key_pair, want: {tags: {note: =inputs.note}}}
  data: {type: disk, want: {size: 4GiB, type: solid}, after: {pair: healthy}}
outputs: {id: {value: =data.id}}
`
	if state == parked {
		return strings.Replace(text, "default: none, ", "", 1)
	}
	return strings.Replace(text, ", later: true", "", 1)
}

const reads = `inputs: {quay: {picks: stack, of: quay@^1}}
resources:
  mark: {type: key_pair, want: {tags: {of: =inputs.quay.outputs.id}}}
`

const keeper = `resources:
  hold: {type: disk, want: {size: 4GiB, type: solid}, at_retire: keep}
`

// task is a stack whose task can be run again.
const task = `inputs: {note: {type: string, default: a}}
resources:
  net: {type: network, want: {range: 10.33.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.33.0.0/24}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  pair: {type: key_pair, want: {tags: {note: =inputs.note}}}
  shore: {type: instance, want: {size: plain-2, image: tide-base-3, subnet: =lan.id, public: true, firewalls: ["=door.id"], key_pair: =pair.id}}
  data: {type: task, want: {command: echo run >> runs, on: =shore.public_address, user: tide, key: =pair.private_key}}
outputs: {id: {value: =shore.id}}
`

func (w *world) fatal(what string, err error) { panic(what + ": " + servicetest.Explain(err)) }

// carry accepts a proposal and applies it, and waits for its run.
func (w *world) carry(ctx context.Context, p proposing.Proposal) error {
	if p.State == state.Open {
		var err error
		if p, err = w.s.Proposing.Accept(ctx, w.admin(), p.ID, servicetest.All(p), ""); err != nil {
			return err
		}
	}
	if p.State == proposing.Nothing {
		return nil
	}
	run, err := w.s.Proposing.Apply(ctx, w.admin(), p.ID, "")
	if err != nil {
		return err
	}
	w.await(run.ID)
	return nil
}

// await waits until a run is over or parked.
func (w *world) await(id int64) string {
	for deadline := time.Now().Add(3 * time.Minute); time.Now().Before(deadline); time.Sleep(4 * time.Millisecond) {
		var now string
		err := w.store.Pool.QueryRow(context.Background(), "SELECT state FROM runs WHERE id = $1", id).Scan(&now)
		if err != nil {
			w.fatal("look at a run", err)
		}
		if !slices.Contains([]string{state.Queued, state.Underway, state.Stopping, state.Undoing}, now) {
			return now
		}
	}
	panic(fmt.Sprintf("run %d does not end", id))
}

func (w *world) propose(ctx context.Context, stack, source string, n proposing.NewProposal) proposing.Proposal {
	n.Stack, n.File, n.Source, n.Account, n.Region = stack, "t.sail.yaml", source, "saltmere-lab", "north-fell"
	p, err := w.s.Proposing.Propose(ctx, w.admin(), n)
	if err != nil {
		w.fatal("propose "+stack, err)
	}
	return p
}

func (w *world) accepted(p proposing.Proposal) proposing.Proposal {
	out, err := w.s.Proposing.Accept(context.Background(), w.admin(), p.ID, servicetest.All(p), "")
	if err != nil {
		w.fatal("accept", err)
	}
	return out
}

// build makes the world that two deeds need.
func (w *world) build(a, b deed) {
	ctx := context.Background()
	has := func(name string) bool { return a.name == name || b.name == name }
	text := source(w.state, "a")
	if has("task again") {
		text = fmt.Sprintf(head, "quay", "Quay") + task
	}
	if w.state != fresh {
		if w.state == failed {
			w.rig.Fault(simworld.Fault{Kind: "denied", On: "disks", Label: w.stack() + "-", Count: 1})
		}
		if w.state == parked {
			text = strings.Replace(text, "data: {type: disk, want: {size: 4GiB, type: solid}",
				"data: {type: disk, want: {size: 4GiB, type: solid, tags: {serial: =inputs.serial}}", 1)
		}
		p := w.propose(ctx, w.stack(), text, proposing.NewProposal{})
		if err := w.carry(ctx, p); err != nil {
			w.fatal("apply", err)
		}
		runs, err := w.s.Stacks.Runs(ctx, w.stack(), 0, 1)
		if err != nil {
			w.fatal("runs", err)
		}
		w.run, w.last = runs[0].ID, runs[0].State
		want := map[string]string{healthy: state.Done, failed: state.Failed, parked: state.Parked}[w.state]
		if w.last != want {
			panic(fmt.Sprintf("the stack is to be %s, and its run is %s: %s", w.state, w.last, runs[0].Reason))
		}
	}
	if has("read") {
		w.reading = w.accepted(w.propose(ctx, w.reader(), fmt.Sprintf(head, "pier", "Pier")+reads,
			proposing.NewProposal{Inputs: map[string]any{"quay": w.stack()}}))
	}
	if has("take over") || has("kept remove") || has("kept move") {
		err := w.carry(ctx, w.propose(ctx, w.taker(), fmt.Sprintf(head, "mole", "Mole")+keeper,
			proposing.NewProposal{}))
		if err != nil {
			w.fatal("apply what is kept", err)
		}
		p, err := w.s.Proposing.Retire(ctx, w.admin(), w.taker())
		if err == nil {
			err = w.carry(ctx, p)
		}
		if err != nil {
			w.fatal("retire what is kept", err)
		}
		if has("take over") {
			w.taking = w.accepted(w.propose(ctx, w.taker(), fmt.Sprintf(head, "mole", "Mole")+keeper,
				proposing.NewProposal{}))
		}
		if has("kept remove") {
			p, err := w.s.Proposing.Discard(ctx, w.admin(), w.taker()+"/hold")
			if err != nil {
				w.fatal("discard", err)
			}
			w.removing = w.accepted(p)
		}
	}
	ofStack := has("apply") || has("accept") || has("refuse") || has("task again")
	switch {
	case w.state == parked:
	case ofStack:
		n := proposing.NewProposal{Inputs: map[string]any{"note": "b"}}
		if has("task again") {
			n.Again = []string{"data"}
		}
		w.proposal = w.propose(ctx, w.stack(), text, n)
		if !has("accept") && !has("refuse") {
			w.proposal = w.accepted(w.proposal)
		}
	case has("retire") && w.state != fresh:
		p, err := w.s.Proposing.Retire(ctx, w.admin(), w.stack())
		if err != nil {
			w.fatal("propose to retire", err)
		}
		w.retiring = w.accepted(p)
	}
}

// mine are the names of the world's stacks.
func (w *world) mine() []string { return []string{w.stack(), w.reader(), w.taker(), w.moved()} }

// settle waits until nothing of the world is under way.
func (w *world) settle() {
	for deadline := time.Now().Add(3 * time.Minute); time.Now().Before(deadline); time.Sleep(4 * time.Millisecond) {
		var busy int
		err := w.store.Pool.QueryRow(context.Background(),
			"SELECT count(*) FROM runs r JOIN stacks s ON s.id = r.stack_id WHERE s.name = ANY($1) AND r.state IN "+
				"('queued', 'underway', 'stopping', 'undoing')", w.mine()).Scan(&busy)
		if err != nil {
			w.fatal("look at runs", err)
		}
		if busy == 0 {
			return
		}
	}
	panic("a run does not end")
}

// clear removes what is left of the world, past the product.
func (w *world) clear() {
	for _, x := range w.rig.Ledger().Alive {
		if slices.Contains(w.mine(), x.Tags["undersail-stack"]) {
			w.rig.RemoveByHand(x.ID)
		}
	}
	w.rig.Lift()
	w.exec("UPDATE runs SET state = 'stopped', ended_at = now() WHERE ended_at IS NULL AND stack_id IN (SELECT id "+
		"FROM stacks WHERE name = ANY($1))", w.mine())
	w.exec("DELETE FROM resources WHERE stack_id IN (SELECT id FROM stacks WHERE name = ANY($1))", w.mine())
	w.exec("UPDATE stacks SET retired_at = now() WHERE name = ANY($1) AND retired_at IS NULL", w.mine())
	w.exec("UPDATE proposals SET state = 'stale' WHERE state IN ('open', 'accepted')")
	w.exec("DELETE FROM kept")
	w.exec("UPDATE accounts SET second_person = false")
	w.exec("UPDATE users SET roles = $2 WHERE name = $1", w.admin().Name, w.admin().Roles)
	a, err := w.store.Account(context.Background(), "saltmere-lab")
	if err != nil {
		w.fatal("account", err)
	}
	if a.ClosedAt != nil {
		w.rig.Renew(w.s)
	}
}

func (w *world) exec(query string, args ...any) {
	if _, err := w.store.Pool.Exec(context.Background(), query, args...); err != nil {
		w.fatal(query, err)
	}
}

// rows reads one column of texts.
func (w *world) rows(query string, args ...any) []string {
	rows, err := w.store.Pool.Query(context.Background(), query, args...)
	if err != nil {
		w.fatal(query, err)
	}
	defer rows.Close()
	out := []string{}
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			w.fatal(query, err)
		}
		out = append(out, text)
	}
	return out
}

// wrong holds the cloud against the records, and what both were told against what a service may
// say.
func (w *world) wrong(told ...error) (out []string) {
	differ := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	recorded := w.rows("SELECT token FROM resources r JOIN stacks s ON s.id = r.stack_id WHERE s.name = ANY($1) AND "+
		"s.retired_at IS NULL AND r.type <> 'task' UNION ALL SELECT token FROM kept WHERE stack = ANY($1)", w.mine())
	for i, token := range recorded {
		if slices.Contains(recorded[:i], token) {
			differ("%s is recorded twice", token)
		}
	}
	there, twice := map[string]bool{}, map[string]bool{}
	for _, x := range w.rig.Ledger().Alive {
		stack, name := x.Tags["undersail-stack"], x.Tags["undersail-resource"]
		if !slices.Contains(w.mine(), stack) || x.Phase == "removing" {
			continue
		}
		there[x.Name] = true
		if !slices.Contains(recorded, x.Name) {
			differ("%s of stack %s lives and is recorded nowhere", name, stack)
		}
		if key := stack + "/" + name; twice[key] {
			differ("two of %s live", key)
		} else {
			twice[key] = true
		}
	}
	for _, token := range w.rows(`SELECT token FROM resources r JOIN stacks s ON s.id = r.stack_id WHERE s.name = ANY($1) AND s.retired_at IS NULL AND r.state = 'healthy' AND r.type <> 'task'
		UNION ALL SELECT token FROM kept WHERE stack = ANY($1)`, w.mine()) {
		if !there[token] {
			differ("%s is told to be there, and is not", token)
		}
	}
	for _, reader := range w.rows(`SELECT k.name FROM stacks k, jsonb_object_keys(k.reads) o WHERE k.name = ANY($1) AND k.retired_at IS NULL AND NOT EXISTS (SELECT FROM stacks x WHERE x.name = o AND x.retired_at IS NULL)`, w.mine()) {
		differ("%s reads a stack that is retired", reader)
	}
	for _, stack := range w.rows(`SELECT s.name FROM stacks s JOIN accounts a ON a.name = s.account WHERE s.name = ANY($1) AND s.retired_at IS NULL AND a.closed_at IS NOT NULL AND EXISTS (SELECT FROM runs r WHERE r.stack_id = s.id)`, w.mine()) {
		differ("%s lives in a closed account", stack)
	}
	for _, p := range w.rows(`SELECT p.state || ' proposal ' || p.id || ' has ' || count(r.id) || ' runs' FROM proposals p JOIN stacks s ON s.id = p.stack_id LEFT JOIN runs r ON r.proposal_id = p.id
		WHERE s.name = ANY($1) AND p.kind <> 'give' GROUP BY p.id, p.state HAVING (p.state = 'applied') <> (count(r.id) = 1)`, w.mine()) {
		differ("%s", p)
	}
	for _, err := range told {
		var said *refusal.Error
		switch {
		case err == nil:
		case !errors.As(err, &said):
			differ("somebody is told: %v", err)
		case said.Kind == refusal.Findings:
			differ("somebody is told of findings: %s", servicetest.Explain(err))
		}
	}
	return out
}
