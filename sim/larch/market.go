package larch

import (
	"net"
	"net/http"
	"slices"

	"undersail/sim/market"
	"undersail/sim/world"
)

// sells tells everything the account can have in a region.
func (c *Cloud) sells(w http.ResponseWriter, r *http.Request) error {
	region, account := r.PathValue("region"), c.account(r).Name
	disks := []map[string]any{}
	for _, d := range c.market.DiskTypes {
		disks = append(disks, map[string]any{"class": d.Name, "about": d.About, "for": d.For,
			"gib_hour": d.GiBHour * c.market.Regions[region].Factor,
			"min_gib":  bytesOf(d.Min) >> 30, "max_gib": bytesOf(d.Max) >> 30, "zones": c.market.DiskZones(region, d),
			"mbps": d.MBps, "mbps_tib": d.MBpsTiB, "mbps_most": d.MBpsMost, "ops": d.Ops, "ops_tib": d.OpsTiB,
			"ops_most": d.OpsMost})
	}
	images := []map[string]any{}
	for _, i := range c.market.Images {
		image := map[string]any{"name": i.Name, "system": i.System, "version": i.Version, "user": i.User,
			"architecture":   i.Architecture,
			"min_memory_gib": bytesOf(i.MinMemory) >> 30, "min_disk_gib": bytesOf(i.MinDisk) >> 30, "ends": i.Ends,
			"packages": i.Packages, "licences": licences(i)}
		if i.Terms.Name != "" {
			image["terms"] = map[string]any{
				"name":     i.Terms.Name,
				"text":     i.Terms.Text,
				"accepted": c.world.Note(acceptance(account, i.Terms.Name)) == true,
			}
		}
		images = append(images, image)
	}
	features := map[string]string{}
	for name, about := range c.market.Features {
		if c.market.Has(region, name) {
			features[name] = about
		}
	}
	off := []string{}
	for _, name := range c.market.OnRequest {
		if c.market.Has(region, name) && c.world.Note(turnedOn(account, region, name)) != true {
			off = append(off, name)
		}
	}
	var quotas map[string]any
	var limits map[string]market.Limit
	err := c.world.Update(func(tx *world.Tx) error {
		quotas, limits = c.quotas(tx, account, region), c.limits(tx, account)
		return nil
	})
	if err != nil {
		return err
	}
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	return writeJSON(w, 200,
		map[string]any{"seen_from": host, "currency": c.market.Currency, "address_hour": c.market.AddressHour,
			"zones": c.market.Regions[region].Zones,
			"sizes": c.market.Sizes(region), "hosts": c.market.Hosts(region), "engines": c.market.Engines,
			"database_gib_hour": c.market.DatabaseGiBHour * c.market.Regions[region].Factor,
			"share_gib_hour":    c.market.ShareGiBHour * c.market.Regions[region].Factor, "disk_classes": disks,
			"images": images, "features": features, "features_off": off, "quotas": quotas, "limits": limits})
}

func licences(i market.Image) []map[string]any {
	out := []map[string]any{}
	for _, l := range i.Licences {
		out = append(out, map[string]any{"name": l.Name, "about": l.About, "vcpu_hour": l.VCPUHour})
	}
	return out
}

// acceptance names the fact that an account has accepted terms.
func acceptance(account, terms string) string { return "terms " + account + " " + terms }

// accept takes an account's word that it accepts terms. Saying it twice is no fault.
func (c *Cloud) accept(w http.ResponseWriter, r *http.Request) error {
	name := r.PathValue("terms")
	if !slices.ContainsFunc(c.market.Images, func(i market.Image) bool { return i.Terms.Name == name }) {
		return refuse(404, "no-terms", "there are no terms "+name, nil)
	}
	c.world.SetNote(acceptance(c.account(r).Name, name), true)
	return writeJSON(w, 200, map[string]any{"name": name, "accepted": true})
}

// turnedOn names the fact that an account has turned a feature on in a region.
func turnedOn(account, region, feature string) string {
	return "feature " + account + " " + region + " " + feature
}

// turnOn gives an account a feature in a region. Saying it twice is no fault.
func (c *Cloud) turnOn(w http.ResponseWriter, r *http.Request) error {
	region, name := r.PathValue("region"), r.PathValue("feature")
	if !c.market.Has(region, name) {
		return refuse(404, "no-feature", "region "+region+" has no feature "+name, nil)
	}
	c.world.SetNote(turnedOn(c.account(r).Name, region, name), true)
	return writeJSON(w, 200, map[string]any{"name": name, "on": true})
}
