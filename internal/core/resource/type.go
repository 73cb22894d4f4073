package resource

import (
	"slices"
	"strings"
)

// Alteration says what it takes to alter a property of a resource that exists.
type Alteration string

// The alterations, cheapest first.
const (
	InPlace   Alteration = "in place"
	NeedsStop Alteration = "needs a stop"
	Rebuild   Alteration = "rebuild"
)

// Property is one wanted property of a resource type, or a field of an object.
type Property struct {
	Name     string     `json:"name"`
	About    string     `json:"about"`
	Shape    Shape      `json:"value"`
	Required bool       `json:"required,omitempty"`
	Alter    Alteration `json:"alter,omitempty"`
	// GrowOnly refuses smaller values: a disk never shrinks.
	GrowOnly bool `json:"grow_only,omitempty"`
	// Everybodys says that no two customers of a cloud may have the same value, so that it
	// may be taken by somebody that nobody here sees.
	Everybodys bool `json:"everybodys,omitempty"`
	// Secret says that the value is one: it comes from a secret and stands nowhere to be read.
	Secret bool `json:"secret,omitempty"`
	// Renews says that altering it makes every attribute come anew, as of a task that is
	// run again.
	Renews bool `json:"renews,omitempty"`
	// Waves says that altering it replaces the members of the group, some at a time.
	Waves bool `json:"waves,omitempty"`
	// Refers names the resource type whose id the property holds.
	Refers string `json:"refers,omitempty"`
	// Picks says from which list of the offers the value must come.
	Picks string `json:"picks,omitempty"`
}

// Attribute is a value that a cloud reports once the resource is there.
type Attribute struct {
	Name   string `json:"name"`
	About  string `json:"about"`
	Shape  Shape  `json:"value"`
	Secret bool   `json:"secret,omitempty"`
}

// Type is one resource type.
type Type struct {
	Name       string      `json:"name"`
	About      string      `json:"about"`
	Properties []Property  `json:"properties"`
	Attributes []Attribute `json:"attributes"`
	// Expect is how long creation usually takes until healthy, in cloud
	// seconds, used until durations have been learned.
	Expect int64 `json:"expect_seconds"`
	// Patience is the default deadline for a step, in cloud seconds.
	Patience int64 `json:"patience_seconds"`
	// Draws say how much of which quotas one takes, Prices what it costs.
	Draws  []Draw  `json:"draws,omitempty"`
	Prices []Price `json:"prices,omitempty"`
	// HoldsData says that something is lost for good when one is removed.
	HoldsData bool `json:"holds_data,omitempty"`
	// Proves are what its health means beyond being there.
	Proves []Proof `json:"proves,omitempty"`
	// Serves says that people or other things use one while it is there, and miss it when it is
	// stopped, made anew or removed.
	Serves bool `json:"serves,omitempty"`
	// Machine says that people and tasks log in to one, DrawsKey that it makes a pair of keys of
	// which we keep the private half, and Copied that the cloud can copy what it holds.
	Machine  bool `json:"-"`
	DrawsKey bool `json:"-"`
	Copied   bool `json:"-"`
	// Own says that Under Sail itself sees to it: no cloud has it, and every cloud will do.
	Own bool `json:"own,omitempty"`
	// Unique lists the properties that no two may have the same of at a time.
	Unique []Unique `json:"unique,omitempty"`

	fields map[string]Field
}

// Proof is one thing that a healthy resource tells of itself: an attribute that is a
// value, or at least as much as wanted values measure.
type Proof struct {
	Attribute string  `json:"attribute"`
	Is        any     `json:"is,omitempty"`
	Least     Measure `json:"least,omitzero"`
	// Of names a list, and From how many items of it ask for the proof at all.
	Of   string `json:"of,omitempty"`
	From int    `json:"from,omitempty"`
	// Resolves says that the name is asked for at the servers that the attribute names.
	Resolves bool `json:"resolves,omitempty"`
}

// Wants gives what an attribute must be, or at least be, for what is wanted; false says
// that it is not asked.
func (p Proof) Wants(t Type, want map[string]any) (is any, least float64, asked bool) {
	if p.Of != "" && (Measure{Property: p.Of}).of(t, want, nil) < float64(p.From) {
		return nil, 0, false
	}
	if p.Is != nil {
		return p.Is, 0, true
	}
	least = p.Least.of(t, want, nil)
	return nil, least, least > 0
}

// Making is what a resource, a controller or a cluster, will make by itself: things of a
// type under some tags, at least and at most so many of a size.
var Making = object("making",
	Property{Name: "type", About: "Type of what it makes.", Shape: text("instance", "disk", "address"), Required: true},
	Property{Name: "tags", About: "Tags by which it is found.", Shape: mapOf(text()), Required: true},
	Property{Name: "least", About: "Fewest; none when left out.", Shape: Shape{Kind: Integer, Maximum: 10000}},
	Property{Name: "most", About: "Most.", Shape: Shape{Kind: Integer, Minimum: 1, Maximum: 10000}, Required: true},
	Property{Name: "size", About: "Size of each, for the price and the quota.", Shape: text()},
)

// Property finds a wanted property.
func (t Type) Property(name string) (Property, bool) {
	return Shape{Fields: t.Properties}.Field(name)
}

