package accounts

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"undersail/internal/core/offer"
	"undersail/internal/proposal"
	"undersail/internal/store"
)

// Reserve is what a proposal of another stack takes, with whose it is.
type Reserve struct {
	proposal.Reserve
	stack    string
	proposal int64
	running  bool
}

// Reserved lists what proposals of other stacks will take in a region of an account,
// or in all of them.
func (s *Accounts) Reserved(ctx context.Context, a store.Account, region, exceptStack string) ([]Reserve, error) {
	rows, err := s.store.Reserves(ctx, a.Name, exceptStack)
	if err != nil {
		return nil, fmt.Errorf("reading what the account reserves: %s: %w", a.Name, err)
	}
	var out []Reserve
	for _, row := range rows {
		var list []proposal.Reserve
		if err := json.Unmarshal(row.Reserves, &list); err != nil {
			return nil, fmt.Errorf("read what proposal %d reserves: %w", row.Proposal, err)
		}
		for _, r := range list {
			if region == "" || r.Region == region {
				out = append(out, Reserve{r, row.Stack, row.Proposal, row.Running})
			}
		}
	}
	return out, nil
}

// Counting gives offers in which what other stacks will take is counted: by runs that
// go on, and by proposals that may still be accepted.
func Counting(o *offer.Offers, list []Reserve) *offer.Offers {
	if len(list) == 0 {
		return o
	}
	out := *o
	out.Quotas, out.Reserved = maps.Clone(o.Quotas), slices.Clone(o.Reserved)
	for _, r := range list {
		if r.Region != o.Region {
			continue
		}
		for name, n := range r.Quotas {
			q, told := out.Quotas[name]
			if !told {
				continue
			}
			if r.running {
				q.Running += n
			} else {
				q.Wanted += n
			}
			out.Quotas[name] = q
		}
		if r.Range != "" {
			out.Reserved = append(out.Reserved, offer.Reserved{
				Range:  r.Range,
				About:  fmt.Sprintf("proposal %d of stack %s", r.proposal, r.stack),
				Wanted: !r.running,
			})
		}
	}
	return &out
}
