package verdicttest

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/budget"
	"undersail/internal/core/health"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/engine"
	"undersail/internal/reach"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// maker makes a rendering past all our judgement: one resource after the other, each
// checked as its template says. It knows nothing but the adapter.
type maker struct {
	reveal  func(reference string) (string, bool)
	adapter cloud.Adapter
	account store.Account
	reach   *reach.Policy
	session *render.Session
	made    []cloud.Ref
	rows    []store.Resource
	keys    map[string]string
}

// password is what every secret is that is drawn here.
const password = "Neap-Water-2026-Quay"

// try makes everything and removes it again; the error tells what the cloud or a check
// did not take.
func try(adapter cloud.Adapter, account store.Account, request render.Request, mark string) error {
	policy, err := reach.NewPolicy("127.0.0.0/8")
	if err != nil {
		return err
	}
	m := &maker{adapter: adapter, account: account, reach: policy, keys: map[string]string{}}
	m.reveal = func(reference string) (string, bool) {
		if key, ok := m.keys[reference]; ok {
			return key, true
		}
		return password, true
	}
	var r *render.Rendering
	m.session, r = render.Accept(budget.Boundless(), request)
	defer m.remove()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	for _, i := range order(r) {
		if err := m.one(ctx, r.Resources[i].Name, mark); err != nil {
			return fmt.Errorf("%s: %w", r.Resources[i].Name, err)
		}
	}
	return nil
}

// order gives resources so that each comes after what it waits for.
func order(r *render.Rendering) []int {
	var out []int
	seen := map[string]bool{}
	var visit func(i int)
	index := map[string]int{}
	for i, res := range r.Resources {
		index[res.Name] = i
	}
	visit = func(i int) {
		if seen[r.Resources[i].Name] {
			return
		}
		seen[r.Resources[i].Name] = true
		for _, a := range r.Resources[i].After {
			if j, ours := index[a.Name]; ours {
				visit(j)
			}
		}
		out = append(out, i)
	}
	for i := range r.Resources {
		visit(i)
	}
	return out
}

// one makes a resource and proves it.
func (m *maker) one(ctx context.Context, name, mark string) error {
	_, sent, err := m.session.Resolve(name, m.reveal)
	if err != nil {
		return err
	}
	want := maps.Clone(sent.Want)
	reference := "key of " + name
	if resource.DrawsKey(sent.Type) && want["public_key"] == nil {
		private, public, err := secret.KeyPair(name)
		if err != nil {
			return err
		}
		m.keys[reference], want["public_key"] = private, public
	}
	ref := cloud.Ref{
		Region: m.account.Regions[0],
		Type:   sent.Type,
		Token: "try-" + mark + "-" +
			strings.NewReplacer("[", "-", "]", "", "/", "-", ".", "-", "_", "-").Replace(name),
	}
	task := cloud.Task{
		Action: cloud.Create,
		Ref:    ref,
		Want:   want,
		Tags:   map[string]string{cloud.TagStack: "try-" + mark, cloud.TagResource: name},
	}
	m.made = append(m.made, ref)
	for more := true; more; {
		progress, err := m.adapter.Step(ctx, task, func(p cloud.Part) error {
			p.Sent = time.Now()
			task.Ref = task.Ref.With(p)
			return nil
		})
		if err != nil {
			return err
		}
		for _, p := range progress.Live.Parts {
			task.Ref = task.Ref.With(p)
		}
		m.made[len(m.made)-1] = task.Ref
		more = progress.More
	}
	made := time.Now()
	live, err := m.ready(ctx, task.Ref, made)
	if err != nil {
		return err
	}
	if m.keys[reference] != "" {
		live.Attributes["private_key"] = reference
	}
	m.session.Report(name, live.Attributes)
	m.rows = append(m.rows, store.Resource{Name: name, Type: sent.Type, Attributes: live.Attributes})
	return m.prove(ctx, name, task.Ref, made)
}

func (m *maker) ready(ctx context.Context, ref cloud.Ref, made time.Time) (cloud.Live, error) {
	for {
		live, there, err := m.adapter.Look(ctx, ref)
		switch {
		case err != nil:
			return live, err
		case there == cloud.Present && live.Phase == cloud.Ready:
			return live, nil
		case there == cloud.Present && live.Phase == cloud.Broken:
			return live, errors.New(live.Why)
		case time.Since(made).Seconds()*m.account.ClockRate > 3600:
			return live, errors.New("it is not ready in time")
		}
		if err := pause(ctx); err != nil {
			return live, err
		}
	}
}

func pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(3 * time.Millisecond):
		return nil
	}
}

// prove makes the checks of a resource until they all hold.
func (m *maker) prove(ctx context.Context, name string, ref cloud.Ref, made time.Time) error {
	proof := health.Proof{}
	for {
		live, there, err := m.adapter.Look(ctx, ref)
		if err != nil {
			return err
		}
		if there == cloud.Present {
			attributes := live.Attributes
			if key := "key of " + name; m.keys[key] != "" {
				attributes["private_key"] = key
			}
			m.session.Report(name, attributes) // a machine tells how it is reached a little later
			m.rows[len(m.rows)-1].Attributes = attributes
		}
		_, sent, err := m.session.Resolve(name, m.reveal)
		if err != nil {
			return err
		}
		prober := engine.NewProber(m.rows, m.account, nil, nil, m.reach)
		for _, c := range proof.Due(sent.Checks, time.Now(), m.account.ClockRate) {
			e := engine.PhaseEvidence(name, live, there, time.Now(), 0)
			if c.Kind != "phase" {
				e = prober.Look(ctx, name, c)
			}
			e.At = time.Now()
			proof[c.Name] = c.After(proof[c.Name], e, m.account.ClockRate)
		}
		switch v := proof.Verdict(sent.Checks, made, time.Now(), m.account.ClockRate); v.State {
		case health.Healthy:
			return nil
		case health.Unhealthy:
			return errors.New(v.Reason)
		case health.Settling:
		}
		if err := pause(ctx); err != nil {
			return err
		}
	}
}

// remove takes everything away again, last first.
func (m *maker) remove() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	for i := len(m.made) - 1; i >= 0; i-- {
		for ctx.Err() == nil {
			_, there, err := m.adapter.Look(ctx, m.made[i])
			if err == nil && there == cloud.Absent {
				break
			}
			m.adapter.Step(ctx, cloud.Task{Action: cloud.Remove, Ref: m.made[i]}, func(cloud.Part) error { return nil })
			pause(ctx)
		}
	}
}
