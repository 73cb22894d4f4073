package larch

import (
	"encoding/base64"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
	"golang.org/x/crypto/ssh"

	"undersail/sim/market"
	"undersail/sim/world"
)

// kind is one kind of resource: its properties and the rules it obeys.
type kind struct {
	name, plural, prefix string
	properties           []string
	changeable           []string
	make                 func(*making) error
}

// making is a resource on its way through the rules of its kind. Change says
// that it exists and gets other properties.
type making struct {
	cloud  *Cloud
	tx     *world.Tx
	x      *world.Resource
	change bool
}

var kinds = map[string]kind{}

func init() {
	for _, k := range []kind{
		{"network", "networks", "net", []string{"cidr"}, nil, (*making).network},
		{"subnet", "subnets", "sub", []string{"network_id", "cidr", "zone", "egress", "resolvers", "clocks"},
			[]string{"egress", "resolvers", "clocks"}, (*making).subnet},
		{"firewall", "firewalls", "fw", []string{"network_id", "inbound"}, []string{"inbound"}, (*making).firewall},
		{"address", "addresses", "adr", []string{"label", "idle_seconds"}, []string{"idle_seconds"}, (*making).address},
		{"key_pair", "keys", "key", []string{"public_key"}, nil, (*making).key},
		{"secret", "secrets", "sec", []string{"value"}, []string{"value"}, (*making).secret},
		{"disk", "disks", "dsk", []string{"gib", "class", "zone", "encrypted"}, []string{"gib"}, (*making).disk},
		{"instance", "instances", "vm",
			[]string{"size", "image", "subnet_id", "zone", "public", "address_id", "firewall_ids", "key_id", "disks",
				"user_data", "licence", "cards", "host_id", "role_id"},
			[]string{"size", "firewall_ids", "role_id", "disks"}, (*making).instance},
		{"host", "hosts", "hst", []string{"family", "zone", "recover"}, []string{"recover"}, (*making).host},
		{"pool", "pools", "poo",
			[]string{"size", "image", "subnet_ids", "least", "most", "members", "heal", "idle_seconds", "firewall_ids",
				"key_id", "role_id", "user_data"},
			[]string{"size", "image", "subnet_ids", "least", "most", "members", "heal", "idle_seconds", "firewall_ids",
				"key_id", "role_id", "user_data"}, (*making).pool},
		{"database", "databases", "dbs",
			[]string{"engine", "size", "gib", "subnet_ids", "firewall_ids", "accounts", "encrypted",
				"keep_copies_seconds"}, []string{"size", "gib", "firewall_ids", "accounts", "keep_copies_seconds"},
			(*making).database},
		{"private_cloud", "private-clouds", "pvc",
			[]string{"network_id", "ranges", "layout", "family", "protection", "password"},
			[]string{"layout", "protection", "password"}, (*making).privateCloud},
		{"file_share", "file-shares", "shf", []string{"gib", "subnet_ids", "firewall_ids", "encrypted"},
			[]string{"gib", "subnet_ids", "firewall_ids"}, (*making).share},
		{"bucket", "buckets", "bkt", []string{"global_name", "versions", "keep_seconds", "encrypted", "objects"},
			[]string{"versions", "keep_seconds", "encrypted", "objects"}, (*making).bucket},
		{"name_zone", "name-zones", "zon", []string{"domain", "network_id"}, nil, (*making).nameZone},
		{"name_record", "name-records", "rec", []string{"zone_id", "name", "type", "values", "ttl"},
			[]string{"values", "ttl"}, (*making).nameRecord},
		{"role", "roles", "rol", []string{"grants"}, []string{"grants"}, (*making).role},
	} {
		kinds[k.plural] = k
	}
}

// nobodys are the ranges that no machine can have: of this host, loopback, one link,
// multicast, and what is kept back.
var nobodys = []netip.Prefix{netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("127.0.0.0/8"),
	netip.MustParsePrefix("169.254.0.0/16"), netip.MustParsePrefix("224.0.0.0/4"), netip.MustParsePrefix("240.0.0.0/4")}

func invalid(property, format string, args ...any) error {
	return refuse(422, "invalid", fmt.Sprintf(format, args...), map[string]any{"property": property})
}

func (m *making) text(property string) string {
	s, _ := m.x.Properties[property].(string)
	return s
}

