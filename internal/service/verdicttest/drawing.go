package verdicttest

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// Templates of chance: things of every type that the cloud makes, with every property that
// they have, most often as they should be and now and then as they should not.

// doubtful says one of how many values are drawn that might not do.
const doubtful = 14

// drawing is a template that is being drawn. Number is its own, so that what it makes meets
// what others made only where chance has it so.
type drawing struct {
	random *rand.Rand
	offers *offer.Offers
	number int
	made   map[string]any    // resources by name, as they are written
	first  map[string]string // the first of each type, by type
	mean   int               // how many doubtful values there are
}

// Template draws a template with the resources that it names. Its inputs are one secret, which
// is generated.
func Template(random *rand.Rand, offers *offer.Offers, number int) string {
	d := &drawing{random: random, offers: offers, number: number, made: map[string]any{}, first: map[string]string{}}
	for range 1 + random.IntN(3) {
		types := Drawn()
		d.add(types[random.IntN(len(types))])
	}
	raw, err := json.Marshal(map[string]any{
		"undersail": 1,
		"about":     map[string]any{"name": "drawn", "version": "1.0.0", "title": "Drawn"},
		"inputs": map[string]any{
			"password": map[string]any{
				"secret":   true,
				"generate": true,
				"title":    "Password",
				"rules":    map[string]any{"length": 16},
			},
		},
		"resources": d.made,
	})
	if err != nil {
		panic(err)
	}
	return string(raw)
}

// Drawn names the types that are drawn, and Draws the properties of one.
func Drawn() []string {
	var out []string
	for _, t := range resource.Types() {
		if catalogue[t.Name] != nil {
			out = append(out, t.Name)
		}
	}
	return out
}

// Draws reports whether values of a property are drawn.
func Draws(typeName, property string) bool { return catalogue[typeName][property] != nil }

// picker draws a value of a property; nil leaves it out.
type picker func(*drawing) any

// add writes a resource of a type, and gives its name. What it needs comes before it.
func (d *drawing) add(typeName string) string {
	name := fmt.Sprintf("%s_%d", strings.ReplaceAll(typeName, "_", ""), len(d.made))
	d.made[name] = nil // its place is taken
	t, _ := resource.ByName(typeName)
	want := map[string]any{}
	for _, p := range t.Properties {
		draw := catalogue[typeName][p.Name]
		if draw == nil || !p.Required && d.random.IntN(3) > 0 {
			continue
		}
		if v := draw(d); v != nil {
			want[p.Name] = v
		}
	}
	d.made[name] = map[string]any{"type": typeName, "want": want, "patience": "2h"}
	if d.first[typeName] == "" {
		d.first[typeName] = name
	}
	return name
}

// id is a reference to something of a type: the first that is there, or one more.
func (d *drawing) id(typeName string) string {
	name := d.first[typeName]
	if name == "" || d.random.IntN(8) == 0 && len(d.made) < 14 {
		name = d.add(typeName)
	}
	return "=" + name + ".id"
}

// one draws one of some values; now and then one of those that might not do.
func one(good []any, bad ...any) picker {
	return func(d *drawing) any {
		list := good
		if len(bad) > 0 && d.random.IntN(doubtful) == 0 || len(good) == 0 {
			list = bad
			d.mean++
		}
		v := list[d.random.IntN(len(list))]
		if draw, is := v.(picker); is {
			return draw(d)
		}
		// # is the number of the template
		return resource.MapTexts(v,
			func(text string) string { return strings.ReplaceAll(text, "#", fmt.Sprint(d.number)) })
	}
}

func ref(typeName string) picker { return func(d *drawing) any { return d.id(typeName) } }

// some draws a list of so many, each drawn by itself, no value twice.
func some(least, most int, each picker) picker {
	return func(d *drawing) any {
		out := []any{}
		for range least + d.random.IntN(most-least+1) {
			if v := each(d); !slices.ContainsFunc(out, func(o any) bool { return fmt.Sprint(o) == fmt.Sprint(v) }) {
				out = append(out, v)
			}
		}
		return out
	}
}

