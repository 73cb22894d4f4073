// Package render computes: template, inputs, place and offers in; the full list
// of resources in dependency order out. The same input gives the same bytes.
//
// What depends on something not made yet is a [resource.Unresolved] that names
// the attributes it waits for. During a run the same code computes those values
// once they are known, so nothing is decided twice in two ways.
package render

import (
	"encoding/json"
	"strings"

	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
	"undersail/internal/core/secretrule"

	"cel.dev/cel-go/cel"
)

// Rendering is the computed list of resources of a template.
type Rendering struct {
	Template  TemplateRef `json:"template"`
	Stack     Stack       `json:"stack"`
	Resources []Resource  `json:"resources"`
	Outputs   []Output    `json:"outputs"`
	// Guide is the text for first use, filled in as far as it is known.
	Guide    string    `json:"guide,omitempty"`
	Findings []Finding `json:"findings"`
	// Inputs holds every input with its value and where the value came from.
	Inputs []InputValue `json:"inputs"`
	// Prove lists the checks of the whole stack, made after its last step.
	Prove []health.Check `json:"prove,omitempty"`
	// Consents are what somebody must agree to by name.
	Consents []Consent `json:"consents,omitempty"`
	// Compliance lists what sizes are needed at least, and what was chosen.
	Compliance []Compliance `json:"compliance,omitempty"`
	// Usable is what is left of disks after redundancy, as computed values give it.
	Usable []Usable `json:"usable,omitempty"`
	// Generated lists the secrets that are drawn when nobody gives them.
	Generated []Generated `json:"generated,omitempty"`
	// Explained is what Request.Explain asked for.
	Explained *Explanation `json:"explained,omitempty"`
	// Stopped says that its budget ended it before it was complete.
	Stopped bool `json:"-"`

	index   map[string]int // of Resources by name, once they are complete
	session *Session       // of a request that is to be rehearsed
}

// TemplateRef names the exact template that was rendered.
type TemplateRef struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Title   string `json:"title"`
	Digest  string `json:"digest"`
}

// Stack is the place that is rendered for.
type Stack struct {
	Name    string `json:"name"`
	ID      string `json:"id"`
	Account string `json:"account"`
	Cloud   string `json:"cloud"`
	Region  string `json:"region"`
	// Tags are those of the account, put on every resource that does not say otherwise.
	Tags map[string]string `json:"tags,omitempty"`
}

// FixedID stands for the stack's id in a rendering that belongs to no stack.
const FixedID = "00000000-0000-0000-0000-000000000000"

// Resource is one resource to be there.
type Resource struct {
	// Name is the declaration's name, with index or key where it is repeated:
	// gateway, worker[0], subnet[sal-north-1].
	Name string `json:"name"`
	Type string `json:"type"`
	// After lists what must come first, sorted by name.
	After []After        `json:"after"`
	Want  map[string]any `json:"want"`
	// Pending lists what the wanted values wait for.
	Pending  []string       `json:"pending,omitempty"`
	Checks   []health.Check `json:"checks"`
	Patience int64          `json:"patience"`
	// Declared is the name of the declaration, Index the place in its repetition.
	Declared string         `json:"declared"`
	Index    int            `json:"index"`
	Loop     map[string]any `json:"loop,omitempty"`

	// Find, when set, says which resource that exists is used: by id, name or
	// tags. It is never changed nor removed.
	Find map[string]any `json:"find,omitempty"`
	// Was is the name that the resource had before.
	Was string `json:"was,omitempty"`
	// Region is set for a resource outside the region of the stack.
	Region string `json:"region,omitempty"`
	// Zones lists, in order of preference, where the resource may be; Want holds the
	// first. It is empty where there is no choice.
	Zones []string `json:"zones,omitempty"`
	// Guard refuses removal and rebuild.
	Guard bool `json:"guard,omitempty"`
	// NewFirst says that a rebuild makes the new one before it removes the old.
	NewFirst bool `json:"new_first,omitempty"`
	// AtOnce is how many members of the repetition may change at a time.
	AtOnce int64 `json:"at_once,omitempty"`
	// AtRetire is keep or snapshot: what happens when the stack is retired.
	AtRetire string `json:"at_retire,omitempty"`
	// Leave lists properties that others may alter after creation.
	Leave []string `json:"leave,omitempty"`
	// Features are what the region must have for it.
	Features []string `json:"features,omitempty"`
	// Makes is what it will make by itself.
	Makes []Made `json:"makes,omitempty"`
	// Extra holds the cloud's own options.
	Extra map[string]any `json:"extra,omitempty"`

	// Marks are the wanted values of what holds a secret, with marks in the places of secrets
	// and attributes.
	Marks map[string]any `json:"-"`

	exists bool // what it reports is known
}

// Made is what a resource will make by itself: found by its tags, at least and at most so
// many, each wanted as Want as far as that is known beforehand.
type Made struct {
	Type  string         `json:"type"`
	Tags  map[string]any `json:"tags"`
	Least int64          `json:"least"`
	Most  int64          `json:"most"`
	Want  map[string]any `json:"want,omitempty"`
}

