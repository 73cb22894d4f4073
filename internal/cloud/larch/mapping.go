package larch

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/core/resource"
)

// mapping says how one neutral type is called in Larch. Names maps neutral
// property names to Larch's; what it lacks is called the same.
type mapping struct {
	kind  string
	names map[string]string
}

var mappings = map[string]mapping{
	"network": {"networks", map[string]string{"range": "cidr"}},
	"subnet": {"subnets",
		map[string]string{
			"range":        "cidr",
			"network":      "network_id",
			"way_out":      "egress",
			"name_servers": "resolvers",
			"time_servers": "clocks",
		}},
	"firewall": {"firewalls", map[string]string{"rules": "inbound", "network": "network_id"}},
	"address":  {"addresses", map[string]string{"idle": "idle_seconds"}},
	"key_pair": {"keys", nil},
	"secret":   {"secrets", nil},
	"disk":     {"disks", map[string]string{"size": "gib", "type": "class"}},
	"instance": {"instances",
		map[string]string{
			"subnet":    "subnet_id",
			"address":   "address_id",
			"firewalls": "firewall_ids",
			"key_pair":  "key_id",
			"host":      "host_id",
			"role":      "role_id",
		}},
	"pool": {"pools",
		map[string]string{
			"subnets":   "subnet_ids",
			"firewalls": "firewall_ids",
			"key_pair":  "key_id",
			"role":      "role_id",
			"idle":      "idle_seconds",
		}},
	"database": {"databases",
		map[string]string{
			"storage":     "gib",
			"subnets":     "subnet_ids",
			"firewalls":   "firewall_ids",
			"users":       "accounts",
			"keep_copies": "keep_copies_seconds",
		}},
	"private_cloud": {"private-clouds", map[string]string{"network": "network_id"}},
	"host":          {"hosts", nil},
	"shared_files": {"file-shares",
		map[string]string{"size": "gib", "subnets": "subnet_ids", "firewalls": "firewall_ids"}},
	"bucket": {"buckets",
		map[string]string{"label": "global_name", "keep_for": "keep_seconds", "files": "objects"}},
	"name_zone": {"name-zones", map[string]string{"network": "network_id"}},
	"name_record": {"name-records",
		map[string]string{"zone": "zone_id", "label": "name", "kind": "type", "keep_for": "ttl"}},
	"role": {"roles", nil},
}

// neutralNames turns Larch's property names back, for error messages.
var neutralNames = func() map[string]string {
	out := map[string]string{}
	for _, m := range mappings {
		for neutral, theirs := range m.names {
			out[theirs] = neutral
		}
	}
	return out
}()

func typeOf(kind string) string {
	for t, m := range mappings {
		if m.kind == kind {
			return t
		}
	}
	return kind
}

