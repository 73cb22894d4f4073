package engine

import (
	"context"
	"fmt"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
	"undersail/internal/store"
	"undersail/internal/task"
)

// at gives who makes the resource of a step: the cloud, or, of a type that no cloud has,
// this engine.
func (x *execution) at(s *store.Step) cloud.Adapter {
	if t, _ := resource.ByName(s.Type); t.Own {
		return &tasks{x, s}
	}
	return x.adapter
}

// tasks makes the task of one step: a command on a machine. Each run of the command is a
// part, under a mark of its own by which the machine finds it again.
type tasks struct {
	x *execution
	s *store.Step
}

const (
	runPart  = "run"
	undoPart = "undo"
	// nextLook is when a command that runs is looked at again, in cloud seconds.
	nextLook = 2
)

func (t *tasks) Visibility() float64 { return 0 }

func (t *tasks) WhoAmI(ctx context.Context) (cloud.Identity, error) { return t.x.adapter.WhoAmI(ctx) }

func (t *tasks) Offers(ctx context.Context, region string) (offer.Offers, error) {
	return t.x.adapter.Offers(ctx, region)
}

// Search finds nothing: what runs on machines is found by asking them.
func (t *tasks) Search(context.Context, cloud.Query) iter.Seq2[cloud.Live, error] {
	return func(func(cloud.Live, error) bool) {}
}

// Step hands the command over and starts it, once for the step.
func (t *tasks) Step(ctx context.Context, todo cloud.Task, intend func(cloud.Part) error) (cloud.Progress, error) {
	want, err := t.want()
	if err != nil {
		return cloud.Progress{}, err
	}
	kind, command, input := runPart, text(want, "command"), text(want, "input")
	if todo.Action == cloud.Remove {
		kind, command, input = undoPart, undoOf(todo.Ref, want), ""
	}
	mark := nextMark(todo.Ref, kind)
	going := t.live(todo.Ref, cloud.Making)
	if todo.Action == cloud.Remove {
		going.Phase = cloud.Removing
	}
	if mine := t.mine(todo.Ref, kind); mine != nil && mine.Seen {
		return cloud.Progress{Live: going}, nil
	} else if mine != nil {
		mark = mine.Mark // handed over once more, and begun by nobody yet
	}
	switch {
	case todo.Action == cloud.Remove && command == "":
		return cloud.Progress{Live: going}, nil
	case todo.Action == cloud.Alter && !t.again(todo):
		return cloud.Progress{Live: t.live(todo.Ref, cloud.Ready)}, nil
	}
	m, leave, err := t.machine(ctx, want)
	if err != nil {
		if todo.Action == cloud.Remove && t.goneWith(ctx, want) {
			return cloud.Progress{Live: going}, nil
		}
		return cloud.Progress{}, err
	}
	defer leave()
	if err := m.Hand(ctx, mark, command, input); err != nil {
		return cloud.Progress{}, unanswered(err, cloud.Transient)
	}
	part := cloud.Part{Kind: kind, ID: mark, Mark: mark}
	if err := intend(part); err != nil {
		return cloud.Progress{}, err
	}
	if err := m.Start(ctx, mark); err != nil {
		return cloud.Progress{}, unanswered(err, cloud.UnknownOutcome)
	}
	part.Seen = true
	going.Parts, going.ReadyIn = []cloud.Part{part}, nextLook
	return cloud.Progress{Live: going}, nil
}

// undoOf is what undoes a task, or nothing where it never ran.
func undoOf(ref cloud.Ref, want map[string]any) string {
	if p := last(ref, runPart); p == nil || p.Sent.IsZero() && !p.Seen {
		return ""
	}
	return text(want, "undo")
}

// again reports whether an alteration makes the command run again: what it was given
// changed, it failed, or somebody asked for it.
func (t *tasks) again(todo cloud.Task) bool {
	kind, _ := resource.ByName(t.s.Type)
	for _, p := range kind.Properties {
		if _, changed := todo.Want[p.Name]; p.Renews && (changed || slices.Contains(todo.Unset, p.Name)) {
			return true
		}
	}
	return t.x.runsAgain(t.s)
}

