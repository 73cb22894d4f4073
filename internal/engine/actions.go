package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/health"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/state"
	"undersail/internal/store"
)

// callCreate makes the next call that makes a resource. A call that was made
// before and whose outcome nobody knows is looked for first.
func (x *execution) callCreate(ctx context.Context, s *store.Step) (cloud.Progress, error) {
	shown, sent, err := x.resolve(s)
	if err != nil {
		return cloud.Progress{}, err
	}
	if s.IntentAt == nil {
		s.Region, s.Want, s.Unset = x.regionOf(shown), plainMap(shown.Want), nil
		row := &store.Resource{
			StackID:    x.run.StackID,
			Name:       s.Resource,
			Type:       s.Type,
			Region:     s.Region,
			Token:      s.Token,
			Parts:      s.Parts,
			State:      state.Absent,
			Attributes: map[string]any{},
			Checks:     []health.Check{},
		}
		x.describe(row, shown)
		if old := x.records.of(s); old != nil { // tried again: it may be there
			row.State, row.Attributes, row.MadeAt, row.Checks = old.State, old.Attributes, old.MadeAt, old.Checks
		}
		before, err := x.gone(ctx, s)
		if err != nil {
			return cloud.Progress{}, err
		}
		if err := x.intend(ctx, s, "creating "+s.Resource, func(w *store.Write) {
			if before != "" {
				w.ForgetMissing(x.run.StackID, s.Resource, before)
			}
			w.PutResource(*row)
		}); err != nil {
			return cloud.Progress{}, err
		}
		x.records.put(*row)
	}
	if err := x.sure(ctx, s); err != nil {
		return cloud.Progress{}, err
	}
	if err := x.madeBefore(ctx, s); err != nil {
		return cloud.Progress{}, err
	}
	progress, err := x.at(s).Step(ctx,
		cloud.Task{
			Action: cloud.Create,
			Ref:    x.ref(s),
			Want:   resource.Without(sent.Want, "tags"),
			Tags:   x.tags(s.Resource, sent.Want),
		}, x.intendPart(ctx, s))
	if cloud.Refusal(err) {
		x.unsend(s)
	}
	return progress, err
}

// madeBefore asks, in a run that was taken over, whether what is to be made is there already:
// the records may be older than the deeds of whoever had the run before.
func (x *execution) madeBefore(ctx context.Context, s *store.Step) error {
	t, _ := resource.ByName(s.Type)
	if x.number == 1 || t.Own || len(s.Parts) > 0 {
		return nil
	}
	live, there, err := x.adapter.Look(ctx, x.ref(s))
	if err != nil || there == cloud.Absent {
		return err
	}
	for _, part := range live.Parts {
		x.notePart(s, part)
	}
	return x.note(ctx, store.Event{
		Kind:     "call",
		Resource: s.Resource,
		Text:     s.Resource + " is there already, as the step made it before; it is not made again",
	}, func(w *store.Write) {
		w.StepParts(s.Number, s.Parts)
		w.ResourceParts(x.run.StackID, s.Resource, s.Parts)
	})
}

// gone gives the token of what is recorded under the name of something that is made anew. It
// was missing when that was agreed to; one that is there after all is not forgotten.
func (x *execution) gone(ctx context.Context, s *store.Step) (token string, err error) {
	old := x.records.named(s.Resource)
	if old == nil || old.Token == s.Token {
		return "", nil
	}
	if t, _ := resource.ByName(old.Type); t.Own { // it is nowhere but in its record
		return old.Token, nil
	}
	_, there, err := x.adapter.Look(ctx, old.Ref())
	if err == nil && there == cloud.Present {
		err = &cloud.Error{
			Class:   cloud.Conflict,
			Message: "the one that was missing is there again",
			Remedy:  "propose again: it is taken as it is",
		}
	}
	return old.Token, err
}

// describe fills in what a rendering says of a resource.
func (x *execution) describe(row *store.Resource, shown render.Resource) {
	row.Declared, row.Want, row.After = shown.Declared, plainMap(shown.Want), nil
	for _, a := range shown.After {
		row.After = append(row.After, a.Name)
	}
	row.Position = int64(max(0, x.session.Position(shown.Name)))
	row.Hour = x.hour(row)
}

// hour is what a resource costs an hour as it is recorded.
func (x *execution) hour(row *store.Resource) float64 {
	return price.Of([]render.Resource{{Name: row.Name, Type: row.Type, Region: row.Region, Want: row.Want}},
		x.document.Everywhere()).Hour
}

