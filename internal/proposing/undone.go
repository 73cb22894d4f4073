package proposing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/store"
)

// readUndone notes what goes with a run that is undone: it, and the runs before it that failed or
// were stopped, back to the last that was done. What it made, if it failed itself, nobody relied on
// yet, so that no data of anybody is lost with that; what they kept comes back under the name that
// it had before.
func (s *Proposing) readUndone(ctx context.Context, r *reading, id int64) error {
	run, err := s.store.Run(ctx, id)
	if err != nil {
		return fmt.Errorf("reading run %d: %w", id, err)
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
			return fmt.Errorf("reading run: %w", err)
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
			return fmt.Errorf("reading the steps of run %d: %w", of.ID, err)
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

// newestEffective is the newest run of a stack, but for failed tries to undo the
// run in question.
func (s *Proposing) newestEffective(ctx context.Context, run store.Run) (int64, error) {
	runs, err := s.store.Runs(ctx, run.Stack, 0, 50)
	if err != nil {
		return 0, fmt.Errorf("reading the runs of stack %s: %w", run.Stack, err)
	}
	for _, r := range runs {
		if r.StackID == run.StackID && r.Kind != state.KindDiscard && (r.Undoes == nil || *r.Undoes != run.ID) {
			return r.ID, nil
		}
	}
	return run.ID, nil
}
