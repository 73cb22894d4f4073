package fit

import (
	"fmt"
	"net/netip"
	"path"
	"regexp"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// What the values of a resource have to be so that any cloud takes them, and what goes together
// among those that refer to each other. None of it needs an offer.

// sense checks every resource that is made or altered for values that make no sense.
func (c *check) sense() {
	for i := range c.plan.Rendering.Resources {
		r := &c.plan.Rendering.Resources[i]
		if r.Find != nil || i < len(c.plan.Changes) && c.plan.Changes[i].Change == change.Same {
			continue // it is there, whatever it is
		}
		for _, f := range senses[r.Type] {
			f(c, r)
		}
		c.belongings(r)
		if t, known := resource.ByName(r.Type); known {
			for _, p := range t.Properties {
				c.hidden(r.Name+"."+p.Name, p, r.Want[p.Name])
			}
		}
	}
}

// hidden warns of what should be a secret and stands in plain text, where everybody who sees
// the stack reads it.
func (c *check) hidden(place string, p resource.Property, value any) {
	switch v := value.(type) {
	case string:
		if p.Secret && v != "" {
			c.find(lang.Warning, "plain-secret", place, "give it an input with `secret: true`",
				"this is a secret, and everybody who may see the stack reads it here")
		}
	case []any:
		for i, item := range v {
			fields, _ := item.(map[string]any)
			c.fieldsHidden(fmt.Sprintf("%s[%d]", place, i), p.Shape.Items, fields)
		}
	case map[string]any:
		c.fieldsHidden(place, &p.Shape, v)
	}
}

func (c *check) fieldsHidden(place string, shape *resource.Shape, fields map[string]any) {
	if shape == nil {
		return
	}
	for _, f := range shape.Fields {
		c.hidden(place+"."+f.Name, f, fields[f.Name])
	}
}

// senses are the checks of each type.
var senses = map[string][]func(*check, *render.Resource){
	"network":       {(*check).privateRange},
	"pool":          {(*check).poolBounds, (*check).firstBoot},
	"instance":      {(*check).mounts, (*check).firstBoot},
	"database":      {(*check).databaseUsers},
	"private_cloud": {(*check).ownRanges, (*check).layout},
	"name_record":   {(*check).recordValues},
	"name_zone":     {(*check).domain},
	"domain":        {(*check).domain},
	"address":       {(*check).label},
	"bucket":        {(*check).label},
}

func (c *check) wrong(r *render.Resource, property, remedy, format string, args ...any) {
	if c.limited[r.Name+"."+property] {
		return // the cloud says it more closely
	}
	c.find(lang.Error, "no-sense", r.Name+"."+property, remedy, format, args...)
}

// reservedRanges are those that no network of machines can have, by RFC 1112, 1122, 3927 and 5771.
var reservedRanges = []struct {
	about string
	at    netip.Prefix
}{
	{"of this host", netip.MustParsePrefix("0.0.0.0/8")},
	{"of loopback", netip.MustParsePrefix("127.0.0.0/8")},
	{"of one link", netip.MustParsePrefix("169.254.0.0/16")},
	{"of multicast", netip.MustParsePrefix("224.0.0.0/4")},
	{"reserved", netip.MustParsePrefix("240.0.0.0/4")},
}

// privateRanges are those that anybody may use inside, by RFC 1918 and 6598.
var privateRanges = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"),
	netip.MustParsePrefix("192.168.0.0/16"), netip.MustParsePrefix("100.64.0.0/10")}

func (c *check) privateRange(r *render.Resource) {
	text, _ := r.Want["range"].(string)
	at, err := netip.ParsePrefix(text)
	if err != nil || !at.Addr().Is4() {
		return
	}
	for _, reserved := range reservedRanges {
		if reserved.at.Overlaps(at) {
			c.wrong(r, "range", "choose a private range, such as 10.20.0.0/16",
				"%s overlaps the addresses %s (%s), which no machine can have", text, reserved.about, reserved.at)
			return
		}
	}
	for _, private := range privateRanges {
		if private.Bits() <= at.Bits() && private.Contains(at.Addr()) {
			return
		}
	}
	c.find(lang.Warning, "public-range", r.Name+".range",
		"choose a private range, such as 10.20.0.0/16, unless these addresses are yours",
		"%s are public addresses: machines here reach nobody else who has them", text)
}

