package openstack

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"undersail/internal/cloud"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// WhoAmI tells the project, its roles and regions, and when what signs in to it ends.
func (a *Adapter) WhoAmI(ctx context.Context) (cloud.Identity, error) {
	s, err := a.signedIn(ctx)
	if err != nil {
		return cloud.Identity{}, fmt.Errorf("ask OpenStack who this account is: %w", err)
	}
	me := cloud.Identity{Account: cmp.Or(s.project.Name, s.project.ID), Regions: s.regions(), ClockRate: 1, Roles: []string{}}
	for _, r := range s.roles {
		me.Roles = append(me.Roles, r.Name)
	}
	slices.Sort(me.Roles)
	if len(me.Regions) == 0 {
		return me, &cloud.Error{Class: cloud.Invalid, Message: "the catalogue of project " + me.Account + " has no region with compute and network", Remedy: "ask whoever runs the cloud for both"}
	}
	if a.creds.ApplicationID != "" {
		me.Ends, err = a.ends(ctx, s, me.Regions[0])
	}
	return me, err
}

// ends asks when an application credential ends. One that may not ask that is not told.
func (a *Adapter) ends(ctx context.Context, s *session, region string) (time.Time, error) {
	var answer struct {
		Credential struct {
			Ends string `json:"expires_at"`
		} `json:"application_credential"`
	}
	err := a.get(ctx, region, identity, "users/"+url.PathEscape(s.user.ID)+"/application_credentials/"+url.PathEscape(a.creds.ApplicationID), &answer)
	switch cloud.ClassOf(err) {
	case cloud.Denied, cloud.Gone, cloud.Invalid:
		if err != nil {
			return time.Time{}, nil
		}
	}
	if err != nil || answer.Credential.Ends == "" {
		return time.Time{}, err
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05.999999"} { // the service leaves out its zone
		if at, err := time.Parse(layout, answer.Credential.Ends); err == nil {
			return at, nil
		}
	}
	return time.Time{}, nil
}

// flavor is a size as compute tells it.
type flavor struct {
	ID       string            `json:"id"`
	Name     string            `json:"name"`
	VCPUs    int64             `json:"vcpus"`
	MiB      int64             `json:"ram"`
	GiB      int64             `json:"disk"`
	Extra    json.Number       `json:"OS-FLV-EXT-DATA:ephemeral"`
	Disabled bool              `json:"OS-FLV-DISABLED:disabled"`
	Specs    map[string]string `json:"extra_specs"`
}

// picture is an image as the image service tells it.
type picture struct {
	ID           string `json:"id"`
	Name         string `json:"name"`
	Status       string `json:"status"`
	MiB          int64  `json:"min_ram"`
	GiB          int64  `json:"min_disk"`
	Size         int64  `json:"size"`
	System       string `json:"os_distro"`
	Version      string `json:"os_version"`
	User         string `json:"os_admin_user"`
	Architecture string `json:"architecture"`
	HwArch       string `json:"hw_architecture"`
}

