package stacks

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/access"
	"undersail/internal/accounts"
	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Retry lets an ended run go on with one of its steps that failed and with all
// that was skipped because of it. Without a step it tries every step that failed.
func (s *Stacks) Retry(ctx context.Context, u people.User, id int64, step string) (Run, error) {
	run, err := s.store.Run(ctx, id)
	if err != nil {
		return Run{}, refusal.Missing(err, "run", fmt.Sprint(id), "list them with: undersail runs")
	}
	if err := u.Must(access.Operate, run.Account); err != nil {
		return Run{}, err
	}
	if run.State == state.Parked && run.ParkedFor == state.ForCredentials {
		return s.unpark(ctx, run)
	}
	if run.EndedAt == nil {
		return Run{}, refusal.New(refusal.Conflict, fmt.Sprintf("wait for it with: undersail watch %d", id),
			"run %d is not over", id)
	}
	steps, err := s.store.Steps(ctx, id)
	if err != nil {
		return Run{}, fmt.Errorf("reading the steps of run %d: %w", id, err)
	}
	again, err := stepsToRetry(run, steps, step)
	if err != nil {
		return Run{}, err
	}
	if err := s.refuseWrecks(ctx, run, steps, again); err != nil {
		return Run{}, err
	}
	err = s.store.Reopen(ctx, run, again, u.Who(), engine.Grace, s.engine.Enqueue(ctx))
	if errors.Is(err, store.ErrMoved) {
		return Run{}, s.cannotReopen(ctx, run)
	}
	if err != nil {
		return Run{}, refusal.InTheWay(err, run.Stack, u.Name)
	}
	if err == nil {
		s.journal.Done(ctx, u, "retry run", run.Stack, map[string]any{"run": id, "step": step})
	}
	return s.RunOr(ctx, id, err)
}

// cannotReopen says why a run does not go on that was over when it was looked at.
func (s *Stacks) cannotReopen(ctx context.Context, was store.Run) error {
	remedy := "undersail continue " + was.Stack + " goes on from what is there"
	last, err := s.store.LastRun(ctx, was.StackID)
	switch {
	case err != nil:
		return err
	case last.ID != was.ID:
		return refusal.New(refusal.Conflict, remedy, "run %d of stack %s, begun by %s, came after run %d", last.ID,
			was.Stack, last.StartedBy, was.ID)
	case last.Attempt != was.Attempt:
		return refusal.New(refusal.Conflict, fmt.Sprintf("wait for it with: undersail watch %d", was.ID),
			"%s let run %d try again already", last.TriedBy, was.ID)
	case last.State != was.State || last.State != state.Failed && last.State != state.Stopped:
		return refusal.New(refusal.Conflict, remedy, "run %d is %s", was.ID, last.State)
	}
	return refusal.New(refusal.Conflict, remedy,
		"what run %d takes up from other stacks, or from what is kept, is not as it was any more", was.ID)
}

// refuseWrecks refuses to try a step again whose resource broke in the cloud: it
// has to be replaced.
func (s *Stacks) refuseWrecks(ctx context.Context, run store.Run, steps []store.Step, again []int) error {
	recorded, err := s.store.Resources(ctx, run.StackID)
	if err != nil {
		return fmt.Errorf("reading the resources of stack %s: %w", run.StackID, err)
	}
	for _, r := range recorded {
		broken, _ := r.Attributes["broken"].(bool)
		if broken && slices.ContainsFunc(again, func(n int) bool { return steps[n].Token == r.Token }) {
			return refusal.New(refusal.Conflict, "undersail continue "+run.Stack+" replaces it",
				"%s broke in the cloud; trying again would find it broken", r.Name)
		}
	}
	return nil
}

// unpark lets the runs of an account go on whose credentials are accepted again.
func (s *Stacks) unpark(ctx context.Context, run store.Run) (Run, error) {
	adapter, _, err := s.accounts.Adapter(ctx, run.Account)
	if err != nil {
		return Run{}, err
	}
	if _, err := adapter.WhoAmI(ctx); err != nil {
		return Run{}, accounts.CloudSays(err)
	}
	_, err = s.store.Unpark(ctx, run.Account, state.ForCredentials, engine.Grace, s.engine.Enqueue(ctx))
	return s.RunOr(ctx, run.ID, err)
}

// RunOr gives a run, or the error of what was done with it.
func (s *Stacks) RunOr(ctx context.Context, id int64, err error) (Run, error) {
	if err != nil {
		return Run{}, err
	}
	return s.Run(ctx, id)
}

// stepsToRetry lists the numbers of a failed step and of what was skipped and
// waits for nothing else that failed. A step is named by its resource or number.
func stepsToRetry(run store.Run, steps []store.Step, name string) ([]int, error) {
	again := map[int]bool{}
	var failed []string
	for _, st := range steps {
		if st.State != string(schedule.Failed) {
			continue
		}
		failed = append(failed, st.Resource)
		if name == "" || name == st.Resource || name == fmt.Sprint(st.Number) {
			again[st.Number] = true
		}
	}
	switch {
	case len(failed) == 0:
		return nil, refusal.New(refusal.Conflict, "undersail continue "+run.Stack+" makes what is missing",
			"no step of run %d failed", run.ID)
	case len(again) == 0:
		return nil, refusal.New(refusal.Invalid, "those that failed are: "+strings.Join(failed, ", "),
			"step %q of run %d did not fail", name, run.ID)
	}
	for more := true; more; {
		more = false
		for _, st := range steps {
			if again[st.Number] || st.State != string(schedule.Skipped) {
				continue
			}
			mayGo := true
			for _, n := range st.Needs {
				over := steps[n.Step].State
				mayGo = mayGo && (again[n.Step] || over != string(schedule.Failed) && over != string(schedule.Skipped))
			}
			if mayGo {
				again[st.Number], more = true, true
			}
		}
	}
	var numbers []int
	for n := range again {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	return numbers, nil
}
