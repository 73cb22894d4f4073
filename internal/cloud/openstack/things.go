package openstack

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"undersail/internal/cloud"
)

// kind is one sort of thing that the cloud has.
type kind struct {
	service, path, plural, singular string
}

// The kinds, by the names under which parts are kept.
var kinds = map[string]kind{
	"network":  {network, "networks", "networks", "network"},
	"router":   {network, "routers", "routers", "router"},
	"subnet":   {network, "subnets", "subnets", "subnet"},
	"port":     {network, "ports", "ports", "port"},
	"group":    {network, "security-groups", "security_groups", "security_group"},
	"floating": {network, "floatingips", "floatingips", "floatingip"},
	"key":      {compute, "os-keypairs", "keypairs", "keypair"},
	"server":   {compute, "servers", "servers", "server"},
	"volume":   {volume, "volumes", "volumes", "volume"},
}

// thing is what the cloud tells of one of any kind. Fields that a kind lacks are empty.
type thing struct {
	kind string

	ID          string            `json:"id"`
	Name        string            `json:"name"`
	Description string            `json:"description"`
	Status      string            `json:"status"`
	Tags        []string          `json:"tags"`
	Revision    json.Number       `json:"revision_number"`
	Metadata    map[string]string `json:"metadata"`

	// Of networks, subnets, routers and ports.
	External    bool     `json:"router:external"`
	Network     string   `json:"network_id"`
	CIDR        string   `json:"cidr"`
	Gateway     string   `json:"gateway_ip"`
	NameServers []string `json:"dns_nameservers"`
	Device      string   `json:"device_id"`
	Owner       string   `json:"device_owner"`
	Addresses   []struct {
		Subnet  string `json:"subnet_id"`
		Address string `json:"ip_address"`
	} `json:"fixed_ips"`
	Groups []string `json:"-"`
	Rules  []rule   `json:"security_group_rules"`

	// Of floating addresses.
	Floating string `json:"floating_ip_address"`
	Port     string `json:"port_id"`

	// Of volumes. Size is in GiB.
	Size       int64  `json:"size"`
	VolumeType string `json:"volume_type"`

	// Of servers.
	Task       string `json:"OS-EXT-STS:task_state"`
	ServerZone string `json:"OS-EXT-AZ:availability_zone"`
	Flavor     struct {
		Name  string `json:"original_name"`
		VCPUs int64  `json:"vcpus"`
		MiB   int64  `json:"ram"`
	} `json:"flavor"`
	Image any `json:"image"` // {"id"}, or "" for one that boots from a volume
	Fault struct {
		Message string `json:"message"`
	} `json:"fault"`
	Volumes []struct {
		ID string `json:"id"`
	} `json:"os-extended-volumes:volumes_attached"`
	KeyName string `json:"key_name"`

	// Of key pairs.
	PublicKey string `json:"public_key"`
}

// rule is one of a security group.
type rule struct {
	ID          string `json:"id"`
	Direction   string `json:"direction"`
	Protocol    string `json:"protocol"`
	From        *int64 `json:"port_range_min"`
	To          *int64 `json:"port_range_max"`
	Source      string `json:"remote_ip_prefix"`
	Group       string `json:"remote_group_id"`
	Description string `json:"description"`
}

// read reads a thing from an answer {"singular": {...}}.
func (k kind) read(name string, raw map[string]json.RawMessage) (thing, error) {
	t := thing{kind: name}
	err := t.fill(raw[k.singular])
	return t, err
}

func (t *thing) fill(raw json.RawMessage) error {
	into := any(t)
	if t.kind == "key" { // its id is a number that leads nowhere
		into = &struct {
			*thing
			ID any `json:"id"`
		}{thing: t}
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return &cloud.Error{
			Class:   cloud.Transient,
			Message: "the cloud's answer about a " + t.kind + " cannot be read",
			Cause:   err,
		}
	}
	// Ports list ids of groups where servers list objects.
	var ids struct {
		Groups []json.RawMessage `json:"security_groups"`
	}
	if json.Unmarshal(raw, &ids) == nil {
		for _, g := range ids.Groups {
			var id string
			if json.Unmarshal(g, &id) == nil {
				t.Groups = append(t.Groups, id)
			}
		}
	}
	if t.kind == "key" {
		t.ID = t.Name
	}
	return nil
}

// marking is how things are marked that have a description and no tags in the call that
// makes them.
const marking = "undersail:"