func (c *check) poolBounds(r *render.Resource) {
	least, isLeast := wholeNumber(r.Want["least"])
	most, isMost := wholeNumber(r.Want["most"])
	if !isLeast || !isMost {
		return
	}
	if least > most {
		c.wrong(r, "least", fmt.Sprintf("choose at most %d, or more for `most`", most),
			"the pool is to have at least %d members and at most %d", least, most)
		return
	}
	if members, is := wholeNumber(r.Want["members"]); is && (members < least || members > most) {
		c.wrong(r, "members", fmt.Sprintf("choose from %d to %d", least, most),
			"%d members are not between the least and the most of the pool", members)
	}
}

func wholeNumber(v any) (int64, bool) {
	switch n := v.(type) {
	case int64:
		return n, true
	case int:
		return int64(n), true
	case float64:
		return int64(n), n == float64(int64(n))
	}
	return 0, false
}

// mounts reports disks of a machine at one place, or at no place of its own.
func (c *check) mounts(r *render.Resource) {
	at := map[string]int{}
	list, _ := r.Want["disks"].([]any)
	for i, item := range list {
		disk, _ := item.(map[string]any)
		mount, set := disk["mount"].(string)
		if !set || mount == "" {
			continue
		}
		place := fmt.Sprintf("disks[%d].mount", i)
		switch clean := path.Clean(mount); {
		case !path.IsAbs(mount):
			c.wrong(r, place, "begin it with /, such as /data",
				"a disk is mounted at a path from the root, and %q is none", mount)
		case clean == "/":
			c.wrong(r, place, "choose another place, such as /data",
				"the system itself is at /, and no other disk can be")
		default:
			if other, taken := at[clean]; taken {
				c.wrong(r, place, "choose another place for one of them", "disks[%d] is mounted at %s too", other,
					clean)
			}
			at[clean] = i
		}
	}
}

// firstBoot reports files of a first boot that have no path.
func (c *check) firstBoot(r *render.Resource) {
	data, _ := r.Want["user_data"].(map[string]any)
	if text, is := r.Want["user_data"].(string); is {
		c.wrong(r, "user_data", "write it as a mapping: packages, write_files and the like",
			"the first boot is %d letters of text, and a machine reads a mapping", len(text))
	}
	files, _ := data["write_files"].([]any)
	for i, item := range files {
		file, is := item.(map[string]any)
		if !is {
			continue
		}
		if name, known := file["path"].(string); file["path"] == nil || known && !path.IsAbs(name) {
			c.wrong(r, fmt.Sprintf("user_data.write_files[%d].path", i),
				"name the file from the root, such as /etc/gauge.conf",
				"a file of the first boot has no path from the root")
		}
	}
}

func (c *check) databaseUsers(r *render.Resource) {
	seen := map[string]int{}
	list, _ := r.Want["users"].([]any)
	for i, item := range list {
		user, _ := item.(map[string]any)
		name, _ := user["name"].(string)
		if name == "" {
			continue
		}
		if other, twice := seen[name]; twice {
			c.wrong(r, fmt.Sprintf("users[%d].name", i), "give each user a name of its own",
				"users[%d] is called %s too", other, name)
		}
		seen[name] = i
	}
}

