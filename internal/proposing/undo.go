package proposing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"undersail/internal/access"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/stacks"
	"undersail/internal/store"
)

// Undo proposes to undo the newest run of a stack: what the run made is removed,
// dependents first, and what it altered or removed is put back as the stack was
// before. What cannot be put back is said in findings.
func (s *Proposing) Undo(ctx context.Context, u people.User, id int64) (Proposal, error) {
	run, err := s.store.Run(ctx, id)
	if err != nil {
		return Proposal{}, refusal.Missing(err, "run", fmt.Sprint(id), "list them with: undersail runs")
	}
	if err := u.Must(access.Operate, run.Account); err != nil {
		return Proposal{}, err
	}
	return s.undo(ctx, u, run)
}

func (s *Proposing) undo(ctx context.Context, u people.User, run store.Run) (p Proposal, err error) {
	if err := s.mayUndo(ctx, run); err != nil {
		return Proposal{}, err
	}
	r := &reading{undoes: &run.ID}
	if r.stack, err = s.store.Stack(ctx, run.StackID); err != nil {
		return Proposal{}, fmt.Errorf("reading stack %s: %w", run.StackID, err)
	}
	if err := s.rest(ctx, r); err != nil {
		return Proposal{}, err
	}
	if err := s.readUndone(ctx, r, run.ID); err != nil {
		return Proposal{}, err
	}
	judged, err := s.planUndo(ctx, r, run)
	if err != nil {
		return Proposal{}, err
	}
	judged.Findings = slices.Concat(r.lostForGood(), r.keptAside(judged), judged.Findings)
	return s.save(ctx, u, r, judged, state.KindUndo)
}

// mayUndo refuses what there is no way back from.
func (s *Proposing) mayUndo(ctx context.Context, run store.Run) error {
	last, err := s.newestEffective(ctx, run)
	switch {
	case err != nil:
		return err
	case run.Kind == state.KindRetire:
		return refusal.New(refusal.Conflict, "apply the template again",
			"run %d retired the stack; what it removed is gone", run.ID)
	case run.Kind == state.KindDiscard:
		return refusal.New(refusal.Conflict, "", "run %d removed for good what was kept; it is gone", run.ID)
	case run.Kind == state.KindUndo:
		return refusal.New(refusal.Conflict, "propose what you want instead", "run %d was itself an undoing", run.ID)
	case run.State == state.Undone:
		return refusal.New(refusal.Conflict, "", "run %d is undone already", run.ID)
	case run.EndedAt == nil && run.State != state.Parked:
		return refusal.New(refusal.Conflict, fmt.Sprintf("stop it first with: undersail stop %d", run.ID),
			"run %d is not over", run.ID)
	case last != run.ID:
		return refusal.New(refusal.Conflict, fmt.Sprintf("undo run %d first", last),
			"run %d came later and rests on it", last)
	}
	return nil
}

// planUndo computes the way back to what the stack was made from before a run.
func (s *Proposing) planUndo(ctx context.Context, r *reading, run store.Run) (proposal.Judged, error) {
	var d proposal.Document
	if r.whole != nil {
		if err := json.Unmarshal(r.whole.Document, &d); err != nil {
			return proposal.Judged{}, fmt.Errorf("read what stack %s was before run %d: %w", run.Stack, run.ID, err)
		}
	}
	toNothing := d.Rendering == nil
	if !toNothing { // what it was given in its middle belongs to what the stack was
		given, err := s.store.Run(ctx, *r.whole.RunID)
		if err != nil {
			return proposal.Judged{}, fmt.Errorf("reading run %d: %w", *r.whole.RunID, err)
		}
		d.Inputs = maps.Clone(d.Inputs)
		maps.Copy(d.Inputs, given.Given)
	}
	if !toNothing {
		if err := r.readBundle(d.Template.Bundle()); err != nil {
			return proposal.Judged{}, err
		}
		r.Inputs, r.Secrets, r.Stacks, r.Given = d.Inputs, d.Secrets, d.Stacks, map[string]string{}
		r.Keys, r.Handed, r.undoneUses = stacks.KeysOf(d), d.Handed, d.Uses
	}
	if err := s.readPlace(ctx, r); err != nil {
		return proposal.Judged{}, err
	}
	r.Keep = r.tookOver()
	if err := s.readBefore(ctx, r); err != nil {
		return proposal.Judged{}, err
	}
	if !toNothing {
		r.TextBy = d.TextBy
		if err := s.readsOnceMore(ctx, r); err != nil {
			return proposal.Judged{}, err
		}
		judged, err := s.stages(ctx, r)
		if err != nil {
			return judged, err
		}
		return s.listUses(ctx, r, judged)
	}
	changed, err := s.removal(ctx, r, true)
	if err != nil {
		return proposal.Judged{}, err
	}
	for i, c := range changed.Plan.Changes {
		if c.Change == change.Remove {
			changed.Plan.Changes[i].Reason = fmt.Sprintf("run %d made it", run.ID)
		}
	}
	judged := changed.Judge(nil)
	if render.HasErrors(judged.Findings) {
		return judged, &refusal.Error{
			Kind:     refusal.Findings,
			Title:    fmt.Sprintf("run %d cannot be undone", run.ID),
			Remedy:   "mend what the findings name; nothing was removed",
			Findings: judged.Findings,
		}
	}
	return judged, nil
}

