package lang

import (
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/health"
	"undersail/internal/core/resource"
)

// Embed is the type name of a declaration that embeds another template.
const Embed = "template"

var (
	resourceKeys = strings.Fields("type when repeat after find was region want health patience guard rebuild pace " +
		"at_retire leave features makes extra")
	embedKeys = strings.Fields("type when repeat after from inputs")
)

func (d *decoder) resource(e Entry) {
	n := e.Value
	res := &Resource{Name: e.Key, Position: e.At, When: n.Get("when"), Want: n.Get("want")}
	keys := resourceKeys
	if v := n.Get("type"); v != nil && v.Text == Embed {
		keys = embedKeys
	}
	if !d.mapping(n, "resource "+e.Key, keys...) {
		return
	}
	d.template.Resources = append(d.template.Resources, res)
	d.resourceType(n, res)
	if res.When != nil && res.When.Kind != Expression {
		d.errorf("value", res.When.Position, "write a condition, such as =inputs.with_archive",
			"`when` must be an expression")
		res.When = nil
	}
	res.Repeat = d.repeat(n.Get("repeat"))
	if res.When != nil && res.Repeat != nil {
		d.errorf("value", res.When.Position, "repeat over an empty list, or 0 times, instead",
			"`when` and `repeat` cannot stand together")
	}
	d.after(n.Get("after"), res)
	if res.Want == nil {
		res.Want = &Node{Position: e.At, Kind: Mapping}
	}
	if res.Type.Name == Embed {
		d.embed(n, res)
		return
	}
	d.list(n.Get("health"), "health", func(c *Node) {
		if check, ok := d.healthCheck(c, res.Type.Patience); ok {
			res.Health = append(res.Health, check)
		}
	})
	if res.Patience = d.span(n, "patience"); res.Patience == 0 {
		res.Patience = res.Type.Patience
	}
	d.conduct(n, res)
}

func (d *decoder) resourceType(n *Node, res *Resource) {
	name := d.text(n, "type", true)
	if name == Embed {
		res.Type = resource.Type{Name: Embed}
		return
	}
	var known bool
	if res.Type, known = resource.ByName(name); !known && n.Get("type") != nil && name != "" {
		names := append(resource.TypeNames(), Embed)
		d.errorf("unknown-type", n.Get("type").Position,
			expr.Suggest(name, names, "the types are "+strings.Join(names, ", ")), "there is no resource type `%s`",
			name)
	}
}

// conduct reads how a resource behaves in changes.
func (d *decoder) conduct(n *Node, res *Resource) {
	res.Find, res.Region, res.Extra = n.Get("find"), n.Get("region"), n.Get("extra")
	res.Guard = n.Get("guard")
	res.Was = d.text(n, "was", false)
	if v := n.Get("was"); v != nil && (!namePattern.MatchString(res.Was) || res.Was == res.Name) {
		d.errorf("value", v.Position, "write the name that the resource had before",
			"`was` holds %q, which is no earlier name", res.Was)
	}
	res.Rebuild = d.choice(n, "rebuild", "old_first", "new_first")
	res.AtRetire = d.choice(n, "at_retire", "", "keep", "snapshot")
	if res.AtRetire == "snapshot" && res.Type.Name != "" && !res.Type.Copied {
		d.errorf("value", n.Get("at_retire").Position, "write keep, or remove the key",
			"only disks and databases have snapshots, not %s", Article(res.Type.Name))
	}
	if pace := n.Get("pace"); pace != nil && d.mapping(pace, "pace", "at_once") {
		res.AtOnce = d.number(pace, "at_once", 1, 1000)
		if pace.Get("at_once") == nil {
			d.errorf("missing-key", pace.Position, "write `pace: {at_once: 1}`",
				"`pace` does not say how many may change at once")
		}
	}
	if res.AtOnce > 0 && res.Repeat == nil {
		d.errorf("value", n.Get("pace").Position, "remove `pace`, or repeat the resource",
			"`pace` is for repeated resources: a single one changes alone")
	}
	d.list(n.Get("makes"), "makes", func(item *Node) {
		if d.isMapping(item, "what it makes") {
			res.Makes = append(res.Makes, item)
		}
	})
	d.list(n.Get("features"), "features", func(item *Node) { res.Features = append(res.Features, item.Text) })
	d.list(n.Get("leave"), "leave", func(item *Node) {
		p, known := res.Type.Property(item.Text)
		switch {
		case res.Type.Name == "":
		case !known:
			var names []string
			for _, p := range res.Type.Properties {
				names = append(names, p.Name)
			}
			d.errorf("unknown-property", item.Position,
				expr.Suggest(item.Text, names, "it has "+strings.Join(names, ", ")),
				"`leave` names `%s`, and %s has no such property", item.Text, Article(res.Type.Name))
		default:
			res.Leave = append(res.Leave, p.Name)
		}
	})
	if res.Find != nil && res.Find.Kind == Sequence {
		d.errorf("kind", res.Find.Position, "write find: ID, or find: {name: NAME}, or find: {tags: {...}}",
			"`find` cannot be a list")
		res.Find = nil
	}
	if res.Find != nil && res.Find.Kind == Mapping {
		d.mapping(res.Find, "find", "name", "tags")
		if len(res.Find.Entries) != 1 {
			d.errorf("value", res.Find.Position, "write find: {name: NAME} or find: {tags: {...}}",
				"`find` looks by a name or by tags, one of them")
		}
	}
	if res.Extra != nil && !d.isMapping(res.Extra, "`extra`") {
		res.Extra = nil
	}
}

