package expr

import (
	"crypto/sha256"
	"encoding/base32"
	"net/netip"
	"net/url"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"undersail/internal/core/address"
)

// Functions documents the functions that templates have beyond the standard
// ones, in the order of the documentation.
var Functions = []struct{ Name, Form, About string }{
	{"carve", `carve("10.40.0.0/20", ["edge/26", "workers/24"])`,
		"Places named ranges in written order, each at the lowest aligned free place; gives a map of names to ranges."},
	{"address_in", `address_in("10.40.0.0/24", 5)`,
		"The n-th address of a range, counted from its first address as 0."},
	{"overlaps", `overlaps("10.0.0.0/8", "10.1.0.0/16")`, "Whether two ranges share an address."},
	{"short_hash", `short_hash(stack.id, 5)`,
		"The first n letters and digits (a-z, 2-7) of a SHA-256 hash; n from 1 to 50."},
	{"pad", `pad(7, 2)`, "A number with leading zeros."},
	{"url_encode", `url_encode("a b")`, "Text made safe for a URL query."},
	{"amount", `amount("16GiB")`, "An amount of data; added, compared, and scaled by numbers."},
	{"span", `span("30d")`, "A span of time; added, compared, and scaled by numbers."},
	{"round_up", `round_up(calc.readings * 1.1, amount("1GiB"))`, "An amount or a span, rounded up to whole steps."},
	{"usable", `usable("raid6", 8, amount("2TiB"))`,
		"Storage left of n disks of one size after redundancy: raid0, raid1, raid5, raid6, raid10, copies-2, " +
			"copies-3; a share of overhead may follow, as in usable(\"raid6\", 8, amount(\"2TiB\"), 0.1)."},
	{"fit_size", `fit_size(offers, size_need{vcpus: 4, memory: amount("16GiB")})`,
		"Name of the cheapest size the region sells that meets a need; sizes in prefer go before cheaper ones."},
	{"fit_disk", `fit_disk(offers, disk_need{size: amount("2TiB"), work: "bulk"})`,
		"Name of the disk type that is advised for a size, a kind of work and a throughput."},
	{"fit_image", `fit_image(offers, image_need{system: "debian", from: "12"})`,
		"Name of the newest image of a system, at least of a version."},
	{"lay_out", `lay_out(offers, layout_need{memory: amount("256GiB"), log: true})`,
		"Disks for data and log: for each, use, type, count, size of one, whether they are striped, and " +
			"MB/s together."},
	{"has_value", `has_value(inputs.licence)`,
		"Whether an optional has a value; of a secret it is all that may be asked before the run."},
	{"file", `file("motd.txt")`, "Text of a file beside the template; it becomes part of the version's bytes."},
}

func functions() []cel.EnvOption {
	str, num := cel.StringType, cel.IntType
	anything := cel.TypeParamType("T")
	return append(append(quantities(), fittings()...),
		cel.Function("round_up",
			cel.Overload("round_up_amount", []*cel.Type{AmountType, AmountType}, AmountType,
				cel.BinaryBinding(roundUp)),
			cel.Overload("round_up_span", []*cel.Type{SpanType, SpanType}, SpanType, cel.BinaryBinding(roundUp))),
		cel.Function("usable", cel.Overload("usable_string_int_amount", []*cel.Type{str, num, AmountType}, AmountType,
			cel.FunctionBinding(usable)),
			cel.Overload("usable_string_int_amount_double", []*cel.Type{str, num, AmountType, cel.DoubleType},
				AmountType, cel.FunctionBinding(usable))),
		cel.Function("has_value",
			cel.Overload("has_value_any", []*cel.Type{anything}, cel.BoolType, cel.OverloadIsNonStrict(),
				cel.UnaryBinding(hasValue))),
		cel.Function("carve", cel.Overload("carve_string_list", []*cel.Type{str, cel.ListType(str)},
			cel.MapType(str, str),
			cel.BinaryBinding(func(rng, parts ref.Val) ref.Val {
				var names []string
				list := parts.(traits.Lister)
				for it := list.Iterator(); it.HasNext() == types.True; {
					part := it.Next()
					if types.IsUnknownOrError(part) {
						return part
					}
					names = append(names, string(part.(types.String)))
				}
				carved, err := address.Carve(string(rng.(types.String)), names)
				if err != nil {
					return types.NewErr("%v", err)
				}
				out := map[string]any{}
				for name, prefix := range carved {
					out[name] = prefix.String()
				}
				return adapter{}.NativeToValue(out)
			}))),
		cel.Function("address_in", cel.Overload("address_in_string_int", []*cel.Type{str, num}, str,
			cel.BinaryBinding(func(rng, n ref.Val) ref.Val {
				addr, err := address.Nth(string(rng.(types.String)), int64(n.(types.Int)))
				if err != nil {
					return types.NewErr("%v", err)
				}
				return types.String(addr.String())
			}))),
		cel.Function("overlaps", cel.Overload("overlaps_string_string", []*cel.Type{str, str}, cel.BoolType,
			cel.BinaryBinding(func(a, b ref.Val) ref.Val {
				pa, errA := netip.ParsePrefix(string(a.(types.String)))
				pb, errB := netip.ParsePrefix(string(b.(types.String)))
				if errA != nil || errB != nil {
					return types.NewErr("overlaps wants two address ranges, got %q and %q", a.Value(), b.Value())
				}
				return types.Bool(pa.Overlaps(pb))
			}))),
		cel.Function("short_hash", cel.Overload("short_hash_string_int", []*cel.Type{str, num}, str,
			cel.BinaryBinding(func(text, n ref.Val) ref.Val {
				length := int64(n.(types.Int))
				if length < 1 || length > 50 {
					return types.NewErr("short_hash gives 1 to 50 characters, not %d", length)
				}
				sum := sha256.Sum256([]byte(text.(types.String)))
				return types.String(strings.ToLower(base32.StdEncoding.EncodeToString(sum[:]))[:length])
			}))),
		cel.Function("pad", cel.Overload("pad_int_int", []*cel.Type{num, num}, str,
			cel.BinaryBinding(func(v, width ref.Val) ref.Val {
				n, w := int64(v.(types.Int)), int64(width.(types.Int))
				if n < 0 || w < 0 || w > 19 {
					return types.NewErr("pad wants a number that is not negative and a width from 0 to 19")
				}
				digits := strconv.FormatInt(n, 10)
				return types.String(strings.Repeat("0", max(0, int(w)-len(digits))) + digits)
			}))),
		cel.Function("url_encode", cel.Overload("url_encode_string", []*cel.Type{str}, str,
			cel.UnaryBinding(func(v ref.Val) ref.Val {
				return types.String(url.QueryEscape(string(v.(types.String))))
			}))))
}
