package proposing

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

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
		return Proposal{}, err
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

// readUndone notes what goes with a run that is undone: it, and the runs before it that failed or
// were stopped, back to the last that was done. What it made, if it failed itself, nobody relied on
// yet, so that no data of anybody is lost with that; what they kept comes back under the name that
// it had before.
func (s *Proposing) readUndone(ctx context.Context, r *reading, id int64) error {
	run, err := s.store.Run(ctx, id)
	if err != nil {
		return err
	}
	runs := []store.Run{run}
	r.fresh, r.returns, r.becomes = map[string]bool{}, map[string]string{}, map[string]string{}
	for at := id; ; {
		before, err := s.store.LastDocument(ctx, r.stack.ID, at)
		if errors.Is(err, store.ErrNotFound) {
			break
		}
		if err != nil {
			return err
		}
		at = *before.RunID
		earlier, err := s.store.Run(ctx, at)
		if err != nil {
			return err
		}
		if earlier.State == state.Done {
			r.whole = &before
			break
		}
		if earlier.State != state.Undone {
			runs = append(runs, earlier)
		}
	}
	for _, of := range runs {
		steps, err := s.store.Steps(ctx, of.ID)
		if err != nil {
			return err
		}
		_, d, err := s.stacks.Document(ctx, of.ProposalID)
		if err != nil {
			return err
		}
		r.undone = append(r.undone, undone{of, steps, d.Changes})
		// Somebody may rely on what an earlier one made by now, even though it failed.
		r.comesBack(r.undone[len(r.undone)-1], of.ID == id && run.State != state.Done)
	}
	return nil
}

// undone is a run that an undoing undoes, with what it did.
type undone struct {
	run     store.Run
	steps   []store.Step
	changes []change.Change
}

// comesBack notes what one of the runs made, if nobody relied on it, what it kept, and what it
// renamed. Later runs were read before.
func (r *reading) comesBack(of undone, fresh bool) {
	earlier := map[string]string{}
	for _, c := range of.changes {
		if c.Was != "" && !strings.HasSuffix(c.Was, change.OldName("")) {
			earlier[c.Resource] = c.Was
		}
	}
	for _, name := range slices.Sorted(maps.Keys(earlier)) {
		later := name // the name that it has now
		for now, then := range r.becomes {
			if then == name {
				later = now
			}
		}
		r.becomes[later] = earlier[name]
	}
	for _, st := range of.steps {
		switch st.Action {
		case engine.ActionCreate:
			r.fresh[st.Token] = r.fresh[st.Token] || fresh
		case engine.ActionKeep:
			name := strings.TrimSuffix(st.Resource, change.OldName(""))
			r.returns[st.Token] = cmp.Or(earlier[name], name)
		}
	}
}

// mayUndo refuses what there is no way back from.
func (s *Proposing) mayUndo(ctx context.Context, run store.Run) error {
	last, err := s.newestEffective(ctx, run)
	switch {
	case err != nil:
		return err
	case run.Kind == state.KindRetire:
		return refusal.New(refusal.Conflict, "apply the template again", "run %d retired the stack; what it removed is gone", run.ID)
	case run.Kind == state.KindDiscard:
		return refusal.New(refusal.Conflict, "", "run %d removed for good what was kept; it is gone", run.ID)
	case run.Kind == state.KindUndo:
		return refusal.New(refusal.Conflict, "propose what you want instead", "run %d was itself an undoing", run.ID)
	case run.State == state.Undone:
		return refusal.New(refusal.Conflict, "", "run %d is undone already", run.ID)
	case run.EndedAt == nil && run.State != state.Parked:
		return refusal.New(refusal.Conflict, fmt.Sprintf("stop it first with: undersail stop %d", run.ID), "run %d is not over", run.ID)
	case last != run.ID:
		return refusal.New(refusal.Conflict, fmt.Sprintf("undo run %d first", last), "run %d came later and rests on it", last)
	}
	return nil
}

