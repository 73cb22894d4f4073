package render

import (
	"fmt"
	"net/netip"
	"slices"

	"undersail/internal/core/address"
	"undersail/internal/core/health"
	"undersail/internal/core/resource"
)

// Rehearsal is a rendering as it would be once everything is made. What resources
// report is stood in for by values of the right kind, which no real one has.
type Rehearsal struct {
	*Rendering
	// Reports are the stand-ins, by resource.
	Reports map[string]map[string]any
}

// outside is where stand-ins for public addresses come from, and inside where those for
// private ones do whose subnet is not known: shared address space (RFC 6598) and that
// for benchmarks (RFC 2544).
var outside, inside = netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("198.18.0.0/15")

// Rehearse renders a request once more as if all of it were made, so that what depends
// on reports can be judged beforehand. Ports gives the ports at which a machine is
// reached from outside. Where no check reads a report there is nothing to rehearse,
// and it gives nil.
func Rehearse(request Request, first *Rendering, ports func(r *Resource) []int64) *Rehearsal {
	reads := func(checks []health.Check) bool {
		return slices.ContainsFunc(checks, func(c health.Check) bool { return len(resource.Waits(c.Spec)) > 0 })
	}
	if !reads(first.Prove) && !slices.ContainsFunc(first.Resources, func(r Resource) bool { return reads(r.Checks) }) {
		return nil
	}
	out := &Rehearsal{Reports: map[string]map[string]any{}}
	s := standIns{first: first, used: map[string]int{}}
	for i := range first.Resources {
		r := &first.Resources[i]
		out.Reports[r.Name] = s.report(r, ports)
	}
	known := request.Known
	request.Explain = ""
	request.Known = func(r Resource) map[string]any {
		if known != nil {
			if there := known(r); there != nil {
				out.Reports[r.Name] = there
				return there
			}
		}
		return out.Reports[r.Name]
	}
	out.Rendering = Render(request)
	return out
}

type standIns struct {
	first *Rendering
	used  map[string]int // addresses of a range that stand for something already
}

func (s *standIns) next(p netip.Prefix) string {
	key := p.String()
	s.used[key]++
	a, err := address.Nth(key, int64(s.used[key]+3)) // the cloud keeps the first ones
	if err != nil {
		return p.Addr().String()
	}
	return a.String()
}

// report stands in for what a resource reports.
func (s *standIns) report(r *Resource, ports func(r *Resource) []int64) map[string]any {
	t, _ := resource.ByName(r.Type)
	out := map[string]any{}
	for _, a := range t.Attributes {
		switch a.Shape.Kind {
		case resource.Integer:
			out[a.Name] = int64(1)
		case resource.Number:
			out[a.Name] = 1.0
		case resource.Boolean:
			out[a.Name] = true
		case resource.List:
			out[a.Name] = []any{}
		case resource.Map, resource.Object, resource.Open:
			out[a.Name] = map[string]any{}
		case resource.Address:
			out[a.Name] = s.next(outside)
		case resource.Data:
			out[a.Name] = "1GiB"
		default:
			out[a.Name] = a.Name + " of " + r.Name
		}
	}
	if r.Type != "instance" {
		return out
	}
	within := inside
	if subnet := Target(s.first, r.Want["subnet"]); subnet != nil {
		if p, err := resource.ParseRange(fmt.Sprint(subnet.Want["range"])); err == nil {
			within = p
		}
	}
	out["private_address"], out["public_address"] = s.next(within), ""
	if open, _ := r.Want["public"].(bool); open || r.Want["address"] != nil {
		public := s.next(outside)
		out["public_address"] = public
		reach := map[string]any{}
		for _, port := range ports(r) {
			reach[fmt.Sprint(port)] = fmt.Sprintf("%s:%d", public, port)
		}
		out["reach"] = reach
	}
	return out
}
