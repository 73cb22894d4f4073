package proposing

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"undersail/internal/accounts"
	"undersail/internal/core/address"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/secretrule"
	"undersail/internal/proposal"
)

// Field is one input of a form with what is to be said of it.
type Field struct {
	Name  string `json:"name"`
	Title string `json:"title,omitempty"`
	// Kind is what it picks, or the type of its value.
	Kind     string `json:"kind"`
	Value    any    `json:"value"`
	Origin   string `json:"origin"`
	Required bool   `json:"required"`
	Optional bool   `json:"optional,omitempty"`
	Later    bool   `json:"later,omitempty"`
	Secret   bool   `json:"secret,omitempty"`
	Generate bool   `json:"generate,omitempty"`
	Hidden   bool   `json:"hidden,omitempty"`
	Advice   string `json:"advice,omitempty"`
	// Consent is what somebody must agree to when it has a value.
	Consent string `json:"consent,omitempty"`
	// Schema is the JSON Schema of its value.
	Schema map[string]any `json:"schema"`
	// Default is what it is when nobody says anything, Computed the expression that gives
	// it. Before is what is recorded of the stack. Where it comes from is its origin.
	Default  any    `json:"default,omitempty"`
	Computed string `json:"computed,omitempty"`
	Before   any    `json:"before,omitempty"`
	// Free is the length of the free range that is drawn where none is given.
	Free int `json:"free,omitempty"`
	// Needs is the least machine that does, Sized by which table more may be needed.
	Needs *offer.Need `json:"needs,omitempty"`
	Sized *SizedField `json:"sized,omitempty"`
	// Rules bind a secret; RuleWords say them.
	Rules     *secretrule.Rules `json:"rules,omitempty"`
	RuleWords string            `json:"rule_words,omitempty"`
	Findings  []render.Finding  `json:"findings"`
}

// SizedField says which table sizes a machine, and where its figures come from.
type SizedField struct {
	Table  string `json:"table"`
	Unit   string `json:"unit"`
	Source string `json:"source,omitempty"`
}

// Page is one page of a form. Errors do not count what is only missing yet.
type Page struct {
	Title    string  `json:"title"`
	Fields   []Field `json:"fields"`
	Errors   int     `json:"errors"`
	Warnings int     `json:"warnings"`
	Missing  int     `json:"missing"`
}

// PresetCard is a preset of a template with the values that it gives.
type PresetCard struct {
	Name   string         `json:"name"`
	Title  string         `json:"title"`
	About  string         `json:"about,omitempty"`
	Inputs map[string]any `json:"inputs"`
}

// AddressPicture is the range of a network, divided into what is taken of it, what the
// stack would take, and what is left.
type AddressPicture struct {
	Network string          `json:"network"`
	Range   string          `json:"range"`
	Pieces  []address.Piece `json:"pieces"`
	// Next are other ranges of this length that are free in the region.
	Next []string `json:"next"`
}

const missingInput = "missing-input"

// pages are the inputs of a template by the pages that it names, in their order, each
// with the findings that are about it or come from it. What is hidden counts nothing.
func pages(r *reading, j proposal.Judged) []Page {
	values := map[string]render.InputValue{}
	if j.Plan.Rendering != nil {
		for _, v := range j.Plan.Rendering.Inputs {
			values[v.Name] = v
		}
	}
	out := []Page{}
	for _, in := range r.Template.Inputs {
		title := cmp.Or(in.Page, "Inputs")
		i := slices.IndexFunc(out, func(p Page) bool { return p.Title == title })
		if i < 0 {
			out, i = append(out, Page{Title: title, Fields: []Field{}}), len(out)
		}
		f := fieldOf(in, values[in.Name])
		f.Before = r.stack.Inputs[in.Name]
		for _, x := range j.Findings {
			if !slices.Contains(strings.Split(x.Inputs, ","), in.Name) {
				continue
			}
			if list, is := f.Value.([]any); is && x.Take != "" && x.From != "" { // it comes to what is there
				x.Take = strings.Join(append(listed(list), x.Take), ", ")
			}
			if f.Findings = append(f.Findings, x); f.Hidden {
				continue
			}
			switch {
			case x.Code == missingInput:
				out[i].Missing++
			case x.Severity == lang.Error:
				out[i].Errors++
			case x.Severity == lang.Warning:
				out[i].Warnings++
			}
		}
		out[i].Fields = append(out[i].Fields, f)
	}
	return out
}

