package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"sync"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/schedule"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// execution is one run while this engine carries it out.
type execution struct {
	engine   *Engine
	run      store.Run
	number   int64 // of the claim
	document Document
	template *lang.Template // nil when retiring
	account  store.Account
	adapter  cloud.Adapter
	steps    []store.Step
	creating map[string]string // token of the step that creates a resource
	secrets  map[string]string // values by reference; never written anywhere
	claimed  time.Time
	away     time.Duration // between the last word of the owner before and now

	events  chan schedule.Event
	leaving chan struct{}
	stopped chan struct{}
	once    [2]sync.Once

	mu        sync.Mutex
	resources map[string]*store.Resource
	checks    map[string]*checking
	version   int // counts changes of known attributes
	rendered  [2]*render.Rendering
	renderedV [2]int
}

func (x *execution) leave()   { x.once[0].Do(func() { close(x.leaving) }) }
func (x *execution) askStop() { x.once[1].Do(func() { close(x.stopped) }) }

// rate is how many cloud seconds pass in a real one.
func (x *execution) rate() float64 { return max(x.account.ClockRate, 0.001) }

func (x *execution) real(cloudSeconds float64) time.Duration {
	return time.Duration(cloudSeconds / x.rate() * float64(time.Second))
}

// prepare reads everything a run needs.
func (e *Engine) prepare(ctx context.Context, id, number int64) (*execution, error) {
	x := &execution{engine: e, number: number, claimed: time.Now(), events: make(chan schedule.Event, 64), leaving: make(chan struct{}), stopped: make(chan struct{}),
		resources: map[string]*store.Resource{}, checks: map[string]*checking{}, creating: map[string]string{}, secrets: map[string]string{}, version: 1}
	var err error
	if x.run, err = e.Store.Run(ctx, id); err != nil {
		return nil, err
	}
	proposal, err := e.Store.Proposal(ctx, x.run.ProposalID)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(proposal.Document, &x.document); err != nil {
		return nil, fmt.Errorf("%w: %w", errUnreadable, err)
	}
	if x.steps, err = e.Store.Steps(ctx, id); err != nil {
		return nil, err
	}
	for _, s := range x.steps {
		if s.Change == string(change.Create) {
			x.creating[s.Resource] = s.Token
		}
	}
	if x.document.Template.Source != "" {
		var found lang.Diagnostics
		if x.template, found = lang.ReadBundle(x.document.Template.Bundle()); x.template == nil {
			return nil, fmt.Errorf("%w: %w", errUnreadable, found)
		}
	}
	if x.adapter, x.account, err = e.Adapter(ctx, x.document.Stack.Account); err != nil {
		return nil, err
	}
	recorded, err := e.Store.Resources(ctx, x.run.StackID)
	if err != nil {
		return nil, err
	}
	for _, r := range recorded {
		x.resources[r.Name] = &r
	}
	if number > 1 {
		last, err := e.Store.Events(ctx, id, x.run.LastEvent-1, 1)
		if err != nil {
			return nil, err
		}
		for _, event := range last {
			x.away = max(0, time.Since(event.At))
		}
	}
	return x, x.openSecrets(ctx)
}

func (x *execution) openSecrets(ctx context.Context) error {
	sealed, err := x.engine.Store.Secrets(ctx, x.run.StackID)
	if err != nil {
		return err
	}
	for _, s := range sealed {
		plain, err := x.engine.Box.Open(s.Sealed)
		if err != nil {
			return fmt.Errorf("%w: secret %s: %w", errUnreadable, s.Reference, err)
		}
		x.secrets[s.Reference] = string(plain)
	}
	return nil
}

// scrub takes every secret of the stack out of a text.
func (x *execution) scrub(s string) string { return secret.Scrub(s, x.secrets) }

// ScheduleOf turns recorded steps into what the scheduler works on and resumes
// from.
func ScheduleOf(steps []store.Step) ([]schedule.Step, []schedule.Status) {
	plan, status := make([]schedule.Step, len(steps)), make([]schedule.Status, len(steps))
	for i, s := range steps {
		plan[i] = schedule.Step{Name: s.Resource, Expect: time.Duration(s.ExpectMS) * time.Millisecond, Patience: time.Duration(s.PatienceMS) * time.Millisecond}
		for _, n := range s.Needs {
			plan[i].Needs = append(plan[i].Needs, schedule.Need{Step: n.Step, Made: n.Made})
		}
		status[i] = schedule.Status{Phase: schedule.Phase(s.State), Called: s.CalledAt != nil, Reason: s.Reason}
		if s.IntentAt != nil {
			status[i].Began = *s.IntentAt
		}
		if s.MadeAt != nil {
			status[i].MadeAt = *s.MadeAt
		}
	}
	return plan, status
}

