package templates

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"

	"undersail/internal/core/lang"
	"undersail/internal/library"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Template is one version in the library.
type Template struct {
	Name        string    `json:"name"`
	Version     string    `json:"version"`
	Title       string    `json:"title"`
	About       string    `json:"about"`
	Maturity    string    `json:"maturity"`
	TakesS      int64     `json:"takes_seconds"`
	Digest      string    `json:"digest"`
	PublishedAt time.Time `json:"published_at"`
	Source      string    `json:"source,omitempty"`
	// Parts are what the text embeds; Origin is the library it came from.
	Parts  []lang.Bundle `json:"parts,omitempty"`
	Origin string        `json:"origin,omitempty"`
	// PublishedBy is who published it, or the library that it came from.
	PublishedBy string `json:"published_by,omitempty"`
	From        string `json:"from,omitempty"` // what it was copied from
}

// Bundle is the template with all that it embeds.
func (t Template) Bundle() lang.Bundle {
	return lang.Bundle{File: t.Name + "@" + t.Version, Source: t.Source, Parts: t.Parts}
}

func templateOf(t store.Template) Template {
	return Template{
		Name:        t.Name,
		Version:     t.Version,
		Title:       t.Title,
		About:       t.About,
		Maturity:    t.Maturity,
		TakesS:      t.Takes,
		Digest:      t.Digest,
		PublishedAt: t.PublishedAt,
		PublishedBy: t.PublishedBy,
		Origin:      t.Origin,
	}
}

// List lists the newest version of every template.
func (s *Templates) List(ctx context.Context) ([]Template, error) {
	all, err := s.store.Templates(ctx, "")
	if err != nil {
		return nil, fmt.Errorf("reading the versions of template: %w", err)
	}
	out := []Template{}
	for _, t := range all {
		last := len(out) - 1
		if last >= 0 && out[last].Name == t.Name {
			if newer(t.Version, out[last].Version) {
				out[last] = templateOf(t)
			}
			continue
		}
		out = append(out, templateOf(t))
	}
	return out, nil
}

func sortNewestFirst(list []Template) {
	slices.SortStableFunc(list, func(a, b Template) int {
		switch {
		case newer(a.Version, b.Version):
			return -1
		case newer(b.Version, a.Version):
			return 1
		}
		return 0
	})
}

func newer(a, b string) bool {
	va, errA := semver.NewVersion(a)
	vb, errB := semver.NewVersion(b)
	return errA == nil && errB == nil && va.GreaterThan(vb)
}

// Find finds NAME (its newest version), NAME@VERSION or NAME@RANGE, with its text.
func (s *Templates) Find(ctx context.Context, ref string) (Template, error) {
	name, wanted := SplitVersion(ref)
	all, err := s.store.Templates(ctx, name)
	if err != nil {
		return Template{}, fmt.Errorf("reading the versions of template %s: %w", name, err)
	}
	if len(all) == 0 {
		list, err := s.List(ctx)
		if err != nil {
			return Template{}, err
		}
		return Template{}, refusal.Unknown("template", name, list, func(t Template) string { return t.Name },
			"list them with: undersail templates")
	}
	versions := make([]string, len(all))
	for i, t := range all {
		versions[i] = t.Version
	}
	best, err := library.Newest(versions, wanted)
	if err != nil {
		return Template{}, refusal.New(refusal.Invalid, "write NAME@1.4.0 or NAME@^1", "%q is not a version", wanted)
	}
	if best < 0 {
		return Template{}, refusal.New(refusal.NotFound, "list them with: undersail templates",
			"template %s has no version %s", name, wanted)
	}
	t := templateOf(all[best])
	t.Source, t.Parts = all[best].Source, all[best].Parts
	if read, _ := Read(t.Bundle()); read != nil {
		t.From = read.About.From
	}
	return t, nil
}

// SplitVersion reads NAME or NAME@VERSION.
func SplitVersion(s string) (name, version string) {
	name, version, _ = strings.Cut(s, "@")
	return name, version
}
