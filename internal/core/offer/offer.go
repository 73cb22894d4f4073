// Package offer knows what a cloud sells an account in a region, and whether a
// rendering can be had there: sizes by zone, disk types, images, quotas and
// what of them is used. It computes on offers it is given and fetches none.
package offer

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Offers is what one account can have in one region at one moment. Prices are
// in Currency per hour. Nothing that is sold is free: a price of 0 is one that the
// cloud does not tell.
type Offers struct {
	Cloud   string `json:"cloud"`
	Account string `json:"account"`
	Region  string `json:"region"`
	// At is when the cloud told them.
	At        time.Time        `json:"at,omitzero"`
	Currency  string           `json:"currency"`
	Zones     []string         `json:"zones"`
	Sizes     []Size           `json:"sizes"`
	DiskTypes []DiskType       `json:"disk_types"`
	Images    []Image          `json:"images"`
	Quotas    map[string]Quota `json:"quotas"`
	// AddressHour is the price of a public address per hour.
	AddressHour float64 `json:"address_hour"`
	// Networks are the ranges that the account's networks have there.
	Networks []Network `json:"networks"`
	// Held are ranges that something else than a network has, such as a private cloud.
	Held []Network `json:"held,omitempty"`
	// Types lists the resource types that the cloud supports.
	Types []string `json:"types"`
	// Without lists properties by type that the cloud has no equivalent of.
	Without map[string][]string `json:"without,omitempty"`
	// Rebuilds lists properties, as type.property, that this cloud alters only by a rebuild;
	// as type.property.field, what of a list it does so: what has the field.
	Rebuilds []string `json:"rebuilds,omitempty"`
	// Extra lists, by type, the options of its own that the cloud takes.
	Extra map[string][]string `json:"extra,omitempty"`
	// Limits bound what the cloud takes of a property, by "type.property", or of a field of
	// its items, by "type.property.field".
	Limits map[string]Limit `json:"limits,omitempty"`
	// Features says in words what the region has beside its types, by name.
	Features map[string]string `json:"features,omitempty"`
	// Off are those of them that the account has to turn on first.
	Off []string `json:"features_off,omitempty"`
	// Reserved are ranges that networks must not overlap, whoever has them: those of
	// peers and of the premises.
	Reserved []Reserved `json:"reserved,omitempty"`
	// KeptAddresses is how many addresses of a subnet the cloud keeps for itself.
	KeptAddresses int64 `json:"kept_addresses,omitempty"`
	// Overlapping says that networks of the account may have the same ranges: only those
	// that one router joins may not.
	Overlapping bool `json:"overlapping,omitempty"`
	// Hosts are the dedicated hosts that are sold, OwnHosts those that the account has.
	Hosts    []Host    `json:"hosts,omitempty"`
	OwnHosts []OwnHost `json:"own_hosts,omitempty"`
	// Engines are those of managed databases, whose storage costs so much for a GiB and hour.
	Engines         []string `json:"engines,omitempty"`
	DatabaseGiBHour float64  `json:"database_gib_hour,omitempty"`
	// SharedGiBHour is what a GiB of shared files costs for an hour.
	SharedGiBHour float64 `json:"shared_gib_hour,omitempty"`
	// SeenFrom is the address at which the cloud sees this service, where it tells.
	SeenFrom string `json:"seen_from,omitempty"`
	// Subnets and KeyPairs are those that are there, whoever made them.
	Subnets  []Subnet `json:"subnets,omitempty"`
	KeyPairs []Named  `json:"key_pairs,omitempty"`
}

// Reserved is a range that something outside the region's networks has. Wanted says
// that an open proposal of another stack would take it, and has not yet.
type Reserved struct {
	Range  string `json:"range"`
	About  string `json:"about"`
	Wanted bool   `json:"wanted,omitempty"`
}

// Subnet is a subnet that is there. Zone is empty where it spans the region; Used is
// how many of its addresses are taken, the cloud's own included.
type Subnet struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Network string `json:"network"`
	Range   string `json:"range"`
	Zone    string `json:"zone,omitempty"`
	Used    int64  `json:"used"`
}

// Host is what a dedicated host of a family of sizes carries and costs.
type Host struct {
	Family      string   `json:"family"`
	VCPUs       int64    `json:"vcpus"`
	MemoryBytes int64    `json:"memory_bytes"`
	Hour        float64  `json:"hour"`
	Zones       []string `json:"zones"`
}

// Carries reports whether machines of a size stand on hosts of the family.
func (h Host) Carries(size string) bool { return strings.HasPrefix(size, h.Family+"-") }

// OwnHost is a dedicated host that is there, whoever made it.
type OwnHost struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Family string `json:"family"`
	Zone   string `json:"zone"`
	VCPUs  int64  `json:"vcpus"`
	Used   int64  `json:"used"`
}