// The metadata and tags that an adapter keeps beside ours and the wanted ones.
const (
	metaMark  = "undersail-mark"
	tagRange  = "undersail-range"   // of a network, which has none of its own
	tagWithin = "undersail-network" // of a group, which belongs to none
	metaDisk  = "undersail-disk-"   // of a server, with a number: VOLUME MOUNT FORMAT [optional]
	metaFixed = "undersail-fixed-"  // of a server, with the number of a card: the id of its fixed address
)

// ours reports whether an adapter keeps something for itself under a name.
func ours(name string) bool {
	return name == metaMark || name == tagRange || name == tagWithin || strings.HasPrefix(name, metaDisk) ||
		strings.HasPrefix(name, metaFixed)
}

// hasMetadata reports whether tags of a thing are a map; those of others are a list of texts.
func (t thing) hasMetadata() bool { return t.kind == "server" || t.kind == "volume" }

// mark gives the mark of a thing, or "" for what somebody else made.
func (t thing) mark() string {
	switch t.kind {
	case "server", "volume":
		return t.Metadata[metaMark]
	case "key":
		_, mark := t.keyName()
		return mark
	}
	m, _ := strings.CutPrefix(t.Description, marking)
	if m == t.Description {
		return ""
	}
	return m
}

// keyName divides the name of a key pair, which alone can carry a mark, into ours.
func (t thing) keyName() (name, mark string) {
	if at := strings.LastIndex(t.Name, " us-"); at >= 0 {
		return t.Name[:at], t.Name[at+1:]
	}
	return t.Name, ""
}

// described gives all that is written in the tags of a thing as names and values. Tags
// without a value are not ours, and are left out.
func (t thing) described() map[string]string {
	switch {
	case t.hasMetadata():
		return t.Metadata
	case t.kind == "key":
		out := map[string]string{}
		_, text, found := strings.Cut(t.PublicKey, keyTags)
		if values, err := url.ParseQuery(strings.TrimSpace(text)); found && err == nil {
			for k := range values {
				out[k] = values.Get(k)
			}
		}
		return out
	}
	out := map[string]string{}
	for _, tag := range t.Tags {
		if k, v, found := strings.Cut(tag, "="); found {
			out[unescaped(k)] = unescaped(v)
		}
	}
	return out
}

// tagMap gives the tags of a thing, without what the adapter keeps there.
func (t thing) tagMap() map[string]string {
	out := maps.Clone(t.described())
	maps.DeleteFunc(out, func(name, _ string) bool { return ours(name) })
	if out == nil {
		return map[string]string{}
	}
	return out
}

// own gives what the adapter itself keeps in the tags of a thing.
func (t thing) own() map[string]string {
	out := maps.Clone(t.described())
	maps.DeleteFunc(out, func(name, _ string) bool { return !ours(name) })
	return out
}

// metadata is what a server or volume is made with: the wanted tags, our mark, and what
// else is to be kept there.
func (w *work) metadata(keep map[string]string) map[string]string {
	out := map[string]string{}
	for _, m := range []map[string]string{w.task.Tags, keep, {metaMark: w.ref.Token}} {
		maps.Copy(out, m)
	}
	return out
}

// tagsOf writes tags as the network service takes them: a list of texts without a comma or
// slash.
func tagsOf(tags map[string]string) []string {
	out := []string{}
	for k, v := range tags {
		out = append(out, escaped(k)+"="+escaped(v))
	}
	slices.Sort(out)
	return out
}

var (
	escaping   = strings.NewReplacer("%", "%25", ",", "%2C", "/", "%2F", "=", "%3D")
	unescaping = strings.NewReplacer("%25", "%", "%2C", ",", "%2F", "/", "%3D", "=")
)

func escaped(s string) string   { return escaping.Replace(s) }
func unescaped(s string) string { return unescaping.Replace(s) }

// pageSize is how many things are asked for at once.
const pageSize = "200"

// pages reads every row of a listing, page by page. Most services tell where the next one
// is in a list of links, images in a text.
func pages[T any](ctx context.Context, a *Adapter, region, rows string, c call) ([]T, error) {
	base, _, _ := strings.Cut(c.path, "?")
	var out []T
	for c.method = http.MethodGet; ; {
		var page map[string]json.RawMessage
		c.out = &page
		if err := a.do(ctx, region, c); err != nil {
			return nil, err
		}
		var some []T
		if err := json.Unmarshal(page[rows], &some); err != nil {
			return nil, &cloud.Error{
				Class:   cloud.Transient,
				Message: "a page of " + rows + " cannot be read",
				Cause:   err,
			}
		}
		out = append(out, some...)
		next := ""
		var links []struct{ Rel, Href string }
		if json.Unmarshal(page["next"], &next) != nil && json.Unmarshal(page[rows+"_links"], &links) == nil {
			for _, l := range links {
				if l.Rel == "next" {
					next = l.Href
				}
			}
		}
		// Of a link the query is taken: some clouds tell addresses that only they reach.
		u, err := url.Parse(next)
		if next == "" || len(some) == 0 || err != nil {
			return out, nil
		}
		c.path = base + "?" + u.RawQuery
	}
}

