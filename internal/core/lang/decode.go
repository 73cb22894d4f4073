package lang

import (
	"fmt"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
)

// decoder turns the tree into a Template and reports what has no place in it.
type decoder struct {
	*report
	template *Template
}

var topKeys = []string{"undersail", "about", "inputs", "calc", "require", "resources", "outputs"}

func (d *decoder) document(n *Node) {
	if n.empty() {
		d.errorf("empty", n.Position, "begin with `undersail: 1`", "the file is empty")
		return
	}
	if !d.mapping(n, "the file", topKeys...) {
		return
	}
	if v := n.Get("undersail"); v == nil {
		d.errorf("missing-key", n.Position, "begin with `undersail: 1`", "the format's version is missing")
	} else if v.Text != "1" {
		d.errorf("version", v.Position, "write `undersail: 1`", "format version %q is not known here", v.Text)
	}
	d.about(n)
	d.named(n.Get("inputs"), "inputs", func(e Entry) { d.input(e) })
	d.named(n.Get("calc"), "calc", func(e Entry) {
		d.template.Calc = append(d.template.Calc, &Calc{Name: e.Key, Position: e.At, Value: e.Value})
	})
	d.list(n.Get("require"), "require", d.requirement)
	if res := n.Get("resources"); res == nil || res.Kind == Mapping && len(res.Entries) == 0 || res.empty() {
		d.errorf("missing-key", n.Position, "add `resources:` with at least one resource", "the template has no resources")
	} else {
		d.named(res, "resources", d.resource)
	}
	d.named(n.Get("outputs"), "outputs", d.output)
}

func (d *decoder) about(root *Node) {
	n := root.Get("about")
	if n == nil {
		d.errorf("missing-key", root.Position, "add `about:` with name, version and title", "the head of the template is missing")
		return
	}
	if !d.mapping(n, "about", "name", "version", "title", "text", "maturity", "takes") {
		return
	}
	a := &d.template.About
	a.Name, a.Version = d.text(n, "name", true), d.text(n, "version", true)
	a.Title, a.Text, a.Maturity = d.text(n, "title", true), d.text(n, "text", false), d.text(n, "maturity", false)
	if v := n.Get("name"); v != nil && !slugPattern.MatchString(a.Name) {
		d.errorf("name", v.Position, "use small letters, digits and hyphens, such as gauge-intake", "%q is not a template name", a.Name)
	}
	if v := n.Get("version"); v != nil {
		if _, err := semver.StrictNewVersion(a.Version); err != nil {
			d.errorf("version", v.Position, "write three numbers, such as 1.4.0", "%q is not a semantic version", a.Version)
		}
	}
	if a.Maturity == "" {
		a.Maturity = "supported"
	} else if !slices.Contains([]string{"supported", "trial", "withdrawn"}, a.Maturity) {
		d.errorf("value", n.Get("maturity").Position, "write supported, trial or withdrawn", "maturity %q is not known", a.Maturity)
	}
	a.Takes = d.span(n, "takes")
}

func (d *decoder) requirement(n *Node) {
	if !d.mapping(n, "a requirement", "that", "else") {
		return
	}
	req := Requirement{That: n.Get("that"), Else: n.Get("else")}
	if req.That == nil || req.That.Kind != Expression {
		d.errorf("missing-key", n.Position, "write `that: =CONDITION` and `else: what to say`", "a requirement needs a condition under `that`")
		return
	}
	if req.Else == nil {
		d.errorf("missing-key", n.Position, "add `else:` with the words to show when it does not hold", "a requirement needs its words under `else`")
		return
	}
	d.template.Require = append(d.template.Require, req)
}

var resourceKeys = []string{"type", "when", "repeat", "after", "want", "health", "patience"}

func (d *decoder) resource(e Entry) {
	n := e.Value
	res := &Resource{Name: e.Key, Position: e.At, When: n.Get("when"), Want: n.Get("want")}
	if !d.mapping(n, "resource "+e.Key, resourceKeys...) {
		return
	}
	typeName := d.text(n, "type", true)
	var known bool
	if res.Type, known = resource.ByName(typeName); !known && n.Get("type") != nil && typeName != "" {
		remedy := "the types are " + strings.Join(resource.TypeNames(), ", ")
		if close := expr.Closest(typeName, resource.TypeNames()); close != "" {
			remedy = fmt.Sprintf("did you mean `%s`?", close)
		}
		d.errorf("unknown-type", n.Get("type").Position, remedy, "there is no resource type `%s`", typeName)
	}
	if res.When != nil && res.When.Kind != Expression {
		d.errorf("value", res.When.Position, "write a condition, such as =inputs.with_archive", "`when` must be an expression")
		res.When = nil
	}
	res.Repeat = d.repeat(n.Get("repeat"))
	if res.When != nil && res.Repeat != nil {
		d.errorf("value", res.When.Position, "repeat over an empty list, or 0 times, instead", "`when` and `repeat` cannot stand together")
	}
	d.after(n.Get("after"), res)
	if res.Want == nil {
		res.Want = &Node{Position: e.At, Kind: Mapping}
	}
	d.list(n.Get("health"), "health", func(c *Node) { d.healthCheck(res, c) })
	if res.Patience = d.span(n, "patience"); res.Patience == 0 {
		res.Patience = res.Type.Patience
	}
	d.template.Resources = append(d.template.Resources, res)
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
			d.errorf("value", e.Value.Position, "write healthy or made", "`after` waits for healthy or made, not %q", e.Value.Text)
			continue
		}
		res.After = append(res.After, After{e.Key, gate})
	}
}

