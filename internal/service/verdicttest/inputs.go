package verdicttest

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
)

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// ranges are what networks and sources are drawn from: some overlap, some are too
// small, some are no private ones.
var ranges = []string{"10.40.0.0/24", "10.41.0.0/22", "10.42.0.0/20", "10.42.8.0/22", "10.60.0.0/20", "10.61.0.0/16",
	"172.20.0.0/22", "192.168.4.0/24", "10.70.0.0/27", "10.71.0.0/28", "10.72.0.0/25"}

var sources = []string{"127.0.0.0/8", "127.0.0.1/32", "0.0.0.0/0", "0.0.0.0/0", "127.0.0.0/8", "10.0.0.0/8",
	"203.0.113.0/24"}

// draw gives an input a value: most often what the template or its inputs file say,
// else one of those that it might be given.
func draw(random *rand.Rand, in *lang.Input, o *offer.Offers, given any) any {
	if in.Secret || random.IntN(3) > 0 {
		return given
	}
	pick := func(list []string) any {
		if len(list) == 0 {
			return given
		}
		return list[random.IntN(len(list))]
	}
	if list, ok := in.Schema["enum"].([]any); ok {
		return list[random.IntN(len(list))]
	}
	switch in.Picks {
	case "zone":
		return pick(append(slices.Concat(o.Zones, o.Zones, o.Zones), "low-marsh-a"))
	case "zones":
		zones := slices.Clone(o.Zones)
		random.Shuffle(len(zones), func(i, j int) { zones[i], zones[j] = zones[j], zones[i] })
		return asList(zones[:1+random.IntN(len(zones))])
	case "size":
		var names []string
		for _, s := range o.Sizes {
			// Most often one that might do.
			if s.VCPUs <= 8 && (random.IntN(6) == 0 ||
				len(o.WhyNot(s, offer.Need{
					VCPUs:        in.Needs.VCPUs,
					MemoryBytes:  in.Needs.Memory,
					Architecture: in.Needs.Architecture,
				})) == 0) {
				names = append(names, s.Name)
			}
		}
		return pick(names)
	case "disk_type":
		var names []string
		for _, d := range o.DiskTypes {
			names = append(names, d.Name)
		}
		return pick(names)
	case "":
	default:
		return given
	}
	switch in.Schema["type"] {
	case "boolean":
		return random.IntN(2) == 0
	case "integer":
		low, high := whole(in.Schema["minimum"], 1), whole(in.Schema["maximum"], 8)
		if random.IntN(12) == 0 {
			return high + 1
		}
		return low + random.Int64N(min(high-low, 7)+1)
	case "array":
		if items, _ := in.Schema["items"].(map[string]any); items["format"] == "cidr" {
			return asList([]string{sources[random.IntN(len(sources))]})
		}
	case "string":
		switch in.Schema["format"] {
		case "cidr":
			if in.Name == "range" {
				return pick(ranges)
			}
			return pick(sources)
		case "amount":
			return pick([]string{"4GiB", "10GiB", "11GiB", "40GiB", "100GiB", "1TiB", "10500MiB"})
		}
	}
	return given
}

func asList(names []string) []any {
	out := make([]any, len(names))
	for i, n := range names {
		out[i] = n
	}
	return out
}

func whole(v any, otherwise int64) int64 {
	switch n := v.(type) {
	case int64:
		return n
	case float64:
		return int64(n)
	case fmt.Stringer: // a number as JSON has it
		if i, err := strconv.ParseInt(n.String(), 10, 64); err == nil {
			return i
		}
	}
	return otherwise
}

// drawn gives every input of a template a value.
func drawn(random *rand.Rand, t *lang.Template, o *offer.Offers, given map[string]any) map[string]any {
	out := maps.Clone(given)
	for _, in := range t.Inputs {
		if v := draw(random, in, o, given[in.Name]); v != nil {
			out[in.Name] = v
		}
	}
	return out
}