// Host finds what dedicated hosts of a family are.
func (o *Offers) Host(family string) (Host, bool) {
	return find(o.Hosts, func(h Host) bool { return h.Family == family })
}

// Named is something that is there, by id and name.
type Named struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// Saved reads offers that were saved as JSON in a file, which an error names.
func Saved(file string, text []byte) (Offers, error) {
	var o Offers
	if err := json.Unmarshal(text, &o); err != nil {
		return Offers{}, fmt.Errorf("%s holds no offers: %w", file, err)
	}
	return o, nil
}

// Everywhere is what an account can have in the region of a stack, and in the
// others that its template names, by region.
type Everywhere struct {
	Home      *Offers
	Elsewhere map[string]*Offers
	// Others are the account's other regions, as far as they are known: what might help
	// is looked for there.
	Others []*Offers
}

// At gives offers of one region alone.
func At(o Offers) Everywhere { return Everywhere{Home: &o} }

// In gives the offers of a region; "" is the stack's own. It is nil where they are
// not known.
func (e Everywhere) In(region string) *Offers {
	if region == "" || e.Home != nil && e.Home.Region == region {
		return e.Home
	}
	return e.Elsewhere[region]
}

// Network is a network that is there, whoever made it.
type Network struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Range string `json:"range"`
}

// Size is one machine size. What is 0 is not told, or is not there.
type Size struct {
	Name   string `json:"name"`
	Family string `json:"family"`
	// Quota names the quota that its processors count against, beside that of all.
	Quota        string `json:"quota,omitempty"`
	VCPUs        int64  `json:"vcpus"`
	MemoryBytes  int64  `json:"memory_bytes"`
	Architecture string `json:"architecture"`
	Generation   int64  `json:"generation,omitempty"`
	// Speed is that of one core beside other sizes of the cloud.
	Speed       float64 `json:"speed,omitempty"`
	NetworkGbps float64 `json:"network_gbps,omitempty"`
	DiskMBps    float64 `json:"disk_mbps,omitempty"`
	DiskOps     float64 `json:"disk_ops,omitempty"`
	LocalBytes  int64   `json:"local_bytes,omitempty"`
	// Host says that it stands on a dedicated host only.
	Host bool    `json:"host,omitempty"`
	Hour float64 `json:"hour"`
	// Month is the price of a month that is paid in advance.
	Month     float64  `json:"month,omitempty"`
	Zones     []string `json:"zones"`
	Withdrawn bool     `json:"withdrawn,omitempty"`
}

// DiskType is one kind of disk; GiBHour is the price of a GiB for an hour. Its
// throughput in MB/s and its operations in a second are a base, so much more for
// each TiB, and at most the most.
type DiskType struct {
	Name  string `json:"name"`
	About string `json:"about"`
	// For names the work that it is meant for: bulk, steady, small-writes, log,
	// archive or scratch.
	For      []string `json:"for,omitempty"`
	GiBHour  float64  `json:"gib_hour"`
	MinBytes int64    `json:"min_bytes"`
	MaxBytes int64    `json:"max_bytes"`
	MBps     float64  `json:"mbps,omitempty"`
	MBpsTiB  float64  `json:"mbps_tib,omitempty"`
	MBpsMost float64  `json:"mbps_most,omitempty"`
	Ops      float64  `json:"ops,omitempty"`
	OpsTiB   float64  `json:"ops_tib,omitempty"`
	OpsMost  float64  `json:"ops_most,omitempty"`
	Zones    []string `json:"zones"`
}

// Throughput gives the MB/s and operations a second that a disk of a size has.
func (d DiskType) Throughput(bytes int64) (mbps, ops float64) {
	tib := float64(bytes) / (1 << 40)
	mbps, ops = d.MBps+d.MBpsTiB*tib, d.Ops+d.OpsTiB*tib
	if d.MBpsMost > 0 {
		mbps = min(mbps, d.MBpsMost)
	}
	if d.OpsMost > 0 {
		ops = min(ops, d.OpsMost)
	}
	return mbps, ops
}

// Image is one machine image with the least machine it runs on.
type Image struct {
	Name           string `json:"name"`
	System         string `json:"system,omitempty"`
	Version        string `json:"version,omitempty"`
	User           string `json:"user"`
	Architecture   string `json:"architecture"`
	MinMemoryBytes int64  `json:"min_memory_bytes"`
	MinDiskBytes   int64  `json:"min_disk_bytes,omitempty"`
	// Ends is the last day on which it is supported, such as 2028-06-30.
	Ends string `json:"ends,omitempty"`
	// Packages are what it can install at the first boot; nil is not told.
	Packages []string  `json:"packages,omitempty"`
	Terms    *Terms    `json:"terms,omitempty"`
	Licences []Licence `json:"licences,omitempty"`
}

