package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/cloud"
	"undersail/internal/core/health"
	"undersail/internal/core/resource"
	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/fault"
	"undersail/internal/store"
)

var (
	errStopped = errors.New("the run was asked to stop while the cloud did not answer")
	errHalted  = errors.New("the credentials are not accepted any more")
)

// pause waits before the cloud is asked again, unless the run is to end first.
func (x *execution) pause(ctx context.Context, wait time.Duration) error {
	select {
	case <-x.leaving:
		return errLeft
	case <-x.stopped:
		return errStopped
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(wait):
		return nil
	}
}

// end ends the run: it looks once more at what was proved a while ago, and for
// what nobody recorded, and tells the result.
func (x *execution) end(ctx context.Context, plan *schedule.Run, result schedule.Result) error {
	var failed []string
	var err error
	if result == schedule.Done {
		if failed, err = x.lastLook(ctx); len(failed) > 0 {
			result = schedule.Broke
		}
	}
	retired := x.run.Kind == state.KindRetire && result == schedule.Done
	if (x.number > 1 || retired) && err == nil && result != schedule.Parked && result != schedule.Asking {
		err = x.findLost(ctx)
	}
	_, uses := x.questions.open()
	switch {
	case errors.Is(err, errStopped):
		result = schedule.Stopped
	case errors.Is(err, errHalted), result == schedule.Parked:
		return x.park(ctx)
	case result == schedule.Asking && len(uses) > 0:
		return x.parkForAgreement(ctx)
	case result == schedule.Asking:
		return x.parkForInputs(ctx)
	case err != nil:
		return err
	}
	healthy := -len(failed)
	for i, s := range x.steps {
		switch st := plan.Status(i); st.Phase {
		case schedule.Failed:
			failed = append(failed, fmt.Sprintf("%s: %s", s.Resource, st.Reason))
		case schedule.Healthy:
			healthy++
		case schedule.Waiting, schedule.Working, schedule.Settling, schedule.Skipped:
		}
	}
	return x.finish(ctx, result, failed, healthy)
}

// finish tells the result and, when something is missing, the command that goes on.
func (x *execution) finish(ctx context.Context, result schedule.Result, failed []string, healthy int) error {
	ends, reason, text := string(result), "", ""
	next := "undersail continue " + x.run.Stack
	if x.run.Kind == state.KindRetire {
		next = "undersail retire " + x.run.Stack
	}
	if x.run.Kind == state.KindDiscard {
		next = "undersail kept"
	}
	switch result {
	case schedule.Broke:
		reason = x.scrub(fmt.Sprintf("%s; %d of %d steps succeeded and stay", strings.Join(failed, "; "), healthy,
			len(x.steps)))
		text = fmt.Sprintf("run %d failed: %s; continue with: %s", x.run.ID, reason, next)
		if stuck := x.stuck(failed); stuck != "" && x.run.Kind != state.KindRetire && x.run.Kind != state.KindDiscard {
			text += fmt.Sprintf("; or have it made anew with: undersail rebuild %s %s", x.run.Stack, stuck)
		}
		if x.undoesItself() {
			text = fmt.Sprintf("run %d failed: %s; it will be undone", x.run.ID, reason)
		}
	case schedule.Stopped:
		reason = fmt.Sprintf("stopped on request; %d of %d steps are done", healthy, len(x.steps))
		text = fmt.Sprintf("run %d is %s; continue with: %s", x.run.ID, reason, next)
	default:
		var err error
		if text, err = x.doneText(ctx); err != nil {
			return err
		}
	}
	x.engine.Metrics.ended.WithLabelValues(x.run.Kind, ends).Inc()
	return x.note(ctx, store.Event{Kind: "run", State: ends, Text: text}, func(w *store.Write) {
		w.RunState(ends, reason)
		switch {
		case result == schedule.Broke && x.undoesItself():
			w.Then(func(tx pgx.Tx) error {
				if _, err := insert(ctx, x.engine.queue, tx, undoJob{x.run.ID}); err != nil {
					return fmt.Errorf("queueing the undoing: %w", err)
				}
				return nil
			})
		case result != schedule.Done:
		case x.run.Kind == state.KindRetire:
			w.Retired(x.run.StackID)
		case x.run.Kind == state.KindUndo:
			w.Undone(*x.run.Undoes)
			if x.document.Rendering == nil {
				w.Emptied(x.run.StackID)
			}
		}
	})
}

// stuck names what was waited for in vain.
func (x *execution) stuck(failed []string) string {
	var names []string
	for _, f := range failed {
		if name, reason, ok := strings.Cut(f, ": "); ok && strings.Contains(reason, outOfPatience) {
			names = append(names, name)
		}
	}
	return strings.Join(names, " ")
}

