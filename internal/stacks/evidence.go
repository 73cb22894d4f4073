package stacks

import (
	"context"
	"time"

	"undersail/internal/access"
	"undersail/internal/store"
)

// Evidence is what one look of a check saw.
type Evidence struct {
	Run      *int64    `json:"run,omitempty"`
	Resource string    `json:"resource"`
	Check    string    `json:"check"`
	At       time.Time `json:"at"`
	Asked    string    `json:"asked"`
	Answer   string    `json:"answer"`
	Passed   bool      `json:"passed"`
	TookMS   int64     `json:"took_ms"`
	// Unasked says that nobody asked, since no packets of ours get there.
	Unasked bool `json:"unasked,omitempty"`
}

func evidenceOf(list []store.EvidenceRow) []Evidence {
	out := make([]Evidence, len(list))
	for i, e := range list {
		out[i] = Evidence{e.RunID, e.Resource, e.Check, e.At, e.Asked, e.Answer, e.Passed, e.TookMS, e.Unasked}
	}
	return out
}

// RunEvidence lists what the checks of a run saw.
func (s *Stacks) RunEvidence(ctx context.Context, run int64, resource string) ([]Evidence, error) {
	if access.Seen(ctx) != nil {
		if _, err := s.RunRow(ctx, run); err != nil {
			return nil, err
		}
	}
	list, err := s.store.RunEvidence(ctx, run, resource)
	return evidenceOf(list), err
}
