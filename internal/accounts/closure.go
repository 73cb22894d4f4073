package accounts

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"undersail/internal/access"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Closed is what was known last of an account that is closed.
type Closed struct {
	Account Account       `json:"account"`
	Stacks  []ClosedStack `json:"stacks"`
	// Kept is what outlived its stack there and is not listed any more.
	Kept []string `json:"kept"`
}

// ClosedStack is a stack that was closed with its account, with what was recorded.
type ClosedStack struct {
	Name      string   `json:"name"`
	Region    string   `json:"region"`
	Hour      float64  `json:"hour"`
	Resources []string `json:"resources"`
}

// Close closes an account: its credentials are forgotten, and no stack may have
// it. With living stacks it is refused, unless gone says that the account itself
// vanished: then the cloud must not accept it any more, and its stacks are closed with
// it, since nobody can retire them.
func (s *Accounts) Close(ctx context.Context, u people.User, name, why string, gone bool) (Closed, error) {
	if err := u.Must(access.Administer, name); err != nil {
		return Closed{}, err
	}
	a, err := s.Find(ctx, name)
	if err != nil {
		return Closed{}, err
	}
	summaries, err := s.store.SummariesOf(ctx, name)
	if err != nil {
		return Closed{}, fmt.Errorf("reading the stacks of account %s: %w", name, err)
	}
	if len(summaries) > 0 && !gone {
		names := make([]string, len(summaries))
		for i, m := range summaries {
			names[i] = m.Name
		}
		return Closed{}, refusal.New(refusal.Conflict,
			"retire them first; if the account itself is gone, say so: undersail accounts remove "+name+" --gone",
			"account %s has %d living stacks: %s", name, len(names), strings.Join(names, ", "))
	}
	kept, err := s.keptIn(ctx, name)
	if err != nil {
		return Closed{}, err
	}
	if len(kept) > 0 && !gone {
		return Closed{}, refusal.New(refusal.Conflict,
			"remove it for good first, with: undersail kept remove STACK/RESOURCE; if the account itself is gone, "+
				"say so: undersail accounts remove "+name+" --gone",
			"account %s still pays for what was kept: %s", name, strings.Join(refusal.Few(kept, 5), ", "))
	}
	if gone {
		problem := s.Try(ctx, a)
		if problem == nil {
			return Closed{}, refusal.New(refusal.Conflict, "retire its stacks, then remove it without --gone",
				"the cloud still accepts account %s: it is not gone", name)
		}
		why = strings.TrimSpace(why + " (" + problem.Title + ")")
	}
	out := Closed{Stacks: []ClosedStack{}, Kept: kept}
	for _, m := range summaries {
		c := ClosedStack{Name: m.Name, Region: m.Region, Hour: m.Hour, Resources: []string{}}
		rows, err := s.store.Resources(ctx, m.ID)
		if err != nil {
			return Closed{}, fmt.Errorf("reading the resources of stack %s: %w", m.ID, err)
		}
		for _, r := range rows {
			id, _ := r.Attributes["id"].(string)
			c.Resources = append(c.Resources,
				strings.TrimSpace(fmt.Sprintf("%s %s (%s) %s", r.Type, r.Name, r.State, id)))
		}
		out.Stacks = append(out.Stacks, c)
	}
	err = s.store.CloseAccount(ctx, name, why, gone, u.Who())
	if errors.Is(err, store.ErrConflict) {
		return Closed{}, refusal.New(refusal.Conflict, "look at it and try again: undersail accounts show "+name,
			"something was made in account %s at this moment", name)
	}
	if err != nil {
		return Closed{}, refusal.InTheWay(err, "", u.Name)
	}
	s.mu.Lock()
	delete(s.adapters, name)
	s.mu.Unlock()
	s.Lately.forget("account " + name)
	s.ForgetOffers(name)
	s.journal.Done(ctx, u, "close account", name, map[string]any{"why": why, "stacks": out.Stacks, "kept": out.Kept})
	out.Account, err = s.listed(ctx, name)
	return out, err
}

// keptIn names what is kept in an account.
func (s *Accounts) keptIn(ctx context.Context, account string) ([]string, error) {
	all, err := s.store.AllKept(ctx)
	out := []string{}
	for _, k := range all {
		if k.Account == account {
			id, _ := k.Attributes["id"].(string)
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s/%s %s", k.Type, k.Stack, k.Name, id)))
		}
	}
	return out, err
}