// Consent is something that somebody must agree to before acceptance.
type Consent struct {
	Name  string `json:"name"`
	About string `json:"about"`
}

// Usable is the value of calc.NAME, in bytes.
type Usable struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
}

// Generated is a secret input without a value: NAME, or EMBEDDED.NAME.
type Generated struct {
	Name  string           `json:"name"`
	Rules secretrule.Rules `json:"rules"`
}

// After is one prerequisite.
type After struct {
	Name string    `json:"name"`
	Gate lang.Gate `json:"gate"`
}

// Output is one value for the user of the stack.
type Output struct {
	Name   string `json:"name"`
	About  string `json:"about,omitempty"`
	Value  any    `json:"value"`
	Secret bool   `json:"secret,omitempty"`

	reads []string  // the resources behind the value
	typ   *cel.Type // what a template that embeds this one reads
}

// InputValue is an input as it was used.
type InputValue struct {
	Name  string `json:"name"`
	Title string `json:"title,omitempty"`
	Value any    `json:"value"`
	// Origin tells where the value came from: the layer that gave it, default,
	// computed default, generated, missing, or left out.
	Origin string `json:"origin"`
	Page   string `json:"page,omitempty"`
	// Hidden says that the input's shown_when does not hold.
	Hidden bool `json:"hidden,omitempty"`
	// Advice is what the template says to whoever fills it in.
	Advice string `json:"advice,omitempty"`
}

// Compliance is one line of what a template needs at least: what was chosen, and
// whether that is enough.
type Compliance struct {
	Input string `json:"input"`
	// By is who says so: the needs of the input, or a sizing table and for how much.
	By     string `json:"by"`
	What   string `json:"what"`
	Needed string `json:"needed"`
	Chosen string `json:"chosen"`
	Met    bool   `json:"met"`
}

// UnmarshalJSON reads what an earlier version wrote too, which said kept for met.
func (c *Compliance) UnmarshalJSON(raw []byte) error {
	type plain Compliance
	old := struct {
		*plain
		Kept bool `json:"kept"`
	}{plain: (*plain)(c)}
	err := json.Unmarshal(raw, &old)
	c.Met = c.Met || old.Kept
	return err
}

// Finding is one thing that a check says.
type Finding struct {
	Severity lang.Severity `json:"severity"`
	Code     string        `json:"code"`
	// Place is what the finding is about: inputs.NAME, a resource, or a quota.
	Place   string `json:"place"`
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
	// From is the place of the value that it comes from, where that is another than what it is
	// about: of a check that is not let in, the rules of a firewall.
	From string `json:"from,omitempty"`
	// Take is a value that mends it, for the input that it is about.
	Take string `json:"take,omitempty"`
	// File and Line tell where the template says what the finding is about; Inputs
	// names the inputs that the value there comes from, with commas between them.
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Inputs string `json:"inputs,omitempty"`
}

// HasErrors reports whether any finding is an error.
func HasErrors(findings []Finding) bool {
	for _, f := range findings {
		if f.Severity == lang.Error {
			return true
		}
	}
	return false
}

// Request is all that a rendering depends on.
type Request struct {
	// Rehearse keeps what [Rehearse] needs to judge checks beforehand.
	Rehearse bool
	Template *lang.Template
	Stack    Stack
	Inputs   map[string]any
	// Origins tells by input which layer gave its value; see Merge.
	Origins map[string]string
	// Stacks holds the outputs of the stacks that inputs pick, by stack name.
	Stacks map[string]map[string]any
	// Explain names a resource, an output, or inputs.NAME or calc.NAME whose
	// values are to be traced to where they came from.
	Explain string
	// Secrets maps secret inputs and drawn keys to references such as
	// gauge-intake/admin_password@1. Inputs without one show their own name.
	Secrets map[string]string
	// Offers is nil when rendering without a place; then nothing is checked
	// against what is sold.
	Offers *offer.Offers
	// Known gives the reported attributes of a resource that is there, or nil.
	// It is asked once for each resource, in dependency order, with its name
	// and wanted values, so that the answer may depend on whether these changed.
	Known func(r Resource) map[string]any
	// Most is how many resources the template may give; 0 is [Most].
	Most int
}

func (r Request) most() int {
	if r.Most > 0 {
		return r.Most
	}
	return Most
}

// Resource finds a rendered resource by name, or gives nil.
func (r *Rendering) Resource(name string) *Resource {
	if i, ok := r.index[name]; ok {
		return &r.Resources[i]
	}
	if r.index != nil {
		return nil
	}
	for i := range r.Resources { // it was read back from JSON
		if r.Resources[i].Name == name {
			return &r.Resources[i]
		}
	}
	return nil
}

// Target finds the rendered resource whose id a property waits for, or nil.
func Target(r *Rendering, id any) *Resource {
	if v, ok := id.(resource.Unresolved); ok && len(v.Waits) == 1 {
		return r.Resource(strings.TrimSuffix(v.Waits[0], ".id"))
	}
	return nil
}
