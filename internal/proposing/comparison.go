package proposing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"undersail/internal/accounts"
	"undersail/internal/core/budget"
	"undersail/internal/core/fit"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/refusal"
)

// Compared asks for variants of a template side by side.
type Compared struct {
	NewProposal
	// Variants are laid over what the proposal gives. None compares the presets of the
	// template, with the template as it is given.
	Variants []NewVariant `json:"variants,omitempty"`
	// Fixed is what a variant costs in a month beside the cloud's bill, by its name.
	Fixed map[string]float64 `json:"fixed,omitempty"`
}

// NewVariant is one variant: another preset, other inputs, another region. What is
// empty is as in the proposal that is asked for.
type NewVariant struct {
	Name   string         `json:"name"`
	Preset string         `json:"preset,omitempty"`
	Region string         `json:"region,omitempty"`
	Layers []render.Layer `json:"layers,omitempty"`
	Inputs map[string]any `json:"inputs,omitempty"`
}

// Comparison is variants side by side.
type Comparison struct {
	Template string        `json:"template"`
	Account  string        `json:"account"`
	Variants []fit.Variant `json:"variants"`
	// Overtakings tell from which use on one is cheaper than another.
	Overtakings []fit.Overtaking `json:"overtakings"`
	At          time.Time        `json:"at"`
}

// Compare puts variants of a template side by side. It calls no cloud that was asked
// a short while ago, and saves nothing.
func (s *Proposing) Compare(ctx context.Context, q Compared) (Comparison, error) {
	r, err := s.atPlace(ctx, q.NewProposal)
	if err != nil {
		return Comparison{}, err
	}
	variants := q.Variants
	if len(variants) == 0 {
		variants = []NewVariant{{Name: "as given"}}
		for _, p := range r.Template.Presets {
			variants = append(variants, NewVariant{Name: p.Name, Preset: p.Name})
		}
	}
	out := Comparison{
		Template: r.Template.About.Name + "@" + r.Template.About.Version,
		Account:  r.account.Name,
		Variants: []fit.Variant{},
		At:       oldest(r.all),
	}
	for _, v := range variants {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		request, err := r.request(q.NewProposal, v)
		if err != nil {
			return out, err
		}
		region := cmp.Or(v.Region, q.Region, r.all[0].Region)
		if err := accounts.InRegion(r.account, region); err != nil {
			return out, err
		}
		i := slices.IndexFunc(r.all, func(o *offer.Offers) bool { return o.Region == region })
		var placed fit.Variant
		if err := s.turns.Compute(ctx, func(b *budget.Budget) {
			request.Most = mostResources
			placed = fit.Place(b, v.Name, request, r.all, r.all[i])
		}); err != nil {
			return out, err
		}
		out.Variants = append(out.Variants, placed)
	}
	out.Overtakings = fit.Overtakings(fit.Bills(out.Variants, q.Fixed))
	return out, nil
}

// FitTemplate tells where a template can run as it is, for how much, and what is
// missing elsewhere.
func (s *Proposing) FitTemplate(ctx context.Context, n NewProposal) (Comparison, error) {
	r, err := s.atPlace(ctx, n)
	if err != nil {
		return Comparison{}, err
	}
	request, err := r.request(n, NewVariant{})
	if err != nil {
		return Comparison{}, err
	}
	var variants []fit.Variant
	if err := s.turns.Compute(ctx, func(b *budget.Budget) {
		request.Most = mostResources
		variants = fit.Places(b, request, r.all)
	}); err != nil {
		return Comparison{}, err
	}
	return Comparison{
		Template:    r.Template.About.Name + "@" + r.Template.About.Version,
		Account:     r.account.Name,
		Variants:    variants,
		Overtakings: []fit.Overtaking{},
		At:          oldest(r.all),
	}, nil
}

// atPlaces is a template with the offers of all regions of an account.
type atPlaces struct {
	*reading
	all []*offer.Offers
}

// atPlace reads a template and the offers of an account, for what is not yet proposed.
func (s *Proposing) atPlace(ctx context.Context, n NewProposal) (atPlaces, error) {
	r := atPlaces{reading: &reading{offline: true, isNew: true}}
	if n.Account == "" {
		return r, refusal.New(refusal.Invalid, "add --account", "name the account whose offers are meant")
	}
	var err error
	if r.account, err = s.accounts.Find(ctx, n.Account); err != nil {
		return r, err
	}
	if err := s.readTemplate(ctx, r.reading, n); err != nil {
		return r, err
	}
	if r.all, err = s.accounts.InEveryRegion(ctx, r.account, nil); err != nil {
		return r, err
	}
	reserves, err := s.accounts.Reserved(ctx, r.account, "", "")
	for i, o := range r.all {
		r.all[i] = accounts.Counting(o, reserves)
	}
	return r, err
}

