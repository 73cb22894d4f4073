package openstack

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"undersail/internal/cloud"
)

func init() {
	conducts["network"] = conduct{
		main:   "network",
		see:    seeNetwork,
		create: makeNetwork,
		alter:  describes("network", "router"),
		remove: removes("router", "network"),
		parts:  single("network", "router"),
	}
	conducts["subnet"] = conduct{
		main:   "subnet",
		see:    seeSubnet,
		create: makeSubnet,
		alter:  alterSubnet,
		remove: removeSubnet,
		parts:  single("subnet"),
	}
	conducts["address"] = conduct{
		main:   "floating",
		see:    seeAddress,
		create: makeAddress,
		alter:  describes("floating"),
		remove: removes("floating"),
		parts:  single("floating"),
	}
}

// marked is the body of a thing with a name and our mark.
func (w *work) marked(more map[string]any) map[string]any {
	body := map[string]any{"description": marking + w.ref.Token}
	if name, named := w.task.Want["name"]; named {
		body["name"] = fmt.Sprint(name)
	}
	maps.Copy(body, more)
	return body
}

// outside finds the network that leads out of a region: the first external one by name.
// It is nil where there is none; then nothing has a way out.
func (a *Adapter) outside(ctx context.Context, region string) (*thing, error) {
	list, err := a.list(ctx, region, "network", url.Values{"router:external": {"true"}})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	slices.SortFunc(list, func(x, y thing) int { return strings.Compare(x.Name, y.Name) })
	return &list[0], nil
}

// A network is a network with its router and way out.

func seeNetwork(ctx context.Context, w *work) (cloud.Live, error) {
	l := cloud.Live{Phase: cloud.Ready, Attributes: map[string]any{}, Has: map[string]any{}}
	n, r := w.part("network"), w.part("router")
	switch {
	case n == nil:
		l.Phase, l.Why = cloud.Broken, "its network is gone and its router is left"
		return l, nil
	case n.Status == "ERROR":
		l.Phase, l.Why = cloud.Broken, "the cloud says ERROR of the network"
	case n.Status != "ACTIVE":
		l.Phase = cloud.Making
	case r != nil && r.Status == "ERROR":
		l.Phase, l.Why = cloud.Broken, "the cloud says ERROR of its router"
	case r != nil && r.Status != "ACTIVE":
		l.Phase = cloud.Making
	case r == nil && w.lost("router"):
		l.Phase, l.Why = cloud.Broken, "its router is gone"
	}
	if v := n.described()[tagRange]; v != "" {
		l.Has["range"] = v
	}
	return l, nil
}

// lost reports whether a part was there once and is not any more.
func (w *work) lost(kind string) bool {
	p := w.ref.Part(kind, w.ref.Token)
	return p != nil && p.Seen && w.part(kind) == nil
}

func makeNetwork(ctx context.Context, w *work) (cloud.Progress, error) {
	if err := proper(w.task.Want["range"]); err != nil {
		return cloud.Progress{}, err
	}
	if w.part("network") == nil {
		return w.make(ctx, "network", w.ref.Token, w.marked(nil))
	}
	p, did, err := w.tagged(ctx, "network", map[string]string{tagRange: fmt.Sprint(w.task.Want["range"])})
	if did || err != nil {
		return p, err
	}
	if w.part("router") == nil {
		out, err := w.a.outside(ctx, w.ref.Region)
		if err != nil {
			return cloud.Progress{}, err
		}
		if out == nil {
			return w.done(ctx)
		}
		return w.make(ctx, "router", w.ref.Token,
			w.marked(map[string]any{"external_gateway_info": map[string]any{"network_id": out.ID}}))
	}
	if p, did, err := w.tagged(ctx, "router", nil); did || err != nil {
		return p, err
	}
	return w.done(ctx)
}

// A subnet is a subnet with its interface on the router of its network.

func seeSubnet(ctx context.Context, w *work) (cloud.Live, error) {
	l := cloud.Live{Phase: cloud.Ready, Attributes: map[string]any{}, Has: map[string]any{}}
	s := w.part("subnet")
	l.Attributes["router"] = s.Gateway
	l.Has["network"], l.Has["range"] = s.Network, s.CIDR
	servers := []any{}
	for _, at := range s.NameServers {
		servers = append(servers, at)
	}
	l.Has["name_servers"] = servers
	return l, nil
}

func makeSubnet(ctx context.Context, w *work) (cloud.Progress, error) {
	if err := proper(w.task.Want["range"]); err != nil {
		return cloud.Progress{}, err
	}
	s := w.part("subnet")
	if s == nil {
		return w.make(ctx, "subnet", w.ref.Token,
			w.marked(map[string]any{
				"network_id":      w.task.Want["network"],
				"cidr":            w.task.Want["range"],
				"ip_version":      4,
				"dns_nameservers": nameServers(w.task.Want),
			}))
	}
	if p, did, err := w.tagged(ctx, "subnet", nil); did || err != nil {
		return p, err
	}
	router, has, err := w.a.interfaceOf(ctx, w.ref.Region, *s)
	if err != nil {
		return cloud.Progress{}, err
	}
	if router != "" && !has {
		err := w.a.do(ctx, w.ref.Region, call{
			service: network,
			method:  http.MethodPut,
			path:    "routers/" + router + "/add_router_interface",
			in:      map[string]any{"subnet_id": s.ID},
		})
		if err != nil {
			return cloud.Progress{}, fmt.Errorf("lead its router into the subnet: %w", err)
		}
		return w.more(ctx)
	}
	return w.done(ctx)
}

