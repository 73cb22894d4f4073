package verdicttest

import (
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"undersail/sim/market"
)

// Market writes a market in which chance decides what is sold where, for how much, and
// how much of it an account may have. It gives the path of the file.
func Market(random *rand.Rand, dir string) (string, error) {
	m, err := market.Standard()
	if err != nil {
		return "", err
	}
	var zones []string
	for _, r := range m.Regions {
		zones = append(zones, r.Zones...)
	}
	slices.Sort(zones)
	some := func() []string {
		var out []string
		for _, z := range zones {
			// Most templates take the first zone.
			if random.IntN(8) > 0 || strings.HasSuffix(z, "-a") && random.IntN(6) > 0 {
				out = append(out, z)
			}
		}
		return out
	}
	for i := range m.Families {
		f := &m.Families[i]
		f.VCPUHour *= 0.5 + random.Float64()
		if random.IntN(5) == 0 {
			f.OnlyIn, f.NotIn = some(), nil
		}
		if random.IntN(14) == 0 {
			f.Architecture = []string{"x86_64", "arm64"}[random.IntN(2)]
		}
		for _, n := range f.VCPUs {
			if random.IntN(30) == 0 {
				m.Withdrawn = append(m.Withdrawn, f.Name+"-"+itoa(n))
			}
		}
	}
	for i := range m.DiskTypes {
		if d := &m.DiskTypes[i]; random.IntN(6) == 0 {
			d.OnlyIn, d.NotIn = some(), nil
			d.Min = []string{"4GiB", "4GiB", "12GiB", "50GiB"}[random.IntN(4)]
			d.Max = []string{"64GiB", "500GiB", "16TiB"}[random.IntN(3)]
		}
	}
	for i := range m.Images {
		image := &m.Images[i]
		image.Packages = slices.DeleteFunc(slices.Clone(image.Packages),
			func(string) bool { return random.IntN(40) == 0 })
		if random.IntN(12) == 0 {
			image.MinMemory = []string{"1GiB", "4GiB", "16GiB"}[random.IntN(3)]
		}
		if image.Terms.Name == "" && random.IntN(8) == 0 {
			image.Terms = market.Terms{Name: "terms-of-" + image.Name, Text: "It is lent, not given."}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.Quotas)) {
		if random.IntN(3) == 0 {
			m.Quotas[name] = m.Quotas[name] * int64(20+random.IntN(80)) / 100
		}
	}
	// Many stacks stand beside each other, so that quotas run out now and then only; what
	// takes hours takes minutes.
	m.Quotas["networks"] += 40
	for _, name := range []string{"hosts", "pools", "databases", "file_shares", "buckets", "addresses"} {
		m.Quotas[name] *= 5
	}
	for _, slow := range []string{"private_cloud", "host", "database"} {
		m.Durations[slow] = min(m.Durations[slow], 90)
	}
	raw, err := yaml.Dump(m)
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "market.yaml")
	return path, os.WriteFile(path, raw, 0o600)
}
