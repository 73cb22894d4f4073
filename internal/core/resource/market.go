package resource

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Market is what a cloud sells in a region, as far as types ask for it. Lists are
// those that properties pick from, such as size, disk_type or address.
type Market interface {
	// Amount tells how much of something an item of a list gives or costs, such as
	// the vcpus or the hour of a size; data is in bytes. False says that it is not
	// sold or not told.
	Amount(list, item, amount string) (float64, bool)
	// Word tells something of an item in a word, such as the quota of a size, or "".
	Word(list, item, word string) string
}

// Measure tells how much of something a resource is: one, or what a property says.
// A boolean measures one when it is true, a whole number itself, data its GiB, and
// the name of something sold the Amount of that. Times multiplies by another
// property, and Or stands in where the property is left out.
type Measure struct {
	Property string `json:"property,omitempty"`
	Or       string `json:"or,omitempty"`
	Amount   string `json:"amount,omitempty"`
	Times    string `json:"times,omitempty"`
	// Each adds up a field of the items of a list; a list without it measures its items.
	Each string `json:"each,omitempty"`
}

// Draw says how much of a quota a resource takes while it is there. Where Named is
// set, what that property names in the market tells the quota: the family of a size.
type Draw struct {
	Quota string  `json:"quota,omitempty"`
	Named string  `json:"named,omitempty"`
	Of    Measure `json:"of,omitzero"`
	// Unless names a property: where it is wanted, something else pays for this.
	Unless string `json:"unless,omitempty"`
}

// Price is one part of what a resource costs in an hour: an Amount of an item of a
// List, which the property Of names, times a measure of the resource.
// With names a second property that tells the item apart.
type Price struct {
	List   string  `json:"list"`
	Of     string  `json:"of,omitempty"`
	With   string  `json:"with,omitempty"`
	Amount string  `json:"amount"`
	Times  Measure `json:"times,omitzero"`
	// Most names a property that says how many times it may become without anybody's doing.
	Most  string `json:"most,omitempty"`
	About string `json:"about,omitempty"`
	// Unless names a property: where it is wanted, something else pays for this.
	Unless string `json:"unless,omitempty"`
}

// Unique says that no two resources of a type may have the same value of a property
// at a time: within what another property names, else within the region. Overlap
// says that ranges that overlap count as the same. A property within a list is
// written disks.disk.
type Unique struct {
	Property string `json:"property"`
	Within   string `json:"within,omitempty"`
	Overlap  bool   `json:"overlap,omitempty"`
}

func one(quota string) Draw { return Draw{Quota: quota} }

// Of measures wanted values. What is not known yet measures nothing.
func (m Measure) of(t Type, want map[string]any, market Market) float64 {
	if m.Property == "" {
		return 1
	}
	name := m.Property
	if want[name] == nil && m.Or != "" {
		name = m.Or
	}
	p, _ := t.Property(name)
	n := 0.0
	switch v := want[name].(type) {
	case bool:
		if v {
			n = 1
		}
	case int64:
		n = float64(v)
	case float64:
		n = v
	case []any:
		n = m.sum(v)
	case Unresolved:
		if p.Refers != "" && p.Shape.Kind == List { // computed from ids: each of them is an item
			n = float64(len(v.Waits))
		}
	case string:
		if m.Amount != "" && market != nil {
			n, _ = market.Amount(p.Picks, v, m.Amount)
		} else if bytes, err := ParseData(v); err == nil {
			n = float64(bytes) / (1 << 30)
		}
	}
	if m.Times != "" {
		n *= Measure{Property: m.Times}.of(t, want, market)
	}
	return n
}

// sum adds up what the items of a list measure.
func (m Measure) sum(list []any) float64 {
	if m.Each == "" {
		return float64(len(list))
	}
	n := 0.0
	for _, item := range list {
		fields, _ := item.(map[string]any)
		switch v := fields[m.Each].(type) {
		case int64:
			n += float64(v)
		case float64:
			n += v
		}
	}
	return n
}

// Takes calls f with how much of each quota a resource with these wanted values
// takes.
func (t Type) Takes(want map[string]any, market Market, f func(quota string, n int64)) {
	for _, d := range t.Draws {
		if d.Unless != "" && want[d.Unless] != nil {
			continue
		}
		n, quota := int64(d.Of.of(t, want, market)), d.Quota
		if d.Named != "" && market != nil {
			item, _ := want[d.Named].(string)
			p, _ := t.Property(d.Named)
			quota = market.Word(p.Picks, item, "quota")
		}
		if n > 0 && quota != "" {
			f(quota, n)
		}
	}
}

// Bill is what a resource costs while it is there.
type Bill struct {
	Hour float64 // all of it, licence included
	// Most is what an hour costs when everything has grown as far as it may.
	Most float64
	// Licence is the part of an hour that the software costs.
	Licence float64
	// Ahead is the price of a month in which everything that can be is paid in advance;
	// 0 where nothing of it can.
	Ahead float64
	About string
	// Untold says that something of it has a price that the cloud does not tell.
	Untold bool
}

// HoursPerMonth is the length of a month in every monthly figure: 365.25 days in 12
// parts.
const HoursPerMonth = 730.5