// tookOver names what the runs took over from what was kept and the stack still has: undone, it
// goes back there.
func (r *reading) tookOver() (names []string) {
	for _, of := range r.undone {
		for _, c := range of.changes {
			if c.TakesOver != "" && !slices.Contains(names, c.Resource) &&
				slices.ContainsFunc(r.rows, func(row store.Resource) bool { return row.Name == c.Resource }) {
				names = append(names, c.Resource)
			}
		}
	}
	return names
}

// lostForGood says of what the runs removed that it comes back empty, and which runs that failed
// go with the one that is undone.
func (r *reading) lostForGood() (findings []render.Finding) {
	for i, of := range r.undone {
		run := of.run
		if i > 0 {
			findings = append(findings, render.Finding{
				Severity: lang.Note,
				Code:     "undone-too",
				Place:    "run " + fmt.Sprint(run.ID),
				Message: fmt.Sprintf("run %d is %s: the way back leads past it, to the stack as it was whole "+
					"the last time", run.ID, run.State),
				Remedy: "propose what you want instead, to keep what it made",
			})
		}
		for _, st := range of.steps {
			if st.Action != engine.ActionRemove || st.State != string(schedule.Healthy) || r.fresh[st.Token] {
				continue
			}
			t, _ := resource.ByName(st.Type)
			what := "it comes back as a new one with another id"
			if t.HoldsData {
				what = "what it held is lost; it comes back empty"
			}
			findings = append(findings, render.Finding{
				Severity: lang.Warning,
				Code:     "not-put-back",
				Place:    st.Resource,
				Message:  fmt.Sprintf("run %d removed %s: %s", run.ID, st.Resource, what),
				Remedy:   "take what it held from a copy, or keep what the run made",
			})
		}
	}
	return findings
}

// keptAside says of what the runs kept when they rebuilt it that it stays kept: what the stack has
// in its place is not it, and becomes it no more.
func (r *reading) keptAside(judged proposal.Judged) (findings []render.Finding) {
	for _, k := range r.kept {
		name := r.returns[k.Token]
		anew := slices.ContainsFunc(judged.Plan.Changes, func(c change.Change) bool {
			return c.Resource == name && c.TakesOver == "" && c.Change != change.Remove && c.Change != change.Keep
		})
		if t, _ := resource.ByName(k.Type); !anew || !t.HoldsData {
			continue
		}
		findings = append(findings, render.Finding{
			Severity: lang.Warning,
			Code:     "not-put-back",
			Place:    name,
			Message: fmt.Sprintf("what %s held before is kept as %s/%s (%s), and %s comes back without it", name,
				k.Stack, k.Name, k.ID(), name),
			Remedy: fmt.Sprintf("to have it again, take %s out of the template, apply that, choose the kept one "+
				"with: undersail kept move %s %s/%s, and declare it again", name, k.ID(), k.Stack, name),
		})
	}
	return findings
}

// UndoFailed undoes a run that failed and was to be undone then, in the name of whoever
// agreed to that: the proposal is accepted by itself unless it asks for a consent or would
// not work, or whoever agreed may not decide any more; then the run parks and waits for a
// person. It may be called again for the same run.
func (s *Proposing) UndoFailed(ctx context.Context, id int64) error {
	run, err := s.store.Run(ctx, id)
	if err != nil {
		return fmt.Errorf("reading run %d: %w", id, err)
	}
	if run.State != state.Failed {
		return nil // it is undone, parked, or tried again
	}
	if last, err := s.store.LastRun(ctx, run.StackID); err != nil || last.ID != id {
		return err // somebody went on from here, or it is being undone
	}
	giver, standing, why, err := s.stands(ctx, standsToUndo, run.ProposalID)
	if err != nil {
		return err
	}
	if why != "" {
		return s.store.ParkFailed(ctx, id, state.ForConsent,
			"undoing it needs a person: "+why+"; look with: undersail undo "+fmt.Sprint(id))
	}
	p, err := s.undo(ctx, giver, run)
	var refused *refusal.Error
	switch {
	case errors.As(err, &refused) && refused.Kind != refusal.CloudRefused:
		return s.store.ParkFailed(ctx, id, state.ForConsent,
			"undoing it needs a person: "+refused.Title+"; look with: undersail undo "+fmt.Sprint(id))
	case err != nil:
		return err
	case len(p.Consents) > 0 ||
		slices.ContainsFunc(p.Findings, func(f render.Finding) bool { return f.Code == "not-put-back" }):
		return s.store.ParkFailed(ctx, id, state.ForConsent,
			fmt.Sprintf("undoing it needs a consent; read and accept proposal %d, then: undersail apply %d", p.ID,
				p.ID))
	}
	if p, err = s.accept(ctx, giver, p, Acceptance{byItself: true}); err != nil {
		return err
	}
	_, err = s.start(ctx, giver, p.ID, state.Keep, standing)
	return err
}