// fields draws a mapping; fields that begin with ? are there now and then.
func fields(of map[string]picker) picker {
	return func(d *drawing) any {
		out := map[string]any{}
		names := make([]string, 0, len(of))
		for name := range of {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			plain, sometimes := strings.CutPrefix(name, "?")
			if sometimes && d.random.IntN(2) == 0 {
				continue
			}
			if v := of[name](d); v != nil {
				out[plain] = v
			}
		}
		return out
	}
}

// sold draws the name of something that is sold, by a list of the offers; now and then what
// does not do.
func sold(names func(o *offer.Offers) []string, bad ...any) picker {
	return func(d *drawing) any {
		list := names(d.offers)
		good := make([]any, len(list))
		for i, n := range list {
			good[i] = n
		}
		return one(good, bad...)(d)
	}
}

// subnet draws a part of the first network, most often in a zone.
func subnetRange(d *drawing) any {
	at := len(d.made) - 1
	if d.random.IntN(doubtful) == 0 {
		d.mean++
		return []any{fmt.Sprintf("10.%d.0.0/24", 50+d.number%180), fmt.Sprintf("10.%d.%d.0/30", 50+d.number%180, at),
			"10.7.7.0/24"}[d.random.IntN(3)]
	}
	return fmt.Sprintf("10.%d.%d.0/24", 50+d.number%180, at%16)
}

func zone(o *offer.Offers) []string { return o.Zones }

// usualSizes are those that most machines are of.
func usualSizes(o *offer.Offers) (out []string) {
	for _, s := range o.Sizes {
		if s.VCPUs <= 2 && s.Architecture == "x86_64" && len(s.Zones) > 0 && !s.Withdrawn {
			out = append(out, s.Name)
		}
	}
	return out
}

func usualImages(o *offer.Offers) (out []string) {
	for _, i := range o.Images {
		if i.Architecture == "x86_64" && i.MinMemoryBytes <= 4<<30 {
			out = append(out, i.Name)
		}
	}
	return out
}

func families(o *offer.Offers) (out []string) {
	for _, h := range o.Hosts {
		if h.VCPUs <= 64 {
			out = append(out, h.Family)
		}
	}
	return out
}

func diskTypes(o *offer.Offers) (out []string) {
	for _, t := range o.DiskTypes {
		out = append(out, t.Name)
	}
	return out
}

func licences(o *offer.Offers) (out []string) {
	for _, i := range o.Images {
		for _, l := range i.Licences {
			out = append(out, l.Name)
		}
	}
	return append(out, "own")
}

var firstBoot = one([]any{
	map[string]any{"hostname": "quay-#"}, map[string]any{"packages": []any{"nginx"}},
	map[string]any{"write_files": []any{map[string]any{"path": "/etc/quay.conf", "content": "neap"}}},
	map[string]any{"timezone": "Etc/UTC"},
}, map[string]any{"packages": []any{"tide-of-nobody"}},
	map[string]any{"write_files": []any{map[string]any{"content": "neap"}}},
	map[string]any{"hostname": strings.Repeat("long-", 9000)}, `="#cloud-config"`)

var secretText = one([]any{"=inputs.password"}, "short")

// catalogue holds the values of each property of each type that the simulated cloud makes.
var catalogue map[string]map[string]picker

