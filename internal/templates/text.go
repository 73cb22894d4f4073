package templates

import (
	"context"
	"errors"
	"strings"

	"undersail/internal/core/budget"
	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
	"undersail/internal/exchange"
	"undersail/internal/library"
	"undersail/internal/refusal"
)

// TextCheck is what the language says of a text that is being written.
type TextCheck struct {
	Diagnostics lang.Diagnostics `json:"diagnostics"`
	// Name, Version and the rest are there as far as the text could be read.
	Name      string         `json:"name,omitempty"`
	Version   string         `json:"version,omitempty"`
	From      string         `json:"from,omitempty"` // what it was copied from
	Inputs    []string       `json:"inputs"`
	Calc      []string       `json:"calc"`
	Resources []TextResource `json:"resources"`
	// Tidied is the same text, tidied; empty where it cannot be read, or is tidy.
	Tidied string `json:"tidied,omitempty"`
	// Sound says that it could be published.
	Sound bool `json:"sound"`
}

// TextResource is a resource of a text, with its type.
type TextResource struct {
	Name string `json:"name"`
	Type string `json:"type"`
}

// CheckText reads a template as publishing would, and publishes nothing.
func (s *Templates) CheckText(ctx context.Context, b lang.Bundle) (TextCheck, error) {
	out := TextCheck{Diagnostics: lang.Diagnostics{}, Inputs: []string{}, Calc: []string{}, Resources: []TextResource{}}
	resolved, err := s.Resolve(ctx, b)
	var refused *refusal.Error
	if errors.As(err, &refused) && refused.Diagnostics != nil {
		out.Diagnostics = append(out.Diagnostics, refused.Diagnostics...)
		return out, nil
	}
	if err != nil {
		return out, err
	}
	var t *lang.Template
	var found lang.Diagnostics
	if err := s.turns.Compute(ctx, func(b *budget.Budget) {
		b.Spend(int64(len(resolved.Source)))
		t, found = lang.ReadBundle(resolved)
	}); err != nil {
		return out, err
	}
	out.Diagnostics = append(out.Diagnostics, found...)
	if out.Sound = t != nil && !found.HasErrors(); t != nil {
		out.Name, out.Version, out.From = t.About.Name, t.About.Version, t.About.From
		for _, in := range t.Inputs {
			out.Inputs = append(out.Inputs, in.Name)
		}
		for _, c := range t.Calc {
			out.Calc = append(out.Calc, c.Name)
		}
		for _, r := range t.Resources {
			out.Resources = append(out.Resources, TextResource{r.Name, r.Type.Name})
		}
	}
	if tidied, found := lang.Tidy(b.File, []byte(b.Source)); !found.HasErrors() && string(tidied) != b.Source {
		out.Tidied = string(tidied)
	}
	return out, nil
}

// Language is what a template may say: for completion, and for reading up. Schema is the
// JSON Schema (2020-12) of template files.
type Language struct {
	Schema    map[string]any  `json:"schema"`
	Functions []LanguageWord  `json:"functions"`
	Types     []resource.Type `json:"types"`
}

// LanguageWord is a function with its form and what it does.
type LanguageWord struct {
	Name  string `json:"name"`
	Form  string `json:"form"`
	About string `json:"about"`
}

// Language tells what a template may say.
func (s *Templates) Language() Language {
	l := Language{Schema: exchange.TemplateSchema(), Types: resource.Types()}
	for _, f := range expr.Functions {
		l.Functions = append(l.Functions, LanguageWord(f))
	}
	return l
}

// TemplateDifferences tells what two versions of a template say differently.
func (s *Templates) TemplateDifferences(ctx context.Context, ref, from string) ([]lang.Difference, error) {
	name, _ := SplitVersion(ref)
	if !strings.Contains(from, "@") {
		from = name + "@" + from
	}
	before, err := s.readLibraryText(ctx, from)
	if err != nil {
		return nil, err
	}
	after, err := s.readLibraryText(ctx, ref)
	if err != nil {
		return nil, err
	}
	return lang.Differences(before, after), nil
}

func (s *Templates) readLibraryText(ctx context.Context, ref string) (*lang.Template, error) {
	t, err := s.Find(ctx, ref)
	if err != nil {
		return nil, err
	}
	read, found := Read(t.Bundle())
	if read == nil {
		return nil, &refusal.Error{
			Kind:        refusal.Findings,
			Title:       "template " + ref + " cannot be read by this program",
			Remedy:      "publish a version that can",
			Diagnostics: found,
		}
	}
	return read, nil
}

// StartText writes a first template from a few answers; it passes every check.
func (s *Templates) StartText(answers exchange.Starter) (lang.Bundle, error) {
	if err := answers.Faults(); err != nil {
		return lang.Bundle{}, refusal.New(refusal.Invalid, "change that answer", "%v", err)
	}
	var b strings.Builder
	if err := answers.Write(&b); err != nil {
		return lang.Bundle{}, err
	}
	return lang.Bundle{File: answers.Name + library.Suffix, Source: b.String()}, nil
}