// undoesItself reports whether a failure of the run is to be undone.
func (x *execution) undoesItself() bool {
	return x.run.OnFailure == state.Undo && (x.run.Kind == state.KindApply || x.run.Kind == state.KindContinue)
}

func (x *execution) doneText(ctx context.Context) (string, error) {
	switch x.run.Kind {
	case state.KindRetire:
		list, err := x.engine.Store.KeptOf(ctx, x.run.StackID)
		if err != nil {
			return "", fmt.Errorf("reading what was kept: %w", err)
		}
		var kept, found []string
		for _, k := range list {
			if k.FoundAt == nil {
				kept = append(kept, k.Name)
			} else {
				found = append(found, fmt.Sprintf("%s (%s %s)", k.Name, resource.Words(k.Type), k.ID()))
			}
		}
		text := fmt.Sprintf("stack %s is retired", x.run.Stack)
		if len(kept) > 0 {
			text += "; kept, and still paid for: " + strings.Join(kept, ", ")
		}
		if len(found) > 0 {
			text += "; found with its mark, recorded nowhere, and still there: " + strings.Join(found, ", ")
		}
		if len(list) == 0 {
			return text + "; nothing of it is left", nil
		}
		return text + "; list them with: undersail kept", nil
	case state.KindUndo:
		return fmt.Sprintf("run %d is done: run %d is undone", x.run.ID, *x.run.Undoes), nil
	case state.KindDiscard:
		return fmt.Sprintf("run %d is done: what was kept of stack %s is removed for good", x.run.ID, x.run.Stack), nil
	}
	if len(x.steps) == 0 {
		return fmt.Sprintf("run %d is done: the stack is recorded as it was accepted; nothing had to be made",
			x.run.ID), nil
	}
	return fmt.Sprintf("run %d is done: all %d steps are healthy", x.run.ID, len(x.steps)), nil
}

// park lets the run wait for credentials. Steps stay as they are; whoever goes on
// later looks for what was on its way.
func (x *execution) park(ctx context.Context) error {
	reason := fmt.Sprintf("the credentials of account %s are not accepted any more; renew them with: undersail "+
		"accounts renew %s, and the run goes on; if the old ones are accepted again, with: undersail retry %d",
		x.account.Name, x.account.Name, x.run.ID)
	x.engine.Metrics.ended.WithLabelValues(x.run.Kind, state.Parked).Inc()
	err := x.note(ctx, store.Event{
		Kind:  "run",
		State: state.Parked,
		Text:  fmt.Sprintf("run %d is parked: %s", x.run.ID, reason),
	}, func(w *store.Write) { w.Park(state.ForCredentials, reason) })
	if err != nil {
		return err
	}
	// New credentials may have come while the last calls with the old ones returned.
	now, err := x.engine.Store.Account(ctx, x.account.Name)
	if err != nil || bytes.Equal(now.Credentials, x.account.Credentials) {
		return nil // whoever renews them lets the run go on
	}
	_, err = x.engine.Store.Unpark(ctx, x.account.Name, state.ForCredentials, Grace, x.engine.Enqueue(ctx))
	return err
}

