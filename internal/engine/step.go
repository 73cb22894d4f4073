package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/health"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/schedule"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// call makes the call of a step: intent first, then the call, then its outcome.
// The error is one of recording; what the cloud says is in the event.
func (x *execution) call(ctx context.Context, number int) (schedule.Event, error) {
	s := &x.steps[number]
	if s.Change == proveStep {
		return x.beginProof(ctx, s)
	}
	again := s.IntentAt != nil
	var live cloud.Live
	var err error
	switch change.Kind(s.Change) {
	case change.Remove:
		err = x.callRemove(ctx, s)
	case change.Alter:
		live, err = x.callAlter(ctx, s)
	default:
		live, err = x.callCreate(ctx, s, again)
	}
	var record *recordError
	if errors.As(err, &record) {
		return schedule.Event{}, record.error
	}
	if err != nil {
		return x.refused(ctx, s, err)
	}
	e := schedule.Event{Outcome: schedule.Accepted}
	if live.ReadyIn > 0 {
		e.At = time.Now().Add(x.real(live.ReadyIn))
	}
	if live.Phase == cloud.Ready {
		e.At = time.Now()
	}
	return e, x.commit(ctx, nil, func(w *store.Write) { w.StepCalled(s.Number) })
}

// recordError marks a failure to record, which ends this engine's part in the
// run, apart from what a cloud refuses.
type recordError struct{ error }

// intend commits that a call is about to be made.
func (x *execution) intend(ctx context.Context, s *store.Step, text string, more func(*store.Write)) error {
	if s.IntentAt != nil {
		return nil
	}
	now := time.Now()
	err := x.note(ctx, store.Event{Kind: "step", Resource: s.Resource, State: "working", Text: text}, func(w *store.Write) {
		w.StepState(s.Number, "working", "")
		if more != nil {
			more(w)
		}
	})
	if err != nil {
		return &recordError{err}
	}
	s.IntentAt = &now
	return nil
}

func (x *execution) callCreate(ctx context.Context, s *store.Step, again bool) (cloud.Live, error) {
	shown, want, err := x.resolve(s.Resource)
	if err != nil {
		return cloud.Live{}, err
	}
	row := &store.Resource{StackID: x.run.StackID, Name: s.Resource, Type: s.Type, Declared: shown.Declared, Region: x.regionOf(shown), Token: s.Token,
		State: "absent", Want: plainMap(shown.Want), Attributes: map[string]any{}, Checks: []health.Check{}, Position: x.position(s.Resource)}
	for _, a := range shown.After {
		row.After = append(row.After, a.Name)
	}
	if err := x.intend(ctx, s, "creating "+s.Resource, func(w *store.Write) { w.PutResource(*row) }); err != nil {
		return cloud.Live{}, err
	}
	x.mu.Lock()
	if have := x.resources[s.Resource]; have == nil || have.Token != s.Token {
		x.resources[s.Resource] = row
	}
	x.mu.Unlock()
	if again {
		// Whoever began this may have been heard: look before calling again.
		live, err := x.adapter.Read(ctx, x.ref(s))
		if err == nil {
			return live, nil
		}
		if cloud.ClassOf(err) != cloud.Gone {
			return cloud.Live{}, err
		}
	}
	return x.adapter.Create(ctx, cloud.Request{Region: x.regionOf(shown), Type: s.Type, Token: s.Token, Want: want,
		Tags: map[string]string{cloud.TagStack: x.document.Stack.Name, cloud.TagStackID: x.run.StackID, cloud.TagResource: s.Resource}})
}

func (x *execution) ref(s *store.Step) cloud.Ref {
	x.mu.Lock()
	defer x.mu.Unlock()
	region := x.document.Stack.Region
	if row := x.resources[s.Resource]; row != nil && row.Region != "" {
		region = row.Region
	}
	return cloud.Ref{Region: region, Type: s.Type, Token: s.Token}
}

// regionOf is where a resource belongs: the stack's region unless it says another.
func (x *execution) regionOf(r render.Resource) string {
	if r.Region != "" {
		return r.Region
	}
	return x.document.Stack.Region
}

