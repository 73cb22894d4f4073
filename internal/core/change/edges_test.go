package change

import (
	"strings"
	"testing"

	"undersail/internal/core/health"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

func TestACheckThatIsToHoldLongerIsAnother(t *testing.T) {
	t.Parallel()
	one := health.Check{
		Name:      "page",
		Kind:      "http",
		Within:    60,
		Passes:    2,
		SteadyFor: 10,
		Spec:      map[string]any{"url": "x"},
	}
	if !sameChecks([]health.Check{one}, []health.Check{one}) {
		t.Error("it is not itself")
	}
	for what, alter := range map[string]func(*health.Check){
		"name": func(c *health.Check) { c.Name = "leaf" }, "kind": func(c *health.Check) { c.Kind = "tcp" },
		"within": func(c *health.Check) { c.Within++ }, "passes": func(c *health.Check) { c.Passes++ },
		"steady": func(c *health.Check) { c.SteadyFor++ },
		"spec":   func(c *health.Check) { c.Spec = map[string]any{"url": "y"} },
	} {
		other := one
		if alter(&other); sameChecks([]health.Check{one}, []health.Check{other}) {
			t.Errorf("another %s is taken as the same", what)
		}
	}
}

// TestATaskWhoseCommandChangesTellsEverythingAnew: what others read of it is not known before.
func TestATaskWhoseCommandChangesTellsEverythingAnew(t *testing.T) {
	t.Parallel()
	want := func(command, host string) map[string]any {
		return map[string]any{"on": "10.0.0.4", "user": "admin", "key": "k", "command": command, "host_key": host}
	}
	for what, c := range map[string]struct {
		now  map[string]any
		anew bool
	}{
		"another command": {want("date", "h"), true}, "another host key": {want("uptime", "i"), false},
	} {
		var change Change
		change.compare(render.Resource{Name: "ask", Type: resource.TypeTask, Want: c.now},
			&Recorded{Name: "ask", Type: resource.TypeTask, Want: want("uptime", "h")}, &names{})
		if change.Anew != c.anew || change.Change != Alter {
			t.Errorf("%s: anew %t, %s", what, change.Anew, change.Change)
		}
	}
}

// TestTheLastRoomThatOthersWantIsTold, and not what is left beside it.
func TestTheLastRoomThatOthersWantIsTold(t *testing.T) {
	t.Parallel()
	template := read(t, "old_first")
	warned := func(limit, wanted int64) bool {
		p := planned(template, nil, nil, offer.At(offer.Offers{
			Region: "north-fell",
			Sizes:  []offer.Size{{Name: "plain-2", VCPUs: 2, Zones: []string{"a"}}},
			Quotas: map[string]offer.Quota{"vcpus": {Limit: limit, Wanted: wanted}},
		}))
		return len(p.found("quota")) == 1 && strings.Contains(p.found("quota")[0], "want")
	}
	for _, c := range []struct {
		limit, wanted int64
		want          bool
	}{{8, 1, true}, {9, 1, false}, {9, 2, true}, {8, 0, false}} {
		if got := warned(c.limit, c.wanted); got != c.want {
			t.Errorf("8 of %d, of which others want %d: warned %t", c.limit, c.wanted, got)
		}
	}
}

func TestTheSameSizeInOtherWordsIsNotSmaller(t *testing.T) {
	t.Parallel()
	disk, _ := resource.ByName(resource.TypeDisk)
	size, _ := disk.Property("size")
	for _, c := range []struct {
		before, after string
		shrinks       bool
	}{{"1GiB", "1024MiB", false}, {"1GiB", "1023MiB", true}, {"1GiB", "2GiB", false}} {
		if _, got := shrinking(render.Resource{Name: "data", Type: "disk"}, size, c.before, c.after); got != c.shrinks {
			t.Errorf("from %s to %s shrinks: %t", c.before, c.after, got)
		}
	}
}

// TestTwoRulesThatReadAlikeAreTwo: what is taken away of one is not hidden by the other.
func TestTwoRulesThatReadAlikeAreTwo(t *testing.T) {
	t.Parallel()
	firewall, _ := resource.ByName(resource.TypeFirewall)
	rules, _ := firewall.Property("rules")
	rule := map[string]any{"from": "10.0.0.0/8", "port": int64(80)}
	got, _ := keyed(rules, []any{rule, rule, rule}, &names{}).(map[string]any)
	if len(got) != 3 {
		t.Errorf("of three there are %d: %v", len(got), got)
	}
}

// TestWhatHoldsNothingYetLosesNothing: a disk that a run has just made has no data to lose.
func TestWhatHoldsNothingYetLosesNothing(t *testing.T) {
	t.Parallel()
	for what, c := range map[string]struct {
		of    Recorded
		loses bool
	}{
		"a disk":              {Recorded{Type: "disk"}, true},
		"one just made":       {Recorded{Type: "disk", Fresh: true}, false},
		"one that is missing": {Recorded{Type: "disk", Missing: true}, false},
		"a wreck":             {Recorded{Type: "disk", Wreck: true}, false},
		"a network":           {Recorded{Type: "network"}, false},
	} {
		if got := c.of.loses(); got != c.loses {
			t.Errorf("%s loses data: %t", what, got)
		}
	}
}

// TestWhatIsOwnToAResourceIsNoted, each by itself, and nothing where nothing is.
func TestWhatIsOwnToAResourceIsNoted(t *testing.T) {
	t.Parallel()
	for want, r := range map[string]render.Resource{
		"": {},
		"uses the one with id net-1; never changed nor removed": {
			Find: map[string]any{"id": "net-1", "name": "quay"},
		},
		"uses the one with name quay; never changed nor removed": {Find: map[string]any{"name": "quay"}},
		"uses the one with tags pier=4 use=gauges; never changed nor removed": {
			Find: map[string]any{"tags": map[string]any{"use": "gauges", "pier": 4}},
		},
		"guarded":                                          {Guard: true},
		"in region long-sound":                             {Region: "long-sound"},
		"a rebuild makes the new one first":                {NewFirst: true},
		"at most 2 at a time":                              {AtOnce: 2},
		"kept when the stack is retired":                   {AtRetire: "keep"},
		"a snapshot is taken when the stack is retired":    {AtRetire: "snapshot"},
		"others may alter size, tags":                      {Leave: []string{"size", "tags"}},
		"own options of the cloud: boost, spread":          {Extra: map[string]any{"spread": true, "boost": 1}},
		"guarded|in region long-sound|at most 1 at a time": {Guard: true, Region: "long-sound", AtOnce: 1},
	} {
		if got := strings.Join(notes(r), "|"); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}

// TestWhatIsInAnotherRegionCannotBecomeWhatIsWanted: a resource never moves.
func TestWhatIsInAnotherRegionCannotBecomeWhatIsWanted(t *testing.T) {
	t.Parallel()
	want := map[string]any{"range": "10.0.0.0/16"}
	r := render.Resource{Name: "net", Type: "network", Region: "ember-coast", Want: want}
	for region, same := range map[string]bool{"ember-coast": true, "north-fell": false} {
		if got := alike(r, &Recorded{Name: "old", Type: "network", Region: region, Want: want}); got != same {
			t.Errorf("from %s: %v", region, got)
		}
	}
}

// TestAListIsTheSameInAnyOrder, with each item as often as it was wanted.
func TestAListIsTheSameInAnyOrder(t *testing.T) {
	t.Parallel()
	list := resource.Shape{Kind: resource.List, Items: &resource.Shape{Kind: resource.String}}
	for _, c := range []struct {
		want, has []any
		same      bool
	}{
		{[]any{"a", "b"}, []any{"a", "b"}, true},
		{[]any{"a", "b"}, []any{"b", "a"}, true},
		{[]any{"a", "a"}, []any{"a", "b"}, false},
		{[]any{"a"}, []any{"a", "b"}, false},
		{[]any{}, nil, true},
	} {
		if got := same(list, c.want, c.has, false); got != c.same {
			t.Errorf("%v is wanted and %v there: %v", c.want, c.has, got)
		}
	}
}
