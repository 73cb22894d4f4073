package proposing

import (
	"context"
	"slices"

	"undersail/internal/accounts"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/people"
)

// DraftChoices lists what can be chosen for an input of a draft, those that fit first.
func (s *Proposing) DraftChoices(ctx context.Context, u people.User, id, input string) ([]offer.Option, error) {
	d, err := s.draft(ctx, u, id)
	if err != nil {
		return nil, err
	}
	return s.Choices(ctx, d.Body, input)
}

// Choices lists what can be chosen for an input, those that fit first. An input that
// takes any value of its type has none.
func (s *Proposing) Choices(ctx context.Context, n NewProposal, input string) ([]offer.Option, error) {
	in, r, err := s.draftInput(ctx, n, input)
	if err != nil {
		return nil, err
	}
	if !r.isNew {
		n.Account, n.Region = r.stack.Account, r.stack.Region
	}
	out := []offer.Option{}
	if in.Secret || in.Picks == "key_pair" {
		own, err := s.ownChoices(ctx, in.Secret)
		if err != nil {
			return nil, err
		}
		if out = append(out, own...); in.Secret {
			return out, nil
		}
	}
	switch {
	case in.Picks == "stack":
		list, err := s.store.Summaries(ctx, "", draftsListed)
		for _, x := range list {
			if in.Other == nil || x.TemplateName == in.Other.About.Name {
				out = append(out, offer.Option{Value: x.Name, About: x.TemplateName + "@" + x.TemplateVersion})
			}
		}
		return out, err
	case n.Account == "":
		return out, nil
	}
	a, err := s.accounts.Find(ctx, n.Account)
	if err != nil {
		return nil, err
	}
	if in.Picks == "region" {
		for _, region := range a.Regions {
			out = append(out, offer.Option{Value: region})
		}
		return out, nil
	}
	if n.Region == "" {
		return out, nil
	}
	if err := accounts.InRegion(a, n.Region); err != nil {
		return nil, err
	}
	o, err := s.accounts.OffersOf(ctx, a, n.Region, false)
	if err != nil {
		return nil, err
	}
	reserves, err := s.accounts.Reserved(ctx, a, n.Region, r.stack.ID)
	if err != nil {
		return nil, err
	}
	list, known := render.Options(in, accounts.Counting(o, reserves))
	if known {
		out = append(out, list...)
	}
	if in.Picks == "zone" || in.Picks == "zones" {
		sellWhatIsChosen(out, r.Template, n)
	}
	return out, nil
}

// sellWhatIsChosen says of zones which of the sizes that the form has now they do not
// sell.
func sellWhatIsChosen(zones []offer.Option, t *lang.Template, n NewProposal) {
	for _, in := range t.Inputs {
		if in.Picks != "size" {
			continue
		}
		size, _ := n.Inputs[in.Name].(string)
		if size == "" && in.Default != nil && in.Default.Kind != lang.Expression {
			size, _ = in.Default.Plain().(string)
		}
		for i, z := range zones {
			if size != "" && !slices.Contains(z.Holds, size) {
				zones[i].WhyNot = append(z.WhyNot, "it does not sell "+size)
			}
		}
	}
}

// ownChoices are the secrets, or the key pairs, that stand for themselves.
func (s *Proposing) ownChoices(ctx context.Context, secrets bool) ([]offer.Option, error) {
	list, err := s.secrets.List(ctx)
	if err != nil {
		return nil, err
	}
	var out []offer.Option
	for _, n := range list {
		switch {
		case secrets && n.Kind == "secret":
			out = append(out, offer.Option{Value: "secret:" + n.Name, About: n.About})
		case !secrets && n.Kind != "secret":
			out = append(out, offer.Option{Value: "key:" + n.Name, About: n.About})
		}
	}
	return out, nil
}
