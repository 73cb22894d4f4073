package proposal

import (
	"testing"

	"undersail/internal/core/change"
	"undersail/internal/core/health"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

// planOf is one change of one resource, beside what is recorded of it.
func planOf(kind change.Kind, now render.Resource, was map[string]any) Judged {
	return Judged{Changed: Changed{
		Facts: Facts{
			Offers: offer.At(*region()),
			Recorded: []change.Recorded{{
				Name: now.Name,
				Type: now.Type,
				Want: was,
			}},
		},
		Plan: change.Plan{
			Rendering: &render.Rendering{Resources: []render.Resource{now}},
			Changes:   []change.Change{{Resource: now.Name, Type: now.Type, Change: kind}},
		},
	}}
}

// TestWhatIsReserved: the new one of a rebuild stands beside the old one where it is made
// first, and a network that is altered keeps the range that it has.
func TestWhatIsReserved(t *testing.T) {
	t.Parallel()
	host := func(newFirst bool) render.Resource {
		return render.Resource{
			Name:     "host",
			Type:     "instance",
			NewFirst: newFirst,
			Want:     map[string]any{"size": "plain-4", "image": "coast-1"},
		}
	}
	small := map[string]any{"size": "plain-2", "image": "coast-1"}
	for what, c := range map[string]struct {
		kind     change.Kind
		newFirst bool
		vcpus    int64
	}{
		"rebuilt, the old one first":           {change.Rebuild, false, 2},
		"rebuilt, the new one first":           {change.Rebuild, true, 4},
		"altered, whatever a rebuild would be": {change.Alter, true, 2},
	} {
		got := planOf(c.kind, host(c.newFirst), small).Reserves()
		if len(got) != 1 || got[0].Quotas["vcpus"] != c.vcpus {
			t.Errorf("%s: %+v, want %d vCPUs", what, got, c.vcpus)
		}
	}
	net := render.Resource{Name: "net", Type: "network", Want: map[string]any{"range": "10.4.0.0/16"}}
	was := map[string]any{"range": "10.4.0.0/16", "tags": map[string]any{"owner": "tam"}}
	if got := planOf(change.Alter, net, was).Reserves(); len(got) != 0 {
		t.Errorf("a network that is altered reserves %+v", got)
	}
	if got := planOf(change.Rebuild, net, was).Reserves(); len(got) != 1 || got[0].Range != "10.4.0.0/16" {
		t.Errorf("a network that is made anew reserves %+v", got)
	}
}

// TestChecksOfTheWholeStackTakeTime of their own, after the longest chain.
func TestChecksOfTheWholeStackTakeTime(t *testing.T) {
	t.Parallel()
	d := Durations{Rate: 10}
	p := change.Plan{
		Rendering: &render.Rendering{},
		Changes:   []change.Change{{Resource: "net", Type: "network", Change: change.Create}},
	}
	without, _ := d.Forecast(p.Ordered(nil, offer.Everywhere{}))
	p.Rendering.Prove = []health.Check{{Name: "page", Kind: "http"}}
	with, _ := d.Forecast(p.Ordered(nil, offer.Everywhere{}))
	if proof := float64(d.ExpectProof()) / 1000; proof <= 0 || with-without != proof {
		t.Errorf("%g s with checks of the stack and %g without; a proof takes %g", with, without, proof)
	}
}

// TestAConsentHoldsForTheValueThatItWasGivenFor, and not for another one of the same input.
func TestAConsentHoldsForTheValueThatItWasGivenFor(t *testing.T) {
	t.Parallel()
	input := func(v any) []render.InputValue { return []render.InputValue{{Name: "open", Value: v}} }
	for _, c := range []struct {
		was, now any
		asked    int
	}{{"quay", "quay", 0}, {"quay", "mole", 1}, {nil, "mole", 1}} {
		changed := Changed{Plan: change.Plan{Rendering: &render.Rendering{
			Inputs:   input(c.now),
			Consents: []render.Consent{{Name: "open", About: "It is open"}},
		}}}
		if c.was != nil {
			changed.LastInputs = input(c.was)
		}
		if got := changed.asked(); len(got) != c.asked {
			t.Errorf("from %v to %v it asks %v", c.was, c.now, got)
		}
	}
}

// TestWhatGoesBeyondWhatWasAcceptedIsAskedAgain, though its kind of consent was given.
func TestWhatGoesBeyondWhatWasAcceptedIsAskedAgain(t *testing.T) {
	t.Parallel()
	lost := render.Consent{Name: change.LoseData, About: "data (disk of 10GiB)"}
	remove := func(name string) Judged {
		j := planOf(change.Remove, render.Resource{Name: name, Type: "disk"}, map[string]any{"size": "10GiB"})
		j.Consents = []render.Consent{lost}
		return j
	}
	accepted := remove("data").Document()
	accepted.Consents, accepted.Given = nil, nil
	if same, beyond := remove("data").GoesOn(accepted); beyond != "" || len(same.Consents) != 0 ||
		len(same.Given) != 1 {
		t.Errorf("the same is asked again: %q %v", beyond, same.Consents)
	}
	if other, beyond := remove("charts").GoesOn(accepted); beyond == "" || len(other.Consents) != 1 {
		t.Errorf("what was never accepted is not asked: %q %v", beyond, other.Consents)
	}
}
