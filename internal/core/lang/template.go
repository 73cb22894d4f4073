package lang

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"strings"

	"cel.dev/cel-go/cel"

	"undersail/internal/core/resource"
	"undersail/internal/core/secretrule"
)

// Template is a template file that was read and checked. It is immutable.
type Template struct {
	File    string
	Source  []byte
	Digest  string // SHA-256 of Source, hexadecimal
	About   About
	Inputs  []*Input
	Calc    []*Calc // in an order in which each can be computed
	Require []Requirement
	// Resources stand in file order; Order lists their indexes so that each
	// comes after all that its expressions mention.
	Resources []*Resource
	Order     []int
	Outputs   []Output
}

// About is the head of a template.
type About struct {
	Name, Version, Title, Text string
	Maturity                   string // supported, trial or withdrawn
	Takes                      int64  // expected cloud seconds; 0 when not said
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
	// Default is nil when there is none; it may be computed from inputs before it.
	Default *Node
}

// Required reports whether a value must be given.
func (i *Input) Required() bool { return i.Default == nil && !i.Generate && !i.Optional }

// Needs narrows what may be picked.
type Needs struct {
	VCPUs        int64
	Memory       int64 // bytes
	Architecture string
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
	// Mentions are the resources that the expressions read, wanted values too;
	// Needs are those of which something reported is read, plus After.
	Mentions []string
	Needs    []After
	Want     *Node
	Health   []Check
	Patience int64 // cloud seconds
}

// Keyed reports whether repetition makes a mapping by the loop's values.
func (r *Resource) Keyed() bool {
	return len(r.Repeat) == 1 && r.Repeat[0].Name != "" && !r.Repeat[0].Count
}

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

// Read reads and checks a template. File is only used in messages. The template
// is nil when there are errors; warnings come beside a template.
func Read(file string, source []byte) (*Template, Diagnostics) {
	r := newReport(file, source)
	tree := readTree(r, source)
	if tree == nil {
		return nil, r.sorted()
	}
	sum := sha256.Sum256(source)
	t := &Template{File: file, Source: source, Digest: hex.EncodeToString(sum[:])}
	d := &decoder{report: r, template: t}
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
	reserved = strings.Fields("true false null in as break const continue else for function if import let loop package namespace return var void while inputs calc stack offers self index functions")
)

// resourceType is the expression type of one instance of a declaration.
func (r *Resource) resourceType() *cel.Type {
	if r.When != nil {
		return cel.ObjectType(r.Type.Name + "?")
	}
	return cel.ObjectType(r.Type.Name)
}