// regions are where resources of the stack may be.
func (x *execution) regions() []string {
	seen := map[string]bool{x.document.Stack.Region: true}
	for _, r := range x.records.all() {
		seen[r.Region] = true
	}
	for _, s := range x.steps {
		if s.Region != "" {
			seen[s.Region] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

// marked finds everything in the cloud that carries the mark of the stack, in all
// of its regions and in others. It asks until it is answered, or until the run is left.
func (x *execution) marked(ctx context.Context, others ...string) ([]cloud.Live, error) {
	var all []cloud.Live
	for _, region := range slices.Compact(slices.Sorted(slices.Values(append(x.regions(), others...)))) {
		for wait, told := 200*time.Millisecond, false; ; wait = min(2*wait, 15*time.Second) {
			found, err := cloud.Collect(x.adapter.Search(ctx, cloud.Query{
				Region: region,
				Tags:   map[string]string{cloud.TagStackID: x.run.StackID},
			}))
			if err == nil {
				all = append(all, found...)
				break
			}
			if !told {
				told = true
				text := x.scrub(fmt.Sprintf("looking for everything that carries the mark of stack %s in %s; not "+
					"answered yet: %v", x.run.Stack, region, err))
				if err := x.note(ctx, store.Event{Kind: "call", Text: text}, nil); err != nil {
					return nil, err
				}
			}
			if cloud.ClassOf(err) == cloud.SignIn {
				return nil, errHalted
			}
			if err := x.pause(ctx, wait); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// lastLook looks once more at every resource that was proved over a window ago,
// and gives those that do not hold any more, with the reasons. One that fails has
// one more window to pass again as often in a row as it must.
func (x *execution) lastLook(ctx context.Context) (failed []string, err error) {
	due := x.provedLongAgo()
	if len(due) == 0 {
		return nil, nil
	}
	live, err := x.marked(ctx)
	if err != nil {
		return nil, err
	}
	there := map[string]cloud.Live{}
	for _, l := range live {
		there[l.Token] = l
	}
	var mu sync.Mutex
	var faults []error
	slots := make(chan struct{}, x.engine.InFlight)
	var all sync.WaitGroup
	for _, i := range due {
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			var reason string
			err := fault.Caught(func() (err error) {
				reason, err = x.lookOnceMore(ctx, &x.steps[i], there)
				return err
			})
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				faults = append(faults, err)
			} else if reason != "" {
				failed = append(failed, x.steps[i].Resource+": "+reason)
			}
		})
	}
	all.Wait()
	if len(faults) > 0 {
		return nil, faults[0]
	}
	slices.Sort(failed)
	return failed, nil
}

// provedLongAgo lists the steps whose resources were proved over a window ago.
func (x *execution) provedLongAgo() []int {
	var due []int
	for i, s := range x.steps {
		if s.Action != ActionCreate && s.Action != ActionAlter {
			continue
		}
		row := x.records.named(s.Resource)
		if row == nil || row.State != state.Healthy || row.HealthyAt == nil {
			continue
		}
		if x.now().Sub(*row.HealthyAt).Seconds()*x.rate() > health.Window {
			due = append(due, i)
		}
	}
	return due
}

// lookOnceMore makes every check of a resource once more, and goes on for a window
// when one fails. It records what it saw and gives the reason of a failure.
func (x *execution) lookOnceMore(ctx context.Context, s *store.Step, there map[string]cloud.Live) (string, error) {
	_, sent, err := x.resolve(s)
	if err != nil {
		return err.Error(), nil
	}
	began := x.now()
	proof := health.Proof{}
	var seen []health.Evidence
	first := true
	for {
		open := sent.Checks
		if !first {
			open = proof.Due(sent.Checks, x.now(), x.rate())
		}
		for _, check := range open {
			e, err := x.lastEvidence(ctx, s, check, there, first)
			if cloud.ClassOf(err) == cloud.SignIn && err != nil {
				return "", errHalted
			}
			if err != nil {
				began = x.now() // no answer is no evidence: the window begins anew
				continue
			}
			seen = append(seen, e)
			proof[check.Name] = check.After(proof[check.Name], e, x.rate())
		}
		now := x.now()
		reason := missed(sent.Checks, proof, first)
		over := now.Sub(began).Seconds()*x.rate() > health.Window
		if reason == "" || over {
			return reason, x.recordLast(ctx, s, seen, reason)
		}
		first = false
		if err := x.pause(ctx, max(x.real(3), 20*time.Millisecond)); err != nil {
			return "", err
		}
	}
}

// lastEvidence makes one check. The first look at a phase is the one of the
// search that found everything at once.
func (x *execution) lastEvidence(ctx context.Context, s *store.Step, check health.Check, there map[string]cloud.Live,
	first bool) (health.Evidence, error) {
	if l, ok := there[s.Token]; ok && first && check.Kind == "phase" {
		return PhaseEvidence(s.Resource, l, cloud.Present, x.now(), 0), nil
	}
	return x.evidence(ctx, s, check, x.prober())
}

// missed gives the reason of the first check that does not hold. On the first look
// one pass is enough, since all held before; after a failure the row must be whole.
func missed(checks []health.Check, proof health.Proof, first bool) string {
	for _, c := range checks {
		p := proof[c.Name]
		if first && p.Last.Passed || p.Held && p.InARow > 0 {
			continue
		}
		if p.Last.Asked == "" {
			return "no answer when it was looked at once more"
		}
		return fmt.Sprintf("it was healthy and is no more: asked %s, got %s", p.Last.Asked, p.Last.Answer)
	}
	return ""
}

func (x *execution) recordLast(ctx context.Context, s *store.Step, seen []health.Evidence, reason string) error {
	if reason == "" {
		return x.commit(ctx, nil, func(w *store.Write) { x.saw(w, seen) })
	}
	reason = x.scrub(reason)
	return x.note(ctx, store.Event{
		Kind:     "step",
		Resource: s.Resource,
		State:    string(schedule.Failed),
		Text:     s.Resource + " failed: " + reason,
	}, func(w *store.Write) {
		x.saw(w, seen)
		w.StepState(s.Number, string(schedule.Failed), reason)
		x.markUnhealthy(w, s, reason)
	})
}
