package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/health"
	"undersail/internal/core/resource"
	"undersail/internal/core/schedule"
	"undersail/internal/probe"
	"undersail/internal/store"
)

// checking is how far the checks of a resource are.
type checking struct {
	made     time.Time
	progress map[string]health.Progress
	proved   map[string]bool
	told     map[string]string // the last answer told as an event, by check
}

func newChecking(checks []health.Check, made time.Time) *checking {
	return &checking{made: made, progress: make(map[string]health.Progress, len(checks)), proved: map[string]bool{}, told: map[string]string{}}
}

// verdict judges all checks at one moment, so that the first that is too late is
// the one that is told, in the order in which they are written.
func (c *checking) verdict(checks []health.Check, now time.Time, rate float64) health.Verdict {
	verdict := health.Verdict{State: health.Healthy}
	for _, check := range checks {
		if c.proved[check.Name] {
			continue
		}
		v := check.Judge(c.progress[check.Name], c.made, now, rate)
		c.proved[check.Name] = v.State == health.Healthy
		if v.State == health.Unhealthy {
			return v
		}
		if v.State == health.Settling && verdict.State == health.Healthy {
			verdict = v
		}
	}
	return verdict
}

// lookHealth makes the due checks of a step that settles and judges them.
func (x *execution) lookHealth(ctx context.Context, s *store.Step) (schedule.Event, error) {
	shown, _, err := x.resolve(s.Resource)
	if err != nil {
		return x.broken(ctx, s, err.Error())
	}
	if err := x.refresh(ctx, s, shown.Checks); err != nil {
		return x.refused(ctx, s, err)
	}
	x.mu.Lock()
	c := x.checks[s.Resource]
	if c == nil { // taken over while settling: the row of passes begins anew
		made := time.Now()
		if s.MadeAt != nil {
			made = *s.MadeAt
		}
		c = newChecking(shown.Checks, made)
		x.checks[s.Resource] = c
	}
	checks := x.revealed(s.Resource)
	prober := x.prober()
	x.mu.Unlock()
	var seen []health.Evidence
	for _, check := range checks {
		if c.proved[check.Name] {
			continue
		}
		e, err := x.evidence(ctx, s, check, prober)
		if err != nil {
			return x.refused(ctx, s, err)
		}
		seen = append(seen, e)
		c.progress[check.Name] = c.progress[check.Name].Add(e)
	}
	verdict := c.verdict(checks, time.Now(), x.rate())
	return x.judged(ctx, s, c, seen, verdict)
}

// refresh reads a resource again whose checks wait for what it did not report
// when it was made.
func (x *execution) refresh(ctx context.Context, s *store.Step, checks []health.Check) error {
	waits := slices.ContainsFunc(checks, func(c health.Check) bool {
		return slices.ContainsFunc(resource.Waits(c.Spec), func(w string) bool { return strings.HasPrefix(w, s.Resource+".") })
	})
	if !waits {
		return nil
	}
	live, err := x.adapter.Read(ctx, x.ref(s))
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	known := maps.Clone(x.resources[s.Resource].Attributes) // the old map may be on its way to the database
	maps.Copy(known, live.Attributes)
	x.resources[s.Resource].Attributes = known
	x.version++
	return nil
}

// revealed gives the checks of a resource with secrets in, for the probes only.
func (x *execution) revealed(name string) []health.Check {
	if name == Whole {
		return x.proofChecks(1)
	}
	if r := x.render(1).Resource(name); r != nil {
		return r.Checks
	}
	return nil
}

func (x *execution) evidence(ctx context.Context, s *store.Step, check health.Check, prober probe.Prober) (health.Evidence, error) {
	if waits := resource.Waits(check.Spec); len(waits) > 0 {
		return health.Evidence{Resource: s.Resource, Check: check.Name, At: time.Now(), Asked: check.Kind, Answer: "it waits for " + strings.Join(waits, ", ")}, nil
	}
	if check.Kind != "phase" {
		return prober.Look(ctx, s.Resource, check), nil
	}
	began := time.Now()
	live, err := x.adapter.Read(ctx, x.ref(s))
	if err != nil && cloud.ClassOf(err) != cloud.Gone {
		return health.Evidence{}, err
	}
	return PhaseEvidence(s.Resource, live, err, began), nil
}

