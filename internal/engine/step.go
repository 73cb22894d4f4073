package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"strings"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/health"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/store"
)

// The actions of steps. A rebuild is a removal and a creation.
const (
	ActionCreate = "create"
	ActionAlter  = "alter"
	ActionRemove = "remove"
	ActionKeep   = "keep"  // calls nothing: the resource leaves the stack and stays
	ActionProve  = "prove" // makes nothing: checks the stack as a whole
)

// call makes the next call of a step: intent first, then the call, then its
// outcome. The error is one of recording; what the cloud says is in the event.
func (x *execution) call(ctx context.Context, number int) (schedule.Event, error) {
	s := &x.steps[number]
	switch s.Action {
	case ActionProve:
		return x.beginProof(ctx, s)
	case ActionKeep:
		return x.beginKeeping(ctx, s)
	}
	var progress cloud.Progress
	var err error
	switch s.Action {
	case ActionRemove:
		progress, err = x.callRemove(ctx, s)
	case ActionAlter:
		progress, err = x.callAlter(ctx, s)
	default:
		progress, err = x.callCreate(ctx, s)
	}
	var record *recordError
	if errors.As(err, &record) {
		return schedule.Event{}, err
	}
	if err != nil {
		return x.refused(ctx, s, err)
	}
	for _, part := range progress.Live.Parts {
		x.notePart(s, part)
	}
	e := schedule.Event{Outcome: schedule.Accepted}
	switch {
	case progress.More:
		if e.Outcome = schedule.More; progress.Live.ReadyIn > 0 {
			e.At = x.now().Add(x.real(progress.Live.ReadyIn)) // the cloud is at work on a part
		}
	case progress.Live.Phase == cloud.Ready:
		e.At = x.now()
	case progress.Live.ReadyIn > 0:
		e.At = x.now().Add(x.real(progress.Live.ReadyIn))
	}
	now := x.now()
	s.CalledAt = &now
	return e, x.commit(ctx, nil, func(w *store.Write) {
		x.writeWaits(w, number)
		w.StepParts(s.Number, s.Parts)
		if row := x.records.of(s); row != nil && row.State != state.Removing {
			w.PutResource(*row)
		}
		if !progress.More {
			w.StepCalled(s.Number)
		}
	})
}

// ref is what a step acts on: its own token and parts, whatever is recorded now.
func (x *execution) ref(s *store.Step) cloud.Ref {
	return cloud.Ref{Region: s.Region, Type: s.Type, Token: s.Token, Parts: s.Parts}
}

// notePart notes what is known of a part, for the step and for its resource.
func (x *execution) notePart(s *store.Step, part cloud.Part) {
	if old := x.ref(s).Part(part.Kind, part.Mark); old != nil && part.Sent.IsZero() {
		part.Sent = old.Sent
	}
	x.setParts(s, x.ref(s).With(part).Parts)
}

func (x *execution) setParts(s *store.Step, parts []cloud.Part) {
	s.Parts = parts
	x.records.change(s, func(row *store.Resource) { row.Parts = parts })
}

// intendPart commits that a part is about to be made.
func (x *execution) intendPart(ctx context.Context, s *store.Step) func(cloud.Part) error {
	return func(part cloud.Part) error {
		part.Sent, part.Seen = x.now(), false
		x.notePart(s, part)
		return x.commit(ctx, nil, func(w *store.Write) {
			w.StepParts(s.Number, s.Parts)
			w.ResourceParts(x.run.StackID, s.Resource, s.Parts)
		})
	}
}

// intend commits what the step acts on, before its first call.
func (x *execution) intend(ctx context.Context, s *store.Step, text string, more func(*store.Write)) error {
	if s.IntentAt != nil {
		return nil
	}
	err := x.note(ctx, store.Event{Kind: "step", Resource: s.Resource, State: string(schedule.Working), Text: text},
		func(w *store.Write) {
			w.StepState(s.Number, string(schedule.Working), "")
			w.StepIntent(*s)
			if more != nil {
				more(w)
			}
		})
	if err != nil {
		return err
	}
	now := x.now()
	s.IntentAt = &now
	x.underWay(s.Number, now, time.Time{})
	x.writing.Lock()
	writes := x.writes
	x.writing.Unlock()
	err = x.engine.Deeds.Add(Deed{
		At:       now,
		Run:      x.run.ID,
		Writes:   writes,
		Stack:    x.run.Stack,
		StackID:  x.run.StackID,
		Resource: s.Resource,
		Action:   s.Action,
		Token:    s.Token,
	})
	if err != nil { // a full disk: what is done is recorded all the same
		x.engine.Log.Warn("what is done is not written beside the database", "run", x.run.ID, "error", err)
	}
	return nil
}