// carryOut drives the scheduler until the run is over or left.
func (x *execution) carryOut(ctx context.Context) error {
	// Calls and writes outlive a wish to shut down: what was begun is recorded.
	work, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	if err := x.begin(work); err != nil {
		return err
	}
	limits := schedule.Limits{InFlight: x.engine.InFlight, MinLook: max(50*time.Millisecond, x.real(0.5)), MaxLook: x.real(60)}
	steps, status := ScheduleOf(x.steps)
	for i := range status {
		// Time in which nobody looked counts against no deadline.
		status[i].Began = status[i].Began.Add(x.away)
		if x.steps[i].MadeAt != nil {
			made := x.steps[i].MadeAt.Add(x.away)
			x.steps[i].MadeAt = &made
		}
	}
	plan := schedule.New(steps, status, limits, rand.Float64)
	failures := make(chan error, 1)
	flying := 0
	leaving := false
	event := schedule.Event{Stop: x.run.StopAsked}
	stopped, left := x.stopped, x.leaving
	for {
		for _, a := range plan.Handle(event, time.Now()) {
			if a.Do == schedule.Finish {
				return x.finish(work, plan, a.Result)
			}
			if leaving {
				continue
			}
			if a.Do == schedule.Skip || a.Do == schedule.Fail {
				if err := x.giveUpStep(work, a); err != nil {
					return err
				}
				continue
			}
			flying++
			go x.act(work, a, failures)
		}
		if leaving && flying == 0 {
			return errLeft
		}
		event = schedule.Event{}
		select {
		case event = <-x.events:
			flying--
		case err := <-failures:
			return err
		case <-stopped:
			stopped = nil
			event.Stop = true
			if err := x.note(work, store.Event{Kind: "run", State: "stopping", Text: "asked to stop; calls in flight will return first"}, func(w *store.Write) { w.RunState("stopping", "") }); err != nil {
				return err
			}
		case <-left:
			left = nil
			leaving = true
		case <-wakeAt(plan.Wake()):
		}
	}
}

func wakeAt(at time.Time) <-chan time.Time {
	if at.IsZero() {
		return nil
	}
	return time.After(max(time.Until(at), time.Millisecond))
}

// act carries out one action and reports what it came to.
func (x *execution) act(ctx context.Context, a schedule.Action, failures chan<- error) {
	var e schedule.Event
	var err error
	if until := x.engine.throttle(x.account.Name, time.Time{}); time.Now().Before(until) {
		x.report(ctx, schedule.Event{Step: a.Step, Outcome: schedule.Throttled, At: until}) // another run was told to wait
		return
	}
	if a.Do == schedule.Call {
		e, err = x.call(ctx, a.Step)
	} else {
		e, err = x.look(ctx, a.Step)
	}
	if err != nil {
		select {
		case failures <- err:
		default:
		}
		return
	}
	e.Step = a.Step
	x.report(ctx, e)
}

// report hands an event to the loop, unless the loop is over.
func (x *execution) report(ctx context.Context, e schedule.Event) {
	select {
	case x.events <- e:
	case <-ctx.Done():
	}
}

// note commits events together with the state they tell. While the database is
// away it holds and tries again: the run goes on when it is back.
func (x *execution) note(ctx context.Context, e store.Event, more func(*store.Write)) error {
	e.Text = x.scrub(e.Text)
	return x.commit(ctx, []store.Event{e}, more)
}

func (x *execution) commit(ctx context.Context, events []store.Event, more func(*store.Write)) error {
	for wait := 200 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		w := &store.Write{Run: x.run.ID, Claim: x.number, Events: events}
		if more != nil {
			more(w)
		}
		err := x.engine.Store.Commit(ctx, w)
		if err == nil || !store.Away(err) {
			return err
		}
		x.engine.Log.Warn("the database is away; the run holds", "run", x.run.ID, "error", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
	}
}

func (x *execution) begin(ctx context.Context) error {
	e := store.Event{Kind: "run", State: "underway", Text: fmt.Sprintf("run %d of stack %s began with %d steps", x.run.ID, x.run.Stack, len(x.steps))}
	if x.number > 1 {
		e.Text = "another engine took the run over where it was"
	}
	return x.note(ctx, e, func(w *store.Write) { w.RunState("underway", "") })
}

