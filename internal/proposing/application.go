package proposing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"undersail/internal/access"
	"undersail/internal/core/change"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/stacks"
	"undersail/internal/store"
)

// Apply starts the run of an accepted proposal. When the world has changed so
// that the proposal would not do what it says, it is stale and nothing starts.
// OnFailure says what becomes of a run that fails: keep (also when empty) or undo.
func (s *Proposing) Apply(ctx context.Context, u people.User, id int64, onFailure string) (stacks.Run, error) {
	p, err := s.store.Proposal(ctx, id)
	if err != nil {
		return stacks.Run{}, refusal.Missing(err, "proposal", fmt.Sprint(id), "list them with: undersail proposals")
	}
	if err := u.Must(access.Operate, p.Account); err != nil {
		return stacks.Run{}, err
	}
	if onFailure, err = s.afterFailure(ctx, u, p, onFailure); err != nil {
		return stacks.Run{}, err
	}
	return s.start(ctx, u, id, onFailure, nil)
}

// start starts the run of an accepted proposal, for somebody who may or in whose name it is
// done. When something is not as it was looked at in the moment of beginning, it looks again,
// so that whoever comes second is told what the first did.
func (s *Proposing) start(ctx context.Context, u people.User, id int64, onFailure string,
	standing *store.Standing) (stacks.Run, error) {
	if onFailure != "" && onFailure != state.Keep && onFailure != state.Undo {
		return stacks.Run{}, refusal.New(refusal.Invalid, "say keep or undo",
			"%q is not what can become of a run that fails", onFailure)
	}
	if err := s.stacks.MayChange(); err != nil {
		return stacks.Run{}, err
	}
	for tries := 1; ; tries++ {
		run, err := s.begin(ctx, u, id, onFailure, standing)
		if !errors.Is(err, store.ErrMoved) {
			return run, err
		}
		if tries == 5 {
			return stacks.Run{}, refusal.New(refusal.Conflict, "wait a moment, and apply it again",
				"what proposal %d rests on changes all the time; nothing was begun", id)
		}
	}
}

// begin looks at all that a proposal rests on and begins its run, all in one moment.
func (s *Proposing) begin(ctx context.Context, u people.User, id int64, onFailure string,
	standing *store.Standing) (stacks.Run, error) {
	p, d, err := s.stacks.Document(ctx, id)
	if err != nil {
		return stacks.Run{}, err
	}
	switch {
	case p.State == state.Applied && p.RunID != nil:
		return s.stacks.Run(ctx, *p.RunID) // asked twice: the same run
	case p.State == state.Applied && p.Kind == state.KindGive:
		return s.stacks.Run(ctx, d.GivesTo)
	case p.State == state.Open:
		return stacks.Run{}, refusal.New(refusal.Conflict, fmt.Sprintf("accept it first with: undersail accept %d", id),
			"proposal %d is not accepted", id)
	case p.State != state.Accepted:
		return stacks.Run{}, refusal.New(refusal.Stale, "propose again", "proposal %d is %s%s", id, p.State,
			because(p.Why))
	}
	if p.Kind == state.KindGive {
		return s.carryGift(ctx, u, id)
	}
	if err := s.holds(ctx, p); err != nil {
		return stacks.Run{}, err
	}
	r, now, err := s.stillTrue(ctx, p, d)
	if err != nil {
		return stacks.Run{}, s.unlessMoved(ctx, p, r, err)
	}
	taken := r.takenOver(d.Changes, now.Plan.Rendering)
	rows := slices.Collect(maps.Values(taken))
	if p.Kind == state.KindDiscard {
		rows = r.discarded()
	}
	n := store.NewRun{
		Proposal:  id,
		Agreement: p.Agreement,
		Kind:      p.Kind,
		By:        u.Name,
		OnFailure: onFailure,
		Undoes:    p.Undoes,
		Standing:  standing,
		Grace:     engine.Grace,
		Steps:     engine.Steps(now.Plan, r.Durations, append(slices.Clone(r.rows), rows...)),
		Update:    updateOf(p.Kind, d),
		Absent:    r.absent(),
		Renames:   renames(now.Plan.Changes),
		TakeOver:  taken,
	}
	n.Moment = store.Moment{
		Basis:    r.basis(),
		Looked:   r.looked,
		Account:  r.account.Revision,
		Reads:    r.reads,
		Who:      u.Who(),
		Kept:     r.holds(taken, d.Discards),
		Discards: d.Discards,
		Retires:  p.Kind == state.KindRetire,
	}
	for _, st := range n.Steps {
		n.Moment.TakesAway = n.Moment.TakesAway ||
			d.Discards == "" && (st.Action == engine.ActionRemove || st.Action == engine.ActionKeep)
	}
	run, err := s.store.StartRun(ctx, n, s.engine.Enqueue(ctx))
	if err != nil {
		return stacks.Run{}, refusal.InTheWay(err, p.Stack, u.Name)
	}
	s.journal.Done(ctx, u, "apply", p.Stack, map[string]any{"proposal": id, "run": run, "kind": p.Kind})
	return s.stacks.Run(ctx, run)
}

