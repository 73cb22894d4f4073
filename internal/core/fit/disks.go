package fit

import (
	"slices"

	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Disks are like disks of a declaration of machines: of each machine Count of them, at
// one mount.
type Disks struct {
	// Machine is the declaration of what they are attached to, Machines how many of it
	// there are. It is empty for disks that nothing attaches.
	Machine  string `json:"machine,omitempty"`
	Machines int    `json:"machines"`
	Mount    string `json:"mount,omitempty"`
	Type     string `json:"type"`
	Count    int    `json:"count"` // of one machine
	Bytes    int64  `json:"bytes"` // of one disk
	// MBps and Month are of all of them together; 0 where the region tells neither.
	MBps  float64 `json:"mbps"`
	Month float64 `json:"month"`
}

// Layout tells how the disks of a rendering lie on its machines, in the order of their
// declarations.
func Layout(r *render.Rendering, offers offer.Everywhere) []Disks {
	type attached struct{ machine, mount string }
	at := map[string]attached{} // by the reference to a disk
	machines := map[attached]map[string]bool{}
	for _, res := range r.Resources {
		list, _ := res.Want["disks"].([]any)
		for _, item := range list {
			m, _ := item.(map[string]any)
			mount, _ := m["mount"].(string)
			to := attached{res.Declared, mount}
			if reference := referenceOf(m["disk"]); reference != "" {
				at[reference] = to
				if machines[to] == nil {
					machines[to] = map[string]bool{}
				}
				machines[to][res.Name] = true
			}
		}
	}
	out := []Disks{}
	for _, res := range r.Resources {
		text, _ := res.Want["size"].(string)
		bytes, err := resource.ParseData(text)
		if res.Type != resource.TypeDisk || res.Find != nil || err != nil {
			continue
		}
		kind, _ := res.Want["type"].(string)
		to := at[res.Name+".id"]
		i := slices.IndexFunc(out, func(d Disks) bool {
			return d.Machine == to.machine && d.Mount == to.mount && d.Type == kind && d.Bytes == bytes
		})
		if i < 0 {
			out, i = append(out, Disks{
				Machine:  to.machine,
				Machines: len(machines[to]),
				Mount:    to.mount,
				Type:     kind,
				Bytes:    bytes,
			}), len(out)
		}
		out[i].Count++
		if o := offers.In(res.Region); o != nil {
			if d, sold := o.DiskType(kind); sold {
				mbps, _ := d.Throughput(bytes)
				out[i].MBps += mbps
				out[i].Month += d.GiBHour * float64(bytes) / (1 << 30) * price.HoursPerMonth
			}
		}
	}
	for i, d := range out {
		if d.Machines > 0 {
			out[i].Count = max(1, d.Count/d.Machines)
		}
	}
	return out
}

// referenceOf gives the attribute that an attached disk is read from, or the id of one
// that is there.
func referenceOf(v any) string {
	switch v := v.(type) {
	case resource.Unresolved:
		if len(v.Waits) == 1 {
			return v.Waits[0]
		}
	case string:
		return v
	}
	return ""
}