func (m *making) cidr() (netip.Prefix, error) {
	p, err := netip.ParsePrefix(m.text("cidr"))
	if err != nil || p.Masked() != p || !p.Addr().Is4() {
		return p, invalid("cidr", "%q is not an IPv4 range", m.text("cidr"))
	}
	for _, nobodys := range nobodys {
		if nobodys.Overlaps(p) {
			return p, invalid("cidr", "%s overlaps %s, which no machine can have", p, nobodys)
		}
	}
	return p, nil
}

// needs finds a resource that another refers to. It must be ready.
func (m *making) needs(property, id, plural string) (*world.Resource, error) {
	x := m.tx.ByID(m.x.Account, id)
	if x == nil || x.Kind != plural || x.Region != m.x.Region {
		return nil, invalid(property, "there is no %s %q in this region", kinds[plural].name, id)
	}
	if phase := x.PhaseAt(time.Now()); phase != world.Ready && phase != world.Changing {
		return nil, refuse(409, "not-ready", fmt.Sprintf("the %s %s is %s", kinds[plural].name, id, phase),
			map[string]any{"property": property})
	}
	return x, nil
}

func (m *making) zone(allowed []string) error {
	zones := m.cloud.market.Regions[m.x.Region].Zones
	if m.text("zone") == "" {
		m.x.Properties["zone"] = zones[0]
	}
	if !slices.Contains(zones, m.text("zone")) {
		return invalid("zone", "region %s has no zone %q", m.x.Region, m.text("zone"))
	}
	if allowed != nil && !slices.Contains(allowed, m.text("zone")) {
		return invalid("zone", "zone %s does not sell it", m.text("zone"))
	}
	m.x.Attributes["zone"] = m.text("zone")
	return nil
}

func (m *making) others(plural string, match func(*world.Resource) bool) []*world.Resource {
	return m.tx.All(func(o *world.Resource) bool {
		return o.Account == m.x.Account && o.Region == m.x.Region && o.Kind == plural && o.ID != m.x.ID && match(o)
	})
}

func (m *making) network() error {
	at, err := m.cidr()
	if err != nil {
		return err
	}
	for _, o := range m.others("networks", func(*world.Resource) bool { return true }) {
		if p, err := netip.ParsePrefix(fmt.Sprint(o.Properties["cidr"])); err == nil && p.Overlaps(at) {
			return refuse(409, "overlap", fmt.Sprintf("%s overlaps %s of network %s", at, p, o.Label), map[string]any{
				"property": "cidr",
			})
		}
	}
	return nil
}

func (m *making) subnet() error {
	at, err := m.cidr()
	if err != nil {
		return err
	}
	resolvers, _ := m.x.Properties["resolvers"].([]any)
	for i, at := range resolvers {
		if _, err := netip.ParseAddr(str(at)); err != nil {
			return invalid(fmt.Sprintf("resolvers[%d]", i), "%v is not an address", at)
		}
	}
	if m.text("zone") != "" { // else it is in every zone of the region
		if err := m.zone(nil); err != nil {
			return err
		}
	}
	network, err := m.needs("network_id", m.text("network_id"), "networks")
	if err != nil {
		return err
	}
	whole, err := netip.ParsePrefix(fmt.Sprint(network.Properties["cidr"]))
	if err != nil || whole.Bits() > at.Bits() || !whole.Contains(at.Addr()) {
		return invalid("cidr", "%s is not part of %s", at, whole)
	}
	for _, o := range m.others("subnets",
		func(o *world.Resource) bool { return o.Properties["network_id"] == network.ID }) {
		if p, err := netip.ParsePrefix(fmt.Sprint(o.Properties["cidr"])); err == nil && p.Overlaps(at) {
			return refuse(409, "overlap", fmt.Sprintf("%s overlaps %s of subnet %s", at, p, o.Label), map[string]any{
				"property": "cidr",
			})
		}
	}
	m.x.Attributes["router"] = at.Addr().Next().String()
	return nil
}

func (m *making) firewall() error {
	if _, err := m.needs("network_id", m.text("network_id"), "networks"); err != nil && !m.change {
		return err
	}
	inbound, _ := m.x.Properties["inbound"].([]any)
	for i, item := range inbound {
		rule, _ := item.(map[string]any)
		at := fmt.Sprintf("inbound[%d]", i)
		if _, err := netip.ParsePrefix(fmt.Sprint(rule["source"])); err != nil {
			return invalid(at+".source", "%v is not a range", rule["source"])
		}
		if p := number(rule["port"]); p < 1 || p > 65535 {
			return invalid(at+".port", "%v is not a port", rule["port"])
		}
	}
	return nil
}

