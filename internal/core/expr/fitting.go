package expr

import (
	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"undersail/internal/core/offer"
	"undersail/internal/core/storage"
)

// fittings are the functions that choose from offers by a need.
func fittings() []cel.EnvOption {
	fitting := func(name, need string, result *cel.Type,
		choose func(*offer.Offers, fields) (any, error)) cel.EnvOption {
		form := name + "(offers, " + need + "{...})"
		return cel.Function(name,
			cel.Overload(name+"_offers_need", []*cel.Type{cel.ObjectType("offers"), cel.ObjectType(need)}, result,
				cel.BinaryBinding(func(offers, needed ref.Val) ref.Val {
					o, isOffers := offers.(object)
					n, isNeed := needed.(*literal)
					if !isOffers || o.native == nil || !isNeed {
						return types.NewErr("%s is written like %s", name, form)
					}
					chosen, err := choose(o.native, fields(n.fields))
					if err != nil {
						return types.NewErr("%v", err)
					}
					return adapter{}.NativeToValue(chosen)
				})))
	}
	return []cel.EnvOption{
		fitting("fit_size", "size_need", cel.StringType, fitSize),
		fitting("fit_disk", "disk_need", cel.StringType, fitDisk),
		fitting("fit_image", "image_need", cel.StringType, fitImage),
		fitting("lay_out", "layout_need", cel.ListType(cel.ObjectType("disk_area")), layOut),
	}
}

// fields are the fields of a typed literal.
type fields map[string]ref.Val

func (f fields) text(name string) string { v, _ := f[name].(types.String); return string(v) }
func (f fields) whole(name string) int64 { v, _ := f[name].(types.Int); return int64(v) }
func (f fields) data(name string) int64  { v, _ := f[name].(quantity); return v.n }
func (f fields) flag(name string) bool   { v, _ := f[name].(types.Bool); return bool(v) }

func (f fields) number(name string) float64 {
	switch v := f[name].(type) {
	case types.Double:
		return float64(v)
	case types.Int:
		return float64(v)
	}
	return 0
}

func (f fields) texts(name string) []string {
	list, ok := f[name].(traits.Lister)
	if !ok {
		return nil
	}
	var out []string
	for it := list.Iterator(); it.HasNext() == types.True; {
		if s, ok := it.Next().(types.String); ok {
			out = append(out, string(s))
		}
	}
	return out
}

// fitSize gives the name of the cheapest size that meets a need, or of a preferred one.
func fitSize(o *offer.Offers, n fields) (any, error) {
	need := offer.Need{
		VCPUs:        n.whole("vcpus"),
		MemoryBytes:  n.data("memory"),
		Architecture: n.text("architecture"),
		Speed:        n.number("speed"),
		NetworkGbps:  n.number("network_gbps"),
		DiskMBps:     n.number("disk_mbps"),
		LocalBytes:   n.data("local"),
		Sizes:        n.texts("prefer"),
	}
	if z := n.text("zone"); z != "" {
		need.Zones = []string{z}
	}
	return o.Cheapest(need)
}

// fitDisk gives the name of the disk type that is advised for a need.
func fitDisk(o *offer.Offers, n fields) (any, error) {
	advice, err := storage.Advise(storage.Need{
		Bytes: n.data("size"),
		Work:  n.text("work"),
		MBps:  n.number("mbps"),
		Ops:   n.number("ops"),
		Zone:  n.text("zone"),
	}, o)
	if err != nil {
		return nil, err
	}
	return storage.Best(advice, o.Region)
}

// fitImage gives the name of the newest image that meets a need.
func fitImage(o *offer.Offers, n fields) (any, error) {
	return o.NewestImage(n.text("system"), n.text("from"), n.text("architecture"))
}

// layOut computes disks for data and log.
func layOut(o *offer.Offers, n fields) (any, error) {
	areas, err := storage.LayOut(storage.LayoutNeed{
		Memory: n.data("memory"),
		Data:   n.data("data"),
		Log:    n.flag("log"),
		MBps:   n.number("mbps"),
		Zone:   n.text("zone"),
	}, o)
	if err != nil {
		return nil, err
	}
	out := []any{}
	for _, a := range areas {
		out = append(out, &Object{
			Type: "disk_area",
			Fields: map[string]any{
				"use":     a.Use,
				"type":    a.Type,
				"count":   a.Count,
				"size":    quantity{AmountType, a.Bytes},
				"striped": a.Striped,
				"mbps":    a.MBps,
			},
		})
	}
	return out, nil
}

// usable gives the storage that n disks of one size have after redundancy, and after a
// share of overhead where one is given.
func usable(args ...ref.Val) ref.Val {
	size, overhead := args[2].(quantity), 0.0
	if len(args) > 3 {
		overhead = float64(args[3].(types.Double))
	}
	bytes, err := storage.Usable(string(args[0].(types.String)), int64(args[1].(types.Int)), size.n, overhead)
	if err != nil {
		return types.NewErr("%v", err)
	}
	return quantity{AmountType, bytes}
}
