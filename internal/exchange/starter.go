package exchange

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
)

// Starter is the small set of answers from which a first template is written.
type Starter struct {
	Name  string `json:"name"`
	Title string `json:"title,omitempty"`
	// With lists what the stack has beside a network and a machine; see Extras.
	With []string `json:"with,omitempty"`
	// Tiers stand behind the machine, one behind the other.
	Tiers []Tier `json:"tiers,omitempty"`
}

// Tier is a group of like machines in a subnet of their own, which only the tier before
// it may ask, on one port.
type Tier struct {
	Name     string `json:"name"`
	Machines int    `json:"machines"`
	Port     int    `json:"port"`
}

// mostTiers is how many a starter has at most.
const mostTiers = 8

// starterNames are taken by what every starter may have.
var starterNames = strings.Fields("net front_subnet back_subnet access rules data machine worker size workers " +
	"disk_size disk_type range readers admin_sources password parts front back stack inputs calc self index offers")

var tierName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,20}$`)

// Faults tells what is wrong with the answers; Write writes only from right ones.
func (s Starter) Faults() error {
	if !starterName.MatchString(s.Name) {
		return fmt.Errorf("%q is no name of a template: use small letters, digits and hyphens, such as tide-board",
			s.Name)
	}
	for _, x := range s.With {
		if !slices.ContainsFunc(Extras, func(e struct{ Name, About string }) bool { return e.Name == x }) {
			return fmt.Errorf("there is nothing called %q to begin with", x)
		}
	}
	if len(s.Tiers) > mostTiers {
		return fmt.Errorf("%d tiers are more than %d; begin with fewer and add them in the text", len(s.Tiers),
			mostTiers)
	}
	taken := slices.Clone(starterNames)
	for _, t := range s.Tiers {
		switch {
		case !tierName.MatchString(t.Name):
			return fmt.Errorf("%q is no name of a tier: use small letters, digits and underscores", t.Name)
		case slices.Contains(taken, t.Name):
			return fmt.Errorf("the name %q is taken; choose another for the tier", t.Name)
		case t.Machines < 1 || t.Machines > 16:
			return fmt.Errorf("tier %s has %d machines; give 1 to 16", t.Name, t.Machines)
		case t.Port < 1 || t.Port > 65535:
			return fmt.Errorf("tier %s listens at port %d; give 1 to 65535", t.Name, t.Port)
		}
		taken = append(taken, t.Name, t.Name+"_subnet", t.Name+"_rules")
	}
	return nil
}

var starterName = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// Extras are what a starter may have beside a network and a machine.
var Extras = []struct{ Name, About string }{
	{"public", "a public address and rules that say who may connect"},
	{"login", "a key pair to log in with, and a range that may"},
	{"disk", "a data disk that outlives rebuilds of the machine"},
	{"password", "a secret that is drawn at acceptance"},
	{"workers", "a number of workers behind the machine"},
}

// Write writes a template that passes every check, with comments that say what
// to fill in. Name and extras must be right; see Extras.
func (s Starter) Write(w io.Writer) error {
	has := func(extra string) bool { return slices.Contains(s.With, extra) }
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("undersail: 1\nabout:\n  name: %s\n  version: 0.1.0\n  title: %s\n  maturity: trial", s.Name, s.title())
	line("inputs:")
	line("  size:\n    picks: size\n    needs: {vcpus: 1, memory: 1GiB, architecture: x86_64}   # the least that " +
		"will do\n    default: plain-1\n    title: Machine size\n    page: Machine")
	if has("workers") {
		line("  workers: {type: integer, minimum: 0, maximum: 16, default: 2, title: Workers, page: Machine}")
	}
	if has("disk") {
		line("  disk_size: {type: string, format: amount, default: 20GiB, title: Size of the data disk, page: " +
			"Data}\n  disk_type: {picks: disk_type, default: solid, title: Disk type, page: Data}")
	}
	for _, t := range s.Tiers {
		line("  %s: {type: integer, minimum: 1, maximum: 16, default: %d, title: Machines of %s, page: Machine}",
			t.Name, t.Machines, t.Name)
	}
	line("  range: {type: string, format: cidr, default: 10.70.0.0/22, title: Range of the network, page: Network}")
	if has("public") {
		line("  readers:\n    type: array\n    items: {type: string, format: cidr}\n    minItems: 1\n    title: Who " +
			"may connect\n    page: Network")
	}
	if has("login") {
		line("  admin_sources:\n    type: array\n    items: {type: string, format: cidr}\n    minItems: 1\n    " +
			"title: Where administrators come from\n    page: Network")
	}
	if has("password") {
		line("  password: {secret: true, rules: {length: 14, classes: 3}, generate: true, title: Password, " +
			"page: Access}")
	}
	parts := `"front/26", "back/24"`
	for _, t := range s.Tiers {
		parts += fmt.Sprintf(", %q", t.Name+"/26")
	}
	line("calc:\n  parts: =carve(inputs.range, [" + parts +
		"])   # add more at the end: what is placed stays where it is")
	line("resources:")
	line("  net:\n    type: network\n    want: {range: =inputs.range}")
	line("  front_subnet:\n    type: subnet\n    want: {network: =net.id, range: =calc.parts.front}")
	var rules []string
	if has("public") {
		rules = append(rules, `inputs.readers.map(r, firewall_rule{from: r, port: 80, about: "readers"})`)
	}
	if has("login") {
		rules = append(rules, `inputs.admin_sources.map(r, firewall_rule{from: r, port: 22, about: "administrators"})`)
		line("  access:\n    type: key_pair   # without a public key, a pair is drawn and its private half sealed")
	}
	if rules != nil {
		line("  rules:\n    type: firewall\n    want:\n      network: =net.id\n      rules: >-\n        =%s",
			strings.Join(rules, " +\n        "))
	}
	if has("disk") {
		line("  data:\n    type: disk\n    want: {size: =inputs.disk_size, type: =inputs.disk_type, encrypted: " +
			"true}\n    at_retire: keep   # its data is worth more than the stack")
	}
	line("  machine:\n    type: instance\n    want:\n      size: =inputs.size\n      image: debian-12\n      " +
		"subnet: =front_subnet.id")
	if rules != nil {
		line("      firewalls: [\"=rules.id\"]")
	}
	if has("login") {
		line("      key_pair: =access.id")
	}
	if has("public") {
		line("      public: true")
	}
	if has("disk") {
		line("      disks:\n        - {disk: =data.id, mount: /var/lib/data, format: ext4}")
	}
	line("      user_data:   # cloud-init, as a mapping\n        packages: [nginx]\n        write_files:\n          " +
		"- path: /var/www/html/ready\n            content: =stack.name")
	if has("password") {
		line("          - path: /etc/machine.conf\n            content: =\"password \" + inputs.password")
	}
	if has("public") {
		line("    health:   # made is not ready: this is what proves it\n      - http: {url: '=\"http://\" + " +
			"self.reach[\"80\"] + \"/ready\"', contains: =stack.name}\n        within: 5m\n        passes: 2")
	}
	if has("workers") {
		line("  back_subnet:\n    type: subnet\n    want: {network: =net.id, range: =calc.parts.back}")
		line("  worker:\n    type: instance\n    repeat: =inputs.workers\n    want:\n      name: =stack.name + " +
			"\"-worker-\" + pad(index + 1, 2)\n      size: =inputs.size\n      image: debian-12\n      subnet: " +
			"=back_subnet.id\n      user_data:\n        write_files:\n          - path: /etc/worker.conf\n          " +
			"  content: =\"front \" + machine.private_address   # so a worker waits for the machine")
	}
	before, from := "machine", "=calc.parts.front"
	for _, t := range s.Tiers {
		line("  %s_subnet:\n    type: subnet\n    want: {network: =net.id, range: =calc.parts.%s}", t.Name, t.Name)
		line("  %s_rules:\n    type: firewall\n    want:\n      network: =net.id\n      rules:\n        - {from: "+
			"%s, port: %d, about: %s}   # only the tier before it", t.Name, from, t.Port, before)
		line("  %s:\n    type: instance\n    repeat: =inputs.%s\n    want:\n      name: =stack.name + \"-%s-\" + "+
			"pad(index + 1, 2)\n      size: =inputs.size\n      image: debian-12\n      subnet: =%s_subnet.id\n     "+
			" firewalls: [\"=%s_rules.id\"]", t.Name, t.Name, strings.ReplaceAll(t.Name, "_", "-"), t.Name, t.Name)
		before, from = t.Name, "=calc.parts."+t.Name
	}
	line("outputs:")
	if has("public") {
		line("  address: {value: '=\"http://\" + machine.reach[\"80\"] + \"/\"', about: Where it is reached}")
	}
	line("  machine: {value: =machine.private_address, about: Address inside the network}")
	if has("login") {
		line("  login_key: {value: =access.private_key, about: Private key to log in with}")
	}
	if has("password") {
		line("  password: {value: =inputs.password, about: The password}")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func (s Starter) title() string {
	if s.Title != "" {
		return fmt.Sprintf("%q", s.Title)
	}
	return fmt.Sprintf("%q", s.Name)
}