// tags are the wanted ones together with our mark, which nobody can take away.
func (x *execution) tags(name string, want map[string]any) map[string]string {
	tags := map[string]string{}
	wanted, _ := want["tags"].(map[string]any)
	for k, v := range wanted {
		tags[k] = fmt.Sprint(v)
	}
	tags[cloud.TagStack], tags[cloud.TagStackID], tags[cloud.TagResource] = x.document.Stack.Name, x.run.StackID, name
	return tags
}

// regionOf is where a resource belongs: the stack's region unless it says another.
func (x *execution) regionOf(r render.Resource) string {
	if r.Region != "" {
		return r.Region
	}
	return x.document.Stack.Region
}

// callAlter makes a resource that exists what is wanted of it. What is sent is
// the difference to what was recorded and to what the cloud says now, so that
// what was altered by hand is put back, and a call whose answer was lost is not
// made twice.
func (x *execution) callAlter(ctx context.Context, s *store.Step) (cloud.Progress, error) {
	shown, sent, err := x.resolve(s)
	if err != nil {
		return cloud.Progress{}, err
	}
	row := x.records.of(s)
	if row == nil {
		return cloud.Progress{}, &cloud.Error{
			Class:   cloud.Gone,
			Message: "it is not recorded any more",
			Remedy:  "propose again",
		}
	}
	live, there, err := x.at(s).Look(ctx, x.ref(s))
	switch {
	case err != nil:
		return cloud.Progress{}, err
	case there == cloud.Absent:
		_, until := x.ref(s).Settle(x.now(), x.visibility())
		if row.MadeAt != nil && x.now().Before(row.MadeAt.Add(x.visibility())) {
			until = row.MadeAt.Add(x.visibility()) // it is fresh, and the answer may be old
		}
		if !until.IsZero() {
			return cloud.Progress{}, &unseenError{until, s.Resource}
		}
		return cloud.Progress{}, &cloud.Error{
			Class:   cloud.Gone,
			Message: "the cloud has it no more",
			Remedy:  "propose again: it will be made anew",
		}
	}
	for _, part := range live.Parts {
		x.notePart(s, part)
	}
	task := x.alteration(shown, sent, row, live)
	if err := x.intendAlteration(ctx, s, shown, row, live, task); err != nil {
		return cloud.Progress{}, err
	}
	if live.Phase == cloud.Broken || task.Want == nil && task.Unset == nil && task.Tags == nil && !x.runsAgain(s) {
		x.altered(s, shown)
		return cloud.Progress{Live: live}, nil
	}
	if live.Phase == cloud.Making && s.CalledAt != nil { // the cloud is at work on a call of ours
		return cloud.Progress{Live: live, More: true}, nil
	}
	if live.Phase != cloud.Ready {
		return cloud.Progress{}, &cloud.Error{
			Class:   cloud.Conflict,
			Message: fmt.Sprintf("%s is %s and cannot be altered yet", s.Resource, live.Phase),
		}
	}
	task.Ref = x.ref(s)
	progress, err := x.at(s).Step(ctx, task, x.intendPart(ctx, s))
	if err == nil && !progress.More {
		x.altered(s, shown)
	}
	return progress, err
}

// intendAlteration commits what an alteration sends, with what was there before.
func (x *execution) intendAlteration(ctx context.Context, s *store.Step, shown render.Resource, row *store.Resource,
	live cloud.Live, task cloud.Task) error {
	if s.IntentAt != nil {
		return nil
	}
	s.Want, s.Unset = plainMap(shown.Want), task.Unset
	s.Before = map[string]any{"want": row.Want, "has": plainMap(live.Has)}
	text := "altering " + s.Resource
	if task.Want == nil && task.Unset == nil && task.Tags == nil {
		text = "checking " + s.Resource + " again"
	}
	return x.intend(ctx, s, text, nil)
}

