// Package market is what the simulated clouds sell: regions, zones, sizes,
// disk types, images, prices, quotas, durations and guest software, read from a
// data file that a test may replace.
package market

import (
	_ "embed"
	"fmt"
	"maps"
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
	Currency    string            `yaml:"currency"`
	AddressHour float64           `yaml:"address_hour"`
	Regions     map[string]Region `yaml:"regions"`
	Features    map[string]string `yaml:"features"`
	// TakenNames are those that customers have who are not simulated.
	TakenNames []string `yaml:"taken_names"`
	// OnRequest are features that an account has to turn on in a region.
	OnRequest []string `yaml:"on_request"`
	// Engines are those of databases, whose storage costs so much for a GiB and hour.
	Engines         []string           `yaml:"engines"`
	DatabaseGiBHour float64            `yaml:"database_gib_hour"`
	ShareGiBHour    float64            `yaml:"share_gib_hour"` // of a shared file system
	Families        []Family           `yaml:"families"`
	Withdrawn       []string           `yaml:"withdrawn"`
	DiskTypes       []DiskType         `yaml:"disk_types"`
	Images          []Image            `yaml:"images"`
	Quotas          map[string]int64   `yaml:"quotas"`
	Durations       map[string]float64 `yaml:"durations"`
	Limits          map[string]Limit   `yaml:"limits"` // by kind and property
	// FamilyQuotas names the quota of processors of a family, beside that of all.
	FamilyQuotas map[string]string   `yaml:"family_quotas"`
	Software     map[string]Software `yaml:"software"`
}

// Limit is what is taken of a property: from Least to Most bits of a range, GiB, seconds,
// letters or items, text that matches Pattern, which Says puts in words, and so many hosts
// in each zone as Needs names for the value. What is 0 or empty limits nothing.
type Limit struct {
	Least   int64            `yaml:"least" json:"least,omitempty"`
	Most    int64            `yaml:"most" json:"most,omitempty"`
	Pattern string           `yaml:"pattern" json:"pattern,omitempty"`
	Says    string           `yaml:"says" json:"says,omitempty"`
	Needs   map[string]int64 `yaml:"needs" json:"needs,omitempty"`
}

// Region is one region; Factor scales its prices, Month is a month in advance as a
// part of the price of its hours, and Quotas are those that differ there.
type Region struct {
	Zones  []string         `yaml:"zones"`
	Factor float64          `yaml:"factor"`
	Month  float64          `yaml:"month"`
	Lacks  []string         `yaml:"lacks"`
	Quotas map[string]int64 `yaml:"quotas"`
}

// Family describes sizes of one kind; a size is called FAMILY-VCPUS.
type Family struct {
	Name         string   `yaml:"name"`
	About        string   `yaml:"about"`
	Generation   int64    `yaml:"generation"`
	Speed        float64  `yaml:"speed"`
	Architecture string   `yaml:"architecture"`
	GiBPerVCPU   int64    `yaml:"gib_per_vcpu"`
	VCPUHour     float64  `yaml:"vcpu_hour"`
	VCPUs        []int64  `yaml:"vcpus"`
	Network      float64  `yaml:"network"`
	NetworkMost  float64  `yaml:"network_most"`
	Disk         float64  `yaml:"disk"`
	DiskMost     float64  `yaml:"disk_most"`
	Ops          float64  `yaml:"ops"`
	OpsMost      float64  `yaml:"ops_most"`
	Local        int64    `yaml:"local"`
	Host         bool     `yaml:"host"` // it stands on a dedicated host only
	OnlyIn       []string `yaml:"only_in"`
	NotIn        []string `yaml:"not_in"`
}

