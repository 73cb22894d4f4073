package proposing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/access"
	"undersail/internal/accounts"
	"undersail/internal/cloud"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Acceptance is what somebody agrees to with a proposal.
type Acceptance struct {
	// Agree names the consents that are given. One that was shown with a digest may be given
	// as NAME=DIGEST: then it is for that, and for nothing else.
	Agree []string
	// Comment stays with it.
	Comment string
	// OnFailure says what becomes of its run if that fails; empty leaves it to whoever applies
	// it.
	OnFailure string

	// byItself says that it goes no further than what was agreed to before, by whom the account
	// asks for.
	byItself bool
}

// Accept agrees to a proposal and draws the secrets it generates, once. Everything
// that it asks a consent for must be agreed to by name. The comment stays with it.
func (s *Proposing) Accept(ctx context.Context, u people.User, id int64, agree []string,
	comment string) (Proposal, error) {
	return s.Agree(ctx, u, id, Acceptance{Agree: agree, Comment: comment})
}

// Agree is Accept with all that can be agreed to.
func (s *Proposing) Agree(ctx context.Context, u people.User, id int64, a Acceptance) (Proposal, error) {
	p, err := s.Show(ctx, id)
	if err != nil {
		return p, err
	}
	if err := u.Must(access.Decide, p.Account); err != nil {
		return Proposal{}, err
	}
	if p.State == state.Accepted {
		return p, nil
	}
	if err := mayDecide(u, p); err != nil {
		return Proposal{}, err
	}
	return s.accept(ctx, u, p, a)
}

func (s *Proposing) accept(ctx context.Context, u people.User, p Proposal, a Acceptance) (Proposal, error) {
	agree, err := shownAs(p, a.Agree)
	if err != nil {
		return p, err
	}
	comment := a.Comment
	var names, unknown []string
	var missing []render.Finding
	for _, c := range p.Consents {
		if names = append(names, c.Name); !slices.Contains(agree, c.Name) {
			missing = append(missing, asksFor(p.ID, c))
		}
	}
	for _, name := range agree {
		// who agrees to more than is asked for agrees
		if !slices.Contains(names, name) && !slices.Contains(policy.AllConsents, name) {

			unknown = append(unknown, name)
		}
	}
	switch {
	case a.OnFailure != "" && a.OnFailure != state.Keep && a.OnFailure != state.Undo:
		return p, refusal.New(refusal.Invalid, "say keep or undo", "%q is not what can become of a run that fails",
			a.OnFailure)
	case p.State != state.Open:
		return p, refusal.New(refusal.Stale, "propose again", "proposal %d is %s", p.ID, p.State)
	case len(unknown) > 0 && len(names) == 0:
		return p, refusal.New(refusal.Invalid, "leave it out", "proposal %d asks for no consent, and not for %s", p.ID,
			strings.Join(unknown, ", "))
	case len(unknown) > 0:
		return p, refusal.New(refusal.Invalid, "it asks for "+strings.Join(names, ", "),
			"proposal %d asks for no consent %s", p.ID, strings.Join(unknown, ", "))
	case missing != nil:
		return p, &refusal.Error{
			Kind:     refusal.Consent,
			Title:    fmt.Sprintf("proposal %d needs a consent that was not given", p.ID),
			Remedy:   "read what is asked, and agree to it by name",
			Findings: missing,
		}
	}
	if slices.Contains(names, policy.ConsentSecrets) {
		row, d, err := s.stacks.Document(ctx, p.ID)
		if err == nil {
			err = s.mayAgreeToUses(ctx, u, row, d)
		}
		if err != nil {
			return p, err
		}
	}
	if slices.Contains(names, policy.ConsentTerms) {
		if err := s.acceptTerms(ctx, p); err != nil {
			return Proposal{}, err
		}
	}
	if slices.Contains(names, policy.ConsentFeatures) {
		if err := s.turnOn(ctx, u, p); err != nil {
			return Proposal{}, err
		}
	}
	if err := s.draw(ctx, u, p.ID); err != nil {
		return Proposal{}, err
	}
	var given []store.Consent
	for _, c := range p.Consents {
		given = append(given, store.Consent{Name: c.Name, About: c.About})
	}
	row, err := s.store.Proposal(ctx, p.ID)
	if err != nil {
		return Proposal{}, fmt.Errorf("reading proposal %d: %w", p.ID, err)
	}
	why := ""
	if names != nil {
		why = "agreed to " + strings.Join(names, ", ")
	}
	if comment != "" {
		why = strings.Trim(why+"; "+comment, "; ")
	}
	p, err = s.decide(ctx, u, p.ID, store.Decision{
		State:     state.Accepted,
		Why:       why,
		By:        u.Name,
		OnFailure: a.OnFailure,
		Shaped:    !a.byItself && slices.ContainsFunc(together(p.ShapedBy, p.CreatedBy), u.Actor().IsOf),
		Consents:  given,
		Agreement: s.sealOf(row, u.Name, a.OnFailure, names),
	})
	if err != nil || p.Kind != state.KindGive {
		return p, err
	}
	if _, err := s.carryGift(ctx, u, p.ID); err != nil { // it stays accepted: applying it does so again
		return p, err
	}
	return s.Show(ctx, p.ID)
}

