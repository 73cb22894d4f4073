package resource

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
)

func TestScalarsAreReadByTheTypeWanted(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		shape Shape
		text  string
		want  any
		fault string
	}{
		{Shape{Kind: String}, "3.10", "3.10", ""},
		{Shape{Kind: String}, "0644", "0644", ""},
		{Shape{Kind: String, Choices: []string{"tcp", "udp"}}, "icmp", nil, "not one of tcp, udp"},
		{Shape{Kind: Integer}, "42", int64(42), ""},
		{Shape{Kind: Integer}, "4.2", nil, "not a whole number"},
		{Shape{Kind: Integer}, "99999999999999999999", nil, "not a whole number"},
		{Shape{Kind: Integer, Minimum: 1, Maximum: 65535}, "0", nil, "below the smallest"},
		{Shape{Kind: Integer, Minimum: 1, Maximum: 65535}, "65536", nil, "above the largest"},
		{Shape{Kind: Number}, "4.5", 4.5, ""},
		{Shape{Kind: Number}, "NaN", nil, "not a number"},
		{Shape{Kind: Boolean}, "true", true, ""},
		{Shape{Kind: Boolean}, "yes", nil, "neither true nor false"},
		{Shape{Kind: Range}, "10.0.0.0/8", "10.0.0.0/8", ""},
		{Shape{Kind: Range}, "10.0.0.1/8", nil, "host bits set; write 10.0.0.0/8"},
		{Shape{Kind: Range}, "10.0.0.0", nil, "not an address range"},
		{Shape{Kind: Address}, "fd00::1", "fd00::1", ""},
		{Shape{Kind: Address}, "10.0.0", nil, "not an IP address"},
		{Shape{Kind: Data}, "1.5TiB", "1.5TiB", ""},
		{Shape{Kind: Data}, "20", nil, "not an amount of data"},
		{Shape{Kind: Span}, "1h30m", "1h30m", ""},
		{Shape{Kind: Span}, "soon", nil, "not a span of time"},
	} {
		got, err := c.shape.ParseScalar(c.text)
		if c.fault != "" {
			if err == nil || !strings.Contains(err.Error(), c.fault) {
				t.Errorf("%s as %s: %v, want %q", c.text, c.shape.Kind, err, c.fault)
			}
		} else if err != nil || got != c.want {
			t.Errorf("%s as %s = %v, %v", c.text, c.shape.Kind, got, err)
		}
	}
}

func TestUnits(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]int64{
		"1B":     1,
		"1kB":    1000,
		"1KiB":   1024,
		"50GiB":  50 << 30,
		"1.5GiB": 3 << 29,
		"2 TiB":  2 << 40,
	} {
		if got, err := ParseData(text); err != nil || got != want {
			t.Errorf("%s = %d, %v; want %d", text, got, err, want)
		}
	}
	for text, want := range map[string]int64{"90s": 90, "10m": 600, "1h30m": 5400, "30d": 2592000} {
		if got, err := ParseSpan(text); err != nil || got != want {
			t.Errorf("%s = %d, %v; want %d", text, got, err, want)
		}
	}
	for _, text := range []string{"", "m", "1m1", "-1s", "2000d", "99999999999d"} {
		if got, err := ParseSpan(text); err == nil {
			t.Errorf("%q is a span of %d seconds", text, got)
		}
	}
}

func TestEveryTypeIsWholeAndDescribed(t *testing.T) {
	t.Parallel()
	for _, typ := range Types() {
		if typ.About == "" || typ.Expect <= 0 || typ.Patience <= typ.Expect {
			t.Errorf("%s: %+v", typ.Name, typ)
		}
		names := typ.Names()
		if sorted := slices.Compact(slices.Sorted(slices.Values(names))); len(sorted) != len(names) {
			t.Errorf("%s names something twice: %v", typ.Name, names)
		}
		for _, p := range typ.Properties {
			if p.About == "" || p.Alter == "" || p.Shape.Describe() == "" {
				t.Errorf("%s.%s is not described: %+v", typ.Name, p.Name, p)
			}
			if p.Refers != "" {
				if _, ok := ByName(p.Refers); !ok {
					t.Errorf("%s.%s refers to %s, and there is no such type", typ.Name, p.Name, p.Refers)
				}
			}
		}
		if _, ok := typ.Attribute("id"); !ok {
			t.Errorf("%s reports no id", typ.Name)
		}
	}
}

func TestUnresolvedLeavesTellThemselves(t *testing.T) {
	t.Parallel()
	tree := map[string]any{
		"b": []any{Unresolved{Waits: []string{"net.id"}}, "x"},
		"a": Unresolved{Secrets: []string{"s/p@1"}},
		"c": Unresolved{Waits: []string{"net.id", "a.b"}, Secrets: []string{"s/q@1"}},
	}
	if w := Waits(tree); !slices.Equal(w, []string{"a.b", "net.id"}) {
		t.Error(w)
	}
	if s := Secrets(tree); !slices.Equal(s, []string{"s/p@1", "s/q@1"}) {
		t.Error(s)
	}
	raw, err := json.Marshal(tree)
	want := `{"a":"secret:s/p@1","b":[{"pending":["net.id"]},"x"],"c":{"pending":["net.id","a.b"],"secrets":["s/q@1"]}}`
	if err != nil || string(raw) != want {
		t.Errorf("%s, %v", raw, err)
	}
	var paths []string
	Leaves(tree, func(path string, _ any) { paths = append(paths, path) })
	if got := strings.Join(paths, " "); got != "a b[0] b[1] c" {
		t.Error(got)
	}
}

func TestQuantitiesAreWrittenInTheLargestWholeUnit(t *testing.T) {
	t.Parallel()
	for n, want := range map[int64]string{0: "0B", 1: "1B", 1 << 10: "1KiB", 1000 << 10: "1000KiB", 3 << 29: "1536MiB",
		16 << 30: "16GiB", 125 << 30: "125GiB", 2 << 40: "2TiB", 500e9: "500GB", 1e12: "1TB"} {
		if got := FormatData(n); got != want {
			t.Errorf("%d bytes = %s, want %s", n, got, want)
		}
		if back, err := ParseData(FormatData(n)); err != nil || back != n {
			t.Errorf("%d bytes are read back as %d, %v", n, back, err)
		}
	}
	for n, want := range map[int64]string{
		0:     "0s",
		59:    "59s",
		60:    "1m",
		90:    "1m30s",
		3600:  "1h",
		5400:  "1h30m",
		86400: "1d",
		93784: "1d2h3m4s",
	} {
		if got := FormatSpan(n); got != want {
			t.Errorf("%d seconds = %s, want %s", n, got, want)
		}
		if back, err := ParseSpan(FormatSpan(n)); err != nil || back != n {
			t.Errorf("%d seconds are read back as %d, %v", n, back, err)
		}
	}
}

func TestShapesAreFoundByTheirPlace(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]Kind{"database.storage": Data, "database.users": List,
		"database.users.name": String, "role.grants.may": List, "private_cloud.ranges": Map,
		"database": "", "database.moon": "", "moon.size": "", "database.storage.more": "", "database.users.moon": ""} {
		if shape, there := ShapeOf(name); there != (want != "") || there && shape.Kind != want {
			t.Errorf("%s is of kind %q, %t; want %q", name, shape.Kind, there, want)
		}
	}
}