func (m *making) key() error {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(m.text("public_key")))
	if err != nil {
		return invalid("public_key", "this is not an OpenSSH public key")
	}
	m.x.Attributes["fingerprint"] = ssh.FingerprintSHA256(key)
	return nil
}

func (m *making) secret() error {
	if m.text("value") == "" {
		return invalid("value", "a secret needs a value")
	}
	version, _ := m.x.Attributes["version"].(float64)
	m.x.Attributes["version"] = version + 1
	return nil
}

func (m *making) disk() error {
	class, ok := m.cloud.market.DiskType(m.text("class"))
	if !ok {
		return invalid("class", "there is no disk class %q", m.text("class"))
	}
	if err := m.zone(m.cloud.market.DiskZones(m.x.Region, class)); err != nil {
		return err
	}
	if err := m.encryption(); err != nil {
		return err
	}
	gib := number(m.x.Properties["gib"])
	if low, high := bytesOf(class.Min)>>30, bytesOf(class.Max)>>30; gib < low || gib > high {
		return invalid("gib", "a %s disk has %d to %d GiB", class.Name, low, high)
	}
	return nil
}

func (m *making) instance() error {
	subnet, err := m.needs("subnet_id", m.text("subnet_id"), "subnets")
	if err != nil {
		return err
	}
	within, _ := subnet.Properties["zone"].(string)
	if m.text("zone") == "" && within != "" {
		m.x.Properties["zone"] = within
	}
	if err := m.zone(nil); err != nil {
		return err
	}
	if within != "" && m.text("zone") != within {
		return invalid("zone", "the subnet is in zone %s", within)
	}
	if err := m.machine(); err != nil {
		return err
	}
	if err := m.belongings(); err != nil {
		return err
	}
	if err := m.onHost(); err != nil {
		return err
	}
	if err := m.attach(); err != nil {
		return err
	}
	if _, err := userData(m.text("user_data")); err != nil {
		return invalid("user_data", "%v", err)
	}
	if m.change {
		return nil
	}
	return m.addresses(subnet)
}

// encryption checks that a region encrypts what is to be encrypted.
func (m *making) encryption() error {
	encrypted, _ := m.x.Properties["encrypted"].(bool)
	if encrypted && !m.cloud.market.Has(m.x.Region, "disk-encryption") {
		return invalid("encrypted", "region %s encrypts no disks", m.x.Region)
	}
	return nil
}

// apart are the subnets that something stands in, each in a zone of its own.
func (m *making) apart(what string) (subnets []*world.Resource, err error) {
	ids, _ := m.x.Properties["subnet_ids"].([]any)
	if len(ids) == 0 {
		return nil, invalid("subnet_ids", "%s stands in a subnet", what)
	}
	for i, id := range ids {
		subnet, err := m.needs(fmt.Sprintf("subnet_ids[%d]", i), str(id), "subnets")
		if err != nil {
			return nil, err
		}
		if len(subnets) > 0 && subnets[0].Properties["network_id"] != subnet.Properties["network_id"] {
			return nil, invalid(fmt.Sprintf("subnet_ids[%d]", i), "the subnets are of one network")
		}
		if slices.ContainsFunc(subnets,
			func(o *world.Resource) bool { return o.Properties["zone"] == subnet.Properties["zone"] }) {
			return nil, invalid("subnet_ids", "the subnets are in different zones, each one's own")
		}
		subnets = append(subnets, subnet)
	}
	return subnets, nil
}

// belongings checks that the key, the role and the firewalls that something names are there.
func (m *making) belongings() error {
	for _, named := range [][2]string{{"key_id", "keys"}, {"role_id", "roles"}} {
		if id := m.text(named[0]); id != "" {
			if _, err := m.needs(named[0], id, named[1]); err != nil {
				return err
			}
		}
	}
	within := ""
	ids, _ := m.x.Properties["subnet_ids"].([]any)
	for _, id := range append([]any{m.x.Properties["subnet_id"]}, ids...) {
		if subnet := m.tx.ByID(m.x.Account, str(id)); subnet != nil {
			within = str(subnet.Properties["network_id"])
		}
	}
	firewalls, _ := m.x.Properties["firewall_ids"].([]any)
	for i, id := range firewalls {
		f, err := m.needs("firewall_ids", fmt.Sprint(id), "firewalls")
		if err != nil {
			return err
		}
		if of := str(f.Properties["network_id"]); within != "" && of != within {
			return invalid(fmt.Sprintf("firewall_ids[%d]", i), "%s is a firewall of another network", f.Label)
		}
	}
	return nil
}

