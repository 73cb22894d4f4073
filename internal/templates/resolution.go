package templates

import (
	"context"
	"errors"
	"path"

	"undersail/internal/core/lang"
	"undersail/internal/refusal"
)

// Resolve puts the templates of the library into a bundle that was given as
// text: ranges resolve to the newest version now and are recorded with it. What
// lies beside it is named from its folder, wherever that was.
func (s *Templates) Resolve(ctx context.Context, b lang.Bundle) (lang.Bundle, error) {
	return s.resolved(ctx, b, "", 0)
}

func (s *Templates) resolved(ctx context.Context, b lang.Bundle, dir string, depth int) (lang.Bundle, error) {
	if depth > 8 {
		return b, nil // reading says where the circle is
	}
	var parts []lang.Bundle
	for _, ref := range lang.References([]byte(b.Source)) {
		part, given := b.Part(ref)
		var err error
		switch {
		case lang.IsTemplateRef(ref) && !lang.IsLocalRef(ref):
			t, findErr := s.Find(ctx, ref)
			var refused *refusal.Error
			if errors.As(findErr, &refused) {
				continue // reading the template says where it is named
			}
			if findErr != nil {
				return b, findErr
			}
			part = t.Bundle()
			part.Ref = ref
		case !given:
			continue
		default:
			part.File = path.Join(dir, ref)
			if lang.IsTemplateRef(ref) {
				part, err = s.resolved(ctx, part, path.Dir(part.File), depth+1)
			}
		}
		if err != nil {
			return b, err
		}
		parts = append(parts, part)
	}
	b.Parts = parts
	return b, nil
}