func (d *decoder) healthCheck(res *Resource, n *Node) {
	kinds := []string{"http", "ssh", "tcp"}
	if !d.mapping(n, "a health check", append([]string{"within", "passes", "steady_for"}, kinds...)...) {
		return
	}
	check := Check{Position: n.Position, Within: d.span(n, "within"), SteadyFor: d.span(n, "steady_for"), Passes: 1}
	if p := n.Get("passes"); p != nil {
		if v, err := (resource.Shape{Kind: resource.Integer, Minimum: 1, Maximum: 100}).ParseScalar(p.Text); err != nil {
			d.errorf("value", p.Position, "write a number from 1 to 100", "passes: %v", err)
		} else {
			check.Passes = int(v.(int64))
		}
	}
	for _, kind := range kinds {
		if spec := n.Get(kind); spec != nil {
			if check.Kind != "" {
				d.errorf("value", spec.Position, "make two checks of it", "a check asks one thing, and this one asks %s and %s", check.Kind, kind)
			}
			check.Kind, check.Spec = kind, spec
		}
	}
	if check.Kind == "" {
		d.errorf("missing-key", n.Position, "add one of http, ssh, tcp", "the check does not say what to ask")
		return
	}
	if check.Within == 0 {
		check.Within = res.Type.Patience
	}
	res.Health = append(res.Health, check)
}

func (d *decoder) output(e Entry) {
	out := Output{Name: e.Key, Position: e.At, Value: e.Value}
	if e.Value.Kind == Mapping {
		if !d.mapping(e.Value, "output "+e.Key, "value", "about") {
			return
		}
		out.About = d.text(e.Value, "about", false)
		if out.Value = e.Value.Get("value"); out.Value == nil {
			d.errorf("missing-key", e.At, "add `value: =...`", "output %s has no value", e.Key)
			return
		}
	}
	d.template.Outputs = append(d.template.Outputs, out)
}

func (d *decoder) checkName(e Entry, what string) bool {
	switch {
	case !namePattern.MatchString(e.Key):
		d.errorf("name", e.At, "use small letters, digits and _, beginning with a letter", "%q is not a name for %s", e.Key, article(what))
	case slices.Contains(reserved, e.Key):
		d.errorf("name", e.At, "choose another name", "`%s` is a reserved word", e.Key)
	default:
		return true
	}
	return false
}

func article(noun string) string {
	if strings.ContainsRune("aeio", rune(noun[0])) {
		return "an " + noun
	}
	return "a " + noun
}

// named calls f for each entry of a mapping whose keys are names.
func (d *decoder) named(n *Node, what string, f func(Entry)) {
	if n == nil || n.empty() || !d.isMapping(n, what) {
		return
	}
	for _, e := range n.Entries {
		d.checkName(e, strings.TrimSuffix(what, "s"))
		f(e)
	}
}

func (d *decoder) list(n *Node, what string, f func(*Node)) {
	if n == nil || n.empty() {
		return
	}
	if n.Kind != Sequence {
		d.errorf("kind", n.Position, "begin each with `- `", "`%s` must be a list", what)
		return
	}
	for _, item := range n.Items {
		f(item)
	}
}

func (d *decoder) isMapping(n *Node, what string) bool {
	if n.Kind == Mapping {
		return true
	}
	if n.Text != placeholder {
		d.errorf("kind", n.Position, "write it as `key: value` lines", "%s must be a mapping", what)
	}
	return false
}

// mapping checks that a node is a mapping of known keys. It reports unknown
// keys and goes on; false means that there is nothing to go on with.
func (d *decoder) mapping(n *Node, what string, keys ...string) bool {
	if !d.isMapping(n, what) {
		return false
	}
	for _, e := range n.Entries {
		if !slices.Contains(keys, e.Key) {
			remedy := "it may have " + strings.Join(keys, ", ")
			if close := expr.Closest(e.Key, keys); close != "" {
				remedy = fmt.Sprintf("did you mean `%s`?", close)
			}
			d.errorf("unknown-key", e.At, remedy, "%s has no key `%s`", what, e.Key)
		}
	}
	return true
}

// text reads a plain scalar; expressions have no place there.
func (d *decoder) text(n *Node, key string, required bool) string {
	v := n.Get(key)
	switch {
	case v == nil || v.empty():
		if required {
			d.errorf("missing-key", n.Position, "add `"+key+": ...`", "`%s` is missing", key)
		}
		return ""
	case v.Kind == Expression:
		d.errorf("value", v.Position, "write the text itself", "`%s` cannot be computed", key)
	case v.Kind != Scalar:
		d.errorf("kind", v.Position, "write one line of text", "`%s` must be text", key)
	}
	return v.Text
}

func (d *decoder) span(n *Node, key string) int64 {
	v := n.Get(key)
	if v == nil {
		return 0
	}
	seconds, err := resource.ParseSpan(v.Text)
	if err != nil || v.Kind != Scalar {
		d.errorf("value", v.Position, "write a span such as 90s, 10m or 1h30m", "`%s`: %q is not a span of time", key, v.Text)
	}
	return seconds
}

func (d *decoder) flag(n *Node, key string) bool {
	v := n.Get(key)
	if v == nil {
		return false
	}
	b, err := (resource.Shape{Kind: resource.Boolean}).ParseScalar(v.Text)
	if err != nil || v.Kind != Scalar {
		d.errorf("value", v.Position, "write true or false", "`%s` must be true or false", key)
		return false
	}
	return b.(bool)
}