// request puts the inputs of a variant together.
func (r atPlaces) request(n NewProposal, v NewVariant) (render.Request, error) {
	preset, err := render.PresetLayer(r.Template, n.Preset)
	own, ownErr := render.PresetLayer(r.Template, v.Preset)
	if err = errors.Join(err, ownErr); err != nil {
		return render.Request{}, refusal.New(refusal.Invalid, "choose one that the template has, or none", "%v", err)
	}
	layers := append(append([]render.Layer{preset}, n.Layers...), render.Layer{From: "given", Inputs: n.Inputs})
	layers = append(append(append(layers, own), v.Layers...), render.Layer{From: "variant " + v.Name, Inputs: v.Inputs})
	request := render.Request{
		Template: r.Template,
		Stack: render.Stack{
			Name:    cmp.Or(n.Stack, r.Template.About.Name),
			ID:      render.FixedID,
			Account: r.account.Name,
			Cloud:   r.account.Cloud,
		},
	}
	request.Inputs, request.Origins = render.Merge(layers...)
	request.Inputs = maps.Clone(request.Inputs)
	for _, in := range r.Template.Inputs { // what a secret would be makes no difference here
		_, named := strings.CutPrefix(fmt.Sprint(request.Inputs[in.Name]), "secret:")
		if in.Secret && named {
			delete(request.Inputs, in.Name)
		}
		if in.Secret && request.Inputs[in.Name] == nil && (named || !in.Generate && !in.Optional) {
			request.Secrets = orNew(request.Secrets)
			request.Secrets[in.Name] = fmt.Sprintf("%s/%s@0", request.Stack.Name, in.Name)
		}
	}
	return request, nil
}

func orNew(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

// Search is a need, with the account in which it is looked for.
type Search struct {
	Account string   `json:"account"`
	Need    fit.Need `json:"need"`
	// Most is how many answers that fit are given, and how many that do not.
	Most int `json:"most,omitempty"`
}

// Found is what fits a need, best first, and what does not, nearest first.
type Found struct {
	Fits     []fit.Answer `json:"fits"`
	Rejected []fit.Answer `json:"rejected"`
	// Fitting and Others count all of them.
	Fitting int `json:"fitting"`
	Others  int `json:"others"`
	// At is when the oldest of the offers was told.
	At time.Time `json:"at"`
}

// Fit ranks what an account can have against a need.
func (s *Proposing) Fit(ctx context.Context, q Search) (Found, error) {
	a, err := s.accounts.Find(ctx, q.Account)
	if err != nil {
		return Found{}, err
	}
	for _, region := range q.Need.Regions {
		if err := accounts.InRegion(a, region); err != nil {
			return Found{}, err
		}
	}
	offers, err := s.accounts.InEveryRegion(ctx, a, nil)
	if err != nil {
		return Found{}, err
	}
	reserves, err := s.accounts.Reserved(ctx, a, "", "")
	if err != nil {
		return Found{}, err
	}
	for i, o := range offers {
		offers[i] = accounts.Counting(o, reserves)
	}
	var answers []fit.Answer
	var refused error
	if err := s.turns.Compute(ctx, func(*budget.Budget) { answers, refused = fit.Search(q.Need, offers) }); err != nil {
		return Found{}, err
	}
	if err := refused; err != nil {
		return Found{}, refusal.New(refusal.Invalid, "see: undersail fit --help", "%v", err)
	}
	found := Found{Fits: []fit.Answer{}, Rejected: []fit.Answer{}, At: oldest(offers)}
	for _, x := range answers {
		list, count := &found.Fits, &found.Fitting
		if len(x.WhyNot) > 0 {
			list, count = &found.Rejected, &found.Others
		}
		if *count++; q.Most == 0 || *count <= q.Most {
			*list = append(*list, x)
		}
	}
	return found, nil
}

func oldest(offers []*offer.Offers) time.Time {
	var at time.Time
	for _, o := range offers {
		if at.IsZero() || o.At.Before(at) {
			at = o.At
		}
	}
	return at
}