// shownAs reads the names of consents that are given, some with the digest that they were
// shown with. One that was shown with another is not given.
func shownAs(p Proposal, agree []string) ([]string, error) {
	out := make([]string, len(agree))
	for i, text := range agree {
		name, digest, exact := strings.Cut(text, "=")
		if out[i] = name; !exact {
			continue
		}
		for _, c := range p.Consents {
			if c.Name == name && (digest == "" || !strings.Contains(c.About, "("+digest+")")) {
				return nil, refusal.New(refusal.Stale,
					"look at proposal "+fmt.Sprint(p.ID)+", and agree to what it shows",
					"what %s asks for now is not what it was shown with as %s", name, digest)
			}
		}
	}
	return out, nil
}

// acceptTerms says for the account that it accepts the terms of the images of a
// proposal. Saying it twice is no fault, so that it may be said before the proposal is
// decided: a person has agreed to it.
func (s *Proposing) acceptTerms(ctx context.Context, p Proposal) error {
	return s.atTheCloud(ctx, p, func(adapter cloud.Adapter, d proposal.Document) error {
		accepter, can := adapter.(cloud.Accepter)
		if !can {
			return nil
		}
		for _, name := range d.Terms() {
			if err := accepter.AcceptTerms(ctx, name); err != nil {
				return err
			}
		}
		return nil
	})
}

// turnOn turns the features on that somebody agreed to and that the account has not yet.
func (s *Proposing) turnOn(ctx context.Context, u people.User, p Proposal) error {
	return s.atTheCloud(ctx, p, func(adapter cloud.Adapter, d proposal.Document) error {
		enabler, can := adapter.(cloud.Enabler)
		if !can {
			return nil
		}
		for region, features := range d.TurnsOn() {
			for _, f := range features {
				if err := enabler.TurnOn(ctx, region, f); err != nil {
					return err
				}
				s.journal.Done(ctx, u, "turn feature on", p.Account, map[string]any{
					"region":   region,
					"feature":  f,
					"proposal": p.ID,
				})
			}
		}
		return nil
	})
}

// atTheCloud does what a proposal needs of its account before it is carried out.
func (s *Proposing) atTheCloud(ctx context.Context, p Proposal, do func(cloud.Adapter, proposal.Document) error) error {
	_, d, err := s.stacks.Document(ctx, p.ID)
	if err != nil {
		return err
	}
	adapter, _, err := s.accounts.Adapter(ctx, p.Account)
	if err != nil {
		return err
	}
	if err := do(adapter, d); err != nil {
		return accounts.CloudSays(err)
	}
	s.accounts.ForgetOffers(p.Account)
	return nil
}

// Refuse turns a proposal down, with the reason.
func (s *Proposing) Refuse(ctx context.Context, u people.User, id int64, why string) (Proposal, error) {
	p, err := s.Show(ctx, id)
	if err != nil {
		return Proposal{}, err
	}
	if err := u.Must(access.Decide, p.Account); err != nil {
		return Proposal{}, err
	}
	return s.decide(ctx, u, id, store.Decision{State: state.Refused, Why: why, By: u.Name})
}

// mayDecide refuses whoever shaped a proposal that asks for a second person: who proposed
// it, and who filled in what was proposed. What it asked for when it was made still holds
// when the account does not ask for it any more.
func mayDecide(u people.User, p Proposal) error {
	if p.SecondPerson && slices.ContainsFunc(together(p.ShapedBy, p.CreatedBy), u.Actor().IsOf) {
		return refusal.New(refusal.Forbidden, fmt.Sprintf("ask a reviewer to look at it: undersail accept %d", p.ID),
			"account %s asks that somebody else than %s accepts this proposal", p.Account, u.Name)
	}
	return nil
}

func byWhom(name string) string {
	if name == "" {
		return ""
	}
	return " by " + name
}

func (s *Proposing) decide(ctx context.Context, u people.User, id int64, d store.Decision) (Proposal, error) {
	d.Who = u.Who()
	err := s.store.Decide(ctx, id, d)
	p, readErr := s.Show(ctx, id)
	if errors.Is(err, store.ErrRights) {
		return p, refusal.InTheWay(err, p.Stack, u.Name)
	}
	if errors.Is(err, store.ErrSecondPerson) {
		return p, mayDecide(u, p)
	}
	if errors.Is(err, store.ErrConflict) {
		return p, refusal.New(refusal.Stale, "propose again", "proposal %d is %s%s", id, p.State,
			byWhom(p.DecidedBy)+because(p.Why))
	}
	if err == nil {
		agreed := []string{}
		for _, c := range d.Consents {
			agreed = append(agreed, c.Name)
		}
		s.journal.Done(ctx, u, map[string]string{"accepted": "accept", "refused": "refuse"}[d.State], p.Stack,
			map[string]any{"proposal": id, "consents": agreed, "why": d.Why})
	}
	return p, errors.Join(err, readErr)
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}
