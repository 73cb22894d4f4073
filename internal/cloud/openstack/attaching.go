package openstack

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"undersail/internal/cloud"
)

// A server that runs gets and loses volumes one by one. What it is to have stands in its
// metadata: there a volume is taken out before it is detached, and put in once it is
// attached, so that a server never misses what it was not given yet. Mounting them is done
// at the first boot alone, so that disks with a place to be mounted at take a rebuild.

// diskLine is how a disk is written down in the metadata of its server.
func diskLine(d map[string]any) string {
	words := []string{text(d["disk"]), cmp.Or(text(d["mount"]), "-"), cmp.Or(text(d["format"]), "-")}
	if optional, _ := d["optional"].(bool); optional {
		words = append(words, "optional")
	}
	return strings.Join(words, " ")
}

// diskOfLine reads it back.
func diskOfLine(line string) map[string]any {
	words := append(strings.Split(line, " "), "-", "-", "-")
	out := map[string]any{"disk": words[0]}
	for i, name := range []string{"mount", "format"} {
		if words[i+1] != "-" {
			out[name] = words[i+1]
		}
	}
	if words[3] == "optional" {
		out["optional"] = true
	}
	return out
}

// has reports whether a volume is attached to a server.
func (s *thing) has(volume string) bool {
	for _, v := range s.Volumes {
		if v.ID == volume {
			return true
		}
	}
	return false
}

// attached makes the next call until exactly the wanted disks are attached; false says that
// they are.
func (w *work) attached(ctx context.Context, s *thing) (cloud.Progress, bool, error) {
	v, asked := w.task.Want["disks"]
	if !asked && !slices.Contains(w.task.Unset, "disks") || s == nil {
		return cloud.Progress{}, false, nil
	}
	list, _ := v.([]any)
	var lines, ids []string
	for _, item := range list {
		d, _ := item.(map[string]any)
		lines, ids = append(lines, diskLine(d)), append(ids, text(d["disk"]))
	}
	var still []string // of those that it has and is to have
	for _, line := range s.diskLines() {
		if id, _, _ := strings.Cut(line, " "); slices.Contains(ids, id) {
			still = append(still, line)
		}
	}
	if did, err := w.writeDisks(ctx, s, still); did || err != nil {
		return w.going(ctx, did, err)
	}
	for _, has := range s.Volumes {
		if slices.Contains(ids, has.ID) {
			continue
		}
		disk, err := w.a.byID(ctx, w.ref.Region, "volume", has.ID)
		if err == nil && (disk == nil || disk.Status != "detaching") {
			err = w.volumes(ctx, s, http.MethodDelete, has.ID)
		}
		return w.going(ctx, true, err)
	}
	for _, id := range ids {
		disk, err := w.a.byID(ctx, w.ref.Region, "volume", id)
		switch {
		case err != nil:
			return cloud.Progress{}, false, err
		case disk == nil:
			return cloud.Progress{}, false, &cloud.Error{
				Class:    cloud.Invalid,
				Property: "disks",
				Message:  "there is no volume " + id,
				Remedy:   "propose again",
			}
		case disk.Status == "attaching" || disk.Status == "reserved" || disk.Status == "detaching":
			p, err := w.more(ctx)
			return p, true, err
		case !s.has(id):
			return w.going(ctx, true, w.volumes(ctx, s, http.MethodPost, id))
		}
	}
	did, err := w.writeDisks(ctx, s, lines)
	return w.going(ctx, did, err)
}

// going says that another step is needed after a call that was made.
func (w *work) going(ctx context.Context, did bool, err error) (cloud.Progress, bool, error) {
	if err != nil || !did {
		return cloud.Progress{}, false, err
	}
	p, err := w.more(ctx)
	return p, true, err
}

// volumes attaches a volume to a server, or detaches it.
func (w *work) volumes(ctx context.Context, s *thing, method, id string) error {
	at := "servers/" + url.PathEscape(s.ID) + "/os-volume_attachments"
	c := call{
		service: compute,
		method:  method,
		path:    at,
		in:      map[string]any{"volumeAttachment": map[string]any{"volumeId": id}},
	}
	if method == http.MethodDelete {
		c.path, c.in = at+"/"+url.PathEscape(id), nil
	}
	err := w.a.do(ctx, w.ref.Region, c)
	if method == http.MethodDelete && cloud.ClassOf(err) == cloud.Gone {
		return nil
	}
	if err != nil {
		return fmt.Errorf("attach or detach volume %s: %w", id, err)
	}
	return nil
}

// diskLines are the disks of a server as its metadata tells them, in their order.
func (s *thing) diskLines() (lines []string) {
	for i := 0; ; i++ {
		line, there := s.Metadata[metaDisk+strconv.Itoa(i)]
		if !there {
			return lines
		}
		lines = append(lines, line)
	}
}

// writeDisks writes disks down with a server; false says that they are.
func (w *work) writeDisks(ctx context.Context, s *thing, lines []string) (bool, error) {
	if slices.Equal(lines, s.diskLines()) {
		return false, nil
	}
	now := maps.Clone(s.Metadata)
	maps.DeleteFunc(now, func(name, _ string) bool { return strings.HasPrefix(name, metaDisk) })
	for i, line := range lines {
		now[metaDisk+strconv.Itoa(i)] = line
	}
	err := w.a.do(ctx, w.ref.Region, call{
		service: compute,
		method:  http.MethodPut,
		path:    "servers/" + url.PathEscape(s.ID) + "/metadata",
		in:      map[string]any{"metadata": now},
	})
	if err != nil {
		return false, fmt.Errorf("write the disks of a server down: %w", err)
	}
	s.Metadata = now
	return true, nil
}