func (x *execution) giveUpStep(ctx context.Context, a schedule.Action) error {
	s := x.steps[a.Step]
	state, text := "skipped", s.Resource+" is skipped: "+a.Reason
	if a.Do == schedule.Fail {
		state, text = "failed", s.Resource+" failed: "+a.Reason
	}
	return x.note(ctx, store.Event{Kind: "step", Resource: s.Resource, State: state, Text: text}, func(w *store.Write) {
		w.StepState(s.Number, state, x.scrub(a.Reason))
		if a.Do == schedule.Fail {
			x.markUnhealthy(w, s.Resource, a.Reason)
		}
	})
}

func (x *execution) markUnhealthy(w *store.Write, name, reason string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if r := x.resources[name]; r != nil && r.MadeAt != nil {
		r.State, r.Reason = "unhealthy", x.scrub(reason)
		w.PutResource(*r)
	}
}

// finish ends the run with a result and, when something is missing, with the
// command that continues it.
func (x *execution) finish(ctx context.Context, plan *schedule.Run, result schedule.Result) error {
	if x.number > 1 {
		if err := x.adoptLost(ctx); err != nil {
			return err
		}
	}
	state := string(result)
	var failed []string
	healthy := 0
	for i, s := range x.steps {
		switch st := plan.Status(i); st.Phase {
		case schedule.Failed:
			failed = append(failed, fmt.Sprintf("%s: %s", s.Resource, st.Reason))
		case schedule.Healthy:
			healthy++
		}
	}
	reason := ""
	text := fmt.Sprintf("run %d is done: all %d steps are healthy", x.run.ID, len(x.steps))
	if x.document.Template.Source == "" {
		text = fmt.Sprintf("stack %s is retired; nothing of it is left", x.run.Stack)
		if kept := x.kept(); len(kept) > 0 {
			text = fmt.Sprintf("stack %s is retired; kept, and still paid for: %s", x.run.Stack, strings.Join(kept, ", "))
		}
	}
	next := "undersail continue " + x.run.Stack
	if x.document.Template.Source == "" {
		next = "undersail retire " + x.run.Stack
	}
	switch result {
	case schedule.Broke:
		reason = x.scrub(fmt.Sprintf("%s; %d of %d steps succeeded and stay", strings.Join(failed, "; "), healthy, len(x.steps)))
		text = fmt.Sprintf("run %d failed: %s; continue with: %s", x.run.ID, reason, next)
	case schedule.Stopped:
		reason = fmt.Sprintf("stopped on request; %d of %d steps are done", healthy, len(x.steps))
		text = fmt.Sprintf("run %d is %s; continue with: %s", x.run.ID, reason, next)
	}
	return x.note(ctx, store.Event{Kind: "run", State: state, Text: text}, func(w *store.Write) {
		w.RunState(state, reason)
		if result == schedule.Done && x.document.Template.Source == "" {
			w.Retired(x.run.StackID)
		}
	})
}

// kept are the resources that stay when their stack is retired.
func (x *execution) kept() []string {
	var names []string
	for _, c := range x.document.Changes {
		if c.Change == change.Same {
			names = append(names, c.Resource)
		}
	}
	return names
}

// adoptLost looks for resources that carry the stack's tags and that nobody
// recorded: a call whose answer and whose caller were both lost. They are
// removed, since the step made what it needs under its own token.
func (x *execution) adoptLost(ctx context.Context) error {
	live, err := x.adapter.List(ctx, x.document.Stack.Region, cloud.TagStackID, x.run.StackID)
	if err != nil {
		return x.note(ctx, store.Event{Kind: "run", Text: "could not look for lost resources: " + err.Error()}, nil)
	}
	known := map[string]bool{}
	x.mu.Lock()
	for _, r := range x.resources {
		known[r.Token] = true
	}
	x.mu.Unlock()
	for _, l := range live {
		if known[l.Token] || l.Phase == cloud.Removing {
			continue
		}
		err := x.adapter.Remove(ctx, cloud.Ref{Region: l.Region, Type: l.Type, Token: l.Token})
		text := fmt.Sprintf("removed %s %s, which nobody had recorded", l.Type, l.ID)
		if err != nil {
			text = fmt.Sprintf("%s %s is recorded nowhere and could not be removed: %v", l.Type, l.ID, err)
		}
		if err := x.note(ctx, store.Event{Kind: "run", Text: text}, nil); err != nil {
			return err
		}
	}
	return nil
}

// ProbeRange is where probes of an account may open sockets to.
func ProbeRange(a store.Account) []netip.Prefix {
	if p, err := netip.ParsePrefix(a.GuestRange); err == nil {
		return []netip.Prefix{p}
	}
	return nil
}
