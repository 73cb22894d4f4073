package stacks

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/cloud"
	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/health"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/engine"
	"undersail/internal/fault"
	"undersail/internal/people"
	"undersail/internal/probe"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/store"
)

// Verification is what looking at a whole stack gave.
type Verification struct {
	Stack     string             `json:"stack"`
	Healthy   bool               `json:"healthy"`
	At        time.Time          `json:"at"`
	Resources []VerifiedResource `json:"resources"`
}

// VerifiedResource is one resource of a verification.
type VerifiedResource struct {
	Name     string     `json:"name"`
	Type     string     `json:"type"`
	State    string     `json:"state"`
	Reason   string     `json:"reason,omitempty"`
	Evidence []Evidence `json:"evidence"`
	// Strayed lists what the cloud has otherwise than is recorded.
	Strayed []change.Field `json:"strayed,omitempty"`
}

// Verify makes every check of every resource of a stack once, now, compares what
// the cloud has with what is recorded, and records what it saw.
func (s *Stacks) Verify(ctx context.Context, u people.User, name string) (Verification, error) {
	st, err := s.Living(ctx, name)
	if err != nil {
		return Verification{}, err
	}
	if err := u.Must(access.Operate, st.Account); err != nil {
		return Verification{}, err
	}
	v, err := s.verifier(ctx, st)
	if err != nil {
		return Verification{}, err
	}
	out := Verification{
		Stack:     name,
		Healthy:   true,
		At:        s.engine.Now(),
		Resources: make([]VerifiedResource, len(v.resources)),
	}
	g, looking := fault.WithContext(ctx)
	g.SetLimit(8)
	for i, r := range v.resources {
		g.Go(func() error {
			out.Resources[i] = v.resource(looking, r)
			return nil
		})
	}
	if err := g.Wait(); err != nil { // what was not looked at is not told as healthy
		return Verification{}, err
	}
	if len(v.rendering.Prove) > 0 {
		whole := VerifiedResource{Name: engine.Whole, Type: "stack", State: state.Healthy, Evidence: []Evidence{}}
		checks, why := v.sent(engine.Whole)
		v.check(ctx, &whole, checks, nil, why)
		out.Resources = append(out.Resources, whole)
	}
	return out, s.keepVerification(ctx, st, &out, v.rendering)
}

// verifier is what verifying a stack needs.
type verifier struct {
	stacks    *Stacks
	ctx       context.Context // of the request that it is for
	session   *render.Session
	secrets   *sealed.Run
	place     use.Place
	rendering *render.Rendering
	resources []store.Resource
	facts     Observed
	took      time.Duration // of asking the cloud for everything
	prober    probe.Prober
	adapter   cloud.Adapter
}

