package resource

import "slices"

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
	Name     string
	About    string
	Shape    Shape
	Required bool
	Alter    Alteration
	// GrowOnly refuses smaller values: a disk never shrinks.
	GrowOnly bool
	// Refers names the resource type whose id the property holds.
	Refers string
	// Picks says from which list of the offers the value must come.
	Picks string
}

// Attribute is a value that a cloud reports once the resource is there.
type Attribute struct {
	Name   string
	About  string
	Shape  Shape
	Secret bool
}

// Type is one resource type.
type Type struct {
	Name       string
	About      string
	Properties []Property
	Attributes []Attribute
	// Expect is how long creation usually takes until healthy, in cloud
	// seconds, used until durations have been learned.
	Expect int64
	// Patience is the default deadline for a step, in cloud seconds.
	Patience int64
	// Quota names the quota that creation draws on, if any.
	Quota string
}

// Property finds a wanted property.
func (t Type) Property(name string) (Property, bool) {
	return Shape{Fields: t.Properties}.Field(name)
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
func kind(k Kind) Shape            { return Shape{Kind: k} }
func listOf(s Shape) Shape         { return Shape{Kind: List, Items: &s} }
func mapOf(s Shape) Shape          { return Shape{Kind: Map, Items: &s} }
func object(name string, fields ...Property) Shape {
	return Shape{Kind: Object, TypeName: name, Fields: fields}
}

var (
	nameProperty = Property{Name: "name", About: "Name shown in the cloud. Made from the stack and resource names when left out.", Shape: text(), Alter: InPlace}
	tagsProperty = Property{Name: "tags", About: "Tags kept on the resource in the cloud.", Shape: mapOf(text()), Alter: InPlace}
	idAttribute  = Attribute{Name: "id", About: "The cloud's own id.", Shape: text()}
)

func newType(name, about string, expect, patience int64, quota string, properties []Property, attributes ...Attribute) Type {
	return Type{Name: name, About: about, Expect: expect, Patience: patience, Quota: quota,
		Properties: append([]Property{nameProperty, tagsProperty}, properties...),
		Attributes: append([]Attribute{idAttribute}, attributes...)}
}

// FirewallRule is the shape of one inbound rule.
var FirewallRule = object("firewall_rule",
	Property{Name: "from", About: "Source range that may connect.", Shape: kind(Range), Required: true},
	Property{Name: "port", About: "Destination port, 1 to 65535.", Shape: Shape{Kind: Integer, Minimum: 1, Maximum: 65535}, Required: true},
	Property{Name: "protocol", About: "tcp (default) or udp.", Shape: text("tcp", "udp")},
	Property{Name: "about", About: "Why the rule is there.", Shape: text()},
)

var attachedDisk = object("attached_disk",
	Property{Name: "disk", About: "Id of the disk.", Shape: text(), Required: true, Refers: "disk"},
	Property{Name: "mount", About: "Where the guest mounts it.", Shape: text()},
	Property{Name: "format", About: "File system made on an empty disk.", Shape: text("ext4", "xfs")},
)

var types = []Type{
	newType("network", "A private network of the account in one region.", 4, 600, "networks",
		[]Property{{Name: "range", About: "Address range of the network.", Shape: kind(Range), Required: true, Alter: Rebuild}}),
	newType("subnet", "A part of a network in one zone.", 3, 600, "",
		[]Property{
			{Name: "network", About: "Id of the network.", Shape: text(), Required: true, Alter: Rebuild, Refers: "network"},
			{Name: "range", About: "Part of the network's range.", Shape: kind(Range), Required: true, Alter: Rebuild},
			{Name: "zone", About: "Zone of the subnet; the first of the region when left out.", Shape: text(), Alter: Rebuild, Picks: "zone"},
		},
		Attribute{Name: "router", About: "Address of the subnet's router.", Shape: kind(Address)}),
	newType("firewall", "Inbound rules; what no rule allows gets no connection.", 3, 600, "",
		[]Property{
			{Name: "network", About: "Id of the network.", Shape: text(), Required: true, Alter: Rebuild, Refers: "network"},
			{Name: "rules", About: "What may come in.", Shape: listOf(FirewallRule), Required: true, Alter: InPlace},
		}),
	newType("address", "A fixed public address that outlives the instance using it.", 3, 600, "addresses",
		nil, Attribute{Name: "address", About: "The public address.", Shape: kind(Address)}),
	newType("key_pair", "An SSH key pair. Without a public key, Under Sail draws the pair and seals the private half.", 2, 300, "",
		[]Property{{Name: "public_key", About: "Public key in OpenSSH form.", Shape: text(), Alter: Rebuild}},
		Attribute{Name: "fingerprint", About: "SHA-256 fingerprint.", Shape: text()},
		Attribute{Name: "private_key", About: "Private half in OpenSSH form, sealed; only where Under Sail drew the pair.", Shape: text(), Secret: true}),
	newType("secret", "A secret value kept by the cloud for its guests.", 2, 300, "",
		[]Property{{Name: "value", About: "The secret text.", Shape: text(), Required: true, Alter: InPlace}},
		Attribute{Name: "version", About: "Counts up with each new value.", Shape: kind(Integer)}),
	newType("disk", "A block disk.", 12, 1200, "disk_gib",
		[]Property{
			{Name: "size", About: "Capacity. May only grow.", Shape: kind(Data), Required: true, Alter: InPlace, GrowOnly: true},
			{Name: "type", About: "Disk type the region offers.", Shape: text(), Required: true, Alter: Rebuild, Picks: "disk_type"},
			{Name: "zone", About: "Zone of the disk; the first of the region when left out.", Shape: text(), Alter: Rebuild, Picks: "zone"},
			{Name: "encrypted", About: "Encrypt at rest.", Shape: kind(Boolean), Alter: Rebuild},
		}),
	newType("instance", "A virtual machine.", 75, 2400, "vcpus",
		[]Property{
			{Name: "size", About: "Machine size the zone offers.", Shape: text(), Required: true, Alter: NeedsStop, Picks: "size"},
			{Name: "image", About: "Image the region offers.", Shape: text(), Required: true, Alter: Rebuild, Picks: "image"},
			{Name: "subnet", About: "Id of the subnet.", Shape: text(), Required: true, Alter: Rebuild, Refers: "subnet"},
			{Name: "zone", About: "Zone; that of the subnet when left out.", Shape: text(), Alter: Rebuild, Picks: "zone"},
			{Name: "public", About: "Give the machine a public address of its own.", Shape: kind(Boolean), Alter: Rebuild},
			{Name: "address", About: "Id of a fixed public address.", Shape: text(), Alter: Rebuild, Refers: "address"},
			{Name: "firewalls", About: "Ids of the firewalls in front of it.", Shape: listOf(text()), Alter: InPlace, Refers: "firewall"},
			{Name: "key_pair", About: "Id of the key pair that may log in as the image's user.", Shape: text(), Alter: Rebuild, Refers: "key_pair"},
			{Name: "disks", About: "Disks attached at start.", Shape: listOf(attachedDisk), Alter: Rebuild},
			{Name: "user_data", About: "First-boot configuration: a cloud-init document as a mapping.", Shape: kind(Open), Alter: Rebuild},
		},
		Attribute{Name: "private_address", About: "Address in the subnet.", Shape: kind(Address)},
		Attribute{Name: "public_address", About: "Public address; empty text when there is none.", Shape: text()},
		Attribute{Name: "host_key", About: "SSH host key in OpenSSH form, to be pinned.", Shape: text()},
		Attribute{Name: "reach", About: "Port to host:port at which the public port is reached.", Shape: mapOf(text())},
		Attribute{Name: "vcpus", About: "Virtual processors the machine has.", Shape: kind(Integer)},
		Attribute{Name: "memory", About: "Memory the machine has.", Shape: kind(Data)}),
}

// Types lists every resource type in a fixed order.
func Types() []Type { return slices.Clone(types) }

// ByName finds a resource type.
func ByName(name string) (Type, bool) {
	for _, t := range types {
		if t.Name == name {
			return t, true
		}
	}
	return Type{}, false
}

// TypeNames lists the names of all types.
func TypeNames() []string {
	names := make([]string, len(types))
	for i, t := range types {
		names[i] = t.Name
	}
	return names
}

// Literals lists the object shapes that templates may write as typed literals.
func Literals() []Shape { return []Shape{FirewallRule, attachedDisk} }

// UserDataKeys are the cloud-init modules that guests understand.
var UserDataKeys = []string{"packages", "package_update", "write_files", "users", "runcmd", "hostname", "ssh_authorized_keys", "mounts", "timezone"}
