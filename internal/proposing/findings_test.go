package proposing_test

import (
	"context"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/render"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
)

// TestAFindingLeadsToTheInputThatItComesFrom: a check that nothing lets in is about a machine, and
// comes from the range that a firewall was given; the page of that input is marked, and the value
// that mends it does.
func TestAFindingLeadsToTheInputThatItComesFrom(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Still(engine.Config{}, nil)
	ask := func(template string, inputs map[string]any) proposing.Answer {
		t.Helper()
		a, err := s.Proposing.Check(context.Background(), r.Admin, proposing.Question{
			NewProposal: proposing.NewProposal{
				Stack:   "desk",
				Source:  servicetest.Example(t, template),
				Account: "saltmere-lab",
				Region:  "north-fell",
				Inputs:  inputs,
			},
		})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		return a
	}
	for _, c := range []struct {
		template, input string
		wrong           any
	}{
		{"chart-desk", "office", "198.51.100.0/24"},
		{"warning-site", "readers", []any{"198.51.100.0/24"}},
	} {
		a := ask(c.template, map[string]any{c.input: c.wrong})
		var found render.Finding
		for _, p := range a.Pages {
			for _, f := range p.Fields {
				at := slices.IndexFunc(f.Findings, func(f render.Finding) bool { return f.Code == "check-never" })
				if (at >= 0) != (f.Name == c.input) {
					t.Errorf("%s: of %s is said %+v", c.template, f.Name, f.Findings)
				}
				if at >= 0 {
					if found = f.Findings[at]; p.Errors == 0 {
						t.Errorf("%s: the page %s has no mark", c.template, p.Title)
					}
				}
			}
		}
		if !strings.HasSuffix(found.From, ".rules") || found.Inputs != c.input ||
			!strings.HasSuffix(found.Take, "/32") {
			t.Fatalf("%s: %+v", c.template, found)
		}
		var mended any = found.Take
		if _, is := c.wrong.([]any); is {
			mended = []any{}
			for _, part := range strings.Split(found.Take, ", ") {
				mended = append(mended.([]any), part)
			}
		}
		if a := ask(c.template, map[string]any{c.input: mended}); a.Errors != 0 {
			t.Errorf("%s with %v: %+v", c.template, mended, a.Findings)
		}
	}
}