// Terms must be accepted for the account before an image is used.
type Terms struct {
	Name     string `json:"name"`
	Text     string `json:"text"`
	Accepted bool   `json:"accepted"`
}

// Licence is one way of paying for the software of an image: in the price of the
// machine, by processor and hour, or with a licence of one's own.
type Licence struct {
	Name     string  `json:"name"`
	About    string  `json:"about"`
	VCPUHour float64 `json:"vcpu_hour"`
}

// Quota is how much of something the account may have and has. Running is what runs
// of other stacks are still to take, Wanted what their open proposals would.
type Quota struct {
	Limit   int64 `json:"limit"`
	Used    int64 `json:"used"`
	Running int64 `json:"running,omitempty"`
	Wanted  int64 `json:"wanted,omitempty"`
}

// Left is what may still be taken, whatever open proposals would take.
func (q Quota) Left() int64 { return q.Limit - q.Used - q.Running }

// Size finds a size by name.
func (o *Offers) Size(name string) (Size, bool) {
	return find(o.Sizes, func(s Size) bool { return s.Name == name })
}

// DiskType finds a disk type by name.
func (o *Offers) DiskType(name string) (DiskType, bool) {
	return find(o.DiskTypes, func(d DiskType) bool { return d.Name == name })
}

// Image finds an image by name.
func (o *Offers) Image(name string) (Image, bool) {
	return find(o.Images, func(i Image) bool { return i.Name == name })
}

// amounts gives, by list, what an item of it gives or costs. A price of 0 is not
// told.
var amounts = map[string]func(o *Offers, item, amount string) (n float64, sold bool){
	"size": func(o *Offers, item, amount string) (float64, bool) {
		s, ok := o.Size(item)
		switch amount {
		case "vcpus":
			return float64(s.VCPUs), ok
		case "memory":
			return float64(s.MemoryBytes), ok
		case "hour":
			return s.Hour, s.Hour > 0
		case "month":
			return s.Month, s.Month > 0
		}
		return 0, false
	},
	"disk_type": func(o *Offers, item, amount string) (float64, bool) {
		d, ok := o.DiskType(item)
		switch amount {
		case "gib_hour":
			return d.GiBHour, d.GiBHour > 0
		case "least":
			return float64(d.MinBytes), ok
		case "most":
			return float64(d.MaxBytes), ok
		}
		return 0, false
	},
	"image": func(o *Offers, item, amount string) (float64, bool) {
		i, ok := o.Image(item)
		return float64(i.MinMemoryBytes), ok && amount == "memory"
	},
	"licence": func(o *Offers, item, amount string) (float64, bool) {
		image, licence, _ := strings.Cut(item, "/")
		i, _ := o.Image(image)
		l, ok := i.Licence(licence)
		return l.VCPUHour, (ok || len(i.Licences) == 0) && amount == "vcpu_hour"
	},
	"host": func(o *Offers, item, amount string) (float64, bool) {
		h, ok := o.Host(item)
		switch amount {
		case "vcpus":
			return float64(h.VCPUs), ok
		case "hour":
			return h.Hour, h.Hour > 0
		}
		return 0, false
	},
	"database": func(o *Offers, _, amount string) (float64, bool) {
		return o.DatabaseGiBHour, amount == "gib_hour" && o.DatabaseGiBHour > 0
	},
	"shared_files": func(o *Offers, _, amount string) (float64, bool) {
		return o.SharedGiBHour, amount == "gib_hour" && o.SharedGiBHour > 0
	},
	"address": func(o *Offers, _, amount string) (float64, bool) {
		return o.AddressHour, amount == "hour" && o.AddressHour > 0
	},
}

// Amount tells how much of something an item that is sold gives or costs: the
// vcpus, memory, hour or month of a size, the gib_hour, least and most of a disk
// type, the memory that an image needs, the vcpu_hour of IMAGE/LICENCE, the hour of
// an address. It makes offers a [resource.Market].
func (o *Offers) Amount(list, item, amount string) (float64, bool) {
	if f := amounts[list]; f != nil {
		return f(o, item, amount)
	}
	return 0, false
}

// Word tells something of an item in a word: the quota of a size.
func (o *Offers) Word(list, item, word string) string {
	if list == "size" && word == "quota" {
		s, _ := o.Size(item)
		return s.Quota
	}
	return ""
}

// Licence finds a way of paying by name; "" is the first there is.
func (i Image) Licence(name string) (Licence, bool) {
	if name == "" && len(i.Licences) > 0 {
		return i.Licences[0], true
	}
	return find(i.Licences, func(l Licence) bool { return l.Name == name })
}

func find[T any](list []T, is func(T) bool) (T, bool) {
	if i := slices.IndexFunc(list, is); i >= 0 {
		return list[i], true
	}
	var zero T
	return zero, false
}
