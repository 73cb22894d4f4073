package review

import (
	"testing"

	"undersail/internal/core/change"
	"undersail/internal/core/resource"
	"undersail/internal/proposing"
)

func TestAChangeSaysWhyOrWhat(t *testing.T) {
	t.Parallel()
	fields := []change.Field{{Name: "size"}, {Name: "tags"}}
	for want, c := range map[string]change.Change{
		"the stack is retired; what it holds is lost": {
			Change: change.Remove,
			Reason: "the stack is retired",
			Loses:  true,
		},
		"size; tags":        {Change: change.Alter, Fields: fields},
		"":                  {Change: change.Create, Fields: fields},
		"after the network": {Change: change.Create, Fields: fields, Notes: []string{"after the network"}},
	} {
		if got := ChangeLine(c); got != want {
			t.Errorf("%+v is told as %q, and not as %q", c, got, want)
		}
	}
}

func TestValuesAreToldAsPeopleReadThem(t *testing.T) {
	t.Parallel()
	waits := map[string]any{"pending": []any{"net.id"}}
	for _, c := range []struct {
		v              any
		whole, inBrief string
	}{
		{nil, "", ""},
		{"plain-2", "plain-2", "plain-2"},
		{int64(3), "3", "3"},
		{resource.Unresolved{Waits: []string{"net.id"}}, "waits for net.id", "waits for net.id"},
		{waits, "waits for net.id", "waits for net.id"},
		{map[string]any{"network": waits}, `{"network":"waits for net.id"}`, "{network}"},
		{map[string]any{"desk": "duty"}, `{"desk":"duty"}`, `{"desk":"duty"}`},
		{[]any{map[string]any{"port": 80, "from": "10.0.0.0/8"}, "all"}, `[{"from":"10.0.0.0/8","port":80},"all"]`,
			"[from 10.0.0.0/8, port 80; all]"},
		{[]any{}, "[]", "[]"},
	} {
		if got := Value(c.v); got != c.whole {
			t.Errorf("%v is %q, and not %q", c.v, got, c.whole)
		}
		if got := InBrief(c.v); got != c.inBrief {
			t.Errorf("%v in brief is %q, and not %q", c.v, got, c.inBrief)
		}
	}
}

func TestSpansAreToldOnTheAccountsClock(t *testing.T) {
	t.Parallel()
	for want, c := range map[string][2]float64{
		"4.0s":              {4, 1},
		"12s":               {12, 0},
		"2m 05s":            {125, 1},
		"1h 02m":            {3725, 1},
		"4m 00s (12s real)": {12, 20},
	} {
		if got := Clock(c[0], c[1]); got != want {
			t.Errorf("%g s at %g times: %q, want %q", c[0], c[1], got, want)
		}
	}
	p := proposing.Proposal{Seconds: 60, Rate: 1}
	if got := DurationLine(p); got != "about 1m 00s; decided by -" {
		t.Error(got)
	}
}