// DiskType is one kind of disk.
type DiskType struct {
	Name     string   `yaml:"name"`
	About    string   `yaml:"about"`
	For      []string `yaml:"for"`
	GiBHour  float64  `yaml:"gib_hour"`
	Min      string   `yaml:"min"`
	Max      string   `yaml:"max"`
	MBps     float64  `yaml:"mbps"`
	MBpsTiB  float64  `yaml:"mbps_tib"`
	MBpsMost float64  `yaml:"mbps_most"`
	Ops      float64  `yaml:"ops"`
	OpsTiB   float64  `yaml:"ops_tib"`
	OpsMost  float64  `yaml:"ops_most"`
	OnlyIn   []string `yaml:"only_in"`
	NotIn    []string `yaml:"not_in"`
}

// Image is one machine image; User may log in with the key pair.
type Image struct {
	Name         string    `yaml:"name"`
	System       string    `yaml:"system"`
	Version      string    `yaml:"version"`
	User         string    `yaml:"user"`
	Architecture string    `yaml:"architecture"`
	MinMemory    string    `yaml:"min_memory"`
	MinDisk      string    `yaml:"min_disk"`
	Ends         string    `yaml:"ends"`
	Packages     []string  `yaml:"packages"`
	Terms        Terms     `yaml:"terms"`
	Licences     []Licence `yaml:"licences"`
}

// Installs reports whether a package can be installed on the image.
func (i Image) Installs(name string) bool {
	return i.Packages == nil || slices.Contains(i.Packages, name)
}

// Terms must be accepted by the account before an image is used.
type Terms struct {
	Name string `yaml:"name"`
	Text string `yaml:"text"`
}

// Licence is one way of paying for the software of an image.
type Licence struct {
	Name     string  `yaml:"name"`
	About    string  `yaml:"about"`
	VCPUHour float64 `yaml:"vcpu_hour"`
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
	// Page is what it shows at its ports: files, sign-in or set-up; its state where empty.
	Page string `yaml:"page"`
	// Tools are the commands that it brings, by name.
	Tools map[string]Tool `yaml:"tools"`
}

// Tool is a command that software brings: what it says, line by line, over as many cloud
// seconds as it takes. One that Checks a file of settings wants some keys there, words
// apart, and a zone that the region has.
type Tool struct {
	Takes        float64  `yaml:"takes"`
	Says         []string `yaml:"says"`
	NeedsService bool     `yaml:"needs_service"`
	Checks       string   `yaml:"checks"`
	// Makes is how many machines it makes by itself, with the rights of its machine.
	Makes int `yaml:"makes"`
	// Spoils is the fault that makes it answer Fails instead.
	Spoils string `yaml:"spoils"`
	Fails  string `yaml:"fails"`
}

// Port is one port of a service and the protocol spoken there.
type Port struct {
	Port   int    `yaml:"port"`
	Speaks string `yaml:"speaks"`
}

// Size is one machine size of a region. Month is 0 where it is sold by the hour
// only.
type Size struct {
	Name         string   `json:"name"`
	Family       string   `json:"family"`
	Quota        string   `json:"quota,omitempty"`
	Architecture string   `json:"architecture"`
	Generation   int64    `json:"generation"`
	Speed        float64  `json:"speed"`
	VCPUs        int64    `json:"vcpus"`
	GiB          int64    `json:"memory_gib"`
	NetworkGbps  float64  `json:"network_gbps"`
	DiskMBps     float64  `json:"disk_mbps"`
	DiskOps      float64  `json:"disk_ops"`
	LocalGiB     int64    `json:"local_gib"`
	Host         bool     `json:"host"`
	Hour         float64  `json:"hour"`
	Month        float64  `json:"month"`
	Zones        []string `json:"zones"`
	Withdrawn    bool     `json:"withdrawn"`
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
			per := func(each, most float64) float64 { return math.Round(min(each*float64(v), most)*10) / 10 }
			hour := round(f.VCPUHour * float64(v) * r.Factor)
			out = append(out, Size{
				Name:         name,
				Family:       f.About,
				Quota:        m.FamilyQuotas[f.Name],
				Architecture: f.Architecture,
				Generation:   f.Generation,
				Speed:        f.Speed,
				VCPUs:        v,
				GiB:          v * f.GiBPerVCPU,
				NetworkGbps:  per(f.Network, f.NetworkMost),
				DiskMBps:     per(f.Disk, f.DiskMost),
				DiskOps:      per(f.Ops, f.OpsMost),
				LocalGiB:     v * f.Local,
				Host:         f.Host,
				Hour:         hour,
				Month:        math.Round(hour*730.5*r.Month*100) / 100,
				Zones:        sold(r.Zones, f.OnlyIn, f.NotIn),
				Withdrawn:    slices.Contains(m.Withdrawn, name),
			})
		}
	}
	return out
}

