package expr

import (
	"maps"
	"slices"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// Needs are the shapes of what the functions on offers look for: size_need{...} of
// fit_size, disk_need{...} of fit_disk, image_need{...} of fit_image, and
// layout_need{...} of lay_out.
var Needs = []resource.Shape{
	{Kind: resource.Object, TypeName: "size_need", Fields: []resource.Property{
		{
			Name:  "vcpus",
			About: "At least so many virtual processors.",
			Shape: resource.Shape{Kind: resource.Integer, Minimum: 1},
		},
		{Name: "memory", About: "At least so much memory.", Shape: resource.Shape{Kind: resource.Data}},
		{Name: "architecture", About: "Exactly this architecture.", Shape: word},
		{Name: "zone", About: "Sold in this zone.", Shape: word},
		{
			Name:  "speed",
			About: "At least this speed of a core beside the cloud's other sizes.",
			Shape: resource.Shape{Kind: resource.Number},
		},
		{
			Name:  "network_gbps",
			About: "At least so many Gbit/s to the network.",
			Shape: resource.Shape{Kind: resource.Number},
		},
		{Name: "disk_mbps", About: "At least so many MB/s to its disks.", Shape: resource.Shape{Kind: resource.Number}},
		{Name: "local", About: "A local disk of at least this size.", Shape: resource.Shape{Kind: resource.Data}},
		{
			Name:  "prefer",
			About: "Sizes that are taken before cheaper ones when they fit, the first most.",
			Shape: resource.Shape{Kind: resource.List, Items: &word},
		},
	}},
	{Kind: resource.Object, TypeName: "disk_need", Fields: []resource.Property{
		{Name: "size", About: "Capacity.", Shape: resource.Shape{Kind: resource.Data}},
		{Name: "work", About: "What it is used for: bulk, steady, small-writes, log, archive or scratch.", Shape: word},
		{Name: "mbps", About: "At least so many MB/s.", Shape: resource.Shape{Kind: resource.Number}},
		{Name: "ops", About: "At least so many operations a second.", Shape: resource.Shape{Kind: resource.Number}},
		{Name: "zone", About: "Sold in this zone.", Shape: word},
	}},
	{Kind: resource.Object, TypeName: "image_need", Fields: []resource.Property{
		{Name: "system", About: "Its system, such as debian.", Shape: word},
		{Name: "from", About: "The oldest version that does; the newest there is is taken.", Shape: word},
		{Name: "architecture", About: "Exactly this architecture.", Shape: word},
	}},
	{Kind: resource.Object, TypeName: "layout_need", Fields: []resource.Property{
		{
			Name:  "memory",
			About: "Memory of the machine, for a database that is held in it.",
			Shape: resource.Shape{Kind: resource.Data},
		},
		{
			Name:  "data",
			About: "Size of the data; 1.2 times the memory when left out.",
			Shape: resource.Shape{Kind: resource.Data},
		},
		{Name: "log", About: "Whether the log has disks of its own.", Shape: resource.Shape{Kind: resource.Boolean}},
		{
			Name:  "mbps",
			About: "MB/s that the data must reach, all its disks together.",
			Shape: resource.Shape{Kind: resource.Number},
		},
		{Name: "zone", About: "Sold in this zone.", Shape: word},
	}},
}

var word = resource.Shape{Kind: resource.String}

// OffersStructs are the struct types behind the name `offers`.
func OffersStructs() map[string]map[string]*cel.Type {
	texts := cel.ListType(cel.StringType)
	return map[string]map[string]*cel.Type{
		"offers": {
			"region":     cel.StringType,
			"zones":      texts,
			"sizes":      cel.ListType(cel.ObjectType("size_offer")),
			"disk_types": cel.ListType(cel.ObjectType("disk_type_offer")),
			"images":     cel.ListType(cel.ObjectType("image_offer")),
			"types":      texts,
			"features":   texts,
		},
		"size_offer": {"name": cel.StringType, "family": cel.StringType, "vcpus": cel.IntType, "memory": AmountType,
			"architecture": cel.StringType,
			"generation":   cel.IntType, "speed": cel.DoubleType, "network_gbps": cel.DoubleType,
			"disk_mbps": cel.DoubleType, "disk_ops": cel.DoubleType, "local": AmountType,
			"host": cel.BoolType, "hour": cel.DoubleType, "month": cel.DoubleType, "zones": texts},
		"disk_type_offer": {
			"name":     cel.StringType,
			"gib_hour": cel.DoubleType,
			"smallest": AmountType,
			"largest":  AmountType,
			"for":      texts,
			"zones":    texts,
		},
		"image_offer": {"name": cel.StringType, "system": cel.StringType, "version": cel.StringType,
			"user": cel.StringType, "architecture": cel.StringType,
			"memory": AmountType, "disk": AmountType, "ends": cel.StringType, "packages": texts},
		"disk_area": {
			"use":     cel.StringType,
			"type":    cel.StringType,
			"count":   cel.IntType,
			"size":    AmountType,
			"striped": cel.BoolType,
			"mbps":    cel.DoubleType,
		},
	}
}

// offersStructs are those types, at hand.
var offersStructs = OffersStructs()

// OffersValue gives the value of `offers`: what the region sells now. Without
// offers it is pending, and whatever reads it says so.
func OffersValue(o *offer.Offers) any {
	if o == nil {
		return resource.Unresolved{Waits: []string{"offers"}}
	}
	sizes, disks, images := []any{}, []any{}, []any{}
	for _, s := range o.Sizes {
		if s.Withdrawn || len(s.Zones) == 0 {
			continue
		}
		sizes = append(sizes, &Object{
			Type: "size_offer",
			Fields: map[string]any{"name": s.Name, "family": s.Family, "vcpus": s.VCPUs,
				"memory": quantity{AmountType, s.MemoryBytes}, "architecture": s.Architecture,
				"generation": s.Generation,
				"speed":      s.Speed, "network_gbps": s.NetworkGbps, "disk_mbps": s.DiskMBps, "disk_ops": s.DiskOps,
				"local": quantity{AmountType, s.LocalBytes}, "host": s.Host, "hour": s.Hour, "month": s.Month,
				"zones": textList(s.Zones)},
		})
	}
	for _, d := range o.DiskTypes {
		disks = append(disks, &Object{
			Type: "disk_type_offer",
			Fields: map[string]any{
				"name":     d.Name,
				"gib_hour": d.GiBHour,
				"smallest": quantity{AmountType, d.MinBytes},
				"largest":  quantity{AmountType, d.MaxBytes},
				"for":      textList(d.For),
				"zones":    textList(d.Zones),
			},
		})
	}
	for _, i := range o.Images {
		images = append(images, &Object{
			Type: "image_offer",
			Fields: map[string]any{"name": i.Name, "system": i.System, "version": i.Version, "user": i.User,
				"architecture": i.Architecture,
				"memory":       quantity{AmountType, i.MinMemoryBytes}, "disk": quantity{AmountType, i.MinDiskBytes},
				"ends": i.Ends, "packages": textList(i.Packages)},
		})
	}
	return &Object{
		Type:   "offers",
		native: o,
		Fields: map[string]any{"region": o.Region, "zones": textList(o.Zones), "sizes": sizes, "disk_types": disks,
			"images": images, "types": textList(o.Types), "features": textList(slices.Sorted(maps.Keys(o.Features)))},
	}
}

func textList(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

// hasValue tells whether an optional has a value, also where the value is a
// secret, and nothing else of it.
func hasValue(v ref.Val) ref.Val {
	switch t := v.(type) {
	case *types.Optional:
		return types.Bool(t.HasValue())
	case *types.Unknown:
		if len(unresolved(t).Waits) > 0 {
			return t
		}
		return types.True
	case types.Null:
		return types.False
	case *types.Err:
		return t
	}
	return types.True
}