// ShapeOf finds the shape of a property by its type and name, such as database.storage, or of
// a field of its items, such as database.users.name.
func ShapeOf(name string) (Shape, bool) {
	path := strings.Split(name, ".")
	t, known := ByName(path[0])
	shape := Shape{Fields: t.Properties}
	for i, field := range path[1:] {
		if i > 0 && shape.Items != nil {
			shape = *shape.Items
		}
		p, there := shape.Field(field)
		if shape = p.Shape; !there {
			return shape, false
		}
	}
	return shape, known && len(path) > 1
}

// Attribute finds a reported attribute.
func (t Type) Attribute(name string) (Attribute, bool) {
	for _, a := range t.Attributes {
		if a.Name == name {
			return a, true
		}
	}
	return Attribute{}, false
}

// Field is a name that expressions may read of a resource, wanted or reported.
type Field struct {
	Name   string
	Shape  Shape
	Secret bool
}

// Field finds a name that expressions may read.
func (t *Type) Field(name string) (Field, bool) {
	f, ok := t.fields[name]
	return f, ok
}

func (t *Type) allFields() map[string]Field {
	out := map[string]Field{}
	for _, p := range t.Properties {
		out[p.Name] = Field{Name: p.Name, Shape: p.Shape}
	}
	for _, a := range t.Attributes {
		f, both := out[a.Name]
		if !both {
			f = Field{Name: a.Name, Shape: a.Shape}
		}
		f.Secret = a.Secret
		out[a.Name] = f
	}
	return out
}

// Names lists properties, then attributes that are not properties too.
func (t Type) Names() []string {
	var names []string
	for _, p := range t.Properties {
		names = append(names, p.Name)
	}
	for _, a := range t.Attributes {
		if !slices.Contains(names, a.Name) {
			names = append(names, a.Name)
		}
	}
	return names
}

func text(choices ...string) Shape { return Shape{Kind: String, Choices: choices} }
func preferred() Shape             { return Shape{Kind: String, Preferred: true} }
func kind(k Kind) Shape            { return Shape{Kind: k} }
func listOf(s Shape) Shape         { return Shape{Kind: List, Items: &s} }
func mapOf(s Shape) Shape          { return Shape{Kind: Map, Items: &s} }
func object(name string, fields ...Property) Shape {
	return Shape{Kind: Object, TypeName: name, Fields: fields}
}

var (
	nameProperty = Property{
		Name:  "name",
		About: "Name shown in the cloud. Made from the stack and resource names when left out.",
		Shape: text(),
		Alter: InPlace,
	}
	tagsProperty = Property{
		Name:  "tags",
		About: "Tags kept on the resource in the cloud.",
		Shape: mapOf(text()),
		Alter: InPlace,
	}
	idAttribute = Attribute{Name: "id", About: "The cloud's own id.", Shape: text()}
)

// newType describes a type: what it is, how long creation takes and may take, in
// cloud seconds, what is known of it beyond its properties, and these.
func newType(name, about string, expect, patience int64, known knowledge, properties []Property,
	attributes ...Attribute) Type {
	t := Type{
		Name:       name,
		About:      about,
		Expect:     expect,
		Patience:   patience,
		Draws:      known.draws,
		Prices:     known.prices,
		HoldsData:  known.holdsData,
		Serves:     known.serves,
		Machine:    known.machine,
		DrawsKey:   known.drawsKey,
		Copied:     known.copied,
		Own:        known.own,
		Proves:     known.proves,
		Unique:     known.unique,
		Properties: append([]Property{nameProperty, tagsProperty}, properties...),
		Attributes: append([]Attribute{idAttribute}, attributes...),
	}
	t.fields = t.allFields()
	return t
}

// knowledge is what is known of a type beyond its properties.
type knowledge struct {
	draws     []Draw
	prices    []Price
	holdsData bool
	own       bool
	serves    bool
	machine   bool
	drawsKey  bool
	copied    bool
	proves    []Proof
	unique    []Unique
}

// types is the catalogue, by subject: see the files network.go, machine.go,
// storage.go, platform.go.
var types = slices.Concat(networkTypes, machineTypes, storageTypes, platformTypes)

var byName = func() map[string]Type {
	out := make(map[string]Type, len(types))
	for _, t := range types {
		out[t.Name] = t
	}
	return out
}()

// Types lists every resource type in a fixed order.
func Types() []Type { return slices.Clone(types) }

// ByName finds a resource type.
func ByName(name string) (Type, bool) {
	t, ok := byName[name]
	return t, ok
}

// IsMachine says whether people and tasks log in to what is of a type.
func IsMachine(name string) bool { return byName[name].Machine }

// DrawsKey says whether what is of a type has a pair of keys of which we keep the private half.
func DrawsKey(name string) bool { return byName[name].DrawsKey }

// TypeNames lists the names of all types.
func TypeNames() []string {
	names := make([]string, len(types))
	for i, t := range types {
		names[i] = t.Name
	}
	return names
}

// Literals lists the object shapes that templates may write as typed literals.
func Literals() []Shape {
	return []Shape{FirewallRule, attachedDisk, networkCard, balancerPort, databaseUser, roleGrant, hostLayout, Jump}
}

// UserDataKeys are the cloud-init modules that guests understand.
var UserDataKeys = []string{"packages", "package_update", "write_files", "users", "runcmd", "hostname",
	"ssh_authorized_keys", "mounts", "timezone"}

// Words is the name of a type or of what is picked, as it stands in a sentence.
func Words(name string) string { return strings.ReplaceAll(name, "_", " ") }
