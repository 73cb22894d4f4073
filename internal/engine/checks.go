package engine

import (
	"context"
	"encoding/json"
	"errors"
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
	"undersail/internal/core/state"
	"undersail/internal/probe"
	"undersail/internal/proposal"
	"undersail/internal/reach"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// proving is how far the checks of a resource are.
type proving struct {
	proof health.Proof
	told  map[string]string // the last answer told as an event, by check
	wrote map[string]written
	// first is what the look saw that found the resource made.
	first []health.Evidence
}

func newProving() *proving {
	return &proving{proof: health.Proof{}, told: map[string]string{}, wrote: map[string]written{}}
}

// written is an answer that does not do, and when it was kept as evidence.
type written struct {
	answer string
	at     time.Time
}

// tellEvery is how often an answer that does not do is kept that is the same as before.
const tellEvery = 30 * time.Second

// worthTelling leaves answers out that do not do and are the same as those that were kept a
// moment ago: a check that waits for long would leave nothing else.
func (p *proving) worthTelling(seen []health.Evidence) (out []health.Evidence) {
	for _, e := range seen {
		last, before := p.wrote[e.Check]
		if !e.Passed && before && last.answer == e.Answer && e.At.Sub(last.at) < tellEvery {
			continue
		}
		if delete(p.wrote, e.Check); !e.Passed {
			p.wrote[e.Check] = written{e.Answer, e.At}
		}
		out = append(out, e)
	}
	return out
}

// provingMade begins the checks of a resource with what the look saw that found it
// made: that is one look at its phase.
func (x *execution) provingMade(s *store.Step, checks []health.Check, live cloud.Live) *proving {
	p := newProving()
	for _, c := range checks {
		if c.Kind == "phase" {
			e := PhaseEvidence(s.Resource, live, cloud.Present, x.now(), 0)
			e.Check = c.Name
			p.proof[c.Name] = c.After(health.Progress{}, e, x.rate())
			p.first = append(p.first, e)
		}
	}
	return p
}

// lookHealth makes the due checks of a step that settles and judges them all.
func (x *execution) lookHealth(ctx context.Context, s *store.Step) (schedule.Event, error) {
	shown, sent, err := x.resolve(s)
	if err != nil {
		return x.unresolved(ctx, s, err)
	}
	if refreshed, err := x.refresh(ctx, s, shown.Checks); err != nil {
		return x.refused(ctx, s, err)
	} else if refreshed {
		if _, sent, err = x.resolve(s); err != nil {
			return x.unresolved(ctx, s, err)
		}
	}
	p := x.proofs.goOn(s.Resource)
	prober := x.prober()
	made := x.now()
	if s.MadeAt != nil {
		_, waited := x.waited(s.Number)
		made = s.MadeAt.Add(waited)
	}
	seen := p.first
	p.first = nil
	// When the checks that are open hold, those of long ago are due at once.
	for range 2 {
		for _, check := range p.proof.Due(sent.Checks, x.now(), x.rate()) {
			if looked(seen, check) {
				continue
			}
			e, err := x.evidence(ctx, s, check, prober)
			if err != nil {
				return x.refused(ctx, s, err)
			}
			seen = append(seen, e)
			p.proof[check.Name] = check.After(p.proof[check.Name], e, x.rate())
		}
	}
	return x.judged(ctx, s, p, seen, p.proof.Verdict(sent.Checks, made, x.now(), x.rate()))
}

// unresolved judges that what a step needs cannot be computed: for good, unless somebody has
// to agree first.
func (x *execution) unresolved(ctx context.Context, s *store.Step, err error) (schedule.Event, error) {
	var beyond *beyondError
	if errors.As(err, &beyond) {
		return x.agreeing(ctx, s, beyond)
	}
	return x.broken(ctx, s, err.Error())
}

func looked(seen []health.Evidence, c health.Check) bool {
	return slices.ContainsFunc(seen, func(e health.Evidence) bool { return e.Check == c.Name })
}

// refresh reads a resource again whose checks wait for what it did not report
// when it was made.
func (x *execution) refresh(ctx context.Context, s *store.Step, checks []health.Check) (bool, error) {
	waits := slices.ContainsFunc(checks, func(c health.Check) bool {
		return slices.ContainsFunc(resource.Waits(c.Spec),
			func(w string) bool { return strings.HasPrefix(w, s.Resource+".") })
	})
	if !waits {
		return false, nil
	}
	live, there, err := x.at(s).Look(ctx, x.ref(s))
	if err != nil || there == cloud.Absent {
		return false, err
	}
	x.toldSince(s, live)
	return true, nil
}

// toldSince takes up what a resource tells of itself beyond what it told when it was made.
func (x *execution) toldSince(s *store.Step, live cloud.Live) {
	row := x.records.change(s, func(row *store.Resource) {
		row.Attributes = maps.Clone(row.Attributes) // the old map may be on its way to the database
		maps.Copy(row.Attributes, live.Attributes)
	})
	if row != nil {
		x.session.Report(s.Resource, row.Attributes)
	}
}

func (x *execution) evidence(ctx context.Context, s *store.Step, check health.Check,
	prober probe.Prober) (health.Evidence, error) {
	if waits := resource.Waits(check.Spec); len(waits) > 0 {
		return health.Evidence{
			Resource: s.Resource,
			Check:    check.Name,
			At:       x.now(),
			Asked:    check.Kind,
			Answer:   "it waits for " + strings.Join(waits, ", "),
		}, nil
	}
	if !AsksCloud(check) {
		e := prober.Look(ctx, s.Resource, check)
		e.At = x.now()
		return e, nil
	}
	began := time.Now()
	live, there, err := x.at(s).Look(ctx, x.ref(s))
	if err != nil {
		return health.Evidence{}, err
	}
	if there == cloud.Absent && s.MadeAt != nil && x.now().Sub(*s.MadeAt) < x.visibility() {
		there = "unseen"
	}
	e := Told(ctx, prober, s.Resource, s.Want, check, live, there, x.now(), time.Since(began))
	if check.Kind == "tells" && e.Passed { // others read what it is now, not what it was when it was made
		x.toldSince(s, live)
	}
	return e, nil
}

// AsksCloud reports whether a check judges what the cloud tells of a resource.
func AsksCloud(c health.Check) bool {
	return c.Kind == "phase" || c.Kind == "tells" || c.Kind == "resolves"
}

// Told judges what a cloud tells of a resource by a check. A name is also asked for, at
// the servers that the cloud tells.
func Told(ctx context.Context, prober probe.Prober, name string, want map[string]any, c health.Check, live cloud.Live,
	there cloud.Presence, at time.Time, took time.Duration) health.Evidence {
	e := PhaseEvidence(name, live, there, at, took)
	e.Check = c.Name
	servers, _ := live.Attributes["servers"].([]any)
	switch {
	case c.Kind == "phase" || there != cloud.Present || live.Phase == cloud.Broken:
	case c.Kind == "tells":
		e.Asked, e.Answer, e.Passed = health.Tells(c, live.Attributes)
	case len(servers) == 0:
		e.Asked, e.Answer, e.Passed = "servers of "+name, "it is seen inside its network only", true
	default:
		for _, server := range servers { // each of them must know it
			spec := map[string]any{
				"name":   live.Attributes["full_name"],
				"server": server,
				"kind":   want["kind"],
				"values": want["values"],
			}
			e = prober.Look(ctx, name, health.Check{Name: c.Name, Kind: "name", Spec: spec})
			if e.At = at; !e.Passed {
				break
			}
		}
	}
	return e
}

// PhaseEvidence turns a cloud's word on a resource into evidence.
func PhaseEvidence(name string, live cloud.Live, there cloud.Presence, at time.Time,
	took time.Duration) health.Evidence {
	e := health.Evidence{
		Resource: name,
		Check:    "phase",
		At:       at,
		Asked:    "phase of " + name,
		Answer:   string(live.Phase),
		Passed:   live.Phase == cloud.Ready,
		Final:    live.Phase == cloud.Broken,
		Took:     took.Milliseconds(),
	}
	if t, _ := resource.ByName(live.Type); t.Own && live.Attributes["exit"] != nil {
		e.Asked, e.Answer = "how "+name+" ended", fmt.Sprintf("exit code %v", live.Attributes["exit"])
	}
	if live.Why != "" {
		e.Answer += ": " + live.Why
	}
	if there != cloud.Present {
		e.Answer, e.Passed, e.Final = "it is not seen", false, there == cloud.Absent
	}
	if there == cloud.Absent {
		e.Answer = "it is gone"
	}
	return e
}

// saw records what was seen, without secrets.
func (x *execution) saw(w *store.Write, seen []health.Evidence) {
	for _, e := range seen {
		e.Asked, e.Answer = x.scrub(e.Asked), x.scrub(e.Answer)
		w.AddEvidence(store.Evidence{Evidence: e, StackID: x.run.StackID, RunID: x.run.ID})
	}
}

// judged records what was seen and moves the step on.
func (x *execution) judged(ctx context.Context, s *store.Step, p *proving, seen []health.Evidence,
	verdict health.Verdict) (schedule.Event, error) {
	switch verdict.State {
	case health.Healthy:
		if s.Action == ActionProve {
			return x.proved(ctx, s, seen)
		}
		return x.healthy(ctx, s, seen)
	case health.Unhealthy:
		if err := x.commit(ctx, nil, func(w *store.Write) { x.saw(w, seen) }); err != nil {
			return schedule.Event{}, err
		}
		said := x.machineSays(ctx, s)
		if err := x.settle(ctx, s, false); err != nil {
			said += "; what it had before is not given back: " + err.Error()
		}
		return x.broken(ctx, s, verdict.Reason+said)
	case health.Settling:
	}
	// An answer is told when it is another than before; those that say something new are kept.
	var events []store.Event
	for _, e := range seen {
		line := fmt.Sprintf("%s: asked %s, got %s", s.Resource, e.Asked, e.Answer)
		if p.told[e.Check] != line && e.Check != "phase" {
			p.told[e.Check] = line
			events = append(events, store.Event{
				Kind:     "check",
				Resource: s.Resource,
				State:    string(schedule.Settling),
				Text:     x.scrub(line),
			})
		}
	}
	return schedule.Event{
		Outcome: schedule.NotYet,
		At:      x.now().Add(x.real(3)),
		Reason:  verdict.Reason,
	}, x.commit(ctx, events, func(w *store.Write) { x.saw(w, p.worthTelling(seen)) })
}

// settle tells the cloud whether an alteration that may be on trial stays. What was not
// on trial is left alone by the adapter; what is given back is recorded as it was.
func (x *execution) settle(ctx context.Context, s *store.Step, stays bool) error {
	on, can := x.adapter.(cloud.Settler)
	if !can || s.Action != ActionAlter {
		return nil
	}
	if stays {
		return on.Confirm(ctx, x.ref(s))
	}
	back, err := on.Revert(ctx, x.ref(s))
	if err != nil || len(back) == 0 {
		return err
	}
	before, _ := s.Before["want"].(map[string]any)
	x.records.change(s, func(row *store.Resource) {
		row.Want = maps.Clone(row.Want)
		for _, name := range back {
			row.Want[name] = before[name]
		}
		row.Hour = x.hour(row)
	})
	return nil
}

// healthy records that a resource is proved.
func (x *execution) healthy(ctx context.Context, s *store.Step, seen []health.Evidence) (schedule.Event, error) {
	if err := x.settle(ctx, s, true); err != nil {
		return x.refused(ctx, s, err)
	}
	shown, _, err := x.resolve(s)
	if err != nil {
		return x.unresolved(ctx, s, err)
	}
	now := x.now()
	saved := x.records.change(s, func(row *store.Resource) {
		row.State, row.Reason, row.HealthyAt = state.Healthy, "", &now
		row.Checks = shownChecks(shown.Checks) // as they were proved: when it was made it may have told less of itself
	})
	if saved == nil {
		return x.broken(ctx, s, notRecorded)
	}
	waited, _ := x.waited(s.Number)
	s.EndedAt = &now
	x.engine.Metrics.steps.WithLabelValues(s.Action, string(schedule.Healthy)).Inc()
	err = x.note(ctx, store.Event{
		Kind:     "step",
		Resource: s.Resource,
		State:    string(schedule.Healthy),
		Text:     s.Resource + " is healthy",
	}, func(w *store.Write) {
		x.saw(w, seen)
		w.StepState(s.Number, string(schedule.Healthy), "")
		x.writeWaits(w, s.Number)
		w.PutResource(*saved)
		if s.Action == ActionCreate && s.IntentAt != nil {
			of := proposal.LearnedOf(s.Type, s.Region, s.Want)
			w.Took(x.account.Name, of.Region, of.Type, of.Size, s.Number, now.Sub(*s.IntentAt)-waited)
		}
	})
	return schedule.Event{Outcome: schedule.Proved}, err
}

// removed records that a resource is gone.
func (x *execution) removed(ctx context.Context, s *store.Step) (schedule.Event, error) {
	mine := x.records.of(s) != nil
	if mine {
		x.records.forget(s.Resource)
	}
	x.engine.Metrics.steps.WithLabelValues(s.Action, string(schedule.Healthy)).Inc()
	return schedule.Event{
			Outcome: schedule.Proved,
		}, x.note(ctx, store.Event{
			Kind:     "step",
			Resource: s.Resource,
			State:    state.Removed,
			Text:     s.Resource + " is removed",
		},
			func(w *store.Write) {
				w.StepState(s.Number, string(schedule.Healthy), "")
				w.ForgetKept(s.Token)
				if mine {
					w.RemoveResource(x.run.StackID, s.Resource)
				}
			})
}

// ToldSecret tells whether something that is made of a secret is among what a resource
// was given, as it is recorded or rendered.
func ToldSecret(want map[string]any) bool {
	told := len(resource.Secrets(want)) > 0
	resource.Leaves(want, func(_ string, leaf any) {
		switch v := leaf.(type) {
		case string:
			told = told || len(resource.Written(v)) > 0
		case map[string]any: // it waited for something besides
			told = told || v["secrets"] != nil
		}
	})
	return told
}

// prober knows how the machines of the stack are reached.
func (x *execution) prober() probe.Prober {
	return NewProber(x.records.all(), x.account, x.secrets.Foreign(x.place.Told), x.scrubber, x.engine.Reach)
}

// NewProber makes a prober for the recorded machines of a stack. It goes where the policy
// lets it, and of that only where the cloud says that the account's machines are. Nothing of
// what a machine answers is kept that was given a secret, or that is among the foreign ones.
func NewProber(resources []store.Resource, a store.Account, foreign map[string]bool, secrets *secret.Scrubber,
	policy *reach.Policy) probe.Prober {
	p := probe.Prober{
		Policy:    policy,
		Within:    ProbeRange(a),
		Reach:     map[string]string{},
		HostKeys:  map[string]string{},
		Secrets:   secrets,
		Told:      map[string]bool{},
		Hosts:     map[string]bool{},
		Unreached: a.Unreached,
	}
	var identity struct {
		NameServer string `json:"name_server"`
	}
	if json.Unmarshal(a.Identity, &identity) == nil {
		p.Names = identity.NameServer
	}
	for _, r := range resources {
		if resource.IsMachine(r.Type) && (ToldSecret(r.Want) || foreign[r.Name]) {
			p.Told[r.Name] = true
			for _, value := range r.Attributes {
				if text, ok := value.(string); ok && text != "" {
					p.Hosts[text] = true
				}
			}
		}
		key, _ := r.Attributes["host_key"].(string)
		public, _ := r.Attributes["public_address"].(string)
		for _, name := range []string{"private_address", "public_address"} {
			if addr, ok := r.Attributes[name].(string); ok && addr != "" && key != "" {
				p.HostKeys[addr] = key
			}
		}
		reach, _ := r.Attributes["reach"].(map[string]any)
		for port, at := range reach {
			to, ok := at.(string)
			switch {
			case !ok || public == "" && !strings.Contains(port, ":"):
			case strings.Contains(port, ":"): // of a further card
				p.Reach[port] = to
			default:
				p.Reach[net.JoinHostPort(public, port)] = to
			}
		}
	}
	return p
}