// sure asks the cloud for parts that were sent and whose outcome is not known.
// They are then seen, or proved absent; until either is the case the error says
// what is being asked.
func (x *execution) sure(ctx context.Context, s *store.Step) error {
	if !x.ref(s).Unsure() {
		return nil
	}
	live, there, err := x.at(s).Look(ctx, x.ref(s))
	if err != nil {
		return err
	}
	if there == cloud.Present {
		for _, part := range live.Parts {
			x.notePart(s, part)
		}
	}
	settled, until := x.ref(s).Settle(x.now(), x.visibility())
	if !until.IsZero() {
		return &unseenError{until, s.Resource}
	}
	if reflect.DeepEqual(settled.Parts, s.Parts) {
		return nil
	}
	x.setParts(s, settled.Parts)
	return x.commit(ctx, nil, func(w *store.Write) {
		w.StepParts(s.Number, s.Parts)
		w.ResourceParts(x.run.StackID, s.Resource, s.Parts)
	})
}

// unseenError says that a fresh part may still be seen by nobody.
type unseenError struct {
	until time.Time
	name  string
}

func (u *unseenError) Error() string {
	return "asking the cloud for " + u.name +
		": it is not seen yet, and what was asked for a moment ago may still turn up"
}

// look sees how far a step is.
func (x *execution) look(ctx context.Context, number int) (schedule.Event, error) {
	s := &x.steps[number]
	if x.settling(s) {
		return x.lookHealth(ctx, s)
	}
	switch s.Action {
	case ActionProve:
		return x.settleProof(ctx, s)
	case ActionKeep:
		return x.keep(ctx, s)
	}
	live, there, err := x.at(s).Look(ctx, x.ref(s))
	if err != nil {
		return x.refused(ctx, s, err)
	}
	if there == cloud.Absent && s.Action == ActionRemove {
		left, err := x.clearMade(ctx, s)
		if err != nil {
			return x.refused(ctx, s, err)
		}
		if left > 0 {
			return schedule.Event{
				Outcome: schedule.NotYet,
				At:      x.now().Add(x.real(nextLook)),
				Reason:  fmt.Sprintf("%d things that it made by itself are still there", left),
			}, nil
		}
	}
	if there == cloud.Absent {
		return x.lookedInVain(ctx, s)
	}
	notYet := schedule.Event{Outcome: schedule.NotYet, At: x.now().Add(x.real(live.ReadyIn))}
	switch {
	case s.Action == ActionRemove && live.Phase != cloud.Removing:
		return schedule.Event{Outcome: schedule.More, Reason: "the removal has not begun"}, nil
	case s.Action == ActionRemove:
		return notYet, nil
	case live.Phase == cloud.Broken:
		return x.lost(ctx, s, live)
	case live.Phase != cloud.Ready:
		return notYet, nil
	}
	differs := change.Strayed(s.Type, s.Want, live.Has, x.left(s.Resource))
	if len(differs) > 0 && s.Action == ActionAlter {
		if s.CalledAt != nil && x.now().Sub(*s.CalledAt) < x.visibility() {
			return notYet, nil // an old answer, or one on its way
		}
		return schedule.Event{Outcome: schedule.More, Reason: "`" + differs[0].Name + "` is not yet as wanted"}, nil
	}
	return x.made(ctx, s, live)
}

// lookedInVain judges a look that found nothing.
func (x *execution) lookedInVain(ctx context.Context, s *store.Step) (schedule.Event, error) {
	settled, until := x.ref(s).Settle(x.now(), x.visibility())
	if s.CalledAt != nil && until.IsZero() {
		if at := s.CalledAt.Add(x.visibility()); s.Action != ActionRemove && x.now().Before(at) {
			until = at
		}
	}
	switch {
	case !until.IsZero():
		return schedule.Event{Outcome: schedule.NotYet, At: until}, nil
	case s.Action == ActionRemove:
		return x.removed(ctx, s)
	}
	x.setParts(s, settled.Parts)
	x.records.change(s, func(row *store.Resource) { row.State = state.Missing })
	return x.broken(ctx, s, "it was removed by somebody else while the run worked on it")
}

func (x *execution) settling(s *store.Step) bool {
	return x.proofs.of(s.Resource) != nil || s.State == string(schedule.Settling)
}

// lost fails a step whose resource the cloud could not make. What is left of it
// stays recorded, so that continuing replaces it and retiring removes it.
func (x *execution) lost(ctx context.Context, s *store.Step, live cloud.Live) (schedule.Event, error) {
	for _, part := range live.Parts {
		x.notePart(s, part)
	}
	now := x.now()
	x.records.change(s, func(row *store.Resource) {
		row.MadeAt, row.Attributes = &now, map[string]any{"id": live.ID, "broken": true}
	})
	return x.broken(ctx, s, fmt.Sprintf("asked for its phase, got broken: %s", live.Why))
}

