package lang

import (
	"regexp"
	"strings"

	"cel.dev/cel-go/cel"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"undersail/internal/core/resource"
	"undersail/internal/core/secretrule"
)

// Template is a template file that was read and checked. It is immutable.
type Template struct {
	File   string
	Source []byte
	Digest string // of the whole bundle
	// Bundle is all that the template was read from.
	Bundle    Bundle
	About     About
	Inputs    []*Input
	Presets   []*Preset
	Sizing    []*Sizing
	Functions []*Function
	Calc      []*Calc // in an order in which each can be computed
	Require   []Requirement
	// Resources stand in file order; Order lists their indexes so that each
	// comes after all that its expressions mention.
	Resources []*Resource
	Order     []int
	// Prove are checks of the whole stack, made after its last step.
	Prove   []Check
	Outputs []Output
	// Guide is the text for first use, in pieces.
	Guide []GuidePiece
	// MustKnow lists the inputs whose values must be known before anything is
	// made, with what needs them.
	MustKnow map[string]string
	// UsesOffers says that an expression reads what the region sells.
	UsesOffers bool
}

// About is the head of a template.
type About struct {
	Name, Version, Title, Text string
	Maturity                   string // supported, trial or withdrawn
	Takes                      int64  // expected cloud seconds; 0 when not said
	From                       string // NAME@VERSION that it was copied from
}

// Input is one declared input.
type Input struct {
	Name, Title, Page string
	Position          Position
	// Schema is the JSON Schema of the value, without the keywords of our own.
	Schema   map[string]any
	Shape    resource.Shape
	Picks    string
	Needs    Needs
	Secret   bool
	Rules    secretrule.Rules
	Generate bool
	Optional bool
	// Later says that somebody gives the value in the middle of the run that needs it.
	Later bool
	// Default is nil when there is none; it may be computed from inputs before it.
	Default *Node
	// ShownWhen, when set, says whether the input is asked for at all.
	ShownWhen *Node
	// Consent is what somebody must agree to when the input has a value other
	// than false or nothing.
	Consent string
	// Of is the template of the stack that is picked, Other that template.
	Of    string
	Other *Template
	// Free is the length of a free range that is drawn where none is given; 0 draws
	// none.
	Free int
	// SizedBy, when set, is the sizing table that advises the input and binds it.
	SizedBy *SizedBy
	// Advice, when set, is text for whoever fills the input in.
	Advice *Node

	schema *jsonschema.Schema
}

// Required reports whether a value must be given.
func (i *Input) Required() bool {
	return i.Default == nil && !i.Generate && !i.Optional && !i.Later && i.Free == 0 && i.SizedBy == nil
}

// Needs narrows what may be picked: the least machine that does.
type Needs struct {
	VCPUs        int64
	Memory       int64 // bytes
	Architecture string
	DiskMBps     float64
	NetworkGbps  float64
}

// Sizing is a sizing guide as data: up to how much of a unit which machine does. Rows
// stand in rising order.
type Sizing struct {
	Name     string
	Unit     string
	Source   string // where the figures come from
	Position Position
	Rows     []SizingRow
}

// SizingRow says what is needed up to an amount of the unit.
type SizingRow struct {
	Upto     float64
	Needs    Needs
	Position Position
}

// Row finds the row that an amount needs; nil says that the table ends before it.
func (s *Sizing) Row(amount float64) *SizingRow {
	for i := range s.Rows {
		if amount <= s.Rows[i].Upto {
			return &s.Rows[i]
		}
	}
	return nil
}

// SizedBy says which table sizes an input, for how much. Advises says that less is a
// warning and no error.
type SizedBy struct {
	Table   *Sizing
	For     *Node
	Advises bool
}

// Calc is one computed value.
type Calc struct {
	Name     string
	Position Position
	Value    *Node
}

// Requirement is a condition on the inputs with the words to say when it fails.
type Requirement struct {
	That *Node
	Else *Node
}

// Gate says how far a prerequisite must have come.
type Gate string

// The gates.
const (
	GateHealthy Gate = "healthy"
	GateMade    Gate = "made"
)

// After is one prerequisite of a resource.
type After struct {
	Resource string
	Gate     Gate
}

// Loop is one loop of a repeated resource. Name is empty for a plain count.
type Loop struct {
	Name string
	Over *Node
	// Count says that Over is a number, not a list.
	Count bool
}