// newestEffective is the newest run of a stack, but for failed tries to undo the
// run in question.
func (s *Proposing) newestEffective(ctx context.Context, run store.Run) (int64, error) {
	runs, err := s.store.Runs(ctx, run.Stack, 0, 50)
	if err != nil {
		return 0, err
	}
	for _, r := range runs {
		if r.StackID == run.StackID && r.Kind != state.KindDiscard && (r.Undoes == nil || *r.Undoes != run.ID) {
			return r.ID, nil
		}
	}
	return run.ID, nil
}

// basisBut is the newest run of a stack; a parked one does not stand in the way of
// its own undoing.
func (s *Proposing) basisBut(ctx context.Context, stackID string, undoes *int64) (store.Basis, error) {
	if undoes != nil {
		run, err := s.store.LastRun(ctx, stackID)
		if err == nil && run.ID == *undoes && run.State == state.Parked {
			return store.Basis{Run: run.ID, Attempt: run.Attempt}, nil
		}
	}
	return s.lastOver(ctx, stackID)
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
			return proposal.Judged{}, err
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
		return judged, &refusal.Error{Kind: refusal.Findings, Title: fmt.Sprintf("run %d cannot be undone", run.ID), Remedy: "mend what the findings name; nothing was removed", Findings: judged.Findings}
	}
	return judged, nil
}

// tookOver names what the runs took over from what was kept and the stack still has: undone, it
// goes back there.
func (r *reading) tookOver() (names []string) {
	for _, of := range r.undone {
		for _, c := range of.changes {
			if c.TakesOver != "" && !slices.Contains(names, c.Resource) && slices.ContainsFunc(r.rows, func(row store.Resource) bool { return row.Name == c.Resource }) {
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
			findings = append(findings, render.Finding{Severity: lang.Note, Code: "undone-too", Place: "run " + fmt.Sprint(run.ID),
				Message: fmt.Sprintf("run %d is %s: the way back leads past it, to the stack as it was whole the last time", run.ID, run.State), Remedy: "propose what you want instead, to keep what it made"})
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
			findings = append(findings, render.Finding{Severity: lang.Warning, Code: "not-put-back", Place: st.Resource,
				Message: fmt.Sprintf("run %d removed %s: %s", run.ID, st.Resource, what), Remedy: "take what it held from a copy, or keep what the run made"})
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
		findings = append(findings, render.Finding{Severity: lang.Warning, Code: "not-put-back", Place: name,
			Message: fmt.Sprintf("what %s held before is kept as %s/%s (%s), and %s comes back without it", name, k.Stack, k.Name, k.ID(), name),
			Remedy:  fmt.Sprintf("to have it again, take %s out of the template, apply that, choose the kept one with: undersail kept move %s %s/%s, and declare it again", name, k.ID(), k.Stack, name)})
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
		return err
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
		return s.store.ParkFailed(ctx, id, state.ForConsent, "undoing it needs a person: "+why+"; look with: undersail undo "+fmt.Sprint(id))
	}
	p, err := s.undo(ctx, giver, run)
	var refused *refusal.Error
	switch {
	case errors.As(err, &refused) && refused.Kind != refusal.CloudRefused:
		return s.store.ParkFailed(ctx, id, state.ForConsent, "undoing it needs a person: "+refused.Title+"; look with: undersail undo "+fmt.Sprint(id))
	case err != nil:
		return err
	case len(p.Consents) > 0 || slices.ContainsFunc(p.Findings, func(f render.Finding) bool { return f.Code == "not-put-back" }):
		return s.store.ParkFailed(ctx, id, state.ForConsent, fmt.Sprintf("undoing it needs a consent; read and accept proposal %d, then: undersail apply %d", p.ID, p.ID))
	}
	if p, err = s.accept(ctx, giver, p, Acceptance{byItself: true}); err != nil {
		return err
	}
	_, err = s.start(ctx, giver, p.ID, state.Keep, standing)
	return err
}