func (s *Stacks) verifier(ctx context.Context, st store.Stack) (*verifier, error) {
	v := &verifier{stacks: s, ctx: ctx}
	var err error
	if v.resources, err = s.store.Resources(ctx, st.ID); err != nil {
		return nil, fmt.Errorf("reading the resources of stack %s: %w", st.ID, err)
	}
	if st.TemplateSource == "" || len(v.resources) == 0 {
		return nil, refusal.New(refusal.Conflict, "apply it first", "stack %s has nothing to verify", st.Name)
	}
	adapter, account, err := s.accounts.Adapter(ctx, st.Account)
	if err != nil {
		return nil, err
	}
	d, err := s.LastDocument(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	// Looking at it goes on by what was agreed to when it was last applied, whoever asks.
	agreed, _, err := s.AgreedUses(ctx, st, v.resources)
	if err != nil {
		return nil, err
	}
	if v.secrets, err = s.sealed.ForRun(ctx, st.ID, slices.Collect(maps.Values(st.Secrets)), agreed); err != nil {
		return nil, fmt.Errorf("opening the secrets of stack %s: %w", st.ID, err)
	}
	v.adapter, v.place = adapter, PlaceOf(d.TextBy, templateDigest(st), KeysOf(d))
	began := time.Now()
	if v.facts, err = s.Look(ctx, adapter, account, st, v.resources); err != nil {
		return nil, err
	}
	v.took = time.Since(began)
	if v.rendering, err = s.rendered(ctx, st, v.resources); err != nil {
		return nil, err
	}
	names := map[string]string{}
	for _, row := range v.resources {
		names[row.Token] = row.Name
	}
	carried, err := s.Carried(ctx, st.Account, names, d.Found)
	if err != nil {
		return nil, err
	}
	v.place.Told = use.Told(v.rendering, carried)
	v.prober = engine.NewProber(v.resources, account, v.secrets.Foreign(v.place.Told), v.secrets.Scrubber(),
		s.engine.Reach)
	v.session, err = s.session(ctx, st, v.resources)
	return v, err
}

// sent gives the checks of a resource with the secrets in their places, as far as their uses
// were agreed to; why says which were not.
func (v *verifier) sent(name string) (checks []health.Check, why string) {
	var shown, sent render.Resource
	var list []use.Use
	err := v.stacks.turns.Compute(v.ctx, func(*budget.Budget) {
		var err error
		if name == engine.Whole {
			shown.Checks, _, err = v.session.Prove(nil)
			list = use.OfProof(shown.Checks, v.rendering.Stack, v.place)
		} else if shown, err = v.session.Show(name); err == nil {
			list = use.OfChecks(shown, v.rendering.Stack, v.place)
		}
		if err != nil {
			why = err.Error()
			return
		}
		reveal, beyond := v.secrets.Opens(list)
		if len(beyond) > 0 {
			checks, why = shown.Checks,
				"it would use secrets in a way that nobody agreed to ("+beyond[0].At+"); propose the stack"
			return
		}
		if name == engine.Whole {
			_, sent.Checks, _ = v.session.Prove(reveal)
		} else {
			_, sent, _ = v.session.Resolve(name, reveal)
		}
		checks = sent.Checks
	})
	if err != nil {
		why = err.Error()
	}
	return checks, why
}

// resource verifies one resource: that it is there, that it is as recorded, and
// that its checks pass.
func (v *verifier) resource(ctx context.Context, r store.Resource) VerifiedResource {
	out := VerifiedResource{Name: r.Name, Type: r.Type, State: state.Healthy, Evidence: []Evidence{}}
	live, there := v.facts.Live[r.Name]
	wanted := v.rendering.Resource(r.Name)
	switch {
	case !there && Begun(r):
		out.State, out.Reason = state.Absent, "its making was begun; the cloud does not have it"
		return out
	case !there:
		out.State, out.Reason = state.Missing, "the cloud has no such resource any more"
	case wanted == nil:
		out.State, out.Reason = state.Unhealthy,
			"the template does not ask for it any more; the next proposal removes it"
	case Begun(r):
		out.State, out.Reason = state.Unhealthy,
			"its making was begun and it was never proved; undersail continue goes on"
	}
	checks := health.Defaults(resource.Type{}, nil)
	var leave []string
	why := ""
	if wanted != nil {
		leave = wanted.Leave
		checks, why = v.sent(r.Name)
	}
	if there {
		if out.Strayed = change.Strayed(r.Type, r.Want, live.Has, leave); len(out.Strayed) > 0 &&
			out.State == state.Healthy {
			var names []string
			for _, f := range out.Strayed {
				names = append(names, fmt.Sprintf("`%s` is %s and should be %s", f.Name, shownValue(f.Before),
					shownValue(f.After)))
			}
			out.State, out.Reason = state.Unhealthy, "altered by hand: "+strings.Join(names, "; ")
		}
	}
	v.check(ctx, &out, checks, r.Want, why)
	if there {
		v.made(ctx, &out, r)
	}
	return out
}

// made counts what a resource made by itself, against what its template says.
func (v *verifier) made(ctx context.Context, out *VerifiedResource, r store.Resource) {
	for _, m := range engine.Makes(r) {
		found, err := engine.Made(ctx, v.adapter, r.Region, m)
		if err != nil {
			continue // nobody knows; the next one will tell
		}
		found = slices.DeleteFunc(found, func(l cloud.Live) bool { return engine.NotMade(r, l) != "" })
		e := Evidence{
			Resource: r.Name,
			Check:    "makes",
			At:       v.stacks.engine.Now(),
			Asked: fmt.Sprintf("the %ss that %s made by itself, from %d to %d", resource.Words(m.Type), r.Name,
				m.Least, m.Most),
			Answer: fmt.Sprint(len(found)),
			Passed: int64(len(found)) >= m.Least && int64(len(found)) <= m.Most,
		}
		out.Evidence = append(out.Evidence, e)
		if !e.Passed && out.State == state.Healthy {
			out.State, out.Reason = state.Unhealthy, fmt.Sprintf("asked for %s, found %s", e.Asked, e.Answer)
		}
	}
}

// shownValue writes a value as people write it in a template.
func shownValue(v any) string {
	raw, err := json.Marshal(v)
	if v == nil || err != nil {
		return "empty"
	}
	return string(raw)
}

// check makes checks once each of a resource that is wanted so. Why says why those are not
// made that a secret takes part in.
func (v *verifier) check(ctx context.Context, out *VerifiedResource, checks []health.Check, want map[string]any,
	why string) {
	for _, c := range checks {
		var e health.Evidence
		if why != "" && !engine.AsksCloud(c) {
			e = health.Evidence{Check: c.Name, At: v.stacks.engine.Now(), Asked: c.Kind, Answer: why, Unasked: true}
		} else if engine.AsksCloud(c) {
			live, there := v.facts.Live[out.Name]
			presence := cloud.Present
			if !there {
				presence = cloud.Absent
			}
			e = engine.Told(ctx, v.prober, out.Name, want, c, live, presence, v.stacks.engine.Now(), v.took)
		} else {
			e = v.prober.Look(ctx, out.Name, c)
			e.At = v.stacks.engine.Now()
		}
		out.Evidence = append(out.Evidence,
			Evidence{nil, out.Name, e.Check, e.At, e.Asked, e.Answer, e.Passed, e.Took, e.Unasked})
		if !e.Passed && !e.Unasked && out.State == state.Healthy {
			out.State, out.Reason = state.Unhealthy, fmt.Sprintf("asked %s, got %s", e.Asked, e.Answer)
		}
	}
}

func (s *Stacks) keepVerification(ctx context.Context, st store.Stack, v *Verification,
	rendering *render.Rendering) error {
	have := map[string]bool{}
	var kept []store.Evidence
	for _, r := range v.Resources {
		have[r.Name] = true
		v.Healthy = v.Healthy && r.State == state.Healthy
		for _, e := range r.Evidence {
			kept = append(kept, store.Evidence{
				StackID: st.ID,
				Evidence: health.Evidence{
					Resource: r.Name,
					Check:    e.Check,
					At:       e.At,
					Asked:    e.Asked,
					Answer:   e.Answer,
					Passed:   e.Passed,
					Took:     e.TookMS,
					Unasked:  e.Unasked,
				},
			})
		}
		if err := s.store.ResourceSeen(ctx, st.ID, r.Name, r.State, r.Reason, r.Strayed); err != nil {
			return fmt.Errorf("reading when resources were seen of stack %s: %w", st.ID, err)
		}
	}
	// What the template wants and nobody recorded was never made.
	for _, r := range rendering.Resources {
		if !have[r.Name] && r.Find == nil {
			v.Healthy = false
			v.Resources = append(v.Resources, VerifiedResource{
				Name:     r.Name,
				Type:     r.Type,
				State:    state.Absent,
				Reason:   "it was never made",
				Evidence: []Evidence{},
			})
		}
	}
	if err := s.store.AddEvidence(ctx, kept); err != nil {
		return fmt.Errorf("adding the evidence: %w", err)
	}
	return s.store.MarkVerified(ctx, st.ID)
}
