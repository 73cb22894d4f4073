package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"undersail/internal/cloud"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/schedule"
	"undersail/internal/store"
)

// A resource may make things by itself: a controller machines, a cluster disks. Its
// template says which, by their tags. They are recorded with it, and when it is removed
// its step is over only when they are gone too.

// makesAttribute is where a recorded resource holds what it makes.
const makesAttribute = "makes"

// withMakes adds what a resource makes by itself to what is recorded of it.
func withMakes(attributes map[string]any, makes []render.Made) {
	if len(makes) == 0 {
		return
	}
	list := make([]any, len(makes))
	for i, m := range makes {
		list[i] = map[string]any{"type": m.Type, "tags": plainMap(m.Tags), "least": m.Least, "most": m.Most}
	}
	attributes[makesAttribute] = list
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

// clearMade removes what a resource made by itself that is going, and reports whether
// something of it is still there.
func (x *execution) clearMade(ctx context.Context, s *store.Step) (left int, err error) {
	row := x.resource(s)
	if row == nil {
		return 0, nil
	}
	for _, m := range Makes(*row) {
		found, err := Made(ctx, x.adapter, s.Region, m)
		if err != nil {
			return 0, err
		}
		for _, l := range found {
			left++
			if l.Phase == cloud.Removing {
				continue
			}
			text := fmt.Sprintf("removing the %s %s (%s), which %s made by itself", resource.Words(l.Type), l.Name, l.ID, s.Resource)
			if err := x.note(ctx, store.Event{Kind: "call", Resource: s.Resource, State: string(schedule.Working), Text: text}, nil); err != nil {
				return left, err
			}
			if _, err := x.adapter.Step(ctx, cloud.Task{Action: cloud.Remove, Ref: l.Ref}, func(cloud.Part) error { return nil }); err != nil {
				return left, err
			}
		}
	}
	return left, nil
}