func (x *execution) callAlter(ctx context.Context, s *store.Step) (cloud.Live, error) {
	shown, want, err := x.resolve(s.Resource)
	if err != nil {
		return cloud.Live{}, err
	}
	x.mu.Lock()
	row := x.resources[s.Resource]
	x.mu.Unlock()
	if row == nil {
		return cloud.Live{}, &cloud.Error{Class: cloud.Gone, Message: "it is not recorded any more", Remedy: "propose again"}
	}
	s.Token = row.Token
	text := "altering " + s.Resource
	changes := map[string]any{}
	now := plainMap(shown.Want)
	for name, v := range now {
		if !slices.Contains(shown.Leave, name) && !reflect.DeepEqual(v, row.Want[name]) {
			changes[name] = want[name]
		}
	}
	if len(changes) == 0 {
		text = "checking " + s.Resource + " again"
	}
	if err := x.intend(ctx, s, text, nil); err != nil {
		return cloud.Live{}, err
	}
	var live cloud.Live
	if len(changes) > 0 {
		live, err = x.adapter.Change(ctx, x.ref(s), changes)
	} else {
		live, err = x.adapter.Read(ctx, x.ref(s))
	}
	if err != nil {
		return live, err
	}
	x.mu.Lock()
	row.Want = now
	x.mu.Unlock()
	return live, nil
}

func (x *execution) callRemove(ctx context.Context, s *store.Step) error {
	x.mu.Lock()
	row := x.resources[s.Resource]
	x.mu.Unlock()
	if row == nil {
		return x.intend(ctx, s, s.Resource+" is gone already", nil)
	}
	s.Token = row.Token
	err := x.intend(ctx, s, "removing "+s.Resource, func(w *store.Write) {
		gone := *row
		gone.State = "removing"
		w.PutResource(gone)
	})
	if err != nil {
		return err
	}
	return x.adapter.Remove(ctx, x.ref(s))
}

// refused turns what a cloud answered into an event of the schedule and records
// what people should know of it.
func (x *execution) refused(ctx context.Context, s *store.Step, err error) (schedule.Event, error) {
	reason := x.scrub(err.Error())
	class := cloud.ClassOf(err)
	switch {
	case class == cloud.Throttled:
		var e *cloud.Error
		errors.As(err, &e)
		at := x.engine.throttle(x.account.Name, time.Now().Add(max(e.RetryAfter, 100*time.Millisecond)))
		return schedule.Event{Outcome: schedule.Throttled, At: at}, x.note(ctx, store.Event{Kind: "call", Resource: s.Resource,
			Text: fmt.Sprintf("the cloud asks to wait %s before the next call", e.RetryAfter)}, nil)
	case class.Passing():
		return schedule.Event{Outcome: schedule.Retry, Reason: reason}, x.note(ctx, store.Event{Kind: "call", Resource: s.Resource, Text: s.Resource + ": " + reason + "; trying again"}, nil)
	}
	return x.broken(ctx, s, reason)
}

// broken fails a step for good.
func (x *execution) broken(ctx context.Context, s *store.Step, reason string) (schedule.Event, error) {
	reason = x.scrub(reason)
	err := x.note(ctx, store.Event{Kind: "step", Resource: s.Resource, State: "failed", Text: s.Resource + " failed: " + reason}, func(w *store.Write) {
		w.StepState(s.Number, "failed", reason)
		x.mu.Lock()
		row := x.resources[s.Resource]
		never := row != nil && row.State == "absent" && s.CalledAt == nil && change.Kind(s.Change) == change.Create
		x.mu.Unlock()
		if never && s.CalledAt == nil {
			w.RemoveResource(x.run.StackID, s.Resource) // a refusal: nothing was made
		} else {
			x.markUnhealthy(w, s.Resource, reason)
		}
	})
	return schedule.Event{Outcome: schedule.Broken, Reason: reason}, err
}

