package render

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"undersail/internal/core/address"
	"undersail/internal/core/health"
	"undersail/internal/core/resource"
)

// Rehearsal is what the checks of a rendering would be once everything is made. What
// resources report is stood in for by values of the right kind, which no real one has.
type Rehearsal struct {
	// Reports are the stand-ins, by resource.
	Reports map[string]map[string]any
	// Checks are those of the resources whose checks read reports; Faults are why some
	// cannot be computed even then.
	Checks map[string][]health.Check
	Faults map[string]error
	// Logins are how tasks get to their machines, as checks over SSH would.
	Logins map[string]health.Check
}

// outside is where stand-ins for public addresses come from, and inside where those for
// private ones do whose subnet is not known: shared address space (RFC 6598) and that
// for benchmarks (RFC 2544).
var outside, inside = netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("198.18.0.0/15")

// Rehearse computes the checks of a rendering as if all of it were made, so that they
// can be judged beforehand. Its request was to be rehearsed; known tells what is there
// already, and ports gives the ports at which a machine is reached from outside. Where
// no check reads a report there is nothing to rehearse, and it gives nil. It is done
// once: the rendering holds, and computes nothing more.
func (r *Rendering) Rehearse(known func(Resource) map[string]any, ports func(r *Resource) []int64) *Rehearsal {
	var reading []string
	for _, res := range r.Resources {
		if slices.ContainsFunc(res.Checks, func(c health.Check) bool { return len(resource.Waits(c.Spec)) > 0 }) {
			reading = append(reading, res.Name)
		}
	}
	tasks := slices.DeleteFunc(slices.Clone(r.Resources),
		func(res Resource) bool { return res.Type != resource.TypeTask })
	session := r.session
	if r.session = nil; session == nil || reading == nil && len(tasks) == 0 {
		return nil
	}
	if known == nil {
		known = func(Resource) map[string]any { return nil }
	}
	out := &Rehearsal{
		Reports: map[string]map[string]any{},
		Checks:  map[string][]health.Check{},
		Faults:  map[string]error{},
		Logins:  map[string]health.Check{},
	}
	s := standIns{first: r, used: map[string]int{}, ids: map[string]string{}}
	for _, res := range r.Resources {
		if id, ok := known(res)["id"].(string); ok {
			s.ids[id] = res.Name
		}
	}
	for i := range r.Resources {
		res := &r.Resources[i]
		report := s.report(res, ports)
		for name, v := range known(*res) { // what is there, but for what it does not tell yet
			have, both := report[name].(map[string]any)
			if more, is := v.(map[string]any); is && both {
				maps.Copy(have, more)
			} else if !empty(v) {
				report[name] = v
			}
		}
		out.Reports[res.Name] = report
		session.Report(res.Name, report)
	}
	for _, name := range reading {
		out.Checks[name], out.Faults[name] = session.checks(name)
	}
	for _, res := range tasks {
		if shown, _, err := session.Resolve(res.Name, nil); err == nil {
			spec := maps.Clone(shown.Want)
			spec["host"] = spec["on"]
			out.Logins[res.Name] = health.Check{Name: res.Name, Kind: "ssh", Spec: spec}
		}
	}
	return out
}

func empty(v any) bool {
	switch t := v.(type) {
	case nil:
		return true
	case string:
		return t == ""
	case map[string]any:
		return len(t) == 0
	}
	return false
}

type standIns struct {
	first *Rendering
	used  map[string]int    // addresses of a range that stand for something already
	ids   map[string]string // of what is there, with the names in the rendering
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
	if !resource.IsMachine(r.Type) {
		return out
	}
	within := inside
	subnet := Target(s.first, r.Want["subnet"])
	if id, ok := r.Want["subnet"].(string); ok {
		subnet = s.first.Resource(s.ids[id])
	}
	if subnet != nil {
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
