package openstack

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"undersail/internal/fault"

	"undersail/internal/cloud"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// flavor is a size as compute tells it.
type flavor struct {
	ID       string            `json:"id"`
	Name     string            `json:"name"`
	VCPUs    int64             `json:"vcpus"`
	MiB      int64             `json:"ram"`
	GiB      int64             `json:"disk"`
	Disabled bool              `json:"OS-FLV-DISABLED:disabled"`
	Specs    map[string]string `json:"extra_specs"`
}

// picture is an image as the image service tells it.
type picture struct {
	ID           string `json:"id"`
	Name         string `json:"name"`
	MiB          int64  `json:"min_ram"`
	GiB          int64  `json:"min_disk"`
	System       string `json:"os_distro"`
	Version      string `json:"os_version"`
	User         string `json:"os_admin_user"`
	Architecture string `json:"architecture"`
	HwArch       string `json:"hw_architecture"`
}

// users are those that the makers of images let sign in, where the image does not say.
var users = map[string]string{"debian": "debian", "ubuntu": "ubuntu", "fedora": "fedora", "centos": "centos",
	"rocky": "rocky", "almalinux": "almalinux", "arch": "arch", "cirros": "cirros", "alpine": "alpine",
	"opensuse": "opensuse"}

// sold keeps what hardly changes for a moment: each step asks for it by name.
type sold struct {
	at      time.Time
	flavors []flavor
	images  []picture
}

const soldFor = time.Minute