// machine checks size and image against what the zone sells.
func (m *making) machine() error {
	size, ok := m.cloud.market.Size(m.x.Region, m.text("size"))
	if !ok || size.Withdrawn || !slices.Contains(size.Zones, m.text("zone")) {
		return refuse(422, "not-sold", fmt.Sprintf("zone %s does not sell size %q", m.text("zone"), m.text("size")),
			map[string]any{"property": "size"})
	}
	if f, hit := m.tx.Planned("zone-down", m.x.Account, "", m.text("zone")); hit && f.Label == m.text("zone") {
		return refuse(409, "capacity", "zone "+f.Label+" is down", map[string]any{
			"zones": slices.DeleteFunc(slices.Clone(size.Zones), func(z string) bool { return z == f.Label }),
		})
	}
	if _, hit := m.tx.Planned("capacity", m.x.Account, "instances", m.x.Label+" "+m.text("zone")); hit {
		var others []string
		for _, z := range size.Zones {
			if z != m.text("zone") {
				others = append(others, z)
			}
		}
		return refuse(409, "capacity", fmt.Sprintf("zone %s has no %s left", m.text("zone"), size.Name), map[string]any{
			"zones": others,
		})
	}
	image, ok := m.cloud.market.Image(m.text("image"))
	licence := m.text("licence")
	switch {
	case size.Host && m.text("host_id") == "":
		return refuse(422, "needs-host", "size "+size.Name+" stands on a dedicated host only", map[string]any{
			"property": "size",
		})
	case !ok:
		return invalid("image", "there is no image %q", m.text("image"))
	case image.Architecture != size.Architecture:
		return invalid("image", "image %s is for %s and size %s is %s", image.Name, image.Architecture, size.Name,
			size.Architecture)
	case bytesOf(image.MinMemory) > size.GiB<<30:
		return invalid("size", "image %s needs %s of memory", image.Name, image.MinMemory)
	case licence != "" && !slices.ContainsFunc(image.Licences,
		func(l market.Licence) bool { return l.Name == licence }):
		return invalid("licence", "image %s has no licence %q", image.Name, licence)
	case image.Terms.Name != "" && m.tx.Note(acceptance(m.x.Account, image.Terms.Name)) != true:
		return refuse(403, "terms", "the terms "+image.Terms.Name+" of image "+image.Name+" are not accepted",
			map[string]any{"property": "image", "terms": image.Terms.Name})
	}
	m.x.Attributes["vcpus"], m.x.Attributes["memory_gib"], m.x.Attributes["zone"] = size.VCPUs, size.GiB, m.text("zone")
	return nil
}

func (m *making) attach() error {
	disks, _ := m.x.Properties["disks"].([]any)
	mounts := map[string]bool{}
	for i, item := range disks {
		d, _ := item.(map[string]any)
		if at := str(d["mount"]); at != "" {
			clean := path.Clean(at)
			if !path.IsAbs(at) || clean == "/" || mounts[clean] {
				return invalid(fmt.Sprintf("disks[%d].mount", i),
					"no disk can be mounted at %q: it is no path of its own from the root", at)
			}
			mounts[clean] = true
		}
		disk, err := m.needs(fmt.Sprintf("disks[%d].disk_id", i), fmt.Sprint(d["disk_id"]), "disks")
		if err != nil {
			return err
		}
		if disk.Properties["zone"] != m.text("zone") {
			return invalid(fmt.Sprintf("disks[%d]", i), "the disk is in zone %v", disk.Properties["zone"])
		}
		for _, o := range m.others("instances", func(*world.Resource) bool { return true }) {
			if refersTo(o.Properties["disks"], disk.ID) {
				return refuse(409, "in-use", "the disk is attached to "+o.Label, map[string]any{"property": "disks"})
			}
		}
	}
	return nil
}

// userData reads a base64 cloud-init document.
func userData(encoded string) (map[string]any, error) {
	if encoded == "" {
		return nil, nil
	}
	raw, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil {
		return nil, fmt.Errorf("user data is not base64")
	}
	if !strings.HasPrefix(string(raw), "#cloud-config\n") {
		return nil, fmt.Errorf("user data does not begin with #cloud-config")
	}
	var doc map[string]any
	if err := yaml.Load(raw, &doc); err != nil {
		return nil, fmt.Errorf("user data is not YAML: %v", err)
	}
	files, _ := doc["write_files"].([]any)
	for i, item := range files {
		if file, _ := item.(map[string]any); !path.IsAbs(str(file["path"])) {
			return nil, fmt.Errorf("write_files[%d] has no path from the root", i)
		}
	}
	return doc, nil
}
