package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/fault"
	"undersail/internal/proposal"
	"undersail/internal/sealed"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// execution is one run while this engine carries it out.
type execution struct {
	engine   *Engine
	run      store.Run
	number   int64 // of the claim
	document proposal.Document
	account  store.Account
	adapter  cloud.Adapter
	steps    []store.Step
	creating map[string]string // token of the step that creates a resource
	secrets  *sealed.Run       // opens what was agreed to
	scrubber *secret.Scrubber  // takes secrets out of texts
	place    use.Place
	session  *render.Session     // nil when nothing is rendered, only removed
	stay     map[string][]string // properties that stay as recorded, by resource

	events  chan schedule.Event
	leaving chan struct{}
	stopped chan struct{}
	once    [2]sync.Once

	writing  sync.Mutex
	writes   int64
	forecast forecast

	// Each of these has a lock of its own.
	*stopwatch
	mentions  *mentions
	questions questions
	records   *records
	proofs    *proofs
}

func (x *execution) leave()   { x.once[0].Do(func() { close(x.leaving) }) }
func (x *execution) askStop() { x.once[1].Do(func() { close(x.stopped) }) }

// rate is how many cloud seconds pass in a real one.
func (x *execution) rate() float64 { return max(x.account.ClockRate, 0.001) }

func (x *execution) real(cloudSeconds float64) time.Duration {
	return time.Duration(cloudSeconds / x.rate() * float64(time.Second))
}

// visibility is how long a fresh resource may be unseen, in real time.
func (x *execution) visibility() time.Duration { return x.real(x.adapter.Visibility()) }

// prepare reads everything a run needs.
func (e *Engine) prepare(ctx context.Context, id, number int64) (*execution, error) {
	x := &execution{
		engine:    e,
		number:    number,
		events:    make(chan schedule.Event, 64),
		leaving:   make(chan struct{}),
		stopped:   make(chan struct{}),
		proofs:    newProofs(),
		creating:  map[string]string{},
		stopwatch: newStopwatch(e.Now().Round(0)),
		mentions:  newMentions(),
	}
	var err error
	if x.run, err = e.Store.Run(ctx, id); err != nil {
		return nil, fmt.Errorf("read run %d: %w", id, err)
	}
	x.writes = x.run.Writes
	saved, err := e.Store.Proposal(ctx, x.run.ProposalID)
	if err != nil {
		return nil, fmt.Errorf("read proposal %d: %w", x.run.ProposalID, err)
	}
	if err := json.Unmarshal(saved.Document, &x.document); err != nil {
		return nil, fmt.Errorf("%w: proposal %d: %w", errUnreadable, saved.ID, err)
	}
	x.document.Inputs = maps.Clone(x.document.Inputs)
	maps.Copy(x.document.Inputs, x.run.Given)
	x.stay = map[string][]string{}
	for _, c := range x.document.Changes {
		x.stay[c.Resource] = c.Unchanged
	}
	if x.steps, err = e.Store.Steps(ctx, id); err != nil {
		return nil, fmt.Errorf("read steps of run %d: %w", id, err)
	}
	for i, s := range x.steps {
		if s.Action == ActionCreate {
			x.creating[s.Resource] = s.Token
		}
		x.of(i, func(t *spell) {
			t.waited = time.Duration(s.WaitedMS) * time.Millisecond
			t.waitedMade = time.Duration(s.SettleWaitedMS) * time.Millisecond
		})
	}
	if x.adapter, x.account, err = e.Adapter(ctx, x.document.Stack.Account); errors.Is(err, sealed.ErrCannotOpen) {
		return nil, fmt.Errorf("%w: %w", errUnreadable, err)
	} else if err != nil {
		return nil, fmt.Errorf("connect to account %s: %w", x.document.Stack.Account, err)
	}
	recorded, err := e.Store.Resources(ctx, x.run.StackID)
	if err != nil {
		return nil, fmt.Errorf("read resources of stack %s: %w", x.run.Stack, err)
	}
	x.records = newRecords(recorded)
	if err := x.openSecrets(ctx, saved); err != nil {
		return nil, fmt.Errorf("opening the secrets of the run: %w", err)
	}
	return x, x.accept()
}