// list reads all the things of a kind that a filter leaves.
func (a *Adapter) list(ctx context.Context, region, name string, filter url.Values) ([]thing, error) {
	k := kinds[name]
	query := maps.Clone(filter)
	if query == nil {
		query = url.Values{}
	}
	query.Set("limit", pageSize)
	path := k.path
	if name == "server" || name == "volume" {
		path += "/detail"
	}
	rows, err := pages[json.RawMessage](ctx, a, region, k.plural, call{
		service: k.service,
		path:    path + "?" + query.Encode(),
	})
	if err != nil {
		return nil, fmt.Errorf("list the %ss: %w", name, err)
	}
	out := make([]thing, len(rows))
	for i, raw := range rows {
		if name == "key" { // each stands in an object of its own
			var one map[string]json.RawMessage
			if json.Unmarshal(raw, &one) == nil {
				raw = one[k.singular]
			}
		}
		out[i].kind = name
		if err := out[i].fill(raw); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// byID reads one thing; nil is one that is not there.
func (a *Adapter) byID(ctx context.Context, region, name, id string) (*thing, error) {
	k := kinds[name]
	var raw map[string]json.RawMessage
	err := a.get(ctx, region, k.service, k.path+"/"+url.PathEscape(id), &raw)
	if cloud.ClassOf(err) == cloud.Gone {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read a %s: %w", name, err)
	}
	t, err := k.read(name, raw)
	if err != nil || t.Status == "DELETED" || t.Status == "SOFT_DELETED" {
		return nil, err
	}
	return &t, nil
}

// byMark finds the thing that carries a mark. The filters are those that the services
// really heed; what they give is looked at again.
func (a *Adapter) byMark(ctx context.Context, region, name, mark string) (*thing, error) {
	var filter url.Values
	switch name {
	case "server":
		filter = url.Values{"tags": {mark}}
	case "volume":
		filter = url.Values{"metadata": {fmt.Sprintf("{'%s': '%s'}", metaMark, mark)}}
	case "key":
	default:
		filter = url.Values{"description": {marking + mark}}
	}
	list, err := a.list(ctx, region, name, filter)
	if err != nil {
		return nil, err
	}
	for _, t := range list {
		if t.mark() == mark {
			if name == "key" { // lists leave out what was made when
				return a.byID(ctx, region, name, t.ID)
			}
			return &t, nil
		}
	}
	return nil, nil
}

// find finds a part of a resource, by its id where it is known.
func (a *Adapter) find(ctx context.Context, ref cloud.Ref, name, mark string) (*thing, error) {
	if p := ref.Part(name, mark); p != nil && p.ID != "" {
		return a.byID(ctx, ref.Region, name, p.ID)
	}
	return a.byMark(ctx, ref.Region, name, mark)
}

// post makes a thing.
func (a *Adapter) post(ctx context.Context, region, name string, body map[string]any) (thing, error) {
	k := kinds[name]
	var raw map[string]json.RawMessage
	err := a.do(ctx, region, call{
		service: k.service,
		method:  http.MethodPost,
		path:    k.path,
		in:      map[string]any{k.singular: body},
		out:     &raw,
	})
	if err != nil {
		return thing{}, fmt.Errorf("make a %s: %w", name, err)
	}
	return k.read(name, raw)
}

// drop removes a thing; one that is gone is no fault.
func (a *Adapter) drop(ctx context.Context, region, name, id string) error {
	k := kinds[name]
	err := a.do(ctx, region, call{
		service: k.service,
		method:  http.MethodDelete,
		path:    k.path + "/" + url.PathEscape(id),
	})
	if cloud.ClassOf(err) == cloud.Gone {
		return nil
	}
	if err != nil {
		return fmt.Errorf("remove a %s: %w", name, err)
	}
	return nil
}

// part is what is kept of a thing.
func (t thing) part(mark string) cloud.Part {
	return cloud.Part{Kind: t.kind, ID: t.ID, Mark: mark, Version: t.Revision.String(), Seen: true}
}