func init() {
	catalogue = map[string]map[string]picker{
		"network": {"range": func(d *drawing) any {
			if d.first["network"] != "" {
				return fmt.Sprintf("172.%d.%d.0/24", 16+d.number%16, len(d.made))
			}
			return one([]any{fmt.Sprintf("10.%d.0.0/20", 50+d.number%180)}, "10.0.0.0/7", "224.1.0.0/16",
				"127.8.0.0/16", "10.50.0.0/20", "fd00::/48", "169.254.0.0/20")(d)
		}},
		"subnet": {
			"network":      ref("network"),
			"range":        subnetRange,
			"zone":         sold(zone, "low-marsh-a"),
			"way_out":      one([]any{"gateway", "gateway", "address", "none"}),
			"name_servers": one([]any{[]any{"10.9.9.9"}, []any{"192.0.2.53", "192.0.2.54"}}),
			"time_servers": one([]any{[]any{"time.saltmere.example"}, []any{"192.0.2.123"}}),
		},
		"firewall": {
			"network": ref("network"),
			"rules": some(0, 3, fields(map[string]picker{
				"from":      one([]any{"10.0.0.0/8", "0.0.0.0/0", "203.0.113.0/24"}, "fd00::/8"),
				"port":      one([]any{22, 80, 443, 65535}),
				"?protocol": one([]any{"tcp", "udp"}),
				"?about":    one([]any{"the gauges"}),
				"?until":    one([]any{"2027-01-31"}),
			})),
		},
		"address": {
			"label": one([]any{"quay-#"}, "tides", "Quay_#", "-quay", "qu", strings.Repeat("q", 64)),
			"idle":  one([]any{"5m", "60s", "2h"}, "30s", "3h"),
		},
		"key_pair": {
			"public_key": one([]any{
				"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPSJ3kk1fmbXi1Wt9h8zV2bPyl0ZW8JwQdlyL9CyYkYk",
			}),
		},
		"secret": {"value": secretText},
		"disk": {
			"size":      one([]any{"4GiB", "10GiB", "50GiB", "125GiB", "200GiB"}, "1GiB", "10500MiB", "17TiB"),
			"type":      sold(diskTypes, "quick-of-nobody"),
			"zone":      sold(zone, "low-marsh-a"),
			"encrypted": one([]any{true, false}),
		},
		"instance": {"size": sold(usualSizes, "plain-48", "vast-64", "lean-2", "nothing-1"),
			"image": sold(usualImages, "debian-12-arm", "tide-archive-2", "nobody-1"), "subnet": ref("subnet"),
			"zone": sold(zone, "low-marsh-a"), "public": one([]any{true, false}), "address": ref("address"),
			"firewalls": some(1, 2, ref("firewall")), "key_pair": ref("key_pair"),
			"disks": some(1, 2, fields(map[string]picker{
				"disk":      ref("disk"),
				"?mount":    one([]any{"/data", "/logs", "/srv/tides"}, "/", "data", "/data/"),
				"?format":   one([]any{"ext4", "xfs"}),
				"?optional": one([]any{true, false}),
			})),
			"cards": some(1, 2, fields(map[string]picker{
				"subnet":     ref("subnet"),
				"?address":   ref("address"),
				"?firewalls": some(1, 1, ref("firewall")),
			})),
			"host": ref("host"), "role": ref("role"), "licence": sold(licences, "nobodys"), "user_data": firstBoot},
		"host": {
			"family":  sold(families, "vast", "nothing"),
			"zone":    sold(zone, "low-marsh-a"),
			"recover": one([]any{true, false}),
		},
		"pool": {"size": sold(usualSizes, "plain-48", "vast-64", "lean-2"),
			"image": sold(usualImages, "debian-12-arm", "nobody-1"), "subnets": some(1, 2, ref("subnet")),
			"least": one([]any{0, 1, 2}, 5), "most": one([]any{3, 4}, 1, 300),
			"members": one([]any{2, 3}, 0, 9), "heal": one([]any{true, false}), "idle": one([]any{"2m", "20m"}),
			"firewalls": some(1, 2, ref("firewall")), "key_pair": ref("key_pair"), "role": ref("role"),
			"user_data": firstBoot},
		"database": {
			"engine":      sold(func(o *offer.Offers) []string { return o.Engines }, "postgresql-9", "neap-1"),
			"size":        sold(usualSizes, "plain-48", "vast-64"),
			"storage":     one([]any{"10GiB", "20GiB", "200GiB"}, "5GiB", "10500MiB", "20TiB"),
			"subnets":     some(1, 2, ref("subnet")),
			"firewalls":   some(1, 2, ref("firewall")),
			"encrypted":   one([]any{true, false}),
			"keep_copies": one([]any{"7d", "1d", "35d"}, "2h", "40d"),
			"users": some(1, 2,
				fields(map[string]picker{
					"name":     one([]any{"tide", "gauge_2", "ines"}, "Tide", "9tides", "ti-de"),
					"password": secretText,
					"?rights":  one([]any{"read", "write", "own"}),
				})),
		},
		"shared_files": {
			"size":      one([]any{"100GiB", "1TiB"}, "50GiB", "70TiB", "100500MiB"),
			"subnets":   some(1, 2, ref("subnet")),
			"firewalls": some(1, 2, ref("firewall")),
			"encrypted": one([]any{true, false}),
		},
		"bucket": {
			"label": one([]any{"store-#", "store-#-more"}, "archive", "Store_#", "st", "store-"),
			"files": one([]any{map[string]any{"readme": "high and low"},
				map[string]any{"a/b.txt": "neap", "c": ""}}),
			"versions":  one([]any{true, false}),
			"keep_for":  one([]any{"1d", "1000d"}),
			"encrypted": one([]any{true, false}),
		},
		"name_zone": {
			"domain": one([]any{"quay-#.example", "a.b.quay-#.example"}, "QUAY.example", "quay", "not a domain",
				"tides", "-quay.example"),
			"network": ref("network"),
		},
		"name_record": {
			"zone":     ref("name_zone"),
			"label":    one([]any{"www", "mail", "@", "a-b"}, "w w", strings.Repeat("w", 64)),
			"kind":     one([]any{"A", "A", "AAAA", "TXT", "MX", "CNAME"}),
			"keep_for": one([]any{"5m", "1d"}, "2s", "30d"),
			"values": one([]any{[]any{"192.0.2.7"}, []any{"192.0.2.7", "192.0.2.8"}, []any{"2001:db8::7"},
				[]any{"www.saltmere.example"}, []any{"10 mail.saltmere.example."}}, []any{}, []any{"not an address"},
				[]any{"a.example", "b.example"}),
		},
		"role": {
			"grants": some(1, 2, fields(map[string]picker{
				"may": some(1, 3, one([]any{"disk.read", "instance.*", "bucket.write", "database.change"}, "disk.fly",
					"moon.read", "*", "disk")),
				"?on": some(1, 2, ref("bucket")),
			})),
		},
		"private_cloud": {
			"network":    ref("network"),
			"family":     sold(families, "vast", "nothing"),
			"password":   secretText,
			"protection": one([]any{"one copy", "two copies", "parity"}),
			"ranges": func(d *drawing) any {
				third := 16 * (1 + len(d.made)%12)
				at := func(i int) string { return fmt.Sprintf("10.%d.%d.0/24", 50+d.number%180, third+i) }
				ranges := map[string]any{"management": at(0), "moves": at(1), "storage": at(2), "uplink": at(3)}
				switch d.random.IntN(2 * doubtful) {
				case 0:
					delete(ranges, "moves")
				case 1:
					ranges["storage"] = at(1)
				case 2:
					ranges["uplink"] = fmt.Sprintf("10.%d.%d.0/25", 50+d.number%180, third+4)
				case 3:
					ranges["management"] = fmt.Sprintf("10.%d.0.0/24", 50+d.number%180)
				}
				return ranges
			},
			"layout": func(d *drawing) any {
				z := d.offers.Zones
				part := func(i, hosts int) map[string]any { return map[string]any{"zone": z[i%len(z)], "hosts": hosts} }
				witness := func(i, hosts int) map[string]any {
					return map[string]any{"zone": z[i%len(z)], "hosts": hosts, "witness": true}
				}
				return one([]any{[]any{part(0, 3)}, []any{part(0, 4)}, []any{part(1, 3)},
					[]any{part(0, 2), part(1, 2), witness(2, 1)}, []any{part(0, 4), part(1, 4), witness(2, 1)}},
					[]any{part(0, 2)}, []any{part(0, 2), part(1, 2)}, []any{part(0, 2), part(0, 2)},
					[]any{part(0, 2), part(1, 2), witness(2, 2)},
					[]any{map[string]any{"zone": "low-marsh-a", "hosts": 3}})(d)
			},
		},
	}
}
