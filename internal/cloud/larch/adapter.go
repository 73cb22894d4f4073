package larch

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"strings"

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
		Account    string   `json:"account"`
		Roles      []string `json:"roles"`
		Regions    []string `json:"regions"`
		ClockRate  float64  `json:"clock_rate"`
		GuestRange string   `json:"guest_range"`
	}
	if _, err := a.do(ctx, http.MethodGet, "/v1/me", nil, &me); err != nil {
		return cloud.Identity{}, fmt.Errorf("ask Larch who this account is: %w", err)
	}
	return cloud.Identity{Account: me.Account, Roles: me.Roles, Regions: me.Regions, ClockRate: max(me.ClockRate, 0.001), GuestRange: me.GuestRange}, nil
}

// Offers reads what a region sells.
func (a *Adapter) Offers(ctx context.Context, region string) (offer.Offers, error) {
	var m struct {
		Currency    string   `json:"currency"`
		AddressHour float64  `json:"address_hour"`
		Zones       []string `json:"zones"`
		Sizes       []struct {
			Name, Family, Architecture string
			VCPUs                      int64
			MemoryGiB                  int64 `json:"memory_gib"`
			Hour                       float64
			Zones                      []string
			Withdrawn                  bool
		} `json:"sizes"`
		DiskClasses []struct {
			Class, About string
			GiBHour      float64 `json:"gib_hour"`
			MinGiB       int64   `json:"min_gib"`
			MaxGiB       int64   `json:"max_gib"`
			Zones        []string
		} `json:"disk_classes"`
		Images []struct {
			Name, User, Architecture string
			MinMemoryGiB             int64 `json:"min_memory_gib"`
		} `json:"images"`
		Quotas map[string]offer.Quota `json:"quotas"`
	}
	if _, err := a.do(ctx, http.MethodGet, "/v1/regions/"+url.PathEscape(region)+"/market", nil, &m); err != nil {
		return offer.Offers{}, fmt.Errorf("read the offers of %s: %w", region, err)
	}
	o := offer.Offers{Cloud: "larch", Region: region, Currency: m.Currency, AddressHour: m.AddressHour, Zones: m.Zones, Quotas: m.Quotas}
	for _, s := range m.Sizes {
		o.Sizes = append(o.Sizes, offer.Size{Name: s.Name, Family: s.Family, VCPUs: s.VCPUs, MemoryBytes: s.MemoryGiB << 30,
			Architecture: s.Architecture, Hour: s.Hour, Zones: s.Zones, Withdrawn: s.Withdrawn})
	}
	for _, d := range m.DiskClasses {
		o.DiskTypes = append(o.DiskTypes, offer.DiskType{Name: d.Class, About: d.About, GiBHour: d.GiBHour, MinBytes: d.MinGiB << 30, MaxBytes: d.MaxGiB << 30, Zones: d.Zones})
	}
	for _, i := range m.Images {
		o.Images = append(o.Images, offer.Image{Name: i.Name, User: i.User, Architecture: i.Architecture, MinMemoryBytes: i.MinMemoryGiB << 30})
	}
	for _, name := range resource.TypeNames() {
		if _, ok := mappings[name]; ok {
			o.Types = append(o.Types, name)
		}
	}
	// Larch has machines with one network card, on shared hardware, without roles.
	o.Without = map[string][]string{"instance": {"cards", "host", "role"}}
	err := a.pages(ctx, "/v1/regions/"+url.PathEscape(region)+"/resources?kind=networks", func(r report) {
		o.Networks = append(o.Networks, offer.Network{ID: r.ID, Name: r.Label, Range: fmt.Sprint(r.Properties["cidr"])})
	})
	return o, err
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

// Create names the resource after its token, so that the call can be repeated.
func (a *Adapter) Create(ctx context.Context, r cloud.Request) (cloud.Live, error) {
	m, ok := mappings[r.Type]
	if !ok {
		return cloud.Live{}, &cloud.Error{Class: cloud.Invalid, Message: "Larch has no resources of type " + r.Type}
	}
	properties, err := m.theirs(r.Want)
	if err != nil {
		return cloud.Live{}, err
	}
	tags := map[string]string{}
	wanted, _ := r.Want["tags"].(map[string]any)
	for k, v := range wanted {
		tags[k] = fmt.Sprint(v)
	}
	for k, v := range r.Tags {
		tags[k] = v
	}
	doc := document{Label: fmt.Sprint(r.Want["name"]), Properties: properties, Tags: tags}
	var answer struct{ Resource report }
	if _, err := a.do(ctx, http.MethodPut, path(r.Region, m.kind, r.Token), doc, &answer); err != nil {
		return cloud.Live{}, fmt.Errorf("create %s: %w", r.Type, err)
	}
	return live(answer.Resource, r.Region), nil
}

// Read looks at one resource.
func (a *Adapter) Read(ctx context.Context, ref cloud.Ref) (cloud.Live, error) {
	var got report
	if _, err := a.do(ctx, http.MethodGet, path(ref.Region, mappings[ref.Type].kind, ref.Token), nil, &got); err != nil {
		return cloud.Live{}, fmt.Errorf("read %s: %w", ref.Type, err)
	}
	return live(got, ref.Region), nil
}

// Change alters properties in place; Larch stops and starts a machine by itself
// when its size changes.
func (a *Adapter) Change(ctx context.Context, ref cloud.Ref, changes map[string]any) (cloud.Live, error) {
	m := mappings[ref.Type]
	properties, err := m.theirs(changes)
	if err != nil {
		return cloud.Live{}, err
	}
	doc := document{Properties: properties}
	if name, ok := changes["name"]; ok {
		doc.Label = fmt.Sprint(name)
	}
	var answer struct{ Resource report }
	if _, err := a.do(ctx, http.MethodPatch, path(ref.Region, m.kind, ref.Token), doc, &answer); err != nil {
		return cloud.Live{}, fmt.Errorf("change %s: %w", ref.Type, err)
	}
	return live(answer.Resource, ref.Region), nil
}

// Remove begins removal. What is already gone counts as removed.
func (a *Adapter) Remove(ctx context.Context, ref cloud.Ref) error {
	_, err := a.do(ctx, http.MethodDelete, path(ref.Region, mappings[ref.Type].kind, ref.Token), nil, nil)
	if err != nil && cloud.ClassOf(err) != cloud.Gone {
		return fmt.Errorf("remove %s: %w", ref.Type, err)
	}
	return nil
}

// List reads all pages.
func (a *Adapter) Find(ctx context.Context, q cloud.Query) ([]cloud.Live, error) {
	var out []cloud.Live
	err := a.pages(ctx, "/v1/regions/"+url.PathEscape(q.Region)+"/resources", func(r report) {
		if l := live(r, q.Region); q.Matches(l) {
			out = append(out, l)
		}
	})
	return out, err
}

// List finds the resources of a region that carry a tag.
func (a *Adapter) List(ctx context.Context, region, tag, value string) ([]cloud.Live, error) {
	var out []cloud.Live
	err := a.pages(ctx, "/v1/regions/"+url.PathEscape(region)+"/resources?tag="+url.QueryEscape(tag+":"+value), func(r report) { out = append(out, live(r, region)) })
	return out, err
}

// theirs turns neutral properties into Larch's.
func (m mapping) theirs(want map[string]any) (map[string]any, error) {
	out := map[string]any{}
	for name, v := range want {
		if name == "name" || name == "tags" {
			continue
		}
		their := name
		if n, ok := m.names[name]; ok {
			their = n
		}
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
		if about, ok := r["about"]; ok {
			rule["note"] = about
		}
		out = append(out, rule)
	}
	return out
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

var phases = map[string]cloud.Phase{"making": cloud.Making, "changing": cloud.Making, "ready": cloud.Ready, "broken": cloud.Broken, "removing": cloud.Removing}

// live turns Larch's report into neutral attributes.
func live(r report, region string) cloud.Live {
	l := cloud.Live{Type: typeOf(r.Kind), Token: r.Name, ID: r.ID, Name: r.Label, Region: region, Phase: phases[r.Phase], Why: r.Why, Tags: r.Tags, ReadyIn: r.ReadyIn,
		Attributes: map[string]any{"id": r.ID}}
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