// look sees how far a step is.
func (x *execution) look(ctx context.Context, number int) (schedule.Event, error) {
	s := &x.steps[number]
	if s.CalledAt == nil {
		now := time.Now()
		s.CalledAt = &now
	}
	if x.settling(s) {
		return x.lookHealth(ctx, s)
	}
	if s.Change == proveStep {
		return x.settleProof(ctx, s)
	}
	live, err := x.adapter.Read(ctx, x.ref(s))
	removing := change.Kind(s.Change) == change.Remove
	switch {
	case err != nil && cloud.ClassOf(err) == cloud.Gone && removing:
		return x.removed(ctx, s)
	case err != nil && cloud.ClassOf(err) == cloud.Gone:
		return x.broken(ctx, s, "it was removed by somebody else while it was being made")
	case err != nil:
		return x.refused(ctx, s, err)
	case removing && live.Phase != cloud.Removing:
		return schedule.Event{Outcome: schedule.Retry, Reason: "the removal has not begun"}, x.adapter.Remove(ctx, x.ref(s))
	case live.Phase == cloud.Broken:
		return x.lost(ctx, s, live)
	case live.Phase != cloud.Ready:
		return schedule.Event{Outcome: schedule.NotYet, At: time.Now().Add(x.real(live.ReadyIn))}, nil
	}
	return x.made(ctx, s, live)
}

func (x *execution) settling(s *store.Step) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.checks[s.Resource] != nil || s.State == string(schedule.Settling)
}

func (x *execution) removed(ctx context.Context, s *store.Step) (schedule.Event, error) {
	x.mu.Lock()
	delete(x.resources, s.Resource)
	x.version++
	x.mu.Unlock()
	return schedule.Event{Outcome: schedule.Proved}, x.note(ctx, store.Event{Kind: "step", Resource: s.Resource, State: "removed", Text: s.Resource + " is removed"},
		func(w *store.Write) {
			w.StepState(s.Number, "healthy", "")
			w.RemoveResource(x.run.StackID, s.Resource)
		})
}

// lost fails a step whose resource the cloud could not make. What is left of it
// stays recorded, so that continuing replaces it and retiring removes it.
func (x *execution) lost(ctx context.Context, s *store.Step, live cloud.Live) (schedule.Event, error) {
	x.mu.Lock()
	row := x.resources[s.Resource]
	now := time.Now()
	row.MadeAt, row.Attributes = &now, map[string]any{"id": live.ID, "broken": true}
	x.mu.Unlock()
	return x.broken(ctx, s, fmt.Sprintf("asked for its phase, got broken: %s", live.Why))
}

// made records a resource that exists, with what it reports, and begins its checks.
func (x *execution) made(ctx context.Context, s *store.Step, live cloud.Live) (schedule.Event, error) {
	x.mu.Lock()
	row := x.resources[s.Resource]
	now := time.Now()
	row.Attributes, row.MadeAt, row.State = live.Attributes, &now, "settling"
	if ref, ok := x.document.Secrets[s.Resource]; ok && s.Type == "key_pair" {
		row.Attributes["private_key"] = ref
	}
	x.version++
	x.mu.Unlock()
	shown, _, err := x.resolve(s.Resource)
	if err != nil {
		return x.broken(ctx, s, err.Error())
	}
	x.mu.Lock()
	row.Checks = shownChecks(shown.Checks)
	x.checks[s.Resource] = newChecking(shown.Checks, now)
	saved := *row
	x.mu.Unlock()
	s.State = string(schedule.Settling)
	return schedule.Event{Outcome: schedule.Made}, x.note(ctx, store.Event{Kind: "step", Resource: s.Resource, State: "settling", Text: s.Resource + " is made and settling"},
		func(w *store.Write) {
			w.StepState(s.Number, "settling", "")
			w.PutResource(saved)
		})
}

