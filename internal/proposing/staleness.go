package proposing

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"undersail/internal/core/state"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// unlessMoved is a refusal, unless what it was worked out from has changed meanwhile: then it
// may speak of what another run made, and not of what is wrong.
func (s *Proposing) unlessMoved(ctx context.Context, p store.Proposal, r *reading, refused error) error {
	now, err := s.store.Proposal(ctx, p.ID)
	if err != nil {
		return refused
	}
	last, err := s.store.LastRunOf(ctx, p.StackID)
	if now.State != p.State || err == nil && r.based && last != r.basis() {
		return store.ErrMoved
	}
	return refused
}

// stillTrue checks that a proposal would still be made as it is, by its content, and
// gives what it would be made from now.
func (s *Proposing) stillTrue(ctx context.Context, p store.Proposal,
	d proposal.Document) (*reading, proposal.Judged, error) {
	r, now, err := s.proposedNow(ctx, p, d)
	var refused *refusal.Error
	if errors.As(err, &refused) && refused.Kind == refusal.Findings {
		return r, now, &refusal.Error{
			Kind:     refusal.Stale,
			Title:    fmt.Sprintf("the world has changed since proposal %d was made", p.ID),
			Remedy:   "mend what the findings name and propose again",
			Findings: refused.Findings,
		}
	}
	if err != nil {
		return r, now, err
	}
	if why := d.Differs(now.Document()); why != "" {
		return r, now, refusal.New(refusal.Stale, "propose again",
			"the stack has changed since proposal %d was made: %s", p.ID, why)
	}
	return r, now, nil
}

// proposedNow takes what a proposal was made from through the stages once more.
func (s *Proposing) proposedNow(ctx context.Context, p store.Proposal,
	d proposal.Document) (*reading, proposal.Judged, error) {
	var none proposal.Judged
	r := &reading{
		undoes: p.Undoes,
		leaves: p.Kind == state.KindRetire,
		Facts: proposal.Facts{
			Inputs:    d.Inputs,
			Secrets:   d.Secrets,
			Given:     map[string]string{},
			Draw:      d.Draw,
			Stacks:    d.Stacks,
			Keep:      d.Keep,
			LiftGuard: d.LiftGuard,
			Again:     d.Again,
			Rebuild:   d.Rebuild,
			Keys:      d.Keys,
			TextBy:    d.TextBy,
			Handed:    d.Handed,
		},
	}
	var err error
	if r.stack, err = s.store.Stack(ctx, p.StackID); err != nil {
		return r, none, fmt.Errorf("reading stack %s: %w", p.StackID, err)
	}
	if p.Kind == state.KindDiscard {
		r.looked = s.engine.Now()
		b, err := s.store.LastRunOf(ctx, p.StackID)
		if err != nil {
			return r, none, fmt.Errorf("reading the last run of stack %s: %w", p.StackID, err)
		}
		r.Basis, r.Attempt = b.Run, b.Attempt
		return s.discardNow(ctx, r, d)
	}
	if err := s.rest(ctx, r); err != nil {
		return r, none, err
	}
	if err := s.sinceThen(ctx, p, d, r.basis()); err != nil {
		return r, none, err
	}
	r.isNew = r.Basis == 0
	if p.Undoes != nil {
		if err := s.readUndone(ctx, r, *p.Undoes); err != nil {
			return r, none, err
		}
	}
	if d.Rendering != nil {
		if err := r.readBundle(d.Template.Bundle()); err != nil {
			return r, none, err
		}
	}
	if err := s.readPlace(ctx, r); err != nil {
		return r, none, err
	}
	if err := s.readBefore(ctx, r); err != nil {
		return r, none, err
	}
	if d.Rendering == nil {
		changed, err := s.removal(ctx, r, p.Kind == state.KindUndo)
		if err != nil {
			return r, none, err
		}
		return r, changed.Judge(nil), nil
	}
	if p.Undoes == nil {
		if err := s.sameHanded(ctx, r, d); err != nil {
			return r, none, err
		}
	} else if err := s.readsOnceMore(ctx, r); err != nil { // the way back is to what other stacks handed over then
		return r, none, err
	}
	now, err := s.stages(ctx, r)
	return r, now, err
}

// sameHanded reads the outputs of other stacks anew. One that hands over another
// secret now makes the proposal stale.
func (s *Proposing) sameHanded(ctx context.Context, r *reading, d proposal.Document) error {
	if err := s.readStacks(ctx, r); err != nil {
		return err
	}
	for name, handed := range r.handed {
		same := false
		if reference := d.Secrets[name]; reference != "" {
			var err error
			if same, err = s.sealed.Same(ctx, reference, handed); err != nil {
				return fmt.Errorf("comparing sealed values: %w", err)
			}
		}
		if !same {
			return refusal.New(refusal.Stale, "propose again",
				"the secret %s that another stack hands over is another now", name)
		}
		delete(r.handed, name)
	}
	r.referToHanded()
	return nil
}

// sinceThen refuses a proposal when a run has changed its stack since it was made, and tells
// which and by whom.
func (s *Proposing) sinceThen(ctx context.Context, p store.Proposal, d proposal.Document, now store.Basis) error {
	if now.Run == d.Basis && (d.Attempt == 0 || now.Attempt == d.Attempt) {
		return nil
	}
	run, err := s.store.Run(ctx, now.Run)
	if err != nil {
		return fmt.Errorf("reading run %d: %w", now.Run, err)
	}
	if now.Run == d.Basis {
		return refusal.New(refusal.Stale, "propose again", "%s let run %d try again since proposal %d was made",
			run.TriedBy, now.Run, p.ID)
	}
	return refusal.New(refusal.Stale, "propose again",
		"run %d, begun by %s, has changed the stack since proposal %d was made", now.Run, run.StartedBy, p.ID)
}

// readsOnceMore holds on to the stacks that a way back reads the outputs of. One that is not
// there any more leaves no way back.
func (s *Proposing) readsOnceMore(ctx context.Context, r *reading) error {
	r.reads = nil
	for _, name := range slices.Sorted(maps.Keys(r.Stacks)) {
		st, err := s.stacks.Living(ctx, name)
		if err != nil {
			return refusal.New(refusal.Conflict, "propose what you want instead",
				"it would read the outputs of stack %s, which is not there any more", name)
		}
		b, err := s.store.LastRunOf(ctx, st.ID)
		if err != nil {
			return fmt.Errorf("reading the last run of stack %s: %w", st.ID, err)
		}
		r.reads = append(r.reads, store.Read{Stack: st.ID, Basis: b})
	}
	return nil
}
