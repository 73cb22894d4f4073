package proposing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/fit"
	"undersail/internal/fault"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Where is what a template is in the regions of one account, or why that cannot be told.
type Where struct {
	Account  string        `json:"account"`
	Cloud    string        `json:"cloud"`
	Variants []fit.Variant `json:"variants"`
	Problem  string        `json:"problem,omitempty"`
	// Best is the region where it fits at the lowest price, and Why it is that.
	Best string `json:"best,omitempty"`
	Why  string `json:"why,omitempty"`
}

// Everywhere tells in which regions of which accounts a template can run as it is
// filled in, and for how much. An account that cannot be asked says why.
func (s *Proposing) Everywhere(ctx context.Context, n NewProposal) ([]Where, error) {
	r := &reading{isNew: true, offline: true}
	if err := s.readDraftTemplate(ctx, r, n); err != nil {
		return nil, err
	}
	accounts, err := s.store.Accounts(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the accounts: %w", err)
	}
	accounts = slices.DeleteFunc(accounts, func(a store.Account) bool {
		return a.ClosedAt != nil || n.Account != "" && n.Account != a.Name
	})
	out := make([]Where, len(accounts))
	all, ctx := fault.WithContext(ctx)
	for i, a := range accounts {
		all.Go(func() (err error) {
			out[i], err = s.where(ctx, a, n)
			return err
		})
	}
	return out, all.Wait()
}

// accountPatience is how long a form waits for what one account sells: it has others.
const accountPatience = 5 * time.Second

func (s *Proposing) where(ctx context.Context, a store.Account, n NewProposal) (Where, error) {
	w := Where{Account: a.Name, Cloud: a.Cloud, Variants: []fit.Variant{}}
	n.Account = a.Name
	soon, cancel := context.WithTimeout(ctx, accountPatience)
	defer cancel()
	c, err := s.FitTemplate(soon, n)
	var refused *refusal.Error
	if err != nil && ctx.Err() == nil && soon.Err() != nil {
		w.Problem = fmt.Sprintf("its cloud did not answer within %g seconds", accountPatience.Seconds())
		return w, nil
	}
	if errors.As(err, &refused) {
		w.Problem = refused.Title
		return w, nil
	}
	if err != nil {
		return w, err
	}
	w.Variants = c.Variants
	w.Best, w.Why = bestOf(c.Variants)
	return w, nil
}

// bestOf finds the region where nothing but missing values speaks against a template,
// and that is cheapest; of several the first.
func bestOf(variants []fit.Variant) (region, why string) {
	var best *fit.Variant
	fits := 0
	for i, v := range variants {
		if against(v) > 0 {
			continue
		}
		if fits++; best == nil || v.Cost.Hour < best.Cost.Hour {
			best = &variants[i]
		}
	}
	switch {
	case best == nil:
		return "", ""
	case fits == 1 && len(variants) > 1:
		return best.Region, fmt.Sprintf("the only one of %d regions where it fits", len(variants))
	case fits == 1:
		return best.Region, "the account's only region"
	}
	return best.Region, fmt.Sprintf("the cheapest of the %d regions where it fits", fits)
}

// against counts what speaks against a variant, but for values that nobody gave yet.
func against(v fit.Variant) (n int) {
	for _, f := range v.Errors {
		if f.Code != missingInput {
			n++
		}
	}
	return n
}

// placed gives a draft that names no place the best one, unless its stack is there already.
func (s *Proposing) placed(ctx context.Context, u people.User, n NewProposal) (NewProposal, error) {
	if _, there, err := s.applied(ctx, n.Stack); err != nil || there {
		return n, err
	}
	return s.best(ctx, u, n)
}

// best gives a draft of a new stack that names no place the best one: of the accounts where it
// fits, and where somebody may operate, the one where it is cheapest. A draft that fits
// nowhere, or of which no cloud tells it, stays as it is.
func (s *Proposing) best(ctx context.Context, u people.User, n NewProposal) (NewProposal, error) {
	if n.Template == "" && n.Source == "" || n.Account != "" && n.Region != "" {
		return n, nil
	}
	list, err := s.Everywhere(ctx, n)
	if err != nil {
		return n, err
	}
	list = slices.DeleteFunc(list, func(w Where) bool {
		return len(w.Variants) == 0 || !u.May(access.Operate, w.Account)
	})
	if len(list) == 0 {
		return n, nil
	}
	hour := func(w Where) float64 {
		for _, v := range w.Variants {
			if v.Region == w.Best {
				return v.Cost.Hour
			}
		}
		return 0
	}
	best := slices.MinFunc(list, func(a, b Where) int {
		if (a.Best == "") != (b.Best == "") {
			return cmp.Compare(len(b.Best), len(a.Best)) // one where it fits first
		}
		return cmp.Or(cmp.Compare(hour(a), hour(b)), cmp.Compare(a.Account, b.Account))
	})
	n.Account, n.Region = best.Account, cmp.Or(best.Best, best.Variants[0].Region)
	return n, nil
}