// resolve computes the wanted values of a resource twice: as they are shown and
// recorded, with secrets as references, and as they are sent, with every value.
func (x *execution) resolve(name string) (shown render.Resource, want map[string]any, err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if name == Whole {
		return render.Resource{Name: Whole, Checks: x.proofChecks(0)}, nil, nil
	}
	a, b := x.render(0).Resource(name), x.render(1).Resource(name)
	if a == nil || b == nil {
		return render.Resource{}, nil, &cloud.Error{Class: cloud.Invalid, Message: "it is not part of the rendering any more"}
	}
	if waits := resource.Waits(b.Want); len(waits) > 0 {
		return *a, nil, &cloud.Error{Class: cloud.Invalid, Message: "it still waits for " + strings.Join(waits, ", ")}
	}
	if secrets := resource.Secrets(b.Want); len(secrets) > 0 {
		return *a, nil, &cloud.Error{Class: cloud.Invalid, Message: "the secret " + secrets[0] + " is not there", Remedy: "propose again"}
	}
	if x.document.Rendering != nil {
		if was := x.document.Rendering.Resource(name); was != nil {
			if at, differs := differs("", was.Want, plainMap(a.Want)); differs {
				return *a, nil, &cloud.Error{Class: cloud.Invalid, Message: fmt.Sprintf("`%s` would come out differently than was accepted", at), Remedy: "propose again"}
			}
		}
	}
	want = b.Want
	if ref, ok := x.document.Secrets[name]; ok && a.Type == "key_pair" && want["public_key"] == nil {
		public, err := secret.Public(x.secrets[ref], x.document.Stack.Name)
		if err != nil {
			return *a, nil, &cloud.Error{Class: cloud.Invalid, Message: "its key pair cannot be read"}
		}
		want["public_key"] = public
	}
	return *a, want, nil
}

// render renders with everything reported so far; reveal 1 puts secrets in. The
// caller holds the lock.
func (x *execution) render(reveal int) *render.Rendering {
	if x.rendered[reveal] != nil && x.renderedV[reveal] == x.version {
		return x.rendered[reveal]
	}
	offers := x.document.Offers
	request := render.Request{Template: x.template, Stack: x.document.Stack, Inputs: x.document.Inputs, Secrets: x.document.Secrets, Offers: &offers, Stacks: x.document.Stacks,
		Known: func(r render.Resource) map[string]any {
			if found, ok := x.document.Found[r.Name]; ok {
				return found
			}
			if row := x.resources[r.Name]; row != nil && row.MadeAt != nil && !x.replacing(r.Name) {
				return row.Attributes
			}
			return nil
		}}
	if reveal == 1 {
		request.Reveal = func(ref string) (string, bool) { v, ok := x.secrets[ref]; return v, ok }
	}
	x.rendered[reveal], x.renderedV[reveal] = render.Render(request), x.version
	return x.rendered[reveal]
}

// replacing reports whether a resource is the old one of a rebuild.
func (x *execution) replacing(name string) bool {
	token, creates := x.creating[name]
	return creates && x.resources[name].Token != token
}

func (x *execution) position(name string) int64 {
	x.mu.Lock()
	defer x.mu.Unlock()
	for i, r := range x.render(0).Resources {
		if r.Name == name {
			return int64(i)
		}
	}
	return 0
}

// differs finds the first value that was known and is now another. A value that
// was pending may become anything.
func differs(at string, was, now any) (string, bool) {
	switch w := was.(type) {
	case map[string]any:
		if _, pending := w["pending"]; pending {
			return "", false
		}
		n, ok := now.(map[string]any)
		if !ok {
			return at, true
		}
		for k, v := range w {
			if p, d := differs(strings.TrimPrefix(at+"."+k, "."), v, n[k]); d {
				return p, true
			}
		}
		return "", false
	case []any:
		n, ok := now.([]any)
		if !ok || len(n) != len(w) {
			return at, true
		}
		for i, v := range w {
			if p, d := differs(fmt.Sprintf("%s[%d]", at, i), v, n[i]); d {
				return p, true
			}
		}
		return "", false
	}
	return at, !reflect.DeepEqual(was, now)
}

// plainMap gives a tree as it is after a way through JSON, so that it compares
// equal with what was recorded.
func plainMap(v map[string]any) map[string]any {
	raw, err := json.Marshal(v)
	if err != nil {
		return v
	}
	out := map[string]any{}
	if err := json.Unmarshal(raw, &out); err != nil {
		return v
	}
	return out
}