// Host is what a dedicated host of a family carries and costs in a region.
type Host struct {
	Family string   `json:"family"` // as sizes are named by it
	VCPUs  int64    `json:"vcpus"`
	GiB    int64    `json:"memory_gib"`
	Hour   float64  `json:"hour"`
	Zones  []string `json:"zones"`
}

// Hosts lists the dedicated hosts of a region: one of a family carries as much as its
// largest size, and costs a tenth less.
func (m *Market) Hosts(region string) []Host {
	if !m.Has(region, "dedicated-hosts") {
		return []Host{}
	}
	out := []Host{}
	for _, f := range m.Families {
		n := slices.Max(f.VCPUs)
		if zones := sold(m.Regions[region].Zones, f.OnlyIn, f.NotIn); len(zones) > 0 {
			out = append(out, Host{f.Name, n, n * f.GiBPerVCPU,
				round(f.VCPUHour * float64(n) * m.Regions[region].Factor * 0.9), zones})
		}
	}
	return out
}

// Host finds the dedicated hosts of a family in a region.
func (m *Market) Host(region, family string) (Host, bool) {
	return find(m.Hosts(region), func(h Host) bool { return h.Family == family })
}

// Size finds a size of a region.
func (m *Market) Size(region, name string) (Size, bool) {
	return find(m.Sizes(region), func(s Size) bool { return s.Name == name })
}

func find[T any](list []T, is func(T) bool) (found T, there bool) {
	if i := slices.IndexFunc(list, is); i >= 0 {
		return list[i], true
	}
	return found, false
}

// Quota gives a region's limit of a quota.
func (m *Market) Quota(region, name string) int64 {
	if n, there := m.Regions[region].Quotas[name]; there {
		return n
	}
	return m.Quotas[name]
}

// Replace sets quotas for every region. That of all processors sets those of their
// families too, unless they are named.
func (m *Market) Replace(quotas map[string]int64) {
	all, replaced := quotas["vcpus"]
	for _, name := range m.FamilyQuotas {
		if replaced && m.Quotas[name] > 0 {
			m.Quotas[name] = all
		}
	}
	maps.Copy(m.Quotas, quotas)
	for _, r := range m.Regions {
		maps.DeleteFunc(r.Quotas, func(name string, _ int64) bool {
			_, named := quotas[name]
			return named || replaced && strings.HasPrefix(name, "vcpus")
		})
	}
}

// Has reports whether a region has a feature.
func (m *Market) Has(region, feature string) bool {
	_, known := m.Features[feature]
	return known && !slices.Contains(m.Regions[region].Lacks, feature)
}

// DiskZones lists the zones of a region that sell a disk type.
func (m *Market) DiskZones(region string, d DiskType) []string {
	return sold(m.Regions[region].Zones, d.OnlyIn, d.NotIn)
}

// Image finds an image.
func (m *Market) Image(name string) (Image, bool) {
	return find(m.Images, func(i Image) bool { return i.Name == name })
}

// DiskType finds a disk type.
func (m *Market) DiskType(name string) (DiskType, bool) {
	return find(m.DiskTypes, func(d DiskType) bool { return d.Name == name })
}

func sold(zones, only, not []string) []string {
	out := []string{}
	for _, z := range zones {
		if (len(only) == 0 || slices.Contains(only, z)) && !slices.Contains(not, z) {
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
