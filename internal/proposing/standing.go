package proposing

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Standing is an agreement that lets the service act when nobody does. It holds until its
// end, until it is taken back, and as long as whoever gave it might give it now.
type Standing struct {
	ID int64 `json:"id"`
	// Kind is undo: a run that fails is undone.
	Kind     string    `json:"kind"`
	Giver    string    `json:"giver"`
	Stack    string    `json:"stack"`
	Account  string    `json:"account"`
	Proposal int64     `json:"proposal"`
	GivenAt  time.Time `json:"given_at"`
	EndsAt   time.Time `json:"ends_at"`
}

const (
	forStanding  = "standing agreement"
	standsToUndo = "undo"
	// standingLife is how long one holds at most: longer than any run takes.
	standingLife = 30 * 24 * time.Hour
)

func standingParts(a store.Agreement) []string {
	return []string{a.Kind, a.Giver, strings.Join(a.Roles, " "), a.StackID, fmt.Sprint(a.ProposalID),
		a.EndsAt.UTC().Format(time.RFC3339)}
}

// stand keeps that somebody agreed to something that is done when nobody does it.
func (s *Proposing) stand(ctx context.Context, kind, giver string, roles []string, p store.Proposal) error {
	a := store.Agreement{
		Kind:       kind,
		Giver:      giver,
		Roles:      roles,
		StackID:    p.StackID,
		ProposalID: p.ID,
		EndsAt:     s.engine.Now().Add(standingLife).Truncate(time.Second),
	}
	a.Seal = s.sealed.SealOf(forStanding, standingParts(a)...)
	return s.store.AddAgreement(ctx, a)
}

// stands finds who agreed that something is done when nobody does it, with the rights that
// they have now, and what to hold while it is done. Why says why nothing is done by it any
// more.
func (s *Proposing) stands(ctx context.Context, kind string,
	proposal int64) (giver people.User, standing *store.Standing, why string, err error) {
	a, err := s.store.AgreementOf(ctx, proposal, kind)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return giver, nil, "nobody agreed to it", nil
	case err != nil:
		return giver, nil, "", err
	case !s.sealed.Holds(a.Seal, forStanding, standingParts(a)...):
		return giver, nil, "the agreement to it is not as it was given", nil
	case a.EndedAt != nil:
		return giver, nil, fmt.Sprintf("%s took the agreement to it back", a.EndedBy), nil
	case a.EndsAt.Before(s.engine.Now()):
		return giver, nil, "the agreement to it is over", nil
	}
	now, err := s.people.Absent(ctx, a.Giver, a.Roles, s.engine.Now())
	if err != nil {
		return giver, nil, "", err
	}
	if now.Why == "" && !now.User.May(access.Decide, a.Account) {
		now.Why = "may not decide in account " + a.Account + " any more"
	}
	if now.Why != "" {
		return giver, nil, fmt.Sprintf("%s, who agreed to it, %s", a.Giver, now.Why), nil
	}
	return now.User, &store.Standing{ID: a.ID, Roles: now.Roles}, "", nil
}

// Agreements lists the standing agreements that hold: one's own, and of accounts that one
// administers all.
func (s *Proposing) Agreements(ctx context.Context, u people.User) ([]Standing, error) {
	rows, err := s.store.Agreements(ctx)
	out := []Standing{}
	for _, a := range rows {
		if u.Actor().Owns(a.Giver) || u.May(access.Administer, a.Account) {
			out = append(out, Standing{a.ID, a.Kind, a.Giver, a.Stack, a.Account, a.ProposalID, a.GivenAt, a.EndsAt})
		}
	}
	return out, err
}

// EndAgreement takes a standing agreement back: what is under way is finished, and nothing
// more is begun by it.
func (s *Proposing) EndAgreement(ctx context.Context, u people.User, id int64) error {
	a, err := s.store.Agreement(ctx, id)
	if err == nil && !u.Actor().Owns(a.Giver) && !u.May(access.Administer, a.Account) {
		err = store.ErrNotFound
	}
	if err == nil {
		err = s.store.EndAgreement(ctx, id, u.Name)
	}
	if err != nil {
		return refusal.Missing(err, "agreement", fmt.Sprint(id), "list those that hold with: undersail agreements")
	}
	s.journal.Done(ctx, u, "end agreement", a.Stack, map[string]any{
		"kind":     a.Kind,
		"giver":    a.Giver,
		"proposal": a.ProposalID,
	})
	return nil
}
