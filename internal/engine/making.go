package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/schedule"
	"undersail/internal/store"
)

// A resource may make things by itself: a controller machines, a cluster disks. Its
// template says which, by their tags. They are recorded with it, and when it is removed
// its step is over only when they are gone too.

// makesAttribute is where a recorded resource holds what it makes, sinceAttribute since when it
// can: when the cloud made it.
const (
	makesAttribute = "makes"
	sinceAttribute = "makes_since"
)

// withMakes is what is recorded of a resource together with what it makes by itself.
func withMakes(attributes map[string]any, makes []render.Made, since time.Time) map[string]any {
	if len(makes) == 0 {
		return attributes
	}
	attributes = maps.Clone(attributes)
	if !since.IsZero() {
		attributes[sinceAttribute] = since.Format(time.RFC3339Nano)
	}
	list := make([]any, len(makes))
	for i, m := range makes {
		list[i] = map[string]any{"type": m.Type, "tags": plainMap(m.Tags), "least": m.Least, "most": m.Most}
	}
	attributes[makesAttribute] = list
	return attributes
}

// Makes reads what a recorded resource makes by itself.
func Makes(r store.Resource) []render.Made {
	raw, err := json.Marshal(r.Attributes[makesAttribute])
	if err != nil {
		return nil
	}
	var out []render.Made
	if json.Unmarshal(raw, &out) != nil {
		return nil
	}
	// Without a tag everything would be meant.
	return slices.DeleteFunc(out, func(m render.Made) bool { return len(m.Tags) == 0 })
}

// Made finds what a recorded resource has made by itself and is there.
func Made(ctx context.Context, adapter cloud.Adapter, region string, m render.Made) ([]cloud.Live, error) {
	tags := map[string]string{}
	for name, v := range m.Tags {
		tags[name] = fmt.Sprint(v)
	}
	found, err := cloud.Collect(adapter.Search(ctx, cloud.Query{Region: region, Type: m.Type, Tags: tags}))
	return slices.DeleteFunc(found, func(l cloud.Live) bool { return l.Tags[cloud.TagStackID] != "" }), err
}

// NotMade says why a recorded resource cannot have made something by itself although that has
// the tag: it is older, or the cloud knows another maker. It is empty where nothing speaks
// against it.
func NotMade(r store.Resource, l cloud.Live) string {
	id, _ := r.Attributes["id"].(string)
	if l.Maker != "" && l.Maker != id {
		return "the cloud says that " + l.Maker + " made it"
	}
	text, _ := r.Attributes[sinceAttribute].(string)
	if since, err := time.Parse(time.RFC3339Nano, text); err == nil && !l.MadeAt.IsZero() && l.MadeAt.Before(since) {
		return "it is older than " + r.Name
	}
	return ""
}

// clearMade removes what a resource made by itself that is going, and reports whether
// something of it is still there.
func (x *execution) clearMade(ctx context.Context, s *store.Step) (left int, err error) {
	row := x.records.of(s)
	if row == nil {
		return 0, nil
	}
	for _, m := range Makes(*row) {
		found, err := Made(ctx, x.adapter, s.Region, m)
		if err != nil {
			return 0, err
		}
		for _, l := range found {
			if why := NotMade(*row, l); why != "" {
				if err := x.tellStays(ctx, s, l, why); err != nil {
					return 0, err
				}
				continue
			}
			left++
			if l.Phase == cloud.Removing {
				continue
			}
			text := fmt.Sprintf("removing the %s %s (%s), which %s made by itself", resource.Words(l.Type), l.Name,
				l.ID, s.Resource)
			err := x.note(ctx, store.Event{
				Kind:     "call",
				Resource: s.Resource,
				State:    string(schedule.Working),
				Text:     text,
			}, nil)
			if err != nil {
				return left, err
			}
			_, err = x.adapter.Step(ctx, cloud.Task{Action: cloud.Remove, Ref: l.Ref},
				func(cloud.Part) error { return nil })
			if err != nil {
				return left, err
			}
		}
	}
	return left, nil
}

// tellStays tells once of something that has the tag, and that the resource cannot have made.
func (x *execution) tellStays(ctx context.Context, s *store.Step, l cloud.Live, why string) error {
	if !x.mentions.first("stays " + l.ID) {
		return nil
	}
	text := fmt.Sprintf("the %s %s (%s) has the tag of what %s makes, and stays: %s", resource.Words(l.Type), l.Name,
		l.ID, s.Resource, why)
	return x.note(ctx, store.Event{Kind: "call", Resource: s.Resource, State: string(schedule.Working), Text: text},
		nil)
}