// holds are the kept things that a run has to do with, as they were kept when they were looked
// at.
func (r *reading) holds(taken map[string]store.Resource, discards string) map[string]string {
	out := map[string]string{}
	for _, k := range r.kept {
		if _, takes := taken[k.Token]; takes || k.Token == discards {
			out[k.Token] = k.Stack + "/" + k.Name
		}
	}
	return out
}

// afterFailure is what becomes of a run if it fails. Undoing is part of what was agreed to;
// whoever may agree by themselves may still say so when they apply it.
func (s *Proposing) afterFailure(ctx context.Context, u people.User, p store.Proposal, said string) (string, error) {
	agreed := cmp.Or(said, p.OnFailure, state.Keep)
	if agreed != state.Undo || p.State != state.Accepted {
		return agreed, nil // keeping what there is does no more than was agreed to
	}
	if p.OnFailure == state.Undo {
		decided, err := s.store.UserByName(ctx, p.DecidedBy)
		if err == nil {
			err = s.stand(ctx, standsToUndo, p.DecidedBy, decided.Roles, p)
		}
		return agreed, err
	}
	shown, err := s.Show(ctx, p.ID)
	if err == nil {
		err = u.Must(access.Decide, p.Account)
	}
	if err == nil && mayDecide(u, shown) != nil {
		err = refusal.New(refusal.Forbidden,
			fmt.Sprintf("have it agreed to with the proposal: undersail accept %d --on-failure undo", p.ID),
			"nobody agreed that the run is undone if it fails, and account %s asks for a second person", p.Account)
	}
	if err == nil {
		err = s.stand(ctx, standsToUndo, u.Name, u.Grants().Strings(), p)
	}
	return agreed, err
}

// updateOf is what a run makes of its stack's record when it starts.
func updateOf(kind string, d proposal.Document) *store.StackUpdate {
	if kind == state.KindRetire || d.Rendering == nil {
		return nil
	}
	return &store.StackUpdate{
		TemplateName:    d.Template.Name,
		TemplateVersion: d.Template.Version,
		TemplateSource:  d.Template.Source,
		TemplateParts:   d.Template.Parts,
		Inputs:          d.Inputs,
		Secrets:         d.Secrets,
		Found:           d.Found,
		Reads:           d.Stacks,
		Cloud:           d.Stack.Cloud,
		Currency:        d.Cost.Currency,
		Title:           d.Rendering.Template.Title,
	}
}

// renames are the resources that are recorded under another name from the run on:
// those that a template renames, and the old ones of rebuilds that make the new one
// first.
func renames(changes []change.Change) []store.Rename {
	var out []store.Rename
	for _, c := range changes {
		if c.Was != "" || c.Old != "" {
			out = append(out, store.Rename{
				From:      cmp.Or(c.Was, c.Resource),
				To:        cmp.Or(c.Old, c.Resource),
				Successor: c.Resource,
			})
		}
	}
	return out
}
