package larch

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"

	"undersail/internal/cloud"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// sold is a market as Larch tells it.
type sold struct {
	Currency    string   `json:"currency"`
	AddressHour float64  `json:"address_hour"`
	Zones       []string `json:"zones"`
	Sizes       []struct {
		offer.Size
		MemoryGiB int64 `json:"memory_gib"`
		LocalGiB  int64 `json:"local_gib"`
	} `json:"sizes"`
	DiskClasses []struct {
		offer.DiskType
		Class  string `json:"class"`
		MinGiB int64  `json:"min_gib"`
		MaxGiB int64  `json:"max_gib"`
	} `json:"disk_classes"`
	Images []struct {
		offer.Image
		MinMemoryGiB int64 `json:"min_memory_gib"`
		MinDiskGiB   int64 `json:"min_disk_gib"`
	} `json:"images"`
	Hosts []struct {
		offer.Host
		MemoryGiB int64 `json:"memory_gib"`
	} `json:"hosts"`
	Engines         []string               `json:"engines"`
	DatabaseGiBHour float64                `json:"database_gib_hour"`
	ShareGiBHour    float64                `json:"share_gib_hour"`
	SeenFrom        string                 `json:"seen_from"`
	Features        map[string]string      `json:"features"`
	Off             []string               `json:"features_off"`
	Quotas          map[string]offer.Quota `json:"quotas"`
	Limits          map[string]told        `json:"limits"`
}

// Offers reads what a region sells, and what of networks is there.
func (a *Adapter) Offers(ctx context.Context, region string) (offer.Offers, error) {
	var m sold
	at := "/v1/regions/" + url.PathEscape(region)
	if _, err := a.do(ctx, http.MethodGet, at+"/market", nil, &m); err != nil {
		return offer.Offers{}, fmt.Errorf("read the offers of %s: %w", region, err)
	}
	o := offer.Offers{
		Cloud:         "larch",
		Region:        region,
		Currency:      m.Currency,
		AddressHour:   m.AddressHour,
		Zones:         m.Zones,
		Quotas:        m.Quotas,
		Features:      m.Features,
		Off:           m.Off,
		Limits:        limitsOf(m.Limits),
		SeenFrom:      m.SeenFrom,
		KeptAddresses: ownAddresses,
	}
	for _, s := range m.Sizes {
		s.Size.MemoryBytes, s.Size.LocalBytes = s.MemoryGiB<<30, s.LocalGiB<<30
		o.Sizes = append(o.Sizes, s.Size)
	}
	for _, h := range m.Hosts {
		h.Host.MemoryBytes = h.MemoryGiB << 30
		o.Hosts = append(o.Hosts, h.Host)
	}
	o.Engines, o.DatabaseGiBHour, o.SharedGiBHour = m.Engines, m.DatabaseGiBHour, m.ShareGiBHour
	for _, d := range m.DiskClasses {
		d.DiskType.Name, d.DiskType.MinBytes, d.DiskType.MaxBytes = d.Class, d.MinGiB<<30, d.MaxGiB<<30
		o.DiskTypes = append(o.DiskTypes, d.DiskType)
	}
	for _, i := range m.Images {
		i.Image.MinMemoryBytes, i.Image.MinDiskBytes = i.MinMemoryGiB<<30, i.MinDiskGiB<<30
		o.Images = append(o.Images, i.Image)
	}
	for _, name := range resource.TypeNames() {
		if _, ok := mappings[name]; ok {
			o.Types = append(o.Types, name)
		}
	}
	o.Without = map[string][]string{}
	if len(o.Hosts) == 0 { // of this region
		o.Without["instance"] = []string{"host"}
		o.Types = slices.DeleteFunc(o.Types, func(t string) bool { return t == "host" || t == "private_cloud" })
	}
	if m.Features["disk-encryption"] == "" {
		for _, name := range []string{"disk", "database", "shared_files"} {
			o.Without[name] = []string{"encrypted"}
		}
	}
	return o, a.networks(ctx, at, &o)
}

