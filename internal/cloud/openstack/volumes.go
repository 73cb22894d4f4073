package openstack

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/core/resource"
)

func init() {
	conducts["disk"] = conduct{
		main:   "volume",
		see:    seeDisk,
		create: makeDisk,
		alter:  alterDisk,
		remove: removeDisk,
		parts:  single("volume"),
	}
}

// A disk is a volume.

const gib = 1 << 30

func gibOf(property string, v any) (int64, error) {
	bytes, err := resource.ParseData(fmt.Sprint(v))
	if err != nil || bytes%gib != 0 {
		return 0, &cloud.Error{
			Class:    cloud.Invalid,
			Property: property,
			Message:  fmt.Sprintf("the cloud has disks in whole GiB, not %v", v),
			Remedy:   "round the size up",
		}
	}
	return bytes / gib, nil
}

func seeDisk(ctx context.Context, w *work) (cloud.Live, error) {
	v := w.part("volume")
	size := resource.FormatData(v.Size * gib)
	l := cloud.Live{
		Phase:      cloud.Making,
		Attributes: map[string]any{"size": size},
		Has:        map[string]any{"size": size, "type": v.VolumeType},
	}
	switch {
	case v.Status == "available" || v.Status == "in-use" || v.Status == "reserved" || v.Status == "attaching" ||
		v.Status == "detaching":
		l.Phase = cloud.Ready
	case v.Status == "deleting":
		l.Phase = cloud.Removing
	case strings.HasPrefix(v.Status, "error"):
		l.Phase, l.Why = cloud.Broken, "the cloud says "+v.Status+" of the volume"
		if why, err := w.a.message(ctx, w.ref.Region, v.ID); err == nil && why != "" {
			l.Why = why
		}
	}
	return l, nil
}

// message gives why a volume went wrong: that stands in a list of its own.
func (a *Adapter) message(ctx context.Context, region, id string) (string, error) {
	var answer struct {
		Messages []struct {
			User     string `json:"user_message"`
			Resource string `json:"resource_uuid"`
		} `json:"messages"`
	}
	err := a.get(ctx, region, volume, "messages?"+url.Values{"resource_uuid": {id}}.Encode(), &answer)
	for _, m := range answer.Messages {
		if m.Resource == id {
			return m.User, err
		}
	}
	return "", err
}

func makeDisk(ctx context.Context, w *work) (cloud.Progress, error) {
	if v := w.part("volume"); v != nil {
		if p, did, err := w.tagged(ctx, "volume", nil); did || err != nil {
			return p, err
		}
		return w.done(ctx)
	}
	size, err := gibOf("size", w.task.Want["size"])
	if err != nil {
		return cloud.Progress{}, fmt.Errorf("reading the size: %w", err)
	}
	body := w.marked(map[string]any{"size": size, "metadata": w.metadata(nil)})
	if kind, ok := w.task.Want["type"].(string); ok && kind != "" {
		body["volume_type"] = kind
	}
	// Zones of volumes are not those of machines: one that volumes do not have is left out.
	if zone, ok := w.task.Want["zone"].(string); ok {
		zones, err := w.a.zones(ctx, w.ref.Region, volume)
		if err != nil {
			return cloud.Progress{}, err
		}
		if slices.Contains(zones, zone) {
			body["availability_zone"] = zone
		}
	}
	p, err := w.make(ctx, "volume", w.ref.Token, body)
	p.More, p.Live.ReadyIn = false, soon
	return p, err
}

func alterDisk(ctx context.Context, w *work) (cloud.Progress, error) {
	v := w.part("volume")
	if p, did, err := w.described(ctx, "volume"); did || err != nil {
		return p, err
	}
	wanted, asked := w.task.Want["size"]
	if !asked {
		return w.done(ctx)
	}
	size, err := gibOf("size", wanted)
	if err != nil {
		return cloud.Progress{}, fmt.Errorf("reading the size: %w", err)
	}
	switch {
	case size == v.Size:
		return w.done(ctx)
	case size < v.Size:
		return cloud.Progress{}, &cloud.Error{
			Class:    cloud.Invalid,
			Property: "size",
			Message:  fmt.Sprintf("the volume has %d GiB, and volumes only grow", v.Size),
			Remedy:   "keep its size, or make another disk",
		}
	}
	if err := w.act(ctx, "volume", v.ID, map[string]any{"os-extend": map[string]any{"new_size": size}}); err != nil {
		return cloud.Progress{}, fmt.Errorf("grow the volume: %w", err)
	}
	p, err := w.done(ctx)
	p.Live.Phase, p.Live.ReadyIn = cloud.Making, soon
	return p, err
}

func removeDisk(ctx context.Context, w *work) (cloud.Progress, error) {
	if v := w.part("volume"); v != nil && v.Status == "deleting" {
		return w.done(ctx)
	}
	return w.removing(ctx, "volume")
}