// users are those that the makers of images let sign in, where the image does not say.
var users = map[string]string{"debian": "debian", "ubuntu": "ubuntu", "fedora": "fedora", "centos": "centos", "rocky": "rocky", "almalinux": "almalinux", "arch": "arch", "cirros": "cirros", "alpine": "alpine", "opensuse": "opensuse"}

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
	next := "flavors/detail?limit=" + pageSize
	for next != "" {
		var page struct {
			Flavors []flavor                     `json:"flavors"`
			Links   []struct{ Rel, Href string } `json:"flavors_links"`
		}
		// From 2.61 on flavors tell what is special about them.
		if err := a.do(ctx, region, call{service: compute, method: http.MethodGet, path: next, out: &page, better: "2.61"}); err != nil {
			return nil, fmt.Errorf("list the flavors: %w", err)
		}
		out.flavors, next = append(out.flavors, page.Flavors...), ""
		for _, l := range page.Links {
			if l.Rel == "next" && len(page.Flavors) > 0 {
				next = "flavors/detail?" + queryOf(l.Href)
			}
		}
	}
	next = "images?status=active&limit=" + pageSize
	for next != "" {
		var page struct {
			Images []picture `json:"images"`
			Next   string    `json:"next"`
		}
		if err := a.get(ctx, region, image, next, &page); err != nil {
			return nil, fmt.Errorf("list the images: %w", err)
		}
		out.images, next = append(out.images, page.Images...), ""
		if page.Next != "" && len(page.Images) > 0 {
			next = "images?" + queryOf(page.Next)
		}
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
	return "", &cloud.Error{Class: cloud.Invalid, Property: "size", Message: "there is no flavor " + name + " in " + region, Remedy: "choose one that the region offers"}
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
	return "", &cloud.Error{Class: cloud.Invalid, Property: "image", Message: "there is no image " + name + " in " + region, Remedy: "choose one that the region offers"}
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
	o := offer.Offers{Cloud: "openstack", Region: region, Quotas: map[string]offer.Quota{}, KeptAddresses: keptAddresses, Overlapping: true,
		Without: map[string][]string{"subnet": {"zone"}, "disk": {"encrypted"}, "instance": {"host", "role", "licence"}},
		Limits:  map[string]offer.Limit{"disk.size": {Step: gib}, "subnet.range": {Shortest: 1, Longest: 30}}}
	var types []string
	var machines *sold
	var networks []thing
	var out *thing
	g, at := errgroup.WithContext(ctx)
	for _, read := range []func(context.Context) error{
		func(ctx context.Context) (err error) { machines, err = a.sells(ctx, region); return err },
		func(ctx context.Context) (err error) { o.Zones, err = a.zones(ctx, region, compute); return err },
		func(ctx context.Context) (err error) { types, err = a.volumeTypes(ctx, region); return err },
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
	for _, t := range types {
		o.DiskTypes = append(o.DiskTypes, offer.DiskType{Name: t, About: "a volume type", MinBytes: gib, MaxBytes: largestDisk, Zones: o.Zones})
	}
	addNetworks(&o, networks)
	for _, name := range resource.TypeNames() {
		if _, ok := conducts[name]; ok && (name != "address" || out != nil) {
			o.Types = append(o.Types, name)
		}
	}
	if out == nil {
		o.Without["instance"] = append(o.Without["instance"], "public", "address")
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
	return offer.Size{NetworkGbps: number("quota:vif_outbound_average", 8e-6), DiskMBps: number("quota:disk_total_bytes_sec", 1e-6), DiskOps: number("quota:disk_total_iops_sec", 1), Name: f.Name, Family: family, VCPUs: f.VCPUs, MemoryBytes: f.MiB << 20, LocalBytes: f.GiB * gib, Zones: zones,
		Architecture: cmp.Or(f.Specs["hw:architecture"], f.Specs["capabilities:architecture"], "x86_64")}
}

func imageOf(i picture) offer.Image {
	// Where an image does not say what it is, its name does: debian-12, Ubuntu 24.04 LTS.
	system, version := i.System, i.Version
	if m := inName.FindStringSubmatch(i.Name); m != nil {
		system, version = cmp.Or(system, strings.ToLower(m[1])), cmp.Or(version, m[2])
	}
	return offer.Image{Name: i.Name, System: system, Version: version, User: cmp.Or(i.User, users[system], "root"), Architecture: cmp.Or(i.HwArch, i.Architecture, "x86_64"),
		MinMemoryBytes: i.MiB << 20, MinDiskBytes: i.GiB * gib}
}

func (a *Adapter) volumeTypes(ctx context.Context, region string) ([]string, error) {
	var answer struct {
		Types []struct {
			Name string `json:"name"`
		} `json:"volume_types"`
	}
	err := a.get(ctx, region, volume, "types", &answer)
	if absent(err) {
		return nil, nil // a region may do without volumes
	}
	var out []string
	for _, t := range answer.Types {
		if t.Name != "__DEFAULT__" {
			out = append(out, t.Name)
		}
	}
	return out, err
}

// absent reports whether a region does not have a service at all.
func absent(err error) bool {
	var e *cloud.Error
	return errors.As(err, &e) && e.Class == cloud.Invalid && strings.Contains(e.Message, "has no service of type")
}

// addNetworks tells the ranges of networks. One without subnets has the range that we keep
// for it, or none.
func addNetworks(o *offer.Offers, networks []thing) {
	for _, n := range networks {
		if n.External {
			continue
		}
		ranges := []string{}
		if r := n.kept(tagRange); r != "" {
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
		o.Subnets = append(o.Subnets, offer.Subnet{ID: s.ID, Name: s.Name, Network: s.Network, Range: s.CIDR, Used: used[s.ID] + 2})
	}
	keys, err := a.list(ctx, region, "key", nil)
	for _, k := range keys {
		name, _ := k.keyName()
		o.KeyPairs = append(o.KeyPairs, offer.Named{ID: k.ID, Name: name})
	}
	return err
}

// quotas reads what the project may have. A limit below nothing is none.
func (a *Adapter) quotas(ctx context.Context, region string, o *offer.Offers) error {
	put := func(name string, limit, used int64) {
		if limit >= 0 {
			o.Quotas[name] = offer.Quota{Limit: limit, Used: used}
		}
	}
	var machines struct {
		Limits struct {
			Absolute map[string]any `json:"absolute"`
		} `json:"limits"`
	}
	if err := a.get(ctx, region, compute, "limits", &machines); err != nil {
		return fmt.Errorf("read the quotas of compute: %w", err)
	}
	of := func(name string) int64 { return number(machines.Limits.Absolute[name]) }
	put("vcpus", of("maxTotalCores"), of("totalCoresUsed"))
	put("machines", of("maxTotalInstances"), of("totalInstancesUsed"))
	put("memory_gib", of("maxTotalRAMSize")/1024, (of("totalRAMUsed")+1023)/1024)
	if of("maxTotalRAMSize") < 0 {
		delete(o.Quotas, "memory_gib")
	}
	machines.Limits.Absolute = nil
	switch err := a.get(ctx, region, volume, "limits", &machines); {
	case absent(err):
	case err != nil:
		return fmt.Errorf("read the quotas of volumes: %w", err)
	default:
		put("disks", of("maxTotalVolumes"), of("totalVolumesUsed"))
		put("disk_gib", of("maxTotalVolumeGigabytes"), of("totalGigabytesUsed"))
	}
	s, err := a.signedIn(ctx)
	if err != nil {
		return err
	}
	var nets struct {
		Quota map[string]struct {
			Limit    int64 `json:"limit"`
			Used     int64 `json:"used"`
			Reserved int64 `json:"reserved"`
		} `json:"quota"`
	}
	if err := a.get(ctx, region, network, "quotas/"+s.project.ID+"/details.json", &nets); err != nil {
		if c := cloud.ClassOf(err); c == cloud.Gone || c == cloud.Denied || c == cloud.Invalid {
			return nil // an extension that not every cloud has
		}
		return fmt.Errorf("read the quotas of network: %w", err)
	}
	for theirs, ours := range map[string]string{"network": "networks", "subnet": "subnets", "router": "routers", "floatingip": "addresses", "security_group": "firewalls"} {
		q := nets.Quota[theirs]
		put(ours, q.Limit, q.Used+q.Reserved)
	}
	return nil
}

func number(v any) int64 {
	switch n := v.(type) {
	case float64:
		return int64(n)
	case json.Number:
		i, _ := n.Int64()
		return i
	}
	return 0
}

// proper checks a range before it is sent: the services take one with bits behind its
// prefix, and make another of it.
func proper(v any) error {
	p, err := netip.ParsePrefix(fmt.Sprint(v))
	if err == nil && p == p.Masked() {
		return nil
	}
	return &cloud.Error{Class: cloud.Invalid, Property: "range", Message: fmt.Sprintf("%v is no range of addresses", v), Remedy: "write it as 10.20.0.0/16, with nothing behind the prefix"}
}

// Log reads what a machine wrote to its console, oldest line first.
func (a *Adapter) Log(ctx context.Context, r cloud.Ref) ([]string, error) {
	if r.Type != "instance" {
		return nil, nil
	}
	s, err := a.find(ctx, r, "server", r.Token)
	if err != nil || s == nil {
		return nil, err
	}
	var answer struct {
		Output string `json:"output"`
	}
	if err := a.do(ctx, r.Region, call{service: compute, method: http.MethodPost, path: "servers/" + s.ID + "/action", in: map[string]any{"os-getConsoleOutput": map[string]any{"length": 1000}}, out: &answer}); err != nil {
		return nil, fmt.Errorf("read the console of %s: %w", s.Name, err)
	}
	if answer.Output == "" {
		return nil, nil
	}
	return strings.Split(strings.TrimRight(answer.Output, "\n"), "\n"), nil
}
