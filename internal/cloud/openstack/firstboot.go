package openstack

import (
	"cmp"
	"maps"
	"slices"

	"undersail/internal/core/resource"
)

func text(v any) string {
	s, _ := v.(string)
	return s
}

// userData is the first-boot document of a machine, with what formats and mounts its
// disks: the platform tells a guest a disk by the first 20 letters of its volume's id.
func userData(v any, disks []any) ([]byte, error) {
	document, _ := v.(map[string]any)
	document = maps.Clone(document)
	var systems, mounts []any
	for _, item := range disks {
		d, _ := item.(map[string]any)
		id, mount, format := text(d["disk"]), text(d["mount"]), text(d["format"])
		device := "/dev/disk/by-id/virtio-" + id[:min(20, len(id))]
		if format != "" {
			systems = append(systems, map[string]any{"device": device, "filesystem": format, "overwrite": false})
		}
		if mount != "" {
			options := "defaults"
			if optional, _ := d["optional"].(bool); optional {
				options += ",nofail"
			}
			mounts = append(mounts, []any{device, mount, cmp.Or(format, "auto"), options})
		}
	}
	if len(systems)+len(mounts) > 0 && document == nil {
		document = map[string]any{}
	}
	for key, more := range map[string][]any{"fs_setup": systems, "mounts": mounts} {
		if own, _ := document[key].([]any); len(more) > 0 {
			document[key] = append(slices.Clone(own), more...)
		}
	}
	if document == nil {
		return nil, nil
	}
	return resource.CloudConfig(document)
}