// openSecrets reads what was agreed to, and makes ready to open that.
func (x *execution) openSecrets(ctx context.Context, saved store.Proposal) error {
	agreed, err := x.engine.Agreed(saved, x.run)
	if err != nil {
		return fmt.Errorf("read what was agreed to with run %d: %w", x.run.ID, err)
	}
	x.secrets, err = x.engine.Sealed.ForRun(ctx, x.run.StackID, slices.Collect(maps.Values(x.document.Secrets)), agreed)
	if errors.Is(err, sealed.ErrCannotOpen) || errors.Is(err, sealed.ErrMoved) {
		return fmt.Errorf("%w: %w", errUnreadable, err)
	}
	if err != nil {
		return fmt.Errorf("read secrets of stack %s: %w", x.run.Stack, err)
	}
	x.scrubber = x.secrets.Scrubber()
	x.place = use.Place{
		By:       x.document.TextBy,
		Template: x.document.Template.Digest,
		Keys:     x.document.Keys,
		Told:     x.document.Told,
	}
	if x.document.Told == nil && x.document.Rendering != nil { // of an older program
		x.place.Told = use.Told(x.document.Rendering, nil)
	}
	return nil
}

// accept renders what was accepted with everything reported so far, and keeps it.
func (x *execution) accept() error {
	if x.document.Rendering == nil {
		return nil
	}
	template, found := lang.ReadBundle(x.document.Template.Bundle())
	if template == nil {
		return fmt.Errorf("%w: template %s: %w", errUnreadable, x.document.Template.Name, found)
	}
	offers := x.document.Offers
	x.session, _ = render.Accept(budget.Boundless(), render.Request{
		Template: template,
		Stack:    x.document.Stack,
		Inputs:   x.document.Inputs,
		Secrets:  x.document.Secrets,
		Offers:   &offers,
		Stacks:   x.document.Stacks,
		Known: func(r render.Resource) map[string]any {
			if found, ok := x.document.Found[r.Name]; ok {
				return found
			}
			if row := x.records.named(r.Name); row != nil && row.MadeAt != nil && !x.replacing(row) {
				return row.Attributes
			}
			return nil
		},
	})
	return nil
}

// replacing reports whether a recorded resource is the old one of a rebuild.
func (x *execution) replacing(row *store.Resource) bool {
	token, creates := x.creating[row.Name]
	return creates && row.Token != token
}

// scrub takes every secret of the stack out of a text.
func (x *execution) scrub(s string) string { return x.scrubber.Text(s) }

