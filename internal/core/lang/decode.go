package lang

import (
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
	bundle   Bundle
	depth    int // how many templates embed this one
	root     *Node
}

var topKeys = []string{"undersail", "about", "inputs", "presets", "sizing", "functions", "calc", "require", "resources",
	"prove", "outputs", "guide"}

func (d *decoder) document(n *Node) {
	d.root = n
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
	d.named(n.Get("sizing"), "sizing", d.sizing)
	d.named(n.Get("inputs"), "inputs", func(e Entry) { d.input(e) })
	d.named(n.Get("presets"), "presets", d.preset)
	d.named(n.Get("functions"), "functions", d.function)
	d.named(n.Get("calc"), "calc", func(e Entry) {
		d.template.Calc = append(d.template.Calc, &Calc{Name: e.Key, Position: e.At, Value: e.Value})
	})
	d.list(n.Get("require"), "require", d.requirement)
	if res := n.Get("resources"); res == nil || res.Kind == Mapping && len(res.Entries) == 0 || res.empty() {
		d.errorf("missing-key", n.Position, "add `resources:` with at least one resource",
			"the template has no resources")
	} else {
		d.named(res, "resources", d.resource)
	}
	d.list(n.Get("prove"), "prove", func(c *Node) {
		if check, ok := d.healthCheck(c, provePatience); ok {
			d.template.Prove = append(d.template.Prove, check)
		}
	})
	d.named(n.Get("outputs"), "outputs", d.output)
	d.guide(n.Get("guide"))
}

// provePatience is the deadline of a check of the whole stack that says none.
const provePatience = 1800

func (d *decoder) about(root *Node) {
	n := root.Get("about")
	if n == nil {
		d.errorf("missing-key", root.Position, "add `about:` with name, version and title",
			"the head of the template is missing")
		return
	}
	if !d.mapping(n, "about", "name", "version", "title", "text", "maturity", "takes", "from") {
		return
	}
	a := &d.template.About
	a.Name, a.Version = d.text(n, "name", true), d.text(n, "version", true)
	a.Title, a.Text, a.Maturity = d.text(n, "title", true), d.text(n, "text", false), d.text(n, "maturity", false)
	if v := n.Get("name"); v != nil && !slugPattern.MatchString(a.Name) {
		d.errorf("name", v.Position, "use small letters, digits and hyphens, such as gauge-intake",
			"%q is not a template name", a.Name)
	}
	if v := n.Get("version"); v != nil {
		if _, err := semver.StrictNewVersion(a.Version); err != nil {
			d.errorf("version", v.Position, "write three numbers, such as 1.4.0", "%q is not a semantic version",
				a.Version)
		}
	}
	if a.Maturity == "" {
		a.Maturity = "supported"
	} else if !slices.Contains([]string{"supported", "trial", "withdrawn"}, a.Maturity) {
		d.errorf("value", n.Get("maturity").Position, "write supported, trial or withdrawn", "maturity %q is not known",
			a.Maturity)
	}
	a.Takes = d.span(n, "takes")
	if a.From = d.text(n, "from", false); a.From != "" {
		if why := CheckRef(a.From); why != "" {
			d.errorf("value", n.Get("from").Position, "name what it was copied from, such as gauge-intake@1.4.0", "%s",
				why)
		}
	}
}

func (d *decoder) requirement(n *Node) {
	if !d.mapping(n, "a requirement", "that", "else") {
		return
	}
	req := Requirement{That: n.Get("that"), Else: n.Get("else")}
	if req.That == nil || req.That.Kind != Expression {
		d.errorf("missing-key", n.Position, "write `that: =CONDITION` and `else: what to say`",
			"a requirement needs a condition under `that`")
		return
	}
	if req.Else == nil {
		d.errorf("missing-key", n.Position, "add `else:` with the words to show when it does not hold",
			"a requirement needs its words under `else`")
		return
	}
	d.template.Require = append(d.template.Require, req)
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
		d.errorf("name", e.At, "use small letters, digits and _, beginning with a letter", "%q is not a name for %s",
			e.Key, Article(what))
	case slices.Contains(reserved, e.Key):
		d.errorf("name", e.At, "choose another name", "`%s` is a reserved word", e.Key)
	default:
		return true
	}
	return false
}

// Article puts a or an before a noun.
func Article(noun string) string {
	if noun != "" && strings.ContainsRune("aeio", rune(noun[0])) {
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
			d.errorf("unknown-key", e.At, expr.Suggest(e.Key, keys, "it may have "+strings.Join(keys, ", ")),
				"%s has no key `%s`", what, e.Key)
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
	if v.Kind == Expression {
		d.errorf("value", v.Position, "write a span such as 90s, 10m or 1h30m", "`%s` cannot be computed", key)
		return 0
	}
	seconds, err := resource.ParseSpan(v.Text)
	if err != nil || v.Kind != Scalar {
		d.errorf("value", v.Position, "write a span such as 90s, 10m or 1h30m", "`%s`: %q is not a span of time", key,
			v.Text)
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

// AboutOf reads the head of a template and nothing else of it. Fields that are
// missing or wrong are empty.
func AboutOf(source []byte) About {
	r := newReport("", source)
	tree := readTree(r, source)
	if tree == nil || tree.Get("about") == nil {
		return About{}
	}
	d := &decoder{report: r, template: &Template{}}
	d.about(tree)
	return d.template.About
}