// PhaseEvidence turns a cloud's word on a resource into evidence.
func PhaseEvidence(name string, live cloud.Live, err error, began time.Time) health.Evidence {
	e := health.Evidence{Resource: name, Check: "phase", At: time.Now(), Asked: "phase of " + name, Answer: string(live.Phase), Passed: live.Phase == cloud.Ready,
		Final: live.Phase == cloud.Broken, Took: time.Since(began).Milliseconds()}
	if live.Why != "" {
		e.Answer += ": " + live.Why
	}
	if err != nil {
		e.Answer, e.Final = "it is gone", true
	}
	return e
}

// judged records what was seen and moves the step on.
func (x *execution) judged(ctx context.Context, s *store.Step, c *checking, seen []health.Evidence, verdict health.Verdict) (schedule.Event, error) {
	keep := func(w *store.Write) {
		for _, e := range seen {
			e.Asked, e.Answer = x.scrub(e.Asked), x.scrub(e.Answer)
			w.AddEvidence(store.Evidence{Evidence: e, StackID: x.run.StackID, RunID: x.run.ID})
		}
	}
	switch verdict.State {
	case health.Healthy:
		if s.Change == proveStep {
			return x.proved(ctx, s, keep)
		}
		x.mu.Lock()
		row := x.resources[s.Resource]
		now := time.Now()
		row.State, row.Reason, row.HealthyAt = "healthy", "", &now
		saved := *row
		delete(x.checks, s.Resource)
		x.mu.Unlock()
		return schedule.Event{Outcome: schedule.Proved}, x.note(ctx, store.Event{Kind: "step", Resource: s.Resource, State: "healthy", Text: s.Resource + " is healthy"}, func(w *store.Write) {
			keep(w)
			w.StepState(s.Number, "healthy", "")
			w.PutResource(saved)
		})
	case health.Unhealthy:
		if err := x.commit(ctx, nil, keep); err != nil {
			return schedule.Event{}, err
		}
		return x.broken(ctx, s, verdict.Reason)
	}
	// An answer is told when it is another than before; all of them are kept.
	var events []store.Event
	for _, e := range seen {
		line := fmt.Sprintf("%s: asked %s, got %s", s.Resource, e.Asked, e.Answer)
		if c.told[e.Check] != line && e.Check != "phase" {
			c.told[e.Check] = line
			events = append(events, store.Event{Kind: "check", Resource: s.Resource, State: "settling", Text: x.scrub(line)})
		}
	}
	return schedule.Event{Outcome: schedule.NotYet, At: time.Now().Add(x.real(3)), Reason: verdict.Reason}, x.commit(ctx, events, keep)
}

// prober knows how the machines of the stack are reached. The caller holds the lock.
func (x *execution) prober() probe.Prober {
	list := make([]store.Resource, 0, len(x.resources))
	for _, r := range x.resources {
		list = append(list, *r)
	}
	return NewProber(list, x.account, x.scrub)
}

// NewProber makes a prober for the recorded machines of a stack.
func NewProber(resources []store.Resource, a store.Account, scrub func(string) string) probe.Prober {
	p := probe.Prober{Allowed: ProbeRange(a), Reach: map[string]string{}, HostKeys: map[string]string{}, Scrub: scrub}
	for _, r := range resources {
		key, _ := r.Attributes["host_key"].(string)
		public, _ := r.Attributes["public_address"].(string)
		for _, name := range []string{"private_address", "public_address"} {
			if addr, ok := r.Attributes[name].(string); ok && addr != "" && key != "" {
				p.HostKeys[addr] = key
			}
		}
		reach, _ := r.Attributes["reach"].(map[string]any)
		for port, at := range reach {
			if to, ok := at.(string); ok && public != "" {
				p.Reach[net.JoinHostPort(public, port)] = to
			}
		}
	}
	return p
}

// shownChecks are the checks as they are recorded: secrets as references.
func shownChecks(checks []health.Check) []health.Check {
	out := slices.Clone(checks)
	for i := range out {
		raw, err := json.Marshal(out[i].Spec)
		if err != nil {
			continue
		}
		spec := map[string]any{}
		if json.Unmarshal(raw, &spec) == nil {
			out[i].Spec = spec
		}
	}
	return out
}