// Bill computes what a resource with these wanted values costs, and from what.
func (t Type) Bill(want map[string]any, market Market) Bill {
	var b Bill
	var parts []string
	ahead, sold := 0.0, false
	for _, p := range t.Prices {
		if p.Unless != "" && want[p.Unless] != nil {
			continue
		}
		times := p.Times.of(t, want, market)
		most := times
		if p.Most != "" {
			most = max(times, Measure{Property: p.Most}.of(t, want, market))
		}
		item := ""
		if p.Of != "" {
			item, _ = want[p.Of].(string)
		}
		if p.With != "" {
			if item == "" {
				continue
			}
			with, _ := want[p.With].(string)
			item += "/" + with
		}
		if most == 0 {
			continue
		}
		unit, known := market.Amount(p.List, item, p.Amount)
		if !known {
			b.Untold = true
			continue
		}
		if unit == 0 {
			continue // such as a licence of one's own
		}
		if b.Most += unit * most; times == 0 {
			continue
		}
		b.Hour += unit * times
		if p.List == "licence" {
			b.Licence += unit * times
		}
		month, byMonth := market.Amount(p.List, item, "month")
		if sold = sold || byMonth; !byMonth {
			month = unit * HoursPerMonth
		}
		ahead += month * times
		switch size, _ := want[p.Times.Property].(string); {
		case p.About != "":
			parts = append(parts, p.About)
		case size != "":
			parts = append(parts, size+" of "+item)
		default:
			parts = append(parts, item)
		}
	}
	if b.About = strings.Join(parts, " with "); sold {
		b.Ahead = ahead
	}
	return b
}

// Values gives the values of a unique property: itself, or that of each item of its
// list. What is not known yet is left out.
func (u Unique) Values(want map[string]any) []string {
	name, inner, nested := strings.Cut(u.Property, ".")
	if !nested {
		if text, ok := want[name].(string); ok && text != "" {
			return []string{text}
		}
		return nil
	}
	var out []string
	list, _ := want[name].([]any)
	for _, item := range list {
		fields, _ := item.(map[string]any)
		if text, ok := fields[inner].(string); ok {
			out = append(out, text)
		}
	}
	return out
}

// Clash gives the value that two resources of a type cannot both have, or "".
func (u Unique) Clash(a, b map[string]any) string {
	if u.Within != "" {
		x, okX := a[u.Within].(string)
		y, okY := b[u.Within].(string)
		if !okX || !okY || x != y {
			return ""
		}
	}
	for _, x := range u.Values(a) {
		for _, y := range u.Values(b) {
			if x == y {
				return x
			}
			if p, errX := ParseRange(x); u.Overlap && errX == nil {
				if q, errY := ParseRange(y); errY == nil && p.Overlaps(q) {
					return y
				}
			}
		}
	}
	return ""
}

// Key tells the items of a list apart: by the fields that the shape names, by the
// value of scalars. It is empty where only the place tells them apart.
func (s Shape) Key(item any) string {
	if s.Scalar() {
		return strings.Trim(plainText(item), `"`)
	}
	fields, _ := item.(map[string]any)
	var parts []string
	for _, name := range s.Identity {
		if v, there := fields[name]; there {
			if name == s.Identity[0] && len(s.Identity) == 1 {
				parts = append(parts, strings.Trim(plainText(v), `"`))
			} else {
				parts = append(parts, name+" "+strings.Trim(plainText(v), `"`))
			}
		}
	}
	return strings.Join(parts, " ")
}

func plainText(v any) string {
	if f, ok := v.(float64); ok && f == float64(int64(f)) {
		v = int64(f) // a whole number that went through JSON
	}
	if m, ok := v.(map[string]any); ok {
		if waits := Pending(m); waits != nil {
			return "waits for " + strings.Join(waits, ", ")
		}
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(raw)
}

// Unordered reports whether the items of a list are told apart by what they are, so
// that their order means nothing: objects with an identity, and the ids that a
// property refers to.
func (p Property) Unordered() bool {
	return p.Shape.Kind == List && p.Shape.Items != nil &&
		(len(p.Shape.Items.Identity) > 0 || p.Refers != "" && p.Shape.Items.Scalar())
}

// by names the fields that tell items of the shape apart.
func (s Shape) by(fields ...string) Shape {
	s.Identity = fields
	return s
}

// References lists the properties whose values are ids of other resources, with
// every id that stands in a tree of wanted values there.
func (t Type) References(want map[string]any, f func(property Property, id any)) {
	references(t.Properties, want, f)
}

func references(properties []Property, want map[string]any, f func(Property, any)) {
	for _, p := range properties {
		v, there := want[p.Name]
		if !there {
			continue
		}
		list, many := v.([]any)
		switch {
		case p.Refers != "" && many:
			for _, id := range list {
				f(p, id)
			}
		case p.Refers != "":
			f(p, v)
		case many && p.Shape.Items != nil:
			for _, item := range list {
				if fields, ok := item.(map[string]any); ok {
					references(p.Shape.Items.Fields, fields, f)
				}
			}
		}
	}
}

// RefersTo reports whether wanted values hold an id of another resource.
func (t Type) RefersTo(want map[string]any, id string) bool {
	found := false
	t.References(want, func(_ Property, v any) { found = found || v == any(id) })
	return found
}

// Quotas names the quotas that the type draws on, each once.
func (t Type) Quotas() []string {
	var out []string
	for _, d := range t.Draws {
		name := d.Quota
		if d.Named != "" {
			name = "that of its " + d.Named
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}
