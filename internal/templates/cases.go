package templates

import (
	"context"
	"fmt"

	"undersail/internal/access"
	"undersail/internal/core/budget"
	"undersail/internal/core/cases"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/library"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// CaseRun is a case of a template with how it came out.
type CaseRun struct {
	Name    string         `json:"name"`
	Preset  string         `json:"preset,omitempty"`
	Inputs  map[string]any `json:"inputs"`
	Offers  string         `json:"offers,omitempty"` // the file of saved offers that it names
	Expects []string       `json:"expects"`
	// Failures are what is otherwise than expected; a case without any holds.
	Failures []cases.Failure `json:"failures"`
}

// CaseRuns are the cases of a version, run on its text.
type CaseRuns struct {
	Template string `json:"template"` // NAME@VERSION
	// SavedWith is the version that they were saved with: an earlier one where this one
	// brought none of its own. It is empty where nobody keeps any.
	SavedWith string    `json:"saved_with,omitempty"`
	Holding   int       `json:"holding"`
	Cases     []CaseRun `json:"cases"`
}

// mostCases bounds the bytes of cases with their saved offers.
const mostCases = lang.MaxBundle

// Cases runs the cases that are kept of a template on the text of one version: those of
// the version, or of the newest before it that has any.
func (s *Templates) Cases(ctx context.Context, ref string) (CaseRuns, error) {
	t, err := s.Find(ctx, ref)
	if err != nil {
		return CaseRuns{}, err
	}
	kept, err := s.store.Cases(ctx, t.Name)
	if err != nil {
		return CaseRuns{}, fmt.Errorf("reading the test cases of template %s: %w", t.Name, err)
	}
	var best *store.Cases
	for i, k := range kept {
		if !newer(k.Version, t.Version) && (best == nil || newer(k.Version, best.Version)) {
			best = &kept[i]
		}
	}
	if best == nil {
		return CaseRuns{Template: t.Name + "@" + t.Version, Cases: []CaseRun{}}, nil
	}
	out, _, err := s.runCases(ctx, t, library.Cases{Source: best.Source, Offers: best.Offers})
	out.SavedWith = best.Version
	return out, err
}

// SaveCases keeps the cases of a version in the place of those before, and runs them. A
// case that fails is kept too: it tells what is to be mended.
func (s *Templates) SaveCases(ctx context.Context, u people.User, ref string, c library.Cases) (CaseRuns, error) {
	if err := u.Must(access.Publish, ""); err != nil {
		return CaseRuns{}, err
	}
	t, err := s.Find(ctx, ref)
	if err != nil {
		return CaseRuns{}, err
	}
	out, err := s.saveCases(ctx, t, c)
	if err == nil {
		s.journal.Done(ctx, u, "save cases", out.Template, map[string]any{
			"cases":   len(out.Cases),
			"holding": out.Holding,
		})
	}
	return out, err
}

func (s *Templates) saveCases(ctx context.Context, t Template, c library.Cases) (CaseRuns, error) {
	size := len(c.Source)
	for _, o := range c.Offers {
		size += len(o)
	}
	if size > mostCases {
		return CaseRuns{}, refusal.New(refusal.Invalid, "keep fewer cases, or smaller offers",
			"the cases have %d bytes with their offers, and at most %d are kept", size, mostCases)
	}
	out, found, err := s.runCases(ctx, t, c)
	if err != nil {
		return CaseRuns{}, err
	}
	if found.HasErrors() {
		return CaseRuns{}, &refusal.Error{
			Kind:        refusal.Findings,
			Title:       "the cases have errors",
			Remedy:      "mend them and keep them again",
			Diagnostics: found,
		}
	}
	out.SavedWith = t.Version
	return out, s.store.PutCases(ctx, store.Cases{
		Template: t.Name,
		Version:  t.Version,
		Source:   c.Source,
		Offers:   c.Offers,
	})
}

// runCases runs cases on the text of a template.
func (s *Templates) runCases(ctx context.Context, t Template, c library.Cases) (CaseRuns, lang.Diagnostics, error) {
	out := CaseRuns{Template: t.Name + "@" + t.Version, Cases: []CaseRun{}}
	read, found := Read(t.Bundle())
	if read == nil {
		return out, found, fmt.Errorf("published template %s cannot be read: %v", out.Template, found)
	}
	list, found := cases.Read(t.Name+cases.Suffix, []byte(c.Source))
	if found.HasErrors() {
		return out, found, nil
	}
	for _, x := range list {
		run := CaseRun{
			Name:     x.Name,
			Preset:   x.Preset,
			Inputs:   x.Given(),
			Offers:   x.Offers,
			Expects:  append([]string{}, x.Expect.Words()...),
			Failures: []cases.Failure{},
		}
		offers, why := savedOffers(c, x.Offers)
		if why != "" {
			run.Failures = append(run.Failures, cases.Failure{Case: x.Name, Line: x.Position.Line, Message: why})
		} else {
			var failures []cases.Failure
			err := s.turns.Compute(ctx, func(b *budget.Budget) { failures = cases.Run(read, x, offers, b) })
			if err != nil {
				return out, nil, err
			}
			run.Failures = append(run.Failures, failures...)
		}
		if len(run.Failures) == 0 {
			out.Holding++
		}
		out.Cases = append(out.Cases, run)
	}
	return out, nil, nil
}

// savedOffers reads the offers that a case names, or says why it cannot.
func savedOffers(c library.Cases, file string) (*offer.Offers, string) {
	if file == "" {
		return nil, ""
	}
	text, there := c.Offers[file]
	if !there {
		return nil, fmt.Sprintf("the saved offers %s are not kept with it", file)
	}
	o, err := offer.Saved(file, []byte(text))
	if err != nil {
		return nil, err.Error()
	}
	return &o, ""
}
