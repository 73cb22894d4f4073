package exchange

import (
	"fmt"
	"io"
	"slices"
	"strings"
)

// Starter is the small set of answers from which a first template is written.
type Starter struct {
	Name  string
	Title string
	// With lists what the stack has beside a network and a machine; see Extras.
	With []string
}

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
	line("  size:\n    picks: size\n    needs: {vcpus: 1, memory: 1GiB, architecture: x86_64}   # the least that will do\n    default: plain-1\n    title: Machine size\n    page: Machine")
	if has("workers") {
		line("  workers: {type: integer, minimum: 0, maximum: 16, default: 2, title: Workers, page: Machine}")
	}
	if has("disk") {
		line("  disk_size: {type: string, format: amount, default: 20GiB, title: Size of the data disk, page: Data}\n  disk_type: {picks: disk_type, default: solid, title: Disk type, page: Data}")
	}
	line("  range: {type: string, format: cidr, default: 10.70.0.0/22, title: Range of the network, page: Network}")
	if has("public") {
		line("  readers:\n    type: array\n    items: {type: string, format: cidr}\n    minItems: 1\n    title: Who may connect\n    page: Network")
	}
	if has("login") {
		line("  admin_sources:\n    type: array\n    items: {type: string, format: cidr}\n    minItems: 1\n    title: Where administrators come from\n    page: Network")
	}
	if has("password") {
		line("  password: {secret: true, rules: {length: 14, classes: 3}, generate: true, title: Password, page: Access}")
	}
	line("calc:\n  parts: =carve(inputs.range, [\"front/26\", \"back/24\"])   # add more at the end: what is placed stays where it is")
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
		line("  rules:\n    type: firewall\n    want:\n      network: =net.id\n      rules: >-\n        =%s", strings.Join(rules, " +\n        "))
	}
	if has("disk") {
		line("  data:\n    type: disk\n    want: {size: =inputs.disk_size, type: =inputs.disk_type, encrypted: true}\n    at_retire: keep   # its data is worth more than the stack")
	}
	line("  machine:\n    type: instance\n    want:\n      size: =inputs.size\n      image: debian-12\n      subnet: =front_subnet.id")
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
	line("      user_data:   # cloud-init, as a mapping\n        packages: [nginx]\n        write_files:\n          - path: /var/www/html/ready\n            content: =stack.name")
	if has("password") {
		line("          - path: /etc/machine.conf\n            content: =\"password \" + inputs.password")
	}
	if has("public") {
		line("    health:   # made is not ready: this is what proves it\n      - http: {url: '=\"http://\" + self.reach[\"80\"] + \"/ready\"', contains: =stack.name}\n        within: 5m\n        passes: 2")
	}
	if has("workers") {
		line("  back_subnet:\n    type: subnet\n    want: {network: =net.id, range: =calc.parts.back}")
		line("  worker:\n    type: instance\n    repeat: =inputs.workers\n    want:\n      name: =stack.name + \"-worker-\" + pad(index + 1, 2)\n      size: =inputs.size\n      image: debian-12\n      subnet: =back_subnet.id\n      user_data:\n        write_files:\n          - path: /etc/worker.conf\n            content: =\"front \" + machine.private_address   # so a worker waits for the machine")
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
