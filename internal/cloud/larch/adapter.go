package larch

import (
	"context"
	"encoding/base64"
	"fmt"
	"iter"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"undersail/internal/cloud"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// document is a resource as it is sent.
type document struct {
	Label      string            `json:"label,omitempty"`
	Properties map[string]any    `json:"properties,omitempty"`
	Tags       map[string]string `json:"tags,omitempty"`
	version    string            // of what is changed, or empty
}

// report is a resource as Larch tells it.
type report struct {
	Name       string            `json:"name"`
	ID         string            `json:"id"`
	Kind       string            `json:"kind"`
	Label      string            `json:"label"`
	Phase      string            `json:"phase"`
	Why        string            `json:"why"`
	Properties map[string]any    `json:"properties"`
	Attributes map[string]any    `json:"attributes"`
	Tags       map[string]string `json:"tags"`
	ReadyIn    float64           `json:"ready_in"`
	Generation int               `json:"generation"`
}

// mapping says how one neutral type is called in Larch. Names maps neutral
// property names to Larch's; what it lacks is called the same.
type mapping struct {
	kind  string
	names map[string]string
}

var mappings = map[string]mapping{
	"network":  {"networks", map[string]string{"range": "cidr"}},
	"subnet":   {"subnets", map[string]string{"range": "cidr", "network": "network_id"}},
	"firewall": {"firewalls", map[string]string{"rules": "inbound", "network": "network_id"}},
	"address":  {"addresses", nil},
	"key_pair": {"keys", nil},
	"secret":   {"secrets", nil},
	"disk":     {"disks", map[string]string{"size": "gib", "type": "class"}},
	"instance": {"instances", map[string]string{"subnet": "subnet_id", "address": "address_id", "firewalls": "firewall_ids", "key_pair": "key_id"}},
}

// limits are what Larch takes of values: IPv4 ranges of some lengths, whole GiB.
var limits = map[string]offer.Limit{
	"network.range": {Shortest: 8, Longest: 29, IPv4: true},
	"subnet.range":  {Shortest: 8, Longest: 29, IPv4: true},
	"disk.size":     {Step: 1 << 30},
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

// WhoAmI tells the account, its clock and where its guests are.
func (a *Adapter) WhoAmI(ctx context.Context) (cloud.Identity, error) {
	var me struct {
		Account     string    `json:"account"`
		Roles       []string  `json:"roles"`
		Regions     []string  `json:"regions"`
		ClockRate   float64   `json:"clock_rate"`
		GuestRange  string    `json:"guest_range"`
		Ends        time.Time `json:"credentials_end"`
		Permissions []string  `json:"permissions"`
	}
	if _, err := a.do(ctx, http.MethodGet, "/v1/me", nil, &me); err != nil {
		return cloud.Identity{}, fmt.Errorf("ask Larch who this account is: %w", err)
	}
	return cloud.Identity{Account: me.Account, Roles: me.Roles, Regions: me.Regions, Ends: me.Ends, Makes: makes(me.Permissions), ClockRate: max(me.ClockRate, 0.001), GuestRange: me.GuestRange}, nil
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

// pages reads every page of a list.
func (a *Adapter) pages(ctx context.Context, next string, each func(report)) error {
	for next != "" {
		var page struct{ Resources []report }
		header, err := a.do(ctx, http.MethodGet, next, nil, &page)
		if err != nil {
			return fmt.Errorf("list resources: %w", err)
		}
		for _, r := range page.Resources {
			each(r)
		}
		next = ""
		if target, rel, ok := strings.Cut(header.Get("Link"), ">;"); ok && strings.Contains(rel, "next") {
			next = strings.TrimPrefix(target, "<")
		}
	}
	return nil
}

func path(region, kind, name string) string {
	return "/v1/regions/" + url.PathEscape(region) + "/" + kind + "/" + url.PathEscape(name)
}

// part is the one thing that a resource is in Larch: its name there is our token.
func (m mapping) part(token string) cloud.Part { return cloud.Part{Kind: m.kind, Mark: token} }

// Visibility is short: Larch reads its own writes, but its lists and reads are
// served by copies that may lag for a moment.
func (a *Adapter) Visibility() float64 { return 10 }

// Step makes the one call that a task needs in Larch.
func (a *Adapter) Step(ctx context.Context, t cloud.Task, intend func(cloud.Part) error) (cloud.Progress, error) {
	m, ok := mappings[t.Ref.Type]
	if !ok {
		return cloud.Progress{}, &cloud.Error{Class: cloud.Invalid, Message: "Larch has no resources of type " + t.Ref.Type}
	}
	at := path(t.Ref.Region, m.kind, t.Ref.Token)
	if t.Action == cloud.Remove {
		_, err := a.do(ctx, http.MethodDelete, at, nil, nil)
		if cloud.ClassOf(err) == cloud.Gone {
			err = nil // it is gone already
		}
		if err != nil {
			return cloud.Progress{}, fmt.Errorf("remove %s: %w", t.Ref.Type, err)
		}
		return cloud.Progress{Live: cloud.Live{Ref: t.Ref, Phase: cloud.Removing}}, nil
	}
	part := t.Ref.Part(m.kind, t.Ref.Token)
	if t.Action == cloud.Create && part != nil && part.Seen {
		return a.takeUp(ctx, t.Ref)
	}
	doc := document{Tags: t.Tags}
	var err error
	if doc.Properties, err = m.theirs(t.Want); err != nil {
		return cloud.Progress{}, err
	}
	if name, named := t.Want["name"]; named {
		doc.Label = fmt.Sprint(name)
	}
	method := http.MethodPut
	if t.Action == cloud.Alter {
		method = http.MethodPatch
		if part != nil {
			doc.version = part.Version
		}
		for _, name := range t.Unset {
			if name != "name" && name != "tags" {
				doc.Properties[m.their(name)] = nil
			}
		}
	} else {
		if err := intend(m.part(t.Ref.Token)); err != nil {
			return cloud.Progress{}, err
		}
	}
	var answer struct{ Resource report }
	if _, err := a.do(ctx, method, at, doc, &answer); err != nil {
		return cloud.Progress{}, fmt.Errorf("%s %s: %w", t.Action, t.Ref.Type, err)
	}
	return cloud.Progress{Live: live(answer.Resource, t.Ref.Region)}, nil
}

// takeUp goes on with a resource that was made before.
func (a *Adapter) takeUp(ctx context.Context, ref cloud.Ref) (cloud.Progress, error) {
	l, there, err := a.Look(ctx, ref)
	if err == nil && there == cloud.Absent {
		err = &cloud.Error{Class: cloud.Gone, Message: "it was made and is there no more", Remedy: "propose again"}
	}
	return cloud.Progress{Live: l}, err
}

// Look reads one resource.
func (a *Adapter) Look(ctx context.Context, ref cloud.Ref) (cloud.Live, cloud.Presence, error) {
	var got report
	_, err := a.do(ctx, http.MethodGet, path(ref.Region, mappings[ref.Type].kind, ref.Token), nil, &got)
	if cloud.ClassOf(err) == cloud.Gone {
		return cloud.Live{Ref: ref}, cloud.Absent, nil
	}
	if err != nil {
		return cloud.Live{}, "", fmt.Errorf("read %s: %w", ref.Type, err)
	}
	return live(got, ref.Region), cloud.Present, nil
}

// Search reads all pages of a region, narrowed down by the first tag.
func (a *Adapter) Search(ctx context.Context, q cloud.Query) iter.Seq2[cloud.Live, error] {
	return func(yield func(cloud.Live, error) bool) {
		next := "/v1/regions/" + url.PathEscape(q.Region) + "/resources"
		narrow := url.Values{}
		for _, tag := range slices.Sorted(maps.Keys(q.Tags)) {
			narrow.Set("tag", tag+":"+q.Tags[tag])
			break
		}
		if m, ok := mappings[q.Type]; ok {
			narrow.Set("kind", m.kind)
		}
		more, seen := true, map[string]bool{}
		for ids := range slices.Chunk(q.Uses, idsAtOnce) {
			narrow.Set("refers", strings.Join(ids, ","))
			if !more {
				return
			}
			more = a.matching(ctx, next+"?"+narrow.Encode(), q, seen, yield)
		}
		if q.Uses == nil {
			a.matching(ctx, next+"?"+narrow.Encode(), q, seen, yield)
		}
	}
}

// idsAtOnce is how many ids a list is asked for at a time: addresses have a length.
const idsAtOnce = 50

// matching reads the pages of a list and yields what is meant, each once; false says
// that whoever asked has enough.
func (a *Adapter) matching(ctx context.Context, list string, q cloud.Query, seen map[string]bool, yield func(cloud.Live, error) bool) bool {
	more := true
	err := a.pages(ctx, list, func(r report) {
		if l := live(r, q.Region); more && q.Matches(l) && !seen[l.ID] {
			seen[l.ID] = true
			more = yield(l, nil)
		}
	})
	if err != nil && more {
		return yield(cloud.Live{}, err)
	}
	return more
}

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
		case their == "gib":
			bytes, err := resource.ParseData(fmt.Sprint(v))
			if err != nil || bytes%(1<<30) != 0 {
				return nil, &cloud.Error{Class: cloud.Invalid, Property: name, Message: fmt.Sprintf("Larch sells disks in whole GiB, not %v", v), Remedy: "round the size up"}
			}
			v = bytes >> 30
		case their == "inbound":
			v = inbound(v)
		case their == "disks":
			v = attachments(v)
		case their == "user_data":
			raw, err := yaml.Dump(v)
			if err != nil {
				return nil, fmt.Errorf("encode user data: %w", err)
			}
			v = base64.StdEncoding.EncodeToString(append([]byte("#cloud-config\n"), raw...))
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
		if note := noteOf(r["about"], r["until"]); note != "" {
			rule["note"] = note
		}
		out = append(out, rule)
	}
	return out
}

// Larch's rules have a note and no end: the note says until when a rule is meant.
var untilNote = regexp.MustCompile(`(?s)^(?:(.*) · )?until (\d{4}-\d{2}-\d{2})$`)

func noteOf(about, until any) string {
	note, _ := about.(string)
	day, _ := until.(string)
	switch {
	case day == "":
		return note
	case note == "":
		return "until " + day
	}
	return note + " · until " + day
}

// rulesOf turns Larch's rules back into neutral ones.
func rulesOf(v any) any {
	v = renamed(v, map[string]string{"source": "from", "note": "about"})
	rules, _ := v.([]any)
	for _, item := range rules {
		r, _ := item.(map[string]any)
		note, _ := r["about"].(string)
		parts := untilNote.FindStringSubmatch(note)
		if parts == nil {
			continue
		}
		if r["until"], r["about"] = parts[2], parts[1]; parts[1] == "" {
			delete(r, "about")
		}
	}
	return v
}

func attachments(v any) any {
	disks, _ := v.([]any)
	out := make([]any, 0, len(disks))
	for _, item := range disks {
		d, _ := item.(map[string]any)
		disk := map[string]any{"disk_id": d["disk"]}
		for _, key := range []string{"mount", "format"} {
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
		switch m.their(neutral) {
		case "gib":
			if n, ok := v.(float64); ok {
				v = resource.FormatData(int64(n) << 30)
			}
		case "inbound":
			v = rulesOf(v)
		case "disks":
			v = renamed(v, map[string]string{"disk_id": "disk"})
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

var phases = map[string]cloud.Phase{"making": cloud.Making, "changing": cloud.Making, "ready": cloud.Ready, "broken": cloud.Broken, "removing": cloud.Removing}

// live turns Larch's report into neutral attributes.
func live(r report, region string) cloud.Live {
	l := cloud.Live{ID: r.ID, Name: r.Label, Phase: phases[r.Phase], Why: r.Why, Tags: r.Tags, ReadyIn: r.ReadyIn, Attributes: map[string]any{"id": r.ID},
		Ref: cloud.Ref{Region: region, Type: typeOf(r.Kind), Token: r.Name, Parts: []cloud.Part{{Kind: r.Kind, ID: r.ID, Mark: r.Name, Version: fmt.Sprint(r.Generation), Seen: true}}}}
	l.Has = mappings[l.Type].ours(r)
	for name, v := range r.Attributes {
		switch name {
		case "memory_gib":
			if n, ok := v.(float64); ok {
				l.Attributes["memory"] = resource.FormatData(int64(n) << 30)
			}
		case "vcpus", "version":
			if n, ok := v.(float64); ok {
				l.Attributes[name] = int64(n)
			}
		case "host_key":
			l.Attributes[name] = strings.TrimSpace(fmt.Sprint(v))
		default:
			l.Attributes[name] = v
		}
	}
	if l.Type == "instance" && l.Attributes["public_address"] == nil {
		l.Attributes["public_address"] = ""
	}
	if l.Type == "instance" && l.Phase == cloud.Ready && l.Attributes["host_key"] == nil {
		l.Phase = cloud.Making // it is switched on, and has not shown its key yet
	}
	if l.Type == "key_pair" {
		l.Attributes["public_key"] = r.Properties["public_key"]
	}
	if l.Type == "disk" {
		if n, ok := r.Properties["gib"].(float64); ok {
			l.Attributes["size"] = resource.FormatData(int64(n) << 30)
		}
	}
	return l
}