// listed are the items of a list as they are typed.
func listed(list []any) (out []string) {
	for _, v := range list {
		if text := fmt.Sprint(v); text != "" {
			out = append(out, text)
		}
	}
	return out
}

func fieldOf(in *lang.Input, v render.InputValue) Field {
	f := Field{
		Name:     in.Name,
		Title:    in.Title,
		Kind:     cmp.Or(in.Picks, fmt.Sprint(in.Schema["type"])),
		Value:    v.Value,
		Origin:   v.Origin,
		Required: in.Required(),
		Optional: in.Optional,
		Later:    in.Later,
		Secret:   in.Secret,
		Generate: in.Generate,
		Hidden:   v.Hidden,
		Advice:   v.Advice,
		Consent:  in.Consent,
		Schema:   in.Schema,
		Free:     in.Free,
		Findings: []render.Finding{},
	}
	if in.Later && v.Origin == "later" {
		f.Value = nil // what it waits for is itself
	}
	switch {
	case in.Default == nil:
	case in.Default.Kind == lang.Expression:
		f.Computed = in.Default.Text
	default:
		f.Default = in.Default.Plain()
	}
	if in.Picks == "size" {
		need := render.NeedOf(in)
		f.Needs = &need
	}
	if in.SizedBy != nil {
		f.Sized = &SizedField{in.SizedBy.Table.Name, in.SizedBy.Table.Unit, in.SizedBy.Table.Source}
	}
	if in.Secret {
		f.Rules, f.RuleWords = &in.Rules, in.Rules.Words()
	}
	return f
}

func presetCards(t *lang.Template) []PresetCard {
	out := []PresetCard{}
	for _, p := range t.Presets {
		layer, err := render.PresetLayer(t, p.Name)
		if err != nil {
			continue // reading the template told it
		}
		out = append(out, PresetCard{p.Name, p.Title, p.Text, layer.Inputs})
	}
	return out
}

// picturesOf draws the ranges of the networks that a rendering makes, or puts subnets
// into.
func picturesOf(r *reading, rendering *render.Rendering) []AddressPicture {
	out := []AddressPicture{}
	home := r.Offers.Home
	if home == nil {
		return out
	}
	own := map[string]bool{} // ids of what the stack has already
	for _, x := range r.Recorded {
		own[x.ID()] = true
	}
	var others []address.Taken
	for _, t := range accounts.Taken(home, nil) { // what open proposals take is among the reserved
		if t.ID == "" || !own[t.ID] {
			others = append(others, t)
		}
	}
	for _, res := range rendering.Resources {
		if res.Type != resource.TypeNetwork || res.Region != "" {
			continue
		}
		text, _ := res.Want["range"].(string)
		for _, n := range home.Networks {
			if res.Find != nil && (res.Find["id"] == n.ID || res.Find["name"] == n.Name) {
				text = n.Range
			}
		}
		whole, err := netip.ParsePrefix(text)
		if err != nil {
			continue
		}
		around := slices.DeleteFunc(slices.Clone(others),
			func(t address.Taken) bool { return (t.Kind == address.Subnet) != (res.Find != nil) })
		p := AddressPicture{
			Network: res.Name,
			Range:   text,
			Pieces:  address.Picture(whole, around, subnetsIn(rendering, res.Name)),
			Next:    []string{},
		}
		for _, next := range address.Draw(others, whole.Bits()).Next {
			p.Next = append(p.Next, next.String())
		}
		out = append(out, p)
	}
	return out
}

// subnetsIn are the subnets of a rendering in one of its networks.
func subnetsIn(rendering *render.Rendering, network string) []address.Own {
	var out []address.Own
	for _, res := range rendering.Resources {
		text, _ := res.Want["range"].(string)
		range_, err := netip.ParsePrefix(text)
		if res.Type != resource.TypeSubnet || res.Find != nil || err != nil {
			continue
		}
		if slices.ContainsFunc(res.After, func(a render.After) bool { return a.Name == network }) {
			out = append(out, address.Own{Range: range_, Name: res.Name})
		}
	}
	return out
}
