package health

import (
	"testing"

	"undersail/internal/core/resource"
)

// TestWhatAResourceTellsOfItself judges attributes as a cloud reports them, after JSON.
func TestWhatAResourceTellsOfItself(t *testing.T) {
	t.Parallel()
	told := map[string]any{
		"count":     float64(3),
		"standby":   true,
		"status":    "connected",
		"objects":   map[string]any{"a.txt": "11", "b.txt": "22"},
		"addresses": []any{"10.0.0.4", "10.0.0.5"},
	}
	for _, c := range []struct {
		spec   map[string]any
		answer string
		passed bool
	}{
		{map[string]any{"attribute": "count", "least": 3.0}, "3", true},
		{map[string]any{"attribute": "count", "least": int64(4)}, "3", false},
		{map[string]any{"attribute": "count", "is": int64(3)}, "3", true},
		{map[string]any{"attribute": "standby", "is": true}, "true", true},
		{map[string]any{"attribute": "standby", "is": false}, "true", false},
		{map[string]any{"attribute": "status", "is": "connected"}, "connected", true},
		{map[string]any{"attribute": "status", "least": 1.0}, "connected", false},
		{map[string]any{"attribute": "objects", "is": map[string]any{"a.txt": "11"}}, `{"a.txt":"11","b.txt":"22"}`,
			true},
		{map[string]any{"attribute": "objects", "is": map[string]any{"a.txt": "12", "c.txt": "33"}},
			"a.txt is 11; c.txt is not there", false},
		{map[string]any{"attribute": "addresses", "is": []any{"10.0.0.5"}}, `["10.0.0.4","10.0.0.5"]`, true},
		{map[string]any{"attribute": "hosts", "least": 1.0}, "it is not told", false},
	} {
		_, answer, passed := Tells(Check{Kind: "tells", Spec: c.spec}, told)
		if answer != c.answer || passed != c.passed {
			t.Errorf("%v: %q %v", c.spec, answer, passed)
		}
	}
}

// TestTheDefaultChecksFollowWhatIsWanted asks of each type what its health means.
func TestTheDefaultChecksFollowWhatIsWanted(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		typeName string
		want     map[string]any
		names    string
	}{
		{"network", nil, "phase "},
		{"pool", map[string]any{"least": int64(0), "most": int64(3)}, "phase "},
		{"pool", map[string]any{"least": int64(2), "most": int64(3)}, "phase count>=2 "},
		{"pool", map[string]any{"least": int64(0), "most": int64(3), "members": int64(1)}, "phase count>=1 "},
		{"database", map[string]any{"subnets": []any{"a"}}, "phase "},
		{"database", map[string]any{"subnets": []any{"a", "b"}}, "phase standby=true "},
		{"database", map[string]any{"subnets": resource.Unresolved{Waits: []string{"a.id", "b.id"}}},
			"phase standby=true "},
		{"private_cloud", map[string]any{
			"layout": []any{map[string]any{"hosts": int64(2)}, map[string]any{"hosts": int64(2)},
				map[string]any{"hosts": int64(1)}},
		}, "phase hosts>=5 "},
		{"name_record", nil, "phase servers? "},
	} {
		typ, _ := resource.ByName(c.typeName)
		got := ""
		for _, check := range Defaults(typ, c.want) {
			got += check.Name
			switch {
			case check.Kind == "resolves":
				got += "?"
			case check.Spec["is"] != nil:
				got += "=" + plain(check.Spec["is"])
			case check.Spec["least"] != nil:
				got += ">=" + plain(check.Spec["least"])
			}
			got += " "
		}
		if got != c.names {
			t.Errorf("%s %v: %s", c.typeName, c.want, got)
		}
	}
}