// alteration is what has to be sent so that a resource becomes what is wanted.
func (x *execution) alteration(shown, sent render.Resource, row *store.Resource, live cloud.Live) cloud.Task {
	task := cloud.Task{Action: cloud.Alter, Before: maps.Clone(row.Want)}
	now := plainMap(shown.Want)
	strayed := map[string]bool{}
	for _, f := range change.Strayed(shown.Type, now, live.Has, shown.Leave) {
		strayed[f.Name] = true
	}
	for name, v := range now {
		told, tells := live.Has[name]
		if name == "tags" || slices.Contains(shown.Leave, name) ||
			tells && !strayed[name] && change.HoldsExactly(shown.Type, name, v, told) {
			continue // the cloud has it so already
		}
		if strayed[name] || !change.Equal(v, row.Want[name]) {
			if task.Want == nil {
				task.Want = map[string]any{}
			}
			task.Want[name] = sent.Want[name]
		}
	}
	for name := range live.Has {
		_, wanted := now[name]
		_, recorded := row.Want[name]
		if !wanted && name != "tags" && (recorded || strayed[name]) && !slices.Contains(shown.Leave, name) {
			task.Unset = append(task.Unset, name)
		}
	}
	slices.Sort(task.Unset)
	tags := x.tags(shown.Name, sent.Want)
	if !slices.Contains(shown.Leave, "tags") && !maps.Equal(tags, live.Tags) {
		task.Tags = tags
	}
	return task
}

// altered records that a resource is what was wanted of it, as far as was sent.
func (x *execution) altered(s *store.Step, shown render.Resource) {
	x.records.change(s, func(row *store.Resource) { x.describe(row, shown) })
}

// callRemove begins the removal of a resource. One that may still turn up is
// waited for first.
func (x *execution) callRemove(ctx context.Context, s *store.Step) (cloud.Progress, error) {
	row := x.records.of(s)
	text := "removing " + s.Resource
	switch {
	case row == nil && x.run.Kind == state.KindDiscard:
		text = "removing " + s.Resource + ", which was kept, for good"
	case row == nil:
		text = s.Resource + " is not recorded any more; looking whether it is gone"
	default:
		s.Before = map[string]any{"want": row.Want, "attributes": row.Attributes, "state": row.State}
	}
	err := x.intend(ctx, s, text, func(w *store.Write) {
		if row != nil {
			row.State = state.Removing
			w.PutResource(*row)
		}
	})
	if err != nil {
		return cloud.Progress{}, err
	}
	x.records.change(s, func(row *store.Resource) { row.State = state.Removing })
	if err := x.sure(ctx, s); err != nil {
		return cloud.Progress{}, err
	}
	return x.at(s).Step(ctx, cloud.Task{Action: cloud.Remove, Ref: x.ref(s), Before: s.Before}, x.intendPart(ctx, s))
}

// leaveAsIs leaves properties as they are recorded that cannot be put back.
func (x *execution) leaveAsIs(s *store.Step, shown, sent *render.Resource) {
	names := x.stay[s.Resource]
	row := x.records.of(s)
	if len(names) == 0 || row == nil {
		return
	}
	shown.Want, sent.Want = maps.Clone(shown.Want), maps.Clone(sent.Want)
	for _, name := range names {
		shown.Want[name], sent.Want[name] = row.Want[name], row.Want[name]
	}
}

// inZone puts a resource into the zone that was found for it, in this run or when
// it was made.
func (x *execution) inZone(s *store.Step, shown, sent *render.Resource) {
	zone := s.Want["zone"]
	if row := x.records.of(s); row != nil && zone == nil {
		zone = row.Want["zone"]
	}
	if len(shown.Zones) < 2 || zone == nil || !slices.Contains(shown.Zones, fmt.Sprint(zone)) {
		return
	}
	shown.Want, sent.Want = maps.Clone(shown.Want), maps.Clone(sent.Want)
	shown.Want["zone"], sent.Want["zone"] = zone, zone
}

// nextZone chooses the next zone of those that a resource may be in, in the order
// of preference; the cloud's word on which ones have room is heeded.
func (x *execution) nextZone(s *store.Step, refusal *cloud.Error) bool {
	if s.Action != ActionCreate || x.session == nil {
		return false
	}
	shown, err := x.session.Show(s.Resource)
	at := slices.Index(shown.Zones, fmt.Sprint(s.Want["zone"]))
	if err != nil || at < 0 {
		return false
	}
	for _, zone := range shown.Zones[at+1:] {
		if len(refusal.Zones) > 0 && !slices.Contains(refusal.Zones, zone) {
			continue
		}
		s.Want = maps.Clone(s.Want)
		s.Want["zone"] = zone
		x.records.change(s, func(row *store.Resource) {
			row.Want = maps.Clone(row.Want)
			row.Want["zone"] = zone
		})
		return true
	}
	return false
}
