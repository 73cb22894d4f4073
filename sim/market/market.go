// Package market is what the simulated clouds sell: regions, zones, sizes,
// disk types, images, prices, quotas, durations and guest software, read from a
// data file that a test may replace.
package market

import (
	_ "embed"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

//go:embed market.yaml
var standard []byte

// Market is the content of a market file.
type Market struct {
	Currency    string              `yaml:"currency"`
	AddressHour float64             `yaml:"address_hour"`
	Regions     map[string]Region   `yaml:"regions"`
	Families    []Family            `yaml:"families"`
	Withdrawn   []string            `yaml:"withdrawn"`
	DiskTypes   []DiskType          `yaml:"disk_types"`
	Images      []Image             `yaml:"images"`
	Quotas      map[string]int64    `yaml:"quotas"`
	Durations   map[string]float64  `yaml:"durations"`
	Software    map[string]Software `yaml:"software"`
}

// Region is one region; Factor scales its prices.
type Region struct {
	Zones  []string `yaml:"zones"`
	Factor float64  `yaml:"factor"`
}

// Family describes sizes of one kind; a size is called FAMILY-VCPUS.
type Family struct {
	Name         string   `yaml:"name"`
	About        string   `yaml:"about"`
	Architecture string   `yaml:"architecture"`
	GiBPerVCPU   int64    `yaml:"gib_per_vcpu"`
	VCPUHour     float64  `yaml:"vcpu_hour"`
	VCPUs        []int64  `yaml:"vcpus"`
	OnlyIn       []string `yaml:"only_in"`
	NotIn        []string `yaml:"not_in"`
}

// DiskType is one kind of disk.
type DiskType struct {
	Name    string   `yaml:"name"`
	About   string   `yaml:"about"`
	GiBHour float64  `yaml:"gib_hour"`
	Min     string   `yaml:"min"`
	Max     string   `yaml:"max"`
	OnlyIn  []string `yaml:"only_in"`
	NotIn   []string `yaml:"not_in"`
}

// Image is one machine image; User may log in with the key pair.
type Image struct {
	Name         string `yaml:"name"`
	User         string `yaml:"user"`
	Architecture string `yaml:"architecture"`
	MinMemory    string `yaml:"min_memory"`
}

// Software is a package that guests can install.
type Software struct {
	Install    float64 `yaml:"install"`
	Service    string  `yaml:"service"`
	Start      float64 `yaml:"start"`
	Warm       float64 `yaml:"warm"`
	Feeds      int     `yaml:"feeds"`
	NeedsMount string  `yaml:"needs_mount"`
	Ports      []Port  `yaml:"ports"`
	Version    string  `yaml:"version"`
}

// Port is one port of a service and the protocol spoken there.
type Port struct {
	Port   int    `yaml:"port"`
	Speaks string `yaml:"speaks"`
}

// Size is one machine size.
type Size struct {
	Name, Family, Architecture string
	VCPUs, GiB                 int64
	Hour                       float64
	Zones                      []string
	Withdrawn                  bool
}

// Standard is the market that ships with the simulator.
func Standard() (*Market, error) { return Parse(standard) }

// Parse reads a market file.
func Parse(data []byte) (*Market, error) {
	var m Market
	if err := yaml.Load(data, &m, yaml.WithKnownFields()); err != nil {
		return nil, fmt.Errorf("read market: %w", err)
	}
	return &m, nil
}

// Sizes lists what a region sells of every family, with its prices there. A
// size that no zone of the region sells has no zones.
func (m *Market) Sizes(region string) []Size {
	r := m.Regions[region]
	var out []Size
	for _, f := range m.Families {
		for _, v := range f.VCPUs {
			name := f.Name + "-" + strconv.FormatInt(v, 10)
			out = append(out, Size{Name: name, Family: f.About, Architecture: f.Architecture, VCPUs: v, GiB: v * f.GiBPerVCPU,
				Hour: round(f.VCPUHour * float64(v) * r.Factor), Zones: sold(r.Zones, f.OnlyIn, f.NotIn), Withdrawn: slices.Contains(m.Withdrawn, name)})
		}
	}
	return out
}

// Size finds a size of a region.
func (m *Market) Size(region, name string) (Size, bool) {
	sizes := m.Sizes(region)
	i := slices.IndexFunc(sizes, func(s Size) bool { return s.Name == name })
	if i < 0 {
		return Size{}, false
	}
	return sizes[i], true
}

// DiskZones lists the zones of a region that sell a disk type.
func (m *Market) DiskZones(region string, d DiskType) []string {
	return sold(m.Regions[region].Zones, d.OnlyIn, d.NotIn)
}

// Image finds an image.
func (m *Market) Image(name string) (Image, bool) {
	i := slices.IndexFunc(m.Images, func(i Image) bool { return i.Name == name })
	if i < 0 {
		return Image{}, false
	}
	return m.Images[i], true
}

// DiskType finds a disk type.
func (m *Market) DiskType(name string) (DiskType, bool) {
	i := slices.IndexFunc(m.DiskTypes, func(d DiskType) bool { return d.Name == name })
	if i < 0 {
		return DiskType{}, false
	}
	return m.DiskTypes[i], true
}

func sold(zones, only, not []string) []string {
	out := []string{}
	for _, z := range zones {
		if (only == nil || slices.Contains(only, z)) && !slices.Contains(not, z) {
			out = append(out, z)
		}
	}
	return out
}

func round(x float64) float64 { return math.Round(x*10000) / 10000 }

// Bytes reads amounts such as 16TiB; the simulator understands GiB and TiB.
func Bytes(text string) (int64, error) {
	for suffix, size := range map[string]int64{"GiB": 1 << 30, "TiB": 1 << 40} {
		if number, ok := strings.CutSuffix(text, suffix); ok {
			n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 64)
			if err == nil && n > 0 {
				return n * size, nil
			}
		}
	}
	return 0, fmt.Errorf("%q is not a whole number of GiB or TiB", text)
}
