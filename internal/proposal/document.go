package proposal

import (
	"slices"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/secretrule"
	"undersail/internal/core/use"
)

// Document is the immutable content of a proposal: everything that a run needs,
// so that another replica or a newer program can carry it out.
type Document struct {
	Template TemplateText   `json:"template"`
	Stack    render.Stack   `json:"stack"`
	Inputs   map[string]any `json:"inputs"`
	// Found holds what is reported of resources that are used, not made.
	Found map[string]map[string]any `json:"found,omitempty"`
	// Stacks holds the outputs of the stacks that inputs pick; secret ones by
	// references of this stack.
	Stacks  map[string]map[string]any `json:"stacks,omitempty"`
	Secrets map[string]string         `json:"secrets"` // references by input or key pair
	Draw    []Draw                    `json:"draw"`    // drawn at acceptance
	Offers  offer.Offers              `json:"offers"`
	// Elsewhere are the offers of the other regions that the template names.
	Elsewhere map[string]*offer.Offers `json:"elsewhere,omitempty"`
	Rendering *render.Rendering        `json:"rendering,omitempty"`
	Changes   []change.Change          `json:"changes"`
	// Actions are the order in which the changes are made; documents of older
	// programs have none.
	Actions  []change.Action  `json:"actions,omitempty"`
	Findings []render.Finding `json:"findings"`
	// Consents are what somebody must agree to by name.
	Consents []render.Consent `json:"consents,omitempty"`
	// Uses are what secrets are opened for; the consent of that name is about those that are
	// new. Documents of older programs do not list them.
	Uses       []use.Use `json:"uses,omitempty"`
	UsesListed bool      `json:"uses_listed,omitempty"`
	// TextBy is who wrote the template's text, Keys are the named key pairs by their public
	// halves, and Handed what the secrets of other stacks are made of.
	TextBy string              `json:"text_by,omitempty"`
	Keys   map[string]string   `json:"keys,omitempty"`
	Handed map[string][]string `json:"handed,omitempty"`
	// Carried are what carries secrets that it was given before, by name or id.
	Carried map[string][]string `json:"carried,omitempty"`
	// Told are the machines that are given secrets, by name, whatever way.
	Told map[string][]string `json:"told,omitempty"`
	// AuthorRoles are what whoever proposed it might at that moment.
	AuthorRoles []string `json:"author_roles,omitempty"`
	// Gives are values for a run that goes on, and GivesTo is that run.
	Gives   map[string]any `json:"gives,omitempty"`
	GivesTo int64          `json:"gives_to,omitempty"`
	// Given are consents that were given with what the proposal goes on from.
	Given   []render.Consent `json:"given,omitempty"`
	Cost    price.Cost       `json:"cost"`
	CostNow price.Cost       `json:"cost_now"`
	// Seconds is the expected duration in real seconds, Longest the chain of
	// resources that decides it; Rate is the account's clock.
	Seconds float64  `json:"seconds"`
	Longest []string `json:"longest"`
	// Interruptions are what happens to what serves, and why.
	Interruptions []change.Interruption `json:"interruptions,omitempty"`
	Rate          float64               `json:"rate,omitempty"`
	// Reserves are what it takes of quotas and ranges; Promise is how long the template
	// says that it takes, on the account's clock.
	Reserves []Reserve `json:"reserves,omitempty"`
	Promise  int64     `json:"promise,omitempty"`
	// Basis is the newest run of the stack when the proposal was made; a run
	// since then makes the proposal stale.
	Basis int64 `json:"basis"`
	// Attempt is which of its attempts that was; 0 in documents of before they were counted.
	Attempt int `json:"attempt,omitempty"`
	// Discards is the token of the kept resource that is removed for good.
	Discards string `json:"discards,omitempty"`
	// DiscardsAs is how that was kept, as STACK/NAME; empty in older documents.
	DiscardsAs string `json:"discards_as,omitempty"`
	// Keep names what stays in the cloud although it leaves the stack.
	Keep []string `json:"keep,omitempty"`
	// LiftGuard names what may be rebuilt or removed although it is guarded.
	LiftGuard []string `json:"lift_guard,omitempty"`
	// Again names tasks that are run again although nothing of them changes.
	Again []string `json:"again,omitempty"`
	// Rebuild names what is made anew although nothing of it changes.
	Rebuild []string `json:"rebuild,omitempty"`
	// SecondPerson says that somebody else than its author must accept it.
	SecondPerson bool `json:"second_person,omitempty"`
}

// Everywhere gives the offers that the proposal was made with.
func (d Document) Everywhere() offer.Everywhere {
	return offer.Everywhere{Home: &d.Offers, Elsewhere: d.Elsewhere}
}

// Terms names the terms of images that it uses and that the account has not accepted.
func (d Document) Terms() []string {
	var out []string
	if d.Rendering == nil {
		return out
	}
	for _, r := range d.Rendering.Resources {
		o := d.Everywhere().In(r.Region)
		name, _ := r.Want["image"].(string)
		if o == nil || r.Find != nil {
			continue
		}
		image, sold := o.Image(name)
		if sold && image.Terms != nil && !image.Terms.Accepted && !slices.Contains(out, image.Terms.Name) {
			out = append(out, image.Terms.Name)
		}
	}
	return out
}

// TurnsOn names the features, by region, that it uses and that the account has not turned
// on.
func (d Document) TurnsOn() map[string][]string {
	out := map[string][]string{}
	if d.Rendering == nil {
		return out
	}
	for _, r := range d.Rendering.Resources {
		o := d.Everywhere().In(r.Region)
		for _, f := range r.Features {
			if o != nil && slices.Contains(o.Off, f) && !slices.Contains(out[o.Region], f) {
				out[o.Region] = append(out[o.Region], f)
			}
		}
	}
	return out
}

// TemplateText is the exact template.
type TemplateText struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	File    string `json:"file"`
	Digest  string `json:"digest"`
	Source  string `json:"source"`
	// Parts are the templates and files that it embeds.
	Parts []lang.Bundle `json:"parts,omitempty"`
}

// Bundle is the template with all that it embeds.
func (t TemplateText) Bundle() lang.Bundle {
	return lang.Bundle{File: t.File, Source: t.Source, Parts: t.Parts}
}

// Draw is a secret to draw when the proposal is first accepted.
type Draw struct {
	Reference string `json:"reference"`
	Kind      string `json:"kind"` // generated or private_key
	Input     string `json:"input,omitempty"`
	// Rules bind a generated secret of an embedded template.
	Rules secretrule.Rules `json:"rules,omitzero"`
}
