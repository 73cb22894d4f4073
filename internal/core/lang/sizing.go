package lang

import (
	"strconv"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
)

// sizing reads one sizing table.
func (d *decoder) sizing(e Entry) {
	n := e.Value
	if !d.mapping(n, "sizing table "+e.Key, "unit", "source", "rows") {
		return
	}
	table := &Sizing{Name: e.Key, Unit: d.text(n, "unit", true), Source: d.text(n, "source", false), Position: e.At}
	d.template.Sizing = append(d.template.Sizing, table)
	if n.Get("rows") == nil {
		d.errorf("missing-key", e.At, "add `rows: [{upto: 100, needs: {vcpus: 4, memory: 16GiB}}]`",
			"sizing table %s has no rows", e.Key)
	}
	d.list(n.Get("rows"), "rows", func(item *Node) {
		if !d.mapping(item, "a row", "upto", "needs") {
			return
		}
		row := SizingRow{Position: item.Position}
		upto := item.Get("upto")
		amount := 0.0
		if upto != nil {
			amount, _ = strconv.ParseFloat(upto.Text, 64)
		}
		last := 0.0
		if len(table.Rows) > 0 {
			last = table.Rows[len(table.Rows)-1].Upto
		}
		switch {
		case upto == nil:
			d.errorf("missing-key", item.Position, "add `upto: 100`", "a row does not say up to how many %s it does",
				table.Unit)
			return
		case amount <= last:
			d.errorf("value", upto.Position, "write rows in rising order", "%q is no number above %g", upto.Text, last)
			return
		}
		row.Upto = amount
		row.Needs = d.needs(item.Get("needs"))
		table.Rows = append(table.Rows, row)
	})
}

// needs reads the least machine that does.
func (d *decoder) needs(n *Node) (out Needs) {
	if n == nil || !d.mapping(n, "needs", "vcpus", "memory", "architecture", "disk_mbps", "network_gbps") {
		return out
	}
	number := func(key string) float64 {
		v := n.Get(key)
		if v == nil {
			return 0
		}
		f, err := strconv.ParseFloat(v.Text, 64)
		if err != nil || f <= 0 {
			d.errorf("value", v.Position, "write a number above 0", "`%s`: %q is no such number", key, v.Text)
		}
		return f
	}
	if v := n.Get("vcpus"); v != nil {
		cores, err := strconv.ParseInt(v.Text, 10, 64)
		if err != nil || cores < 1 {
			d.errorf("value", v.Position, "write a whole number such as 4", "%q is not a number of processors", v.Text)
		}
		out.VCPUs = cores
	}
	if v := n.Get("memory"); v != nil {
		bytes, err := resource.ParseData(v.Text)
		if err != nil {
			d.errorf("value", v.Position, "write an amount such as 16GiB", "%v", err)
		}
		out.Memory = bytes
	}
	out.Architecture = d.text(n, "architecture", false)
	out.DiskMBps, out.NetworkGbps = number("disk_mbps"), number("network_gbps")
	return out
}

// choosing reads what helps to fill an input in: a free range, a sizing table, advice.
func (d *decoder) choosing(n *Node, in *Input) {
	if v := n.Get("free"); v != nil {
		bits, err := strconv.Atoi(v.Text)
		switch {
		case err != nil || bits < 8 || bits > 29:
			d.errorf("value", v.Position, "write a length from 8 to 29, such as 20", "%q is no length of a range",
				v.Text)
		case in.Shape.Kind != resource.Range:
			d.errorf("value", v.Position, "write `type: string` and `format: cidr`, or remove `free`",
				"only address ranges are drawn free")
		case in.Default != nil:
			d.errorf("value", v.Position, "remove `default` or `free`", "a range is either drawn free or has a default")
		default:
			in.Free = bits
		}
	}
	if in.Advice = n.Get("advice"); in.Advice != nil && in.Advice.Kind != Expression && in.Advice.Kind != Scalar {
		d.errorf("kind", in.Advice.Position, "write text, or an expression that gives text", "`advice` must be text")
		in.Advice = nil
	}
	by := n.Get("sized_by")
	if by == nil || !d.mapping(by, "sized_by", "table", "for", "advises") {
		return
	}
	if in.Picks != "size" {
		d.errorf("value", by.Position, "write `picks: size`, or remove `sized_by`", "`sized_by` is for sizes")
		return
	}
	name := d.text(by, "table", true)
	var names []string
	for _, t := range d.template.Sizing {
		if names = append(names, t.Name); t.Name == name {
			d.template.UsesOffers = true
			in.SizedBy = &SizedBy{Table: t, For: by.Get("for"), Advises: d.flag(by, "advises")}
		}
	}
	switch {
	case in.SizedBy == nil && name != "":
		remedy := "add it under `sizing`"
		if names != nil {
			remedy = expr.Suggest(name, names, "the tables are "+strings.Join(names, ", "))
		}
		d.errorf("value", by.Get("table").Position, remedy, "there is no sizing table `%s`", name)
	case in.SizedBy != nil && in.SizedBy.For == nil:
		d.errorf("missing-key", by.Position, "add `for: =inputs.services`", "`sized_by` does not say for how many %s",
			in.SizedBy.Table.Unit)
		in.SizedBy = nil
	}
}

// CalcValue gives what a computed value is written as, or nil.
func (t *Template) CalcValue(name string) *Node {
	for _, c := range t.Calc {
		if c.Name == name {
			return c.Value
		}
	}
	return nil
}