// ScheduleOf turns recorded steps into what the scheduler works on and resumes
// from.
func ScheduleOf(steps []store.Step) ([]schedule.Step, []schedule.Status) {
	plan, status := make([]schedule.Step, len(steps)), make([]schedule.Status, len(steps))
	for i, s := range steps {
		plan[i] = schedule.Step{
			Name:     s.Resource,
			Expect:   time.Duration(s.ExpectMS) * time.Millisecond,
			Patience: time.Duration(s.PatienceMS) * time.Millisecond,
		}
		for _, n := range s.Needs {
			plan[i].Needs = append(plan[i].Needs, schedule.Need{Step: n.Step, Made: n.Made})
		}
		status[i] = schedule.Status{Phase: schedule.Phase(s.State), Called: s.CalledAt != nil, Reason: s.Reason}
		if s.IntentAt != nil {
			status[i].Began = s.IntentAt.Add(time.Duration(s.WaitedMS) * time.Millisecond)
		}
		if s.MadeAt != nil {
			status[i].MadeAt = s.MadeAt.Add(time.Duration(s.SettleWaitedMS) * time.Millisecond)
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
	limits := schedule.Limits{
		InFlight: x.engine.InFlight,
		MinLook:  max(50*time.Millisecond, x.real(0.5)),
		MaxLook:  x.real(60),
		Rate:     x.rate(),
	}
	x.resume()
	steps, status := ScheduleOf(x.steps)
	plan := schedule.New(steps, status, limits, rand.Float64)
	failures := make(chan error, 1)
	flying := 0
	leaving := false
	event := schedule.Event{Stop: x.run.StopAsked}
	stopped, left := x.stopped, x.leaving
	due := x.now()
	noticed := x.watch(work)
	for {
		now := x.now()
		for _, a := range plan.Handle(event, now) {
			if a.Do == schedule.Finish {
				return x.end(work, plan, a.Result)
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
			if event.Outcome == "" {
				x.engine.Metrics.lateness.WithLabelValues(string(a.Do)).Observe(max(0, now.Sub(due)).Seconds())
			}
			flying++
			go x.act(work, a, failures)
		}
		if leaving && flying == 0 {
			return errLeft
		}
		x.forecast.update(plan, now)
		event = schedule.Event{}
		due = plan.Wake()
		select {
		case event = <-x.events:
			flying--
		case err := <-failures:
			return err
		case step := <-noticed:
			event = schedule.Event{Step: step, Notice: true}
		case <-stopped:
			stopped = nil
			event.Stop = true
			err := x.note(work, store.Event{
				Kind:  "run",
				State: state.Stopping,
				Text:  "asked to stop; calls in flight will return first",
			}, func(w *store.Write) { w.RunState(state.Stopping, "") })
			if err != nil {
				return err
			}
		case <-left:
			left = nil
			leaving = true
		case <-x.wakeAt(due):
		}
	}
}

func (x *execution) wakeAt(at time.Time) <-chan time.Time {
	if at.IsZero() {
		return nil
	}
	return time.After(max(at.Sub(x.now()), time.Millisecond))
}

// act carries out one action and reports what it came to. A fault of our own
// fails the step, with its stack in the log, and nothing else.
func (x *execution) act(ctx context.Context, a schedule.Action, failures chan<- error) {
	ctx, meter := cloud.WithMeter(ctx)
	e, err := x.safely(ctx, a)
	if err != nil {
		select {
		case failures <- err:
		default:
		}
		return
	}
	e.Step = a.Step
	e.Waited += x.noteWaits(ctx, a.Step, meter.Waited(), e.Waited)
	select {
	case x.events <- e:
	case <-ctx.Done():
	}
}

func (x *execution) safely(ctx context.Context, a schedule.Action) (e schedule.Event, err error) {
	defer func() {
		if p := recover(); p != nil {
			x.engine.Metrics.panics.Inc()
			s, broke := &x.steps[a.Step], fault.Of(p)
			fault.Log(x.engine.Log, slog.LevelError, "a step failed by a fault of our own", broke, "run", x.run.ID,
				"step", s.Number, "resource", s.Resource)
			e, err = x.broken(ctx, s,
				fmt.Sprintf("a fault of Under Sail itself (%v); the service's log has its stack", broke.Value))
		}
	}()
	if a.Do == schedule.Call {
		return x.call(ctx, a.Step)
	}
	x.engine.Metrics.looks.Inc()
	return x.look(ctx, a.Step)
}

// underway is the state of the run while it is carried out.
func (x *execution) underway() string {
	if x.run.Kind == state.KindUndo {
		return state.Undoing
	}
	return state.Underway
}

func (x *execution) begin(ctx context.Context) error {
	e := store.Event{
		Kind:  "run",
		State: x.underway(),
		Text:  fmt.Sprintf("run %d of stack %s began with %d steps", x.run.ID, x.run.Stack, len(x.steps)),
	}
	if x.number > 1 {
		e.Text = "another engine took the run over where it was"
	}
	if err := x.note(ctx, e, func(w *store.Write) { w.RunState(x.underway(), "") }); err != nil {
		return err
	}
	if j, lately := x.engine.jumpedLately(); x.number > 1 && lately {
		x.tellJump(ctx, j)
	}
	return nil
}

func (x *execution) giveUpStep(ctx context.Context, a schedule.Action) error {
	s := &x.steps[a.Step]
	step, text := schedule.Skipped, s.Resource+" is skipped: "+a.Reason
	if a.Do == schedule.Fail {
		a.Reason += x.lastAnswer(s, a.Reason)
		step, text = schedule.Failed, s.Resource+" failed: "+a.Reason
	}
	x.engine.Metrics.steps.WithLabelValues(s.Action, string(step)).Inc()
	return x.note(ctx, store.Event{Kind: "step", Resource: s.Resource, State: string(step), Text: text},
		func(w *store.Write) {
			w.StepState(s.Number, string(step), x.scrub(a.Reason))
			if a.Do == schedule.Fail {
				x.markUnhealthy(w, s, a.Reason)
			}
		})
}

// lastAnswer is what the first check of a step that does not hold was answered last, where the
// reason of a failure does not tell it yet.
func (x *execution) lastAnswer(s *store.Step, reason string) string {
	proving := x.proofs.of(s.Resource)
	if proving == nil || strings.Contains(reason, "asked ") {
		return ""
	}
	for _, name := range slices.Sorted(maps.Keys(proving.proof)) {
		if p := proving.proof[name]; !p.Held && p.Last.Asked != "" && !p.Last.Passed {
			return fmt.Sprintf("; asked %s, got %s", p.Last.Asked, p.Last.Answer)
		}
	}
	return ""
}

// markUnhealthy records that a resource was not proved. One that was asked for and
// never seen stays recorded as that.
func (x *execution) markUnhealthy(w *store.Write, s *store.Step, reason string) {
	row := x.records.change(s, func(row *store.Resource) {
		row.Reason = x.scrub(reason)
		if row.MadeAt != nil && row.State != state.Removing {
			row.State = state.Unhealthy
		}
	})
	if row != nil {
		w.PutResource(*row)
	}
}

// ProbeRange is where the machines of an account are, as its cloud says; nil when it does
// not. It narrows what may be reached, and opens nothing.
func ProbeRange(a store.Account) []netip.Prefix {
	if p, err := netip.ParsePrefix(a.GuestRange); err == nil {
		return []netip.Prefix{p}
	}
	return nil
}
