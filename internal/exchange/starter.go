package exchange

import (
	"cmp"
	_ "embed" // the text of a starter
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"text/template"
)

// Starter is the small set of answers from which a first template is written.
type Starter struct {
	Name  string `json:"name"`
	Title string `json:"title,omitempty"`
	// With lists what the stack has beside a network and a machine; see Extras.
	With []string `json:"with,omitempty"`
	// Tiers stand behind the machine, one behind the other.
	Tiers []Tier `json:"tiers,omitempty"`
}

// Tier is a group of like machines in a subnet of their own, which only the tier before
// it may ask, on one port.
type Tier struct {
	Name     string `json:"name"`
	Machines int    `json:"machines"`
	Port     int    `json:"port"`
}

// mostTiers is how many a starter has at most.
const mostTiers = 8

// starterNames are taken by what every starter may have.
var starterNames = strings.Fields("net front_subnet back_subnet access rules data machine worker size image workers " +
	"disk_size disk_type range readers admin_sources password parts front back stack inputs calc self index offers")

var tierName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,20}$`)

// Faults tells what is wrong with the answers; Write writes only from right ones.
func (s Starter) Faults() error {
	if !starterName.MatchString(s.Name) {
		return fmt.Errorf("%q is no name of a template: use small letters, digits and hyphens, such as tide-board",
			s.Name)
	}
	for _, x := range s.With {
		if !slices.ContainsFunc(Extras, func(e struct{ Name, About string }) bool { return e.Name == x }) {
			return fmt.Errorf("there is nothing called %q to begin with", x)
		}
	}
	if len(s.Tiers) > mostTiers {
		return fmt.Errorf("%d tiers are more than %d; begin with fewer and add them in the text", len(s.Tiers),
			mostTiers)
	}
	taken := slices.Clone(starterNames)
	for _, t := range s.Tiers {
		switch {
		case !tierName.MatchString(t.Name):
			return fmt.Errorf("%q is no name of a tier: use small letters, digits and underscores", t.Name)
		case slices.Contains(taken, t.Name):
			return fmt.Errorf("the name %q is taken; choose another for the tier", t.Name)
		case t.Machines < 1 || t.Machines > 16:
			return fmt.Errorf("tier %s has %d machines; give 1 to 16", t.Name, t.Machines)
		case t.Port < 1 || t.Port > 65535:
			return fmt.Errorf("tier %s listens at port %d; give 1 to 65535", t.Name, t.Port)
		}
		taken = append(taken, t.Name, t.Name+"_subnet", t.Name+"_rules")
	}
	return nil
}

var starterName = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// Extras are what a starter may have beside a network and a machine.
var Extras = []struct{ Name, About string }{
	{"public", "a public address and rules that say who may connect"},
	{"login", "a key pair to log in with, and a range that may"},
	{"disk", "a data disk that outlives rebuilds of the machine"},
	{"password", "a secret that is drawn at acceptance"},
	{"workers", "a number of workers behind the machine"},
}

//go:embed starter.tmpl
var starterText string

var starterTemplate = template.Must(template.New("starter").Parse(starterText))

// begun is what the text of a starter is written from.
type begun struct {
	Starter
	Tiers []begunTier
}

// begunTier is a tier with what is before it.
type begunTier struct {
	Tier
	Label, Before, From string // as names of machines say it; the tier before, and its part of the range
}

// Write writes a template that passes every check, with comments that say what
// to fill in. Name and extras must be right; see Extras. What differs from cloud to cloud
// is picked when a stack is prepared.
func (s Starter) Write(w io.Writer) error {
	out := begun{Starter: s}
	out.Title = cmp.Or(s.Title, s.Name)
	before, from := "machine", "front"
	for _, t := range s.Tiers {
		out.Tiers = append(out.Tiers, begunTier{t, strings.ReplaceAll(t.Name, "_", "-"), before, from})
		before, from = t.Name, t.Name
	}
	if err := starterTemplate.Execute(w, out); err != nil {
		return fmt.Errorf("writing the template %s: %w", s.Name, err)
	}
	return nil
}

// Has says whether a starter has an extra; see Extras.
func (s begun) Has(extra string) bool { return slices.Contains(s.With, extra) }

// Rules are who may connect to the machine, as one expression; it is empty where nobody may.
func (s begun) Rules() string {
	var rules []string
	if s.Has("public") {
		rules = append(rules, `inputs.readers.map(r, firewall_rule{from: r, port: 80, about: "readers"})`)
	}
	if s.Has("login") {
		rules = append(rules, `inputs.admin_sources.map(r, firewall_rule{from: r, port: 22, about: "administrators"})`)
	}
	return strings.Join(rules, " +\n        ")
}
