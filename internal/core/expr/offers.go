package expr

import (
	"math"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// SizeNeed is the shape of size_need{...}, what fit_size looks for.
var SizeNeed = resource.Shape{Kind: resource.Object, TypeName: "size_need", Fields: []resource.Property{
	{Name: "vcpus", About: "At least so many virtual processors.", Shape: resource.Shape{Kind: resource.Integer, Minimum: 1}},
	{Name: "memory", About: "At least so much memory.", Shape: resource.Shape{Kind: resource.Data}},
	{Name: "architecture", About: "Exactly this architecture.", Shape: resource.Shape{Kind: resource.String}},
	{Name: "zone", About: "Sold in this zone.", Shape: resource.Shape{Kind: resource.String}},
}}

// OffersStructs are the struct types behind the name `offers`.
func OffersStructs() map[string]map[string]*cel.Type {
	texts := cel.ListType(cel.StringType)
	return map[string]map[string]*cel.Type{
		"offers": {"region": cel.StringType, "zones": texts, "sizes": cel.ListType(cel.ObjectType("size_offer")),
			"disk_types": cel.ListType(cel.ObjectType("disk_type_offer")), "images": cel.ListType(cel.ObjectType("image_offer")), "types": texts},
		"size_offer": {"name": cel.StringType, "family": cel.StringType, "vcpus": cel.IntType, "memory": AmountType,
			"architecture": cel.StringType, "hour": cel.DoubleType, "zones": texts},
		"disk_type_offer": {"name": cel.StringType, "gib_hour": cel.DoubleType, "smallest": AmountType, "largest": AmountType, "zones": texts},
		"image_offer":     {"name": cel.StringType, "user": cel.StringType, "architecture": cel.StringType, "memory": AmountType},
	}
}

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
		sizes = append(sizes, &Object{Type: "size_offer", Fields: map[string]any{"name": s.Name, "family": s.Family, "vcpus": s.VCPUs,
			"memory": quantity{AmountType, s.MemoryBytes}, "architecture": s.Architecture, "hour": s.Hour, "zones": textList(s.Zones)}})
	}
	for _, d := range o.DiskTypes {
		disks = append(disks, &Object{Type: "disk_type_offer", Fields: map[string]any{"name": d.Name, "gib_hour": d.GiBHour,
			"smallest": quantity{AmountType, d.MinBytes}, "largest": quantity{AmountType, d.MaxBytes}, "zones": textList(d.Zones)}})
	}
	for _, i := range o.Images {
		images = append(images, &Object{Type: "image_offer", Fields: map[string]any{"name": i.Name, "user": i.User, "architecture": i.Architecture,
			"memory": quantity{AmountType, i.MinMemoryBytes}}})
	}
	return &Object{Type: "offers", native: o, Fields: map[string]any{"region": o.Region, "zones": textList(o.Zones), "sizes": sizes, "disk_types": disks,
		"images": images, "types": textList(o.Types)}}
}

func textList(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

// fitSize gives the name of the cheapest size that meets a need.
func fitSize(offers, need ref.Val) ref.Val {
	o, isOffers := offers.(object)
	n, isNeed := need.(*literal)
	if !isOffers || o.native == nil || !isNeed {
		return types.NewErr("fit_size is written like fit_size(offers, size_need{vcpus: 4})")
	}
	var wanted offer.Need
	if v, ok := n.fields["vcpus"].(types.Int); ok {
		wanted.VCPUs = int64(v)
	}
	if v, ok := n.fields["memory"].(quantity); ok {
		wanted.MemoryBytes = v.n
	}
	if v, ok := n.fields["architecture"].(types.String); ok {
		wanted.Architecture = string(v)
	}
	if v, ok := n.fields["zone"].(types.String); ok && v != "" {
		wanted.Zones = []string{string(v)}
	}
	best := o.native.Fit(wanted)
	if len(best) == 0 || len(best[0].WhyNot) > 0 {
		return types.NewErr("no size sold in %s has %d vcpus and %s of memory", o.native.Region, wanted.VCPUs, resource.FormatData(wanted.MemoryBytes))
	}
	return types.String(best[0].Size.Name)
}

// redundancies tell how many of n disks hold data of their own. The levels are
// those of the SNIA Common RAID Disk Data Format; copies-2 and copies-3 keep
// every block on so many disks.
var redundancies = map[string]struct {
	least int64
	data  func(n int64) float64
}{
	"raid0":    {1, func(n int64) float64 { return float64(n) }},
	"raid1":    {2, func(int64) float64 { return 1 }},
	"raid5":    {3, func(n int64) float64 { return float64(n - 1) }},
	"raid6":    {4, func(n int64) float64 { return float64(n - 2) }},
	"raid10":   {4, func(n int64) float64 { return math.Floor(float64(n) / 2) }},
	"copies-2": {2, func(n int64) float64 { return float64(n) / 2 }},
	"copies-3": {3, func(n int64) float64 { return float64(n) / 3 }},
}

// usable gives the storage that n disks of one size have after redundancy.
func usable(args ...ref.Val) ref.Val {
	level, n, size := string(args[0].(types.String)), int64(args[1].(types.Int)), args[2].(quantity)
	r, known := redundancies[level]
	if !known {
		return types.NewErr("usable knows raid0, raid1, raid5, raid6, raid10, copies-2 and copies-3, not %q", level)
	}
	if n < r.least {
		return types.NewErr("%s needs at least %d disks, not %d", level, r.least, n)
	}
	v := r.data(n) * float64(size.n)
	return size.of(v, int64(v))
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