// makes are the types that permissions such as disks.make let an account make; nil when
// it is told of none.
func makes(permissions []string) []string {
	if permissions == nil {
		return nil
	}
	out := []string{}
	for name, k := range mappings {
		if slices.Contains(permissions, k.kind+".make") {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// part is the one thing that a resource is in Larch: its name there is our token.
func (m mapping) part(token string) cloud.Part { return cloud.Part{Kind: m.kind, Mark: token} }

func (m mapping) their(name string) string {
	if n, ok := m.names[name]; ok {
		return n
	}
	return name
}

// theirs turns neutral properties into Larch's.
func (m mapping) theirs(want map[string]any) (map[string]any, error) {
	out := map[string]any{}
	for name, v := range want {
		if name == "name" || name == "tags" {
			continue
		}
		their := m.their(name)
		switch {
		case strings.HasSuffix(their, "_seconds") || their == "ttl":
			seconds, err := resource.ParseSpan(fmt.Sprint(v))
			if err != nil {
				return nil, &cloud.Error{Class: cloud.Invalid, Property: name, Message: err.Error()}
			}
			v = seconds
		case their == "objects":
			v = encoded(v)
		case their == "gib":
			bytes, err := resource.ParseData(fmt.Sprint(v))
			if err != nil || bytes%(1<<30) != 0 {
				return nil, &cloud.Error{
					Class:    cloud.Invalid,
					Property: name,
					Message:  fmt.Sprintf("Larch sells whole GiB, not %v", v),
					Remedy:   "round the size up",
				}
			}
			v = bytes >> 30
		case their == "inbound":
			v = inbound(v)
		case their == "disks":
			v = attachments(v)
		case their == "cards":
			v = renamed(v, cardNames)
		case their == "user_data":
			raw, err := resource.CloudConfig(v)
			if err != nil {
				return nil, err
			}
			v = base64.StdEncoding.EncodeToString(raw)
		}
		out[their] = v
	}
	return out, nil
}

func inbound(v any) any {
	rules, _ := v.([]any)
	out := make([]any, 0, len(rules))
	for _, item := range rules {
		r, _ := item.(map[string]any)
		rule := map[string]any{"source": r["from"], "port": r["port"]}
		if p, ok := r["protocol"]; ok {
			rule["protocol"] = p
		}
		if note := cloud.RuleNote(r["about"], r["until"]); note != "" {
			rule["note"] = note
		}
		out = append(out, rule)
	}
	return out
}

// rulesOf turns Larch's rules back into neutral ones.
func rulesOf(v any) any {
	v = renamed(v, map[string]string{"source": "from", "note": "about"})
	rules, _ := v.([]any)
	for _, item := range rules {
		r, _ := item.(map[string]any)
		if note, ok := r["about"].(string); ok {
			delete(r, "about")
			cloud.ReadRuleNote(note, r)
		}
	}
	return v
}

// cardNames are Larch's names of what a network card has.
var cardNames = map[string]string{"subnet": "subnet_id", "address": "address_id", "firewalls": "firewall_ids"}

// encoded are the files of a bucket as Larch takes them, and decoded the other way round.
func encoded(v any) any {
	files, _ := v.(map[string]any)
	out := make(map[string]any, len(files))
	for name, text := range files {
		out[name] = base64.StdEncoding.EncodeToString([]byte(fmt.Sprint(text)))
	}
	return out
}

func decoded(v any) any {
	objects, _ := v.(map[string]any)
	out := make(map[string]any, len(objects))
	for name, text := range objects {
		raw, err := base64.StdEncoding.DecodeString(fmt.Sprint(text))
		if err != nil {
			return nil
		}
		out[name] = string(raw)
	}
	return out
}

func attachments(v any) any {
	disks, _ := v.([]any)
	out := make([]any, 0, len(disks))
	for _, item := range disks {
		d, _ := item.(map[string]any)
		disk := map[string]any{"disk_id": d["disk"]}
		for _, key := range []string{"mount", "format", "optional"} {
			if x, ok := d[key]; ok {
				disk[key] = x
			}
		}
		out = append(out, disk)
	}
	return out
}

// ours turns Larch's properties back into neutral ones. Values of secrets and
// first-boot configuration are not told.
func (m mapping) ours(r report) map[string]any {
	has := map[string]any{"name": r.Label}
	for neutral := range m.told(r.Properties) {
		v := r.Properties[m.their(neutral)]
		their := m.their(neutral)
		if n, ok := v.(float64); ok && (strings.HasSuffix(their, "_seconds") || their == "ttl") {
			v = resource.FormatSpan(int64(n))
		}
		switch their {
		case "objects":
			v = decoded(v)
		case "gib":
			if n, ok := v.(float64); ok {
				v = resource.FormatData(int64(n) << 30)
			}
		case "inbound":
			v = rulesOf(v)
		case "disks":
			v = renamed(v, map[string]string{"disk_id": "disk"})
		case "cards":
			v = renamed(v, map[string]string{
				"subnet_id":    "subnet",
				"address_id":   "address",
				"firewall_ids": "firewalls",
			})
		}
		has[neutral] = v
	}
	return has
}

// told lists the neutral names of what a report tells.
func (m mapping) told(properties map[string]any) map[string]bool {
	neutral := map[string]string{}
	for name, their := range m.names {
		neutral[their] = name
	}
	out := map[string]bool{}
	for their := range properties {
		if name, ok := neutral[their]; ok {
			out[name] = true
		} else {
			out[their] = true
		}
	}
	return out
}

func renamed(list any, names map[string]string) any {
	items, _ := list.([]any)
	out := make([]any, len(items))
	for i, item := range items {
		fields, ok := item.(map[string]any)
		if !ok {
			return list
		}
		one := make(map[string]any, len(fields))
		for k, v := range fields {
			if to, ok := names[k]; ok {
				k = to
			}
			one[k] = v
		}
		out[i] = one
	}
	return out
}