// Resource is one declaration.
type Resource struct {
	Name     string
	Position Position
	Type     resource.Type
	When     *Node
	Repeat   []Loop
	After    []After
	// Mentions are the resources that the expressions read, wanted values too.
	Mentions []string
	Want     *Node
	Health   []Check
	Patience int64 // cloud seconds

	// Find says which resource that exists is used instead of making one.
	Find *Node
	// Was is the name that the resource had in an earlier version.
	Was string
	// Region is set for a resource outside the region of its stack.
	Region *Node
	// Guard refuses removal and rebuild where it holds; nil does not.
	Guard *Node
	// Rebuild is old_first or new_first.
	Rebuild string
	// AtOnce is how many members may change at a time; 0 is no limit.
	AtOnce int64
	// AtRetire is empty, keep or snapshot.
	AtRetire string
	// Leave lists properties that others may alter later.
	Leave []string
	// Features are what the region must have for the resource.
	Features []string
	// Makes are the things that it will make by itself, each a mapping of the shape
	// resource.Making.
	Makes []*Node
	// Extra holds the cloud's own options.
	Extra *Node

	// From, Inputs and Embedded are set for an embedded template.
	From     string
	Inputs   *Node
	Embedded *Template
}

// Keyed reports whether repetition makes a mapping by the loop's values, and not a
// list by its index.
func (l Loop) Keyed() bool { return l.Name != "" && !l.Count }

// Check is one declared health check, its properties still a tree.
type Check struct {
	Position  Position
	Kind      string
	Spec      *Node
	Within    int64
	Passes    int
	SteadyFor int64
}

// Output is one declared output.
type Output struct {
	Name, About string
	Position    Position
	Value       *Node
	// Secret says that the value reads a secret.
	Secret bool
	// Type is what a template that embeds this one reads.
	Type *cel.Type
	// Reported says that the value is known only after creation, Inputs which
	// inputs it reads.
	Reported bool
	Inputs   []string
}

// Resource finds a declaration by name.
func (t *Template) Resource(name string) *Resource {
	for _, r := range t.Resources {
		if r.Name == name {
			return r
		}
	}
	return nil
}

// Input finds a declared input by name.
func (t *Template) Input(name string) *Input {
	for _, i := range t.Inputs {
		if i.Name == name {
			return i
		}
	}
	return nil
}

// Read reads and checks a template that embeds nothing. File is only used in
// messages. The template is nil when there are errors; warnings come beside a
// template.
func Read(file string, source []byte) (*Template, Diagnostics) {
	return ReadBundle(Bundle{File: file, Source: string(source)})
}

// ReadBundle reads and checks a template with all that it embeds.
func ReadBundle(b Bundle) (*Template, Diagnostics) {
	if n := b.Size(); n > MaxBundle {
		r := newReport(b.File, nil)
		r.errorf("too-large", Position{1, 1}, "make the files smaller",
			"the template and its files have %d bytes together, and at most %d are read", n, MaxBundle)
		return nil, r.found
	}
	return readBundle(b, 0)
}

func readBundle(b Bundle, depth int) (*Template, Diagnostics) {
	r := newReport(b.File, []byte(b.Source))
	tree := readTree(r, []byte(b.Source))
	if tree == nil {
		return nil, r.sorted()
	}
	t := &Template{File: b.File, Source: []byte(b.Source), Digest: b.Digest(), Bundle: b, MustKnow: map[string]string{}}
	d := &decoder{report: r, template: t, bundle: b, depth: depth}
	d.document(tree)
	c := newChecker(r, t)
	c.check()
	if found := r.sorted(); found.HasErrors() {
		return nil, found
	}
	return t, r.sorted()
}

var (
	namePattern = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
	slugPattern = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)
	// reserved are the words of CEL and the names that we put into scope.
	reserved = strings.Fields("true false null in as break const continue else for function if import let loop " +
		"package namespace return var void while inputs calc stack offers self index functions")
)

// resourceType is the expression type of one instance of a declaration.
func (r *Resource) resourceType() *cel.Type {
	switch {
	case r.Type.Name == Embed:
		return cel.ObjectType(Embed + " " + r.Name)
	case r.When != nil:
		return cel.ObjectType(r.Type.Name + "?")
	}
	return cel.ObjectType(r.Type.Name)
}