func alterSubnet(ctx context.Context, w *work) (cloud.Progress, error) {
	if p, did, err := w.described(ctx, "subnet"); did || err != nil {
		return p, err
	}
	s, wanted := w.part("subnet"), nameServers(w.task.Want)
	_, asked := w.task.Want["name_servers"]
	if !asked && !slices.Contains(w.task.Unset, "name_servers") || slices.Equal(s.NameServers, wanted) {
		return w.done(ctx)
	}
	if err := w.put(ctx, "subnet", s, map[string]any{"dns_nameservers": wanted}); err != nil {
		return cloud.Progress{}, err
	}
	return w.reread(ctx, s)
}

// nameServers are those that a subnet is to have: none leaves it to the cloud.
func nameServers(want map[string]any) []string {
	out := []string{}
	list, _ := want["name_servers"].([]any)
	for _, at := range list {
		out = append(out, fmt.Sprint(at))
	}
	return out
}

// interfaceOf finds the router of a subnet's network, by our mark on both or by what leads
// into its subnets, and whether it leads into this one.
func (a *Adapter) interfaceOf(ctx context.Context, region string, s thing) (router string, has bool, err error) {
	ports, err := a.list(ctx, region, "port", url.Values{"network_id": {s.Network}})
	if err != nil {
		return "", false, err
	}
	for _, p := range ports {
		if !strings.HasPrefix(p.Owner, "network:router_interface") &&
			p.Owner != "network:ha_router_replicated_interface" {
			continue
		}
		router = p.Device
		for _, at := range p.Addresses {
			if at.Subnet == s.ID {
				return router, true, nil
			}
		}
	}
	if router != "" {
		return router, false, nil
	}
	n, err := a.byID(ctx, region, "network", s.Network)
	if err != nil || n == nil || n.mark() == "" {
		return "", false, err
	}
	r, err := a.byMark(ctx, region, "router", n.mark())
	if err != nil || r == nil {
		return "", false, err
	}
	return r.ID, false, nil
}

func removeSubnet(ctx context.Context, w *work) (cloud.Progress, error) {
	s := w.part("subnet")
	if s == nil {
		return w.removing(ctx, "subnet")
	}
	router, has, err := w.a.interfaceOf(ctx, w.ref.Region, *s)
	if err != nil {
		return cloud.Progress{}, err
	}
	if has {
		err := w.a.do(ctx, w.ref.Region, call{
			service: network,
			method:  http.MethodPut,
			path:    "routers/" + router + "/remove_router_interface",
			in:      map[string]any{"subnet_id": s.ID},
		})
		if err != nil && cloud.ClassOf(err) != cloud.Gone {
			return cloud.Progress{}, fmt.Errorf("take its router out of the subnet: %w", err)
		}
		return cloud.Progress{Live: cloud.Live{Ref: w.ref, Phase: cloud.Removing}, More: true}, nil
	}
	return w.removing(ctx, "subnet")
}

// An address is a floating address of the network that leads out.

func seeAddress(_ context.Context, w *work) (cloud.Live, error) {
	f := w.part("floating")
	l := cloud.Live{
		Phase:      cloud.Ready,
		Attributes: map[string]any{"address": f.Floating, "public_name": ""},
		Name:       f.tagMap()[cloud.TagResource],
	}
	if f.Status == "ERROR" {
		l.Phase, l.Why = cloud.Broken, "the cloud says ERROR of the floating address"
	}
	return l, nil
}

func makeAddress(ctx context.Context, w *work) (cloud.Progress, error) {
	if w.part("floating") == nil {
		return w.float(ctx, w.ref.Token, "")
	}
	if p, did, err := w.tagged(ctx, "floating", nil); did || err != nil {
		return p, err
	}
	return w.done(ctx)
}

// float makes a floating address, on a port where one is given.
func (w *work) float(ctx context.Context, mark, port string) (cloud.Progress, error) {
	out, err := w.a.outside(ctx, w.ref.Region)
	if err != nil {
		return cloud.Progress{}, err
	}
	if out == nil {
		return cloud.Progress{}, &cloud.Error{
			Class:   cloud.Invalid,
			Message: "region " + w.ref.Region + " has no external network, so there are no public addresses",
			Remedy:  "leave the public address out, or choose another region",
		}
	}
	body := map[string]any{"floating_network_id": out.ID, "description": marking + mark}
	if port != "" {
		body["port_id"] = port
	}
	return w.make(ctx, "floating", mark, body)
}

// proper checks a range before it is sent: the services take one with bits behind its
// prefix, and make another of it.
func proper(v any) error {
	p, err := netip.ParsePrefix(fmt.Sprint(v))
	if err == nil && p == p.Masked() {
		return nil
	}
	return &cloud.Error{
		Class:    cloud.Invalid,
		Property: "range",
		Message:  fmt.Sprintf("%v is no range of addresses", v),
		Remedy:   "write it as 10.20.0.0/16, with nothing behind the prefix",
	}
}