// recordValues holds the values of a record against its kind, by RFC 1035 and 3596.
func (c *check) recordValues(r *render.Resource) {
	kind, _ := r.Want["kind"].(string)
	if text, known := r.Want["label"].(string); known && !namePattern.MatchString(text) {
		c.wrong(r, "label", "use letters, digits, hyphens and dots, or @ for the zone itself",
			"%q is no name within a zone", text)
	}
	list, _ := r.Want["values"].([]any)
	for i, item := range list {
		text, known := item.(string)
		if !known {
			continue
		}
		at, err := netip.ParseAddr(text)
		place := fmt.Sprintf("values[%d]", i)
		switch {
		case kind == "A" && (err != nil || !at.Is4()):
			c.wrong(r, place, "give an address such as 192.0.2.7, or choose another kind",
				"a record of kind A has IPv4 addresses, and %q is none", text)
		case kind == "AAAA" && (err != nil || !at.Is6() || at.Is4In6()):
			c.wrong(r, place, "give an address such as 2001:db8::7, or choose another kind",
				"a record of kind AAAA has IPv6 addresses, and %q is none", text)
		case kind == "MX" && !mailPattern.MatchString(text):
			c.wrong(r, place, "write a preference and a name, such as 10 mail.tides.example",
				"a record of kind MX has a preference and the name of a mail server, and %q is neither", text)
		case kind == "TXT" && len(text) > 255:
			c.wrong(r, place, "split it into several values",
				"a text of a record has at most 255 letters, and this one has %d", len(text))
		case kind == "CNAME" && err == nil:
			c.wrong(r, place, "choose the kind A or AAAA, or name another record",
				"a record of kind CNAME has a name, and %s is an address", text)
		case kind == "CNAME" && !domainPattern.MatchString(strings.ToLower(text)):
			c.wrong(r, place, "name another record, such as www.tides.example",
				"a record of kind CNAME has a name, and %q is none", text)
		case kind == "CNAME" && i > 0:
			c.wrong(r, place, "keep one name", "a record of kind CNAME has one value")
		}
	}
}

// domainPattern and labelPattern are of RFC 1123, namePattern of RFC 1034 and 4592, mailPattern is of RFC 1035, 3.3.9.
var (
	namePattern   = regexp.MustCompile(`^(@|(\*\.)?([A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9])?\.)*([A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9])?|\*))$`)
	mailPattern   = regexp.MustCompile(`^[0-9]{1,5} ([A-Za-z0-9_]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?\.)*[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?\.?$`)
	domainPattern = regexp.MustCompile(`^([a-z0-9_]([a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.?$`)
	labelPattern  = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{1,61}[a-z0-9]$`)
)

func (c *check) domain(r *render.Resource) {
	if text, known := r.Want["domain"].(string); known && !domainPattern.MatchString(strings.ToLower(text)) {
		c.wrong(r, "domain", "write it like tides.example", "%q is no domain name", text)
	}
}

func (c *check) label(r *render.Resource) {
	if text, known := r.Want["label"].(string); known && !labelPattern.MatchString(text) {
		c.wrong(r, "label", "use 3 to 63 small letters, digits and hyphens, with a letter or digit at both ends",
			"%q is no label", text)
	}
}

// belongings reports what a resource has from another network or region than its own.
func (c *check) belongings(r *render.Resource) {
	network := c.networkOf(r)
	list, _ := r.Want["firewalls"].([]any)
	for i, id := range list {
		f := c.target(id)
		if f == nil || network == nil || f.Find != nil {
			continue
		}
		if of := c.target(f.Want["network"]); of != nil && of != network {
			c.wrong(r, fmt.Sprintf("firewalls[%d]", i), "name a firewall of "+network.Name,
				"%s is a firewall of %s, and %s stands in %s", f.Name, of.Name, r.Name, network.Name)
		}
	}
	for _, property := range []string{"key_pair", "subnet", "network"} {
		if of := c.target(r.Want[property]); of != nil && of.Find == nil && of.Region != r.Region {
			c.wrong(r, property, "make one in the region of "+r.Name, "%s is in another region than %s", of.Name,
				r.Name)
		}
	}
}

// networkOf is the network of the rendering that a resource stands in, by its subnet.
func (c *check) networkOf(r *render.Resource) *render.Resource {
	subnet := c.target(r.Want["subnet"])
	if list, is := r.Want["subnets"].([]any); is && subnet == nil && len(list) > 0 {
		subnet = c.target(list[0])
	}
	if subnet == nil || subnet.Type != resource.TypeSubnet {
		return nil
	}
	return c.target(subnet.Want["network"])
}