// sells reads sizes and images of a region.
func (a *Adapter) sells(ctx context.Context, region string) (*sold, error) {
	a.mu.Lock()
	known := a.sold[region]
	a.mu.Unlock()
	if known != nil && time.Since(known.at) < soldFor {
		return known, nil
	}
	out := &sold{at: time.Now()}
	var err error
	// From 2.61 on flavors tell what is special about them.
	if out.flavors, err = pages[flavor](ctx, a, region, "flavors", call{
		service: compute,
		path:    "flavors/detail?limit=" + pageSize,
		better:  "2.61",
	}); err != nil {
		return nil, fmt.Errorf("list the flavors: %w", err)
	}
	if out.images, err = pages[picture](ctx, a, region, "images", call{
		service: image,
		path:    "images?status=active&limit=" + pageSize,
	}); err != nil {
		return nil, fmt.Errorf("list the images: %w", err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.sold == nil {
		a.sold = map[string]*sold{}
	}
	a.sold[region] = out
	return out, nil
}

func (a *Adapter) flavorID(ctx context.Context, region, name string) (string, error) {
	s, err := a.sells(ctx, region)
	if err != nil {
		return "", err
	}
	for _, f := range s.flavors {
		if f.Name == name {
			return f.ID, nil
		}
	}
	return "", &cloud.Error{
		Class:    cloud.Invalid,
		Property: "size",
		Message:  "there is no flavor " + name + " in " + region,
		Remedy:   "choose one that the region offers",
	}
}

// imageID finds an image by name: the newest stands first where several have one.
func (a *Adapter) imageID(ctx context.Context, region, name string) (string, error) {
	s, err := a.sells(ctx, region)
	if err != nil {
		return "", err
	}
	for _, i := range s.images {
		if i.Name == name {
			return i.ID, nil
		}
	}
	return "", &cloud.Error{
		Class:    cloud.Invalid,
		Property: "image",
		Message:  "there is no image " + name + " in " + region,
		Remedy:   "choose one that the region offers",
	}
}

// imageName names the image that a server says it was made from.
func (a *Adapter) imageName(ctx context.Context, region string, v any) (string, error) {
	object, _ := v.(map[string]any)
	id, _ := object["id"].(string)
	if id == "" {
		return "", nil
	}
	s, err := a.sells(ctx, region)
	if err != nil {
		return "", err
	}
	for _, i := range s.images {
		if i.ID == id {
			return i.Name, nil
		}
	}
	return "", nil
}

// zones lists those of compute or of volumes that are available.
func (a *Adapter) zones(ctx context.Context, region, service string) ([]string, error) {
	var answer struct {
		Zones []struct {
			Name  string `json:"zoneName"`
			State struct {
				Available bool `json:"available"`
			} `json:"zoneState"`
		} `json:"availabilityZoneInfo"`
	}
	if err := a.get(ctx, region, service, "os-availability-zone", &answer); err != nil {
		return nil, fmt.Errorf("list the zones: %w", err)
	}
	out := []string{}
	for _, z := range answer.Zones {
		if z.State.Available {
			out = append(out, z.Name)
		}
	}
	slices.Sort(out)
	return out, nil
}

// The disks that the service has: from a GiB on, and as large as nobody says.
const largestDisk = 64 << 40

// Offers reads what a region has for the project: sizes, images, zones, disk types,
// quotas, and what of networks and keys is there. Nobody tells prices.
func (a *Adapter) Offers(ctx context.Context, region string) (offer.Offers, error) {
	o := offer.Offers{
		Cloud:         "openstack",
		Region:        region,
		Quotas:        map[string]offer.Quota{},
		KeptAddresses: keptAddresses,
		Overlapping:   true,
		Rebuilds:      []string{"instance.disks.mount"},
		// disks are mounted at the first boot
		Without: map[string][]string{
			"address":  {"label", "idle"},
			"subnet":   {"zone", "way_out", "time_servers"},
			"disk":     {"encrypted"},
			"instance": {"host", "role", "licence"},
		},
		Limits: limits(),
	}
	var disks []offer.DiskType // nil where there are no volumes at all
	var machines *sold
	var networks []thing
	var out *thing
	g, at := fault.WithContext(ctx)
	for _, read := range []func(context.Context) error{
		func(ctx context.Context) (err error) { machines, err = a.sells(ctx, region); return err },
		func(ctx context.Context) (err error) { o.Zones, err = a.zones(ctx, region, compute); return err },
		func(ctx context.Context) (err error) { disks, err = a.diskTypes(ctx, region); return err },
		func(ctx context.Context) (err error) { out, err = a.outside(ctx, region); return err },
		func(ctx context.Context) (err error) { networks, err = a.list(ctx, region, "network", nil); return err },
		func(ctx context.Context) error { return a.existing(ctx, region, &o) },
		func(ctx context.Context) error { return a.quotas(ctx, region, &o) },
	} {
		g.Go(func() error { return read(at) })
	}
	if err := g.Wait(); err != nil {
		return offer.Offers{}, fmt.Errorf("read the offers of %s: %w", region, err)
	}
	for _, f := range machines.flavors {
		if !f.Disabled {
			o.Sizes = append(o.Sizes, sizeOf(f, o.Zones))
		}
	}
	for _, i := range machines.images {
		o.Images = append(o.Images, imageOf(i))
	}
	for _, d := range disks {
		d.Zones = o.Zones
		o.DiskTypes = append(o.DiskTypes, d)
	}
	addNetworks(&o, networks)
	for _, name := range resource.TypeNames() {
		_, makes := conducts[name]
		switch {
		case name == "address" && out == nil:
			o.Without["instance"] = append(o.Without["instance"], "public", "address")
		case name == "disk" && disks == nil:
			o.Without["instance"] = append(o.Without["instance"], "disks")
		case makes:
			o.Types = append(o.Types, name)
		}
	}
	return o, nil
}

// keptAddresses are those of a subnet that a machine does not get: the network's, the
// last, the router's, and that of the service that hands addresses out.
const keptAddresses = 4

var inName = regexp.MustCompile(`^([A-Za-z]+)(?:[^A-Za-z0-9]+v?([0-9]+(?:\.[0-9]+)*))?`)

// sizeOf reads a flavor. Its extra specs tell what is special: the architecture, and by
// the bandwidth that they allow how fast its network and disk are.
func sizeOf(f flavor, zones []string) offer.Size {
	family, _, _ := strings.Cut(f.Name, ".")
	number := func(spec string, each float64) float64 {
		n, err := strconv.ParseFloat(f.Specs[spec], 64)
		if err != nil {
			return 0
		}
		return n * each
	}
	return offer.Size{
		NetworkGbps:  number("quota:vif_outbound_average", 8e-6),
		DiskMBps:     number("quota:disk_total_bytes_sec", 1e-6),
		DiskOps:      number("quota:disk_total_iops_sec", 1),
		Name:         f.Name,
		Family:       family,
		VCPUs:        f.VCPUs,
		MemoryBytes:  f.MiB << 20,
		LocalBytes:   f.GiB * gib,
		Zones:        zones,
		Architecture: cmp.Or(f.Specs["hw:architecture"], f.Specs["capabilities:architecture"], "x86_64"),
	}
}

func imageOf(i picture) offer.Image {
	// Where an image does not say what it is, its name does: debian-12, Ubuntu 24.04 LTS.
	system, version := i.System, i.Version
	if m := inName.FindStringSubmatch(i.Name); m != nil {
		system, version = cmp.Or(system, strings.ToLower(m[1])), cmp.Or(version, m[2])
	}
	return offer.Image{
		Name:           i.Name,
		System:         system,
		Version:        version,
		User:           cmp.Or(i.User, users[system], "root"),
		Architecture:   cmp.Or(i.HwArch, i.Architecture, "x86_64"),
		MinMemoryBytes: i.MiB << 20,
		MinDiskBytes:   i.GiB * gib,
	}
}

// diskTypes reads the types of volumes; nil is a region that does without volumes.
func (a *Adapter) diskTypes(ctx context.Context, region string) ([]offer.DiskType, error) {
	var answer struct {
		Types []struct {
			Name string `json:"name"`
		} `json:"volume_types"`
	}
	err := a.get(ctx, region, volume, "types", &answer)
	if absent(err) {
		return nil, nil
	}
	out := []offer.DiskType{}
	for _, t := range answer.Types {
		if t.Name != "__DEFAULT__" {
			out = append(out, offer.DiskType{
				Name:     t.Name,
				About:    "a volume type",
				MinBytes: gib,
				MaxBytes: largestDisk,
			})
		}
	}
	return out, err
}

// absent reports whether a region does not have a service at all.
func absent(err error) bool {
	return errors.Is(err, errNoService)
}

// addNetworks tells the ranges of networks. One without subnets has the range that we keep
// for it, or none.
func addNetworks(o *offer.Offers, networks []thing) {
	for _, n := range networks {
		if n.External {
			continue
		}
		ranges := []string{}
		if r := n.described()[tagRange]; r != "" {
			ranges = append(ranges, r)
		} else {
			for _, s := range o.Subnets {
				if s.Network == n.ID {
					ranges = append(ranges, s.Range)
				}
			}
		}
		for _, r := range ranges {
			o.Networks = append(o.Networks, offer.Network{ID: n.ID, Name: n.Name, Range: r})
		}
	}
}

// existing reads subnets with the addresses that are taken in them, and key pairs.
func (a *Adapter) existing(ctx context.Context, region string, o *offer.Offers) error {
	subnets, err := a.list(ctx, region, "subnet", nil)
	if err != nil {
		return err
	}
	ports, err := a.list(ctx, region, "port", nil)
	if err != nil {
		return err
	}
	used := map[string]int64{}
	for _, p := range ports {
		for _, at := range p.Addresses {
			used[at.Subnet]++
		}
	}
	for _, s := range subnets {
		o.Subnets = append(o.Subnets, offer.Subnet{
			ID:      s.ID,
			Name:    s.Name,
			Network: s.Network,
			Range:   s.CIDR,
			Used:    used[s.ID] + 2,
		})
	}
	keys, err := a.list(ctx, region, "key", nil)
	for _, k := range keys {
		name, _ := k.keyName()
		o.KeyPairs = append(o.KeyPairs, offer.Named{ID: k.ID, Name: name})
	}
	return err
}
