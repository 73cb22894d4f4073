package stacks

import (
	"context"
	"fmt"
	"regexp"

	"undersail/internal/refusal"
)

// Changes is a page of stacks that changed, each with its place in the order of
// changes.
type Changes struct {
	Stacks []Stack
	Places []string
}

// noStack sorts before every stack's id.
const noStack = "00000000-0000-0000-0000-000000000000"

// Changed lists the stacks that changed after a place, retired ones with the state
// removed. Without a place nothing is listed, and the place of now is given.
func (s *Stacks) Changed(ctx context.Context, place string, most int) (Changes, string, error) {
	var out Changes
	if place == "" {
		xid, err := s.store.Horizon(ctx)
		return out, xid + "." + noStack, err
	}
	xid, id, ok := cutPlace(place)
	if !ok {
		return out, "", refusal.New(refusal.Invalid, "leave it out to begin with now",
			"%q is not a place in the stream", place)
	}
	list, err := s.store.SummariesSince(ctx, xid, id, most)
	if err != nil {
		return out, "", fmt.Errorf("reading the stacks that changed: %w", err)
	}
	for _, m := range list {
		place = m.Changed + "." + m.ID
		out.Stacks, out.Places = append(out.Stacks, stackOf(m)), append(out.Places, place)
	}
	return out, place, nil
}

var placePattern = regexp.MustCompile(`^(\d{1,20})\.([0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12})$`)

func cutPlace(place string) (xid, stackID string, ok bool) {
	m := placePattern.FindStringSubmatch(place)
	if m == nil {
		return "", "", false
	}
	return m[1], m[2], true
}
