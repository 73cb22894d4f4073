package render

import (
	"fmt"
	"net/netip"
	"strings"

	"undersail/internal/core/address"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// Origins of values that nobody gave and the template asks to be chosen.
const (
	FreeRange   = "free range"
	SizingTable = "sizing table"
)

// NeedOf is what an input needs of the size that it picks.
func NeedOf(in *lang.Input) offer.Need { return needOf(in.Needs) }

// needOf is what a template needs of a size, as offers are asked for it.
func needOf(n lang.Needs) offer.Need {
	return offer.Need{
		VCPUs:        n.VCPUs,
		MemoryBytes:  n.Memory,
		Architecture: n.Architecture,
		DiskMBps:     n.DiskMBps,
		NetworkGbps:  n.NetworkGbps,
	}
}

// free gives the lowest free range of the length that an input wants. Without offers
// nothing is known to be taken.
func (e *evaluator) free(in *lang.Input) string {
	var taken []netip.Prefix
	add := func(text string) {
		if p, err := netip.ParsePrefix(text); err == nil {
			taken = append(taken, p)
		}
	}
	if o := e.request.Offers; o != nil {
		for _, n := range o.Networks {
			add(n.Range)
		}
		for _, r := range o.Reserved {
			add(r.Range)
		}
	}
	for _, other := range e.template.Inputs { // and what other inputs have, given or drawn
		if other.Shape.Kind != resource.Range || other == in {
			continue
		}
		if text, given := e.given[other.Name].(string); given {
			add(text)
		} else if other.Free > 0 && before(e.template, other, in) {
			add(e.free(other))
		}
	}
	p, ok := address.FreePrivate(taken, in.Free)
	if !ok {
		return ""
	}
	return p.String()
}

func before(t *lang.Template, a, b *lang.Input) bool {
	for _, in := range t.Inputs {
		if in == a || in == b {
			return in == a
		}
	}
	return false
}

// row finds the row of the sizing table of an input; nil where it is not known, or the
// table ends before it, which is told.
func (e *evaluator) row(in *lang.Input) (*lang.SizingRow, float64) {
	v, err := e.eval(in.SizedBy.For, resource.Shape{Kind: resource.Number}, e.vars)
	amount, ok := v.(float64)
	if whole, isWhole := v.(int64); isWhole {
		amount, ok = float64(whole), true
	}
	if err != nil || !ok || e.incomplete {
		return nil, 0
	}
	row := in.SizedBy.Table.Row(amount)
	if rows := in.SizedBy.Table.Rows; row == nil && len(rows) > 0 {
		e.find(e.binding(in), "sizing", e.scope+"inputs."+in.Name, "use less, or several of them",
			"the sizing table %s ends at %g %s, and %g are wanted", in.SizedBy.Table.Name, rows[len(rows)-1].Upto,
			in.SizedBy.Table.Unit, amount)
	}
	return row, amount
}

// bothNeeds is what an input needs of a size together with a row of its table.
func bothNeeds(in *lang.Input, row *lang.SizingRow) offer.Need {
	need, own := needOf(row.Needs), needOf(in.Needs)
	need.VCPUs, need.MemoryBytes = max(need.VCPUs, own.VCPUs), max(need.MemoryBytes, own.MemoryBytes)
	need.DiskMBps, need.NetworkGbps = max(need.DiskMBps, own.DiskMBps), max(need.NetworkGbps, own.NetworkGbps)
	if need.Architecture == "" {
		need.Architecture = own.Architecture
	}
	return need
}

func (e *evaluator) binding(in *lang.Input) lang.Severity {
	if in.SizedBy.Advises {
		return lang.Warning
	}
	return lang.Error
}

// advised gives the size that a table advises: the cheapest that does.
func (e *evaluator) advised(in *lang.Input) string {
	row, _ := e.row(in)
	if row == nil || e.request.Offers == nil {
		return ""
	}
	name, err := e.request.Offers.Cheapest(bothNeeds(in, row))
	if err != nil {
		e.find(lang.Error, "sizing", e.scope+"inputs."+in.Name, "choose another region", "%v", err)
	}
	return name
}

// complies lists what a size needs at least, and tells where a sizing table is not
// kept to. Needs of the input itself are told where sizes are picked.
func (e *evaluator) complies(in *lang.Input, name string) {
	s, sold := e.request.Offers.Size(name)
	if !sold {
		return
	}
	e.comply(in, "the least machine", in.Needs, s)
	if in.SizedBy == nil {
		return
	}
	row, amount := e.row(in)
	if row == nil {
		return
	}
	by := fmt.Sprintf("%s, %g %s", in.SizedBy.Table.Name, amount, in.SizedBy.Table.Unit)
	broken := e.comply(in, by, row.Needs, s)
	if broken == nil {
		return
	}
	remedy, take := "", ""
	if fits, err := e.request.Offers.Cheapest(bothNeeds(in, row)); err == nil {
		remedy, take = fmt.Sprintf("choose %s or a larger one, or up to %s", fits, e.carries(in, s)), fits
	}
	f := Finding{
		Severity: e.binding(in),
		Code:     "sizing",
		Place:    e.scope + "inputs." + in.Name,
		Take:     take,
		Remedy:   remedy,
		Message: fmt.Sprintf("%s is too small for %g %s: it has %s", name, amount, in.SizedBy.Table.Unit,
			strings.Join(broken, ", ")),
	}
	if !e.told[f] {
		e.told[f] = true
		e.out.Findings = append(e.out.Findings, f)
	}
}

// carries tells how much of the unit a size does for.
func (e *evaluator) carries(in *lang.Input, s offer.Size) string {
	most := 0.0
	for _, row := range in.SizedBy.Table.Rows {
		if e.request.Offers.WhyNot(s, needOf(row.Needs)) != nil {
			break
		}
		most = row.Upto
	}
	return fmt.Sprintf("%g %s", most, in.SizedBy.Table.Unit)
}

// comply adds the lines of a need, and gives what is broken in words.
func (e *evaluator) comply(in *lang.Input, by string, n lang.Needs, s offer.Size) (broken []string) {
	for _, x := range []struct {
		what, words, needed, chosen string
		asked, met                  bool
	}{
		{"vcpus", "vcpus", fmt.Sprint(n.VCPUs), fmt.Sprint(s.VCPUs), n.VCPUs > 0, s.VCPUs >= n.VCPUs},
		{"memory", "of memory", resource.FormatData(n.Memory), resource.FormatData(s.MemoryBytes), n.Memory > 0,
			s.MemoryBytes >= n.Memory},
		{"architecture", "as architecture", n.Architecture, s.Architecture, n.Architecture != "",
			s.Architecture == n.Architecture},
		{"MB/s to disks", "MB/s to disks", fmt.Sprintf("%g", n.DiskMBps), fmt.Sprintf("%g", s.DiskMBps), n.DiskMBps > 0,
			s.DiskMBps >= n.DiskMBps},
		{"Gbit/s to the network", "Gbit/s to the network", fmt.Sprintf("%g", n.NetworkGbps),
			fmt.Sprintf("%g", s.NetworkGbps), n.NetworkGbps > 0, s.NetworkGbps >= n.NetworkGbps},
	} {
		if !x.asked {
			continue
		}
		e.out.Compliance = append(e.out.Compliance, Compliance{
			Input:  e.scope + in.Name,
			By:     by,
			What:   x.what,
			Needed: x.needed,
			Chosen: x.chosen,
			Met:    x.met,
		})
		if !x.met {
			broken = append(broken, fmt.Sprintf("%s %s (%s needed)", x.chosen, x.words, x.needed))
		}
	}
	return broken
}

// advise computes what the template says beside its inputs.
func (e *evaluator) advise() {
	for _, in := range e.template.Inputs {
		if in.Advice == nil {
			continue
		}
		v, err := e.eval(in.Advice, resource.Shape{Kind: resource.String}, e.vars)
		text, known := v.(string)
		if err != nil || !known || e.incomplete {
			continue
		}
		for i := range e.out.Inputs {
			if e.out.Inputs[i].Name == in.Name {
				e.out.Inputs[i].Advice = text
			}
		}
	}
}

// Options lists what can be chosen for an input: the values that its schema names, or
// what the offers have of what it picks. False says that anything of its type may be
// given.
func Options(in *lang.Input, o *offer.Offers) ([]offer.Option, bool) {
	if list, ok := in.Schema["enum"].([]any); ok {
		out := []offer.Option{}
		for _, v := range list {
			out = append(out, offer.Option{Value: fmt.Sprint(v)})
		}
		return out, true
	}
	if o == nil || in.Picks == "" {
		return nil, false
	}
	return o.Options(in.Picks, needOf(in.Needs))
}