// runsAgain reports whether what a step alters is run again without any difference: it
// failed when it was run, or somebody asked for it.
func (x *execution) runsAgain(s *store.Step) bool {
	row := x.records.of(s)
	t, _ := resource.ByName(s.Type)
	return t.Own && row != nil && (row.Attributes["exit"] == nil || slices.Contains(x.document.Again, s.Resource))
}

// nextMark names the next run of a task: its token and a number. One that was to be
// started and, as far as anybody knows, was not keeps its name: the machine starts each
// once, whoever asks.
func nextMark(ref cloud.Ref, kind string) string {
	if p := last(ref, kind); p != nil && p.Sent.IsZero() && !p.Seen {
		return p.Mark
	}
	n := 1
	for _, p := range ref.Parts {
		if p.Kind == kind {
			n++
		}
	}
	if kind == undoPart {
		return fmt.Sprintf("%s.undo.%d", ref.Token, n)
	}
	return fmt.Sprintf("%s.%d", ref.Token, n)
}

// mine finds the run that this step began, or nil.
func (t *tasks) mine(ref cloud.Ref, kind string) *cloud.Part {
	p := last(ref, kind)
	if p == nil || p.Sent.IsZero() || t.s.IntentAt == nil || !sentFor(*p, *t.s.IntentAt) {
		return nil
	}
	return p
}

// last is the last run of a kind, or nil.
func last(ref cloud.Ref, kind string) *cloud.Part {
	for i := range slices.Backward(ref.Parts) {
		if ref.Parts[i].Kind == kind {
			return &ref.Parts[i]
		}
	}
	return nil
}

// Look asks the machine how far the command is. While it runs, what it writes is told.
func (t *tasks) Look(ctx context.Context, ref cloud.Ref) (cloud.Live, cloud.Presence, error) {
	want, err := t.want()
	if err != nil {
		return cloud.Live{}, "", err
	}
	kind := runPart
	if t.s.Action == ActionRemove {
		if undoOf(ref, want) == "" {
			return t.live(ref, cloud.Removing), cloud.Absent, nil
		}
		kind = undoPart
	}
	part := last(ref, kind)
	if kind == undoPart && t.mine(ref, kind) == nil {
		if t.goneWith(ctx, want) {
			return t.live(ref, cloud.Removing), cloud.Absent, nil
		}
		return t.live(ref, cloud.Ready), cloud.Present, nil // its undoing has not begun
	}
	if t.s.Action == ActionAlter && t.mine(ref, kind) == nil {
		return t.live(ref, cloud.Ready), cloud.Present, nil // what was run before is not this step's
	}
	if part == nil || part.Sent.IsZero() {
		return t.live(ref, cloud.Making), cloud.Absent, nil
	}
	m, leave, err := t.machine(ctx, want)
	if err != nil {
		if kind == undoPart && t.goneWith(ctx, want) {
			return t.live(ref, cloud.Removing), cloud.Absent, nil
		}
		return cloud.Live{}, "", err
	}
	defer leave()
	state, err := m.Look(ctx, part.Mark)
	if err != nil {
		return cloud.Live{}, "", unanswered(err, cloud.Transient)
	}
	if state.Phase == task.Absent {
		return t.live(ref, cloud.Making), cloud.Absent, nil
	}
	seen := *part
	seen.Seen = true
	output, err := m.Output(ctx, part.Mark, 0)
	if err != nil {
		return cloud.Live{}, "", unanswered(err, cloud.Transient)
	}
	if err := t.tell(ctx, want, seen.Mark, output, state.Phase != task.Running); err != nil {
		return cloud.Live{}, "", err
	}
	if kind == undoPart {
		return t.undone(ctx, m, ref, state, t.tellable(want, output))
	}
	return t.judged(ctx, m, ref.With(seen), want, state, output)
}