// ownAddresses are those of a subnet that Larch keeps: network, router, two more, and
// the last.
const ownAddresses = 5

// networks reads the networks, subnets and key pairs that are there. A machine takes
// one address of its subnet.
func (a *Adapter) networks(ctx context.Context, at string, o *offer.Offers) error {
	used := map[string]int64{}
	for _, list := range []struct {
		kind string
		add  func(report)
	}{
		{"networks", func(r report) {
			o.Networks = append(o.Networks, offer.Network{
				ID:    r.ID,
				Name:  r.Label,
				Range: fmt.Sprint(r.Properties["cidr"]),
			})
		}},
		{"hosts", func(r report) {
			zone, _ := r.Attributes["zone"].(string)
			vcpus, _ := r.Attributes["vcpus"].(float64)
			o.OwnHosts = append(o.OwnHosts, offer.OwnHost{
				ID:     r.ID,
				Name:   r.Label,
				Family: fmt.Sprint(r.Properties["family"]),
				Zone:   zone,
				VCPUs:  int64(vcpus),
			})
		}},
		{"instances", func(r report) {
			used[fmt.Sprint(r.Properties["subnet_id"])]++
			cards, _ := r.Properties["cards"].([]any)
			for _, item := range cards {
				card, _ := item.(map[string]any)
				used[fmt.Sprint(card["subnet_id"])]++
			}
			vcpus, _ := r.Attributes["vcpus"].(float64)
			for i := range o.OwnHosts {
				if o.OwnHosts[i].ID == r.Properties["host_id"] {
					o.OwnHosts[i].Used += int64(vcpus)
				}
			}
		}},
		{"subnets", func(r report) {
			zone, _ := r.Properties["zone"].(string)
			o.Subnets = append(o.Subnets, offer.Subnet{
				ID:      r.ID,
				Name:    r.Label,
				Network: fmt.Sprint(r.Properties["network_id"]),
				Range:   fmt.Sprint(r.Properties["cidr"]),
				Zone:    zone,
				Used:    used[r.ID] + ownAddresses,
			})
		}},
		{"private-clouds", func(r report) {
			ranges, _ := r.Properties["ranges"].(map[string]any)
			for _, purpose := range slices.Sorted(maps.Keys(ranges)) {
				o.Held = append(o.Held, offer.Network{
					ID:    r.ID,
					Name:  "the " + purpose + " of " + r.Label,
					Range: fmt.Sprint(ranges[purpose]),
				})
			}
		}},
		{"keys", func(r report) { o.KeyPairs = append(o.KeyPairs, offer.Named{ID: r.ID, Name: r.Label}) }},
	} {
		if err := a.pages(ctx, at+"/resources?kind="+list.kind, list.add); err != nil {
			return err
		}
	}
	return nil
}

// AcceptTerms says for the account that it accepts terms.
func (a *Adapter) AcceptTerms(ctx context.Context, name string) error {
	if _, err := a.do(ctx, http.MethodPut, "/v1/terms/"+url.PathEscape(name), nil, nil); err != nil {
		return fmt.Errorf("accept the terms %s: %w", name, err)
	}
	return nil
}

// TurnOn gives the account a feature in a region.
func (a *Adapter) TurnOn(ctx context.Context, region, feature string) error {
	_, err := a.do(ctx, http.MethodPut, "/v1/regions/"+url.PathEscape(region)+"/features/"+url.PathEscape(feature), nil,
		nil)
	if err != nil {
		return fmt.Errorf("turn the feature %s on in %s: %w", feature, region, err)
	}
	return nil
}

// Log reads what a machine wrote to its console, oldest line first.
func (a *Adapter) Log(ctx context.Context, r cloud.Ref) ([]string, error) {
	if r.Type != resource.TypeInstance {
		return nil, nil
	}
	var log struct {
		Lines []string `json:"lines"`
	}
	if _, err := a.do(ctx, http.MethodGet, path(r.Region, "instances", r.Token)+"/log", nil, &log); err != nil {
		return nil, fmt.Errorf("read the console of %s: %w", r.Token, err)
	}
	return log.Lines, nil
}
