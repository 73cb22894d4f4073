package cloudtest

import (
	"slices"
	"strings"
	"testing"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
)

// every is what is wanted of one of each type that some clouds have, beside the basic ones;
// text that begins with = is the id of what was made before it.
var every = []struct {
	typeName string
	want     map[string]any
	alter    map[string]any // what of it is altered in place, or nil
	tells    []string       // attributes that it reports
}{
	{"network", map[string]any{"range": "10.60.0.0/16"}, nil, nil},
	{"subnet", map[string]any{
		"network":      "=network",
		"range":        "10.60.0.0/24",
		"name_servers": []any{"10.60.0.53"},
		"time_servers": []any{"time.saltmere.example"},
	}, map[string]any{"name_servers": []any{"10.60.0.54", "10.60.0.53"}}, nil},
	{"role", map[string]any{"grants": []any{map[string]any{"may": []any{"disk.read"}}}},
		map[string]any{"grants": []any{map[string]any{"may": []any{"disk.read", "instance.*"}}}}, nil},
	{"host", map[string]any{"family": "plain", "recover": true}, map[string]any{"recover": false},
		[]string{"vcpus", "memory"}},
	{"bucket", map[string]any{"label": "conformance-pictures", "files": map[string]any{"readme": "high and low"}},
		map[string]any{"files": map[string]any{"readme": "low and high", "more": "neap"}},
		[]string{"endpoint", "objects"}},
	{"name_zone", map[string]any{"domain": "conformance.example"}, nil, []string{"servers"}},
	{"name_record", map[string]any{
		"zone":     "=name_zone",
		"label":    "www",
		"kind":     "A",
		"values":   []any{"192.0.2.7"},
		"keep_for": "1m",
	}, map[string]any{"values": []any{"192.0.2.8"}}, []string{"full_name", "servers"}},
	{"pool", map[string]any{
		"size":    "plain-1",
		"image":   "debian-12",
		"subnets": []any{"=subnet"},
		"least":   int64(0),
		"most":    int64(3),
	}, map[string]any{"most": int64(4)}, []string{"count", "addresses"}},
	{"database", map[string]any{
		"engine":  "postgresql-16",
		"size":    "plain-1",
		"storage": "20GiB",
		"subnets": []any{"=subnet"},
		"users":   []any{map[string]any{"name": "reader", "password": "Not-a-secret-12", "rights": "read"}},
	},
		map[string]any{"storage": "30GiB"}, []string{"host", "port", "database", "standby"}},
	{"shared_files", map[string]any{"size": "100GiB", "subnets": []any{"=subnet"}, "encrypted": true},
		map[string]any{"size": "120GiB"}, []string{"address", "addresses", "path", "places"}},
	{"private_cloud", map[string]any{
		"network":  "=network",
		"family":   "plain",
		"password": "Not-a-secret-12",
		"layout":   []any{map[string]any{"zone": "north-fell-a", "hosts": int64(3)}},
		"ranges": map[string]any{
			"management": "10.70.0.0/24",
			"moves":      "10.70.1.0/24",
			"storage":    "10.70.2.0/24",
			"uplink":     "10.70.3.0/24",
		},
	}, nil, []string{"console", "hosts"}},
}

// everyType makes one of each type that the cloud has, alters it, finds it, and removes it.
func everyType(t *testing.T, p Place) {
	o, err := p.Adapter.Offers(ctx(t), p.Region)
	if err != nil {
		t.Fatal(err)
	}
	made, ids := []cloud.Live{}, map[string]string{}
	for _, e := range every {
		if !slices.Contains(o.Types, e.typeName) {
			continue
		}
		want := filled(e.want, ids).(map[string]any)
		for _, name := range o.Without[e.typeName] {
			delete(want, name)
		}
		l := p.ready(t, e.typeName, token(e.typeName), want)
		made, ids[e.typeName] = append(made, l), l.ID
		for _, name := range e.tells {
			if l.Attributes[name] == nil {
				t.Errorf("a %s reports no %s", e.typeName, name)
			}
		}
		if e.alter != nil {
			l = p.alter(t, cloud.Task{Ref: l.Ref, Want: filled(e.alter, ids).(map[string]any)})
			for name, now := range e.alter {
				if has, told := l.Has[name]; told && !change.Holds(e.typeName, name, now, has) {
					t.Errorf("the %s has the %s %v after it was altered to %v", e.typeName, name, has, now)
				}
			}
		}
		found, err := cloud.Collect(p.Adapter.Search(ctx(t), cloud.Query{
			Region: p.Region,
			Type:   e.typeName,
			Tags:   map[string]string{cloud.TagResource: token(e.typeName)},
		}))
		if err != nil || len(found) != 1 || found[0].ID != l.ID {
			t.Errorf("looking for the %s found %v (%v)", e.typeName, found, err)
		}
	}
	for _, l := range slices.Backward(made) {
		p.removed(t, l.Ref)
	}
}

func token(typeName string) string { return "us-every-" + strings.ReplaceAll(typeName, "_", "-") }

// filled puts ids in the place of what stands for them.
func filled(v any, ids map[string]string) any {
	switch x := v.(type) {
	case string:
		if x != "" && x[0] == '=' {
			return ids[x[1:]]
		}
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = filled(x[i], ids)
		}
		return out
	case map[string]any:
		out := map[string]any{}
		for name, inner := range x {
			out[name] = filled(inner, ids)
		}
		return out
	}
	return v
}
