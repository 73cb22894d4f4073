// Package policy holds the rules that look at a rendering and say what a
// careful colleague would say, and those that an organisation writes itself. It
// changes nothing and blocks nothing itself: it gives findings and consents.
package policy

import (
	"fmt"
	"slices"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
)

// Context is what rules know beside the rendering. Its zero value knows nothing, and
// then only rules that need nothing speak.
type Context struct {
	Offers offer.Everywhere
	Cost   price.Cost
	// Today is a date such as 2026-11-25.
	Today string
	// MostMonth is the cost of a month above which a consent is asked for; 0 asks none.
	MostMonth float64
	Rules     *Rules
}

// Opinion is what rules say.
type Opinion struct {
	Findings []render.Finding
	Consents []render.Consent

	told map[render.Finding]bool
}

func (o *Opinion) find(severity lang.Severity, code, place, remedy, format string, args ...any) {
	f := render.Finding{
		Severity: severity,
		Code:     code,
		Place:    place,
		Message:  fmt.Sprintf(format, args...),
		Remedy:   remedy,
	}
	if o.told[f] {
		return
	}
	if o.told == nil {
		o.told = map[render.Finding]bool{}
	}
	o.told[f], o.Findings = true, append(o.Findings, f)
}

// ask adds to what must be agreed to under a name.
func (o *Opinion) ask(name, about string) {
	for i, c := range o.Consents {
		if c.Name == name {
			o.Consents[i].About += "; " + about
			return
		}
	}
	o.Consents = append(o.Consents, render.Consent{Name: name, About: about})
}

// The consents that rules ask for.
const (
	ConsentCost     = "cost"
	ConsentRoles    = "roles"
	ConsentOpen     = "open-access"
	ConsentTerms    = "terms"
	ConsentFeatures = "features"
	// ConsentSecrets is asked for outside of the rules, which see no values.
	ConsentSecrets = "secret-use"
)

// AllConsents are the names of all that is ever asked for, but for what templates ask.
var AllConsents = []string{ConsentCost, ConsentRoles, ConsentOpen, ConsentTerms, ConsentFeatures, ConsentSecrets,
	change.LoseData, change.LiftGuard,
	change.StopServing, change.RebuildServing, change.RemoveServing}

// look is everything that a rule sees.
type look struct {
	*Opinion
	*render.Rendering
	Context
}

// rules are those that are built in, in the order in which they speak.
var rules = []func(*look){open, publicWithoutFirewall, publicData, unprotected, zonesUsed, hostsOverZones, images,
	withdrawn, tagged, passwords, roles, terms, features, bill}

// Check applies every rule to a rendering: those that are built in, then the
// organisation's.
func Check(r *render.Rendering, c Context) Opinion {
	var o Opinion
	l := &look{&o, r, c}
	for _, rule := range rules {
		rule(l)
	}
	c.Rules.apply(l)
	return o
}

// each calls f with every resource of some types that is made.
func (l *look) each(f func(r *render.Resource), types ...string) {
	for i := range l.Resources {
		if r := &l.Resources[i]; r.Find == nil && (len(types) == 0 || slices.Contains(types, r.Type)) {
			f(r)
		}
	}
}

// about finds the resource that an id in a property is that of: what it waits for.
func (l *look) target(id any) *render.Resource {
	return render.Target(l.Rendering, id)
}

// bill asks for a consent when a month costs more than the account's limit.
func bill(l *look) {
	if l.MostMonth > 0 && l.Cost.Month > l.MostMonth {
		l.ask(ConsentCost, fmt.Sprintf("a month costs about %.0f %s; above %.0f the account asks for a consent",
			l.Cost.Month, l.Cost.Currency, l.MostMonth))
	}
	if len(l.Cost.Untold) > 0 && l.Offers.Home != nil {
		l.find(lang.Warning, "cost-not-told", l.Cost.Untold[0],
			"give the account a price list: undersail accounts prices --help",
			"the cloud tells no price for %s, which comes on top of the cost", list(l.Cost.Untold))
	}
}

func list(names []string) string {
	const most = 4
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", list(names[:most]), len(names)-most)
	}
	text := ""
	for i, n := range names {
		switch {
		case i == 0:
		case i == len(names)-1:
			text += " and "
		default:
			text += ", "
		}
		text += n
	}
	return text
}
