package templates

import (
	"context"
	"errors"
	"fmt"

	"undersail/internal/access"
	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Publish checks a template and puts it into the library. A version once
// published never changes its bytes.
func (s *Templates) Publish(ctx context.Context, u people.User, b lang.Bundle) (Template, lang.Diagnostics, error) {
	if err := u.Must(access.Publish, ""); err != nil {
		return Template{}, nil, err
	}
	b, err := s.Resolve(ctx, b)
	if err != nil {
		return Template{}, nil, err
	}
	t, found, err := s.publishBundle(ctx, b, "", u.Name)
	if err == nil {
		s.journal.Done(ctx, u, "publish template", t.Name+"@"+t.Version, map[string]any{"digest": t.Digest})
	}
	return t, found, err
}

func (s *Templates) publishBundle(ctx context.Context, b lang.Bundle,
	origin, by string) (Template, lang.Diagnostics, error) {
	var t *lang.Template
	var found lang.Diagnostics
	if err := s.turns.Compute(ctx, func(left *budget.Budget) {
		left.Spend(int64(len(b.Source)))
		t, found = lang.ReadBundle(b)
	}); err != nil {
		return Template{}, nil, err
	}
	if t == nil {
		return Template{}, found, &refusal.Error{
			Kind:        refusal.Findings,
			Title:       "the template has errors",
			Remedy:      "mend them and publish again",
			Diagnostics: found,
		}
	}
	row := store.Template{
		Name:        t.About.Name,
		Version:     t.About.Version,
		Title:       t.About.Title,
		About:       t.About.Text,
		Maturity:    t.About.Maturity,
		Takes:       t.About.Takes,
		Source:      b.Source,
		Parts:       b.Parts,
		Origin:      origin,
		PublishedBy: by,
		Digest:      t.Digest,
	}
	if err := s.store.PublishTemplate(ctx, row); err != nil {
		if errors.Is(err, store.ErrConflict) {
			return Template{}, found, refusal.New(refusal.Conflict, "raise the version in the template",
				"version %s of %s is published with other bytes", row.Version, row.Name)
		}
		return Template{}, found, fmt.Errorf("publishing the template: %w", err)
	}
	return templateOf(row), found, nil
}