// choice reads one of a few words; the first is taken when the key is left out.
func (d *decoder) choice(n *Node, key string, words ...string) string {
	got := d.text(n, key, false)
	if got == "" {
		return words[0]
	}
	var real []string
	for _, w := range words {
		if w != "" {
			real = append(real, w)
		}
	}
	if !slices.Contains(real, got) {
		d.errorf("value", n.Get(key).Position, expr.Suggest(got, real, "write "+strings.Join(real, " or ")),
			"`%s` cannot be %q", key, got)
		return words[0]
	}
	return got
}

func (d *decoder) number(n *Node, key string, low, high int64) int64 {
	v := n.Get(key)
	if v == nil {
		return 0
	}
	got, err := (resource.Shape{Kind: resource.Integer, Minimum: low, Maximum: high}).ParseScalar(v.Text)
	if err != nil || v.Kind != Scalar {
		d.errorf("value", v.Position, fmt.Sprintf("write a number from %d to %d", low, high),
			"`%s`: %q is not a whole number from %d to %d", key, v.Text, low, high)
		return 0
	}
	return got.(int64)
}

func (d *decoder) repeat(n *Node) []Loop {
	switch {
	case n == nil:
		return nil
	case n.Kind == Mapping:
		var loops []Loop
		for _, e := range n.Entries {
			d.checkName(e, "loop")
			loops = append(loops, Loop{Name: e.Key, Over: e.Value})
		}
		if len(loops) == 0 {
			d.errorf("value", n.Position, "write `repeat: =NUMBER` or `repeat: {zone: =LIST}`", "`repeat` is empty")
		}
		return loops
	case n.Kind == Sequence:
		d.errorf("value", n.Position, "write `repeat: {NAME: =LIST}`", "`repeat` cannot be a bare list")
		return nil
	}
	return []Loop{{Over: n, Count: true}}
}

func (d *decoder) after(n *Node, res *Resource) {
	if n == nil || !d.isMapping(n, "after") {
		return
	}
	for _, e := range n.Entries {
		gate := Gate(e.Value.Text)
		if gate != GateHealthy && gate != GateMade {
			d.errorf("value", e.Value.Position, "write healthy or made", "`after` waits for healthy or made, not %q",
				e.Value.Text)
			continue
		}
		res.After = append(res.After, After{e.Key, gate})
	}
}

// healthCheck reads one check; patience is its deadline when it says none.
func (d *decoder) healthCheck(n *Node, patience int64) (Check, bool) {
	kinds := slices.Clone(health.KindNames)
	if !d.mapping(n, "a health check", append([]string{"within", "passes", "steady_for"}, kinds...)...) {
		return Check{}, false
	}
	check := Check{Position: n.Position, Within: d.span(n, "within"), SteadyFor: d.span(n, "steady_for"), Passes: 1}
	if p := n.Get("passes"); p != nil {
		v, err := (resource.Shape{Kind: resource.Integer, Minimum: 1, Maximum: 100}).ParseScalar(p.Text)
		if err != nil {
			d.errorf("value", p.Position, "write a number from 1 to 100", "passes: %v", err)
		} else {
			check.Passes = int(v.(int64))
		}
	}
	for _, kind := range kinds {
		if spec := n.Get(kind); spec != nil {
			if check.Kind != "" {
				d.errorf("value", spec.Position, "make two checks of it",
					"a check asks one thing, and this one asks %s and %s", check.Kind, kind)
			}
			check.Kind, check.Spec = kind, spec
		}
	}
	if check.Kind == "" {
		d.errorf("missing-key", n.Position, "add one of "+strings.Join(kinds, ", "),
			"the check does not say what to ask")
		return Check{}, false
	}
	if check.Within == 0 {
		check.Within = patience
	}
	return check, true
}