// made records a resource that exists, with what it reports, and begins its checks.
func (x *execution) made(ctx context.Context, s *store.Step, live cloud.Live) (schedule.Event, error) {
	for _, part := range live.Parts {
		x.notePart(s, part)
	}
	now := x.now()
	if ref, ok := x.document.Secrets[s.Resource]; ok && resource.DrawsKey(s.Type) {
		live.Attributes["private_key"] = ref
	}
	reported := x.records.change(s, func(row *store.Resource) {
		row.Attributes, row.State = live.Attributes, state.Settling
		if s.Action == ActionCreate || row.MadeAt == nil {
			row.MadeAt = &now
		}
	})
	if reported == nil {
		return x.broken(ctx, s, notRecorded)
	}
	x.session.Report(s.Resource, live.Attributes)
	shown, _, err := x.resolve(s)
	if err != nil {
		if beyond := (*beyondError)(nil); errors.As(err, &beyond) { // what it is asked about comes from what it reports
			if err := x.commit(ctx, nil, func(w *store.Write) { w.PutResource(*reported) }); err != nil {
				return schedule.Event{}, err
			}
		}
		return x.unresolved(ctx, s, err)
	}
	x.proofs.begin(s.Resource, x.provingMade(s, shown.Checks, live))
	saved := x.records.change(s, func(row *store.Resource) {
		row.Attributes = withMakes(row.Attributes, shown.Makes, live.MadeAt)
		row.Checks = shownChecks(shown.Checks)
	})
	if saved == nil {
		return x.broken(ctx, s, notRecorded)
	}
	s.State, s.MadeAt = string(schedule.Settling), &now
	x.madeNow(s.Number, now)
	return schedule.Event{
			Outcome: schedule.Made,
		}, x.note(ctx, store.Event{
			Kind:     "step",
			Resource: s.Resource,
			State:    string(schedule.Settling),
			Text:     s.Resource + " is made and settling",
		},
			func(w *store.Write) {
				w.StepState(s.Number, string(schedule.Settling), "")
				w.StepParts(s.Number, s.Parts)
				x.writeWaits(w, s.Number)
				w.PutResource(*saved)
			})
}

// resolve computes the wanted values of a resource: as they are shown and
// recorded, with secrets as references, and as they are sent, with every value.
func (x *execution) resolve(s *store.Step) (shown, sent render.Resource, err error) {
	if s.Action == ActionProve {
		shown.Name, sent.Name = Whole, Whole
		if shown.Checks, _, err = x.session.Prove(nil); err != nil {
			return shown, sent, err
		}
		reveal, err := x.permitted(s, use.OfProof(shown.Checks, x.document.Stack, x.place))
		if err == nil {
			shown.Checks, sent.Checks, err = x.session.Prove(reveal)
		}
		return shown, sent, err
	}
	if x.session == nil {
		return shown, sent, &cloud.Error{Class: cloud.Invalid, Message: "nothing is rendered in this run"}
	}
	if shown, err = x.session.Show(s.Resource); err != nil {
		return shown, sent, &cloud.Error{Class: cloud.Invalid, Message: err.Error()}
	}
	reveal, err := x.permitted(s, use.OfResource(shown, x.document.Stack, x.place))
	if err != nil {
		return shown, sent, err
	}
	if shown, sent, err = x.session.Resolve(s.Resource, reveal); err != nil {
		return shown, sent, &cloud.Error{Class: cloud.Invalid, Message: err.Error()}
	}
	if waits := resource.Waits(sent.Want); len(waits) > 0 {
		if inputs := laterInputs(waits); len(inputs) > 0 {
			return shown, sent, &awaitsError{s.Resource, inputs}
		}
		return shown, sent, &cloud.Error{
			Class:   cloud.Invalid,
			Message: "it still waits for " + strings.Join(waits, ", "),
		}
	}
	if secrets := resource.Secrets(sent.Want); len(secrets) > 0 {
		return shown, sent, &cloud.Error{
			Class:   cloud.Invalid,
			Message: "the secret " + secrets[0] + " is not there",
			Remedy:  "propose again",
		}
	}
	if was := x.document.Rendering.Resource(s.Resource); was != nil {
		if at, differs := render.Differs("", was.Want, plainMap(shown.Want)); differs {
			return shown, sent, &cloud.Error{
				Class:   cloud.Invalid,
				Message: fmt.Sprintf("`%s` would come out differently than was accepted", at),
				Remedy:  "propose again",
			}
		}
	}
	ref, ok := x.document.Secrets[s.Resource]
	if ok && resource.DrawsKey(shown.Type) && sent.Want["public_key"] == nil {
		public, err := x.secrets.PublicHalf(ref, x.document.Stack.Name)
		if err != nil {
			return shown, sent, &cloud.Error{Class: cloud.Invalid, Message: "its key pair cannot be read"}
		}
		sent.Want = maps.Clone(sent.Want)
		sent.Want["public_key"] = public
	}
	x.leaveAsIs(s, &shown, &sent)
	x.inZone(s, &shown, &sent)
	return shown, sent, nil
}

// left are the properties of a resource that others may alter.
func (x *execution) left(name string) []string {
	if x.document.Rendering != nil {
		if r := x.document.Rendering.Resource(name); r != nil {
			return r.Leave
		}
	}
	return nil
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

// shownChecks are the checks as they are recorded: secrets as references.
func shownChecks(checks []health.Check) []health.Check {
	out := make([]health.Check, len(checks))
	for i, c := range checks {
		out[i] = c
		out[i].Spec = plainMap(c.Spec)
	}
	return out
}