// live is the task as nobody else tells of it: it has what was wanted of it.
func (t *tasks) live(ref cloud.Ref, phase cloud.Phase) cloud.Live {
	id := ref.Token
	if p := last(ref, runPart); p != nil {
		id = p.Mark
	}
	l := cloud.Live{Ref: ref, ID: id, Phase: phase, Attributes: map[string]any{"id": id}}
	if row := t.x.records.of(t.s); row != nil {
		l.Has = row.Want
		for _, name := range []string{"output", "exit", "file"} {
			if v, known := row.Attributes[name]; known {
				l.Attributes[name] = v
			}
		}
		tags, _ := row.Want["tags"].(map[string]any)
		l.Tags = t.x.tags(t.s.Resource, map[string]any{"tags": tags})
	}
	return l
}

// want is what is wanted of the task with every value: as it is rendered, or, of one that
// is removed, as it is recorded.
func (t *tasks) want() (map[string]any, error) {
	if t.s.Action != ActionRemove {
		_, sent, err := t.x.resolve(t.s)
		return sent.Want, err
	}
	row := t.x.records.of(t.s)
	if row == nil { // it was proved never to have run, and there is nothing to undo
		return map[string]any{}, nil
	}
	opened, err := t.x.opened(row.Want)
	if err != nil {
		return nil, err
	}
	return opened.(map[string]any), nil
}

// opened puts the values of secrets into what is recorded.
func (x *execution) opened(tree any) (any, error) {
	switch v := tree.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			value, err := x.opened(inner)
			if err != nil {
				return nil, err
			}
			out[name] = value
		}
		return out, nil
	case []any:
		out := make([]any, len(v))
		for i, inner := range v {
			value, err := x.opened(inner)
			if err != nil {
				return nil, err
			}
			out[i] = value
		}
		return out, nil
	case string:
		// What is made of a secret in another way, or is forgotten, stays: only what needs it
		// will fail.
		return resource.Refilled(v, x.secrets.Recorded), nil
	}
	return tree, nil
}

// machine signs in to the machine of a task.
func (t *tasks) machine(ctx context.Context, want map[string]any) (task.Machine, func(), error) {
	if t.x.account.Unreached {
		return task.Machine{}, nil, &cloud.Error{
			Class:   cloud.Invalid,
			Message: "no packets from here reach the machines of this account, so nothing is run on them",
			Remedy: "take the task out of the template, or let packets through and say so with: undersail " +
				"accounts set",
		}
	}
	spec := maps.Clone(want)
	spec["host"] = text(want, "on")
	ctx, cancel := context.WithTimeout(ctx, visitWithin)
	client, leave, err := t.x.prober().Login(ctx, spec)
	if err != nil {
		cancel()
		return task.Machine{}, nil, &cloud.Error{
			Class:   cloud.Transient,
			Message: fmt.Sprintf("nobody can sign in to %s as %s: %v", spec["host"], text(want, "user"), err),
		}
	}
	return task.On(client), func() { leave(); cancel() }, nil
}

// visitWithin is how long one visit to a machine may take, in real time. What is run there
// outlives it.
const visitWithin = 30 * time.Second

// goneWith reports whether the machine of a task is one of the stack that the cloud has
// no more: then nothing is left of the task either.
func (t *tasks) goneWith(ctx context.Context, want map[string]any) bool {
	var on *store.Resource
	for _, r := range t.x.records.all() {
		if resource.IsMachine(r.Type) &&
			(same(r.Attributes["private_address"], want["on"]) || same(r.Attributes["public_address"], want["on"])) {
			on = &r
		}
	}
	if on == nil {
		return false
	}
	_, there, err := t.x.adapter.Look(ctx, on.Ref())
	return err == nil && there == cloud.Absent
}

func same(a, b any) bool {
	x, errA := netip.ParseAddr(fmt.Sprint(a))
	y, errB := netip.ParseAddr(fmt.Sprint(b))
	return errA == nil && errB == nil && x == y
}

func text(m map[string]any, name string) string { s, _ := m[name].(string); return s }

// unanswered says that a machine broke off.
func unanswered(err error, class cloud.Class) error {
	return &cloud.Error{Class: class, Message: err.Error(), Cause: err}
}
