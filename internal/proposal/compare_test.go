package proposal

import (
	"strings"
	"testing"

	"undersail/internal/core/change"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
)

// document is what a proposal with one changed resource comes to.
func document(c change.Change, want map[string]any, consents ...render.Consent) Document {
	return Document{
		Changes:  []change.Change{{Resource: "net", Change: change.Same}, c},
		Consents: consents,
		Cost:     price.Cost{Hour: 0.1, Currency: "kr"},
		Rendering: &render.Rendering{
			Resources: []render.Resource{
				{Name: "net", Want: map[string]any{"range": "10.0.0.0/16"}},
				{Name: c.Resource, Want: want},
			},
		},
	}
}

var pending = map[string]any{"pending": []any{"net.id"}}

func TestAProposalHoldsWhileItWouldBeMadeTheSame(t *testing.T) {
	t.Parallel()
	port := []change.Field{{Name: "rules[port 22].port", Before: 22.0, After: 80.0}}
	before := document(change.Change{Resource: "door", Change: change.Alter, Fields: port},
		map[string]any{"network": "n1"}, render.Consent{Name: "open", About: "everybody"})
	for about, c := range map[string]struct {
		now  Document
		says string
	}{
		"the same": {before, ""},
		"another kind": {document(change.Change{Resource: "door", Change: change.Rebuild, Fields: port},
			map[string]any{"network": "n1"}, before.Consents...), "door was to be altered and would now be rebuilt"},
		"another field": {document(change.Change{
			Resource: "door",
			Change:   change.Alter,
			Fields:   []change.Field{{Name: "tags.a"}},
		}, map[string]any{"network": "n1"}, before.Consents...), "of door other things would now change: `tags.a`"},
		"another value": {document(change.Change{Resource: "door", Change: change.Alter, Fields: port},
			map[string]any{"network": "n2"}, before.Consents...), "other values would now be wanted of door"},
		"another resource": {document(change.Change{Resource: "gate", Change: change.Create}, nil,
			before.Consents...), "gate would now be created, which was not proposed"},
		"a consent more": {document(change.Change{Resource: "door", Change: change.Alter, Fields: port},
			map[string]any{"network": "n1"}, render.Consent{Name: "lose-data"}),
			"the consent lose-data would have to be given now"},
		"a consent less": {document(change.Change{Resource: "door", Change: change.Alter, Fields: port},
			map[string]any{"network": "n1"}), ""},
		"it loses data as well": {document(change.Change{
			Resource: "door",
			Change:   change.Alter,
			Fields:   port,
			Loses:    true,
		}, map[string]any{"network": "n1"}, before.Consents...), "in another way"},
	} {
		if got := before.Differs(c.now); c.says == "" && got != "" || !strings.Contains(got, c.says) {
			t.Errorf("%s: %q, want %q", about, got, c.says)
		}
	}
	dearer := before
	dearer.Cost.Hour = 0.2
	if got := before.Differs(dearer); !strings.Contains(got, "0.200 kr an hour") {
		t.Error(got)
	}
	gone := before
	gone.Changes = gone.Changes[:1]
	if got := before.Differs(gone); !strings.Contains(got, "door was to be altered and would now stay as it is") {
		t.Error(got)
	}
}

func TestGoingOnStaysWithinWhatWasAccepted(t *testing.T) {
	t.Parallel()
	accepted := document(change.Change{Resource: "host", Change: change.Create}, map[string]any{
		"subnet": pending,
		"size":   "plain-2",
	})
	for about, c := range map[string]struct {
		c    change.Change
		want map[string]any
		says string
	}{
		"made after all": {change.Change{Resource: "host", Change: change.Create},
			map[string]any{"subnet": "sub-1", "size": "plain-2"}, ""},
		"proved again": {change.Change{Resource: "host", Change: change.Alter},
			map[string]any{"subnet": "sub-1", "size": "plain-2"}, ""},
		"its wreck is replaced": {change.Change{Resource: "host", Change: change.Rebuild},
			map[string]any{"subnet": "sub-1", "size": "plain-2"}, ""},
		"of another size": {change.Change{Resource: "host", Change: change.Create},
			map[string]any{"subnet": "sub-1", "size": "plain-4"}, "`size` of host would be another"},
		"with one thing more": {change.Change{Resource: "host", Change: change.Create},
			map[string]any{"subnet": "sub-1", "size": "plain-2", "public": true}, "`public` of host would be another"},
		"removed": {change.Change{Resource: "host", Change: change.Remove}, nil,
			"host would be removed, which was not accepted"},
		"another one": {change.Change{Resource: "gate", Change: change.Rebuild, Reason: "it was a subnet"},
			nil, "gate would be rebuilt, which was not accepted: it was a subnet"},
	} {
		if got := document(c.c, c.want).Beyond(accepted); c.says == "" && got != "" || !strings.Contains(got, c.says) {
			t.Errorf("%s: %q, want %q", about, got, c.says)
		}
	}
	other := document(change.Change{Resource: "net", Change: change.Rebuild}, map[string]any{"range": "10.0.0.0/16"})
	if got := other.Beyond(accepted); !strings.Contains(got, "net would be rebuilt") {
		t.Errorf("what was to stay is rebuilt: %q", got)
	}
}
