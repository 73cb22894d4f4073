package openstacktest

import (
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// singular gives the name of one thing of a list of the network service.
var singular = map[string]string{
	"networks":        "network",
	"routers":         "router",
	"subnets":         "subnet",
	"ports":           "port",
	"security-groups": "security_group",
	"floatingips":     "floatingip",
}

// filters are the fields that lists may be narrowed down by.
var filters = []string{"description", "name", "network_id", "port_id", "device_id", "router:external", "id"}

func (c *Cloud) network(r *http.Request, path string, in map[string]any) (int, any, *refusal) {
	words := strings.Split(path, "/")
	plural := words[0]
	if plural == "quotas" {
		return http.StatusOK, map[string]any{
			"quota": map[string]any{
				"network":        quota(100, len(c.things["networks"])-1),
				"subnet":         quota(100, len(c.things["subnets"])),
				"router":         quota(10, len(c.things["routers"])),
				"floatingip":     quota(50, len(c.things["floatingips"])),
				"security_group": quota(10, len(c.things["security-groups"])),
				"port":           quota(500, len(c.things["ports"])),
			},
		}, nil
	}
	if plural == "security-group-rules" {
		return c.rules(r, words, in)
	}
	one, known := singular[plural]
	if !known {
		return 0, nil, netFault(http.StatusNotFound, "HTTPNotFound", "The resource could not be found.")
	}
	body, _ := in[one].(map[string]any)
	if len(words) == 1 {
		if r.Method == http.MethodPost {
			return c.makeNet(plural, body)
		}
		return c.listNet(r, plural)
	}
	t := c.things[plural][words[1]]
	if t == nil {
		return 0, nil, netFault(http.StatusNotFound, strings.ToUpper(one[:1])+one[1:]+"NotFound",
			"%s %s could not be found.", one, words[1])
	}
	switch {
	case len(words) == 3 && words[2] == "tags":
		for _, tag := range in["tags"].([]any) {
			if len(fmt.Sprint(tag)) > 255 || strings.ContainsAny(fmt.Sprint(tag), ",") {
				return 0, nil, netFault(http.StatusBadRequest, "InvalidInput", "Invalid input for operation: %v.", tag)
			}
		}
		t["tags"] = in["tags"]
		t["revision_number"] = t["revision_number"].(int) + 1
		return http.StatusOK, map[string]any{"tags": t["tags"]}, nil
	case len(words) == 3:
		return c.leads(t, words[2], in)
	case r.Method == http.MethodDelete:
		return c.dropNet(plural, one, t)
	case r.Method == http.MethodPut:
		at := strings.TrimPrefix(r.Header.Get("If-Match"), "revision_number=")
		if at != "" && at != fmt.Sprint(t["revision_number"]) {
			return 0, nil, netFault(http.StatusPreconditionFailed, "RevisionNumberConstraintFailed",
				"Constrained to %s, but current revision is %v", at, t["revision_number"])
		}
		return c.changeNet(plural, one, t, body)
	}
	return http.StatusOK, map[string]any{one: t}, nil
}

func quota(limit, used int) map[string]any {
	return map[string]any{"limit": limit, "used": used, "reserved": 0}
}

func (c *Cloud) listNet(r *http.Request, plural string) (int, any, *refusal) {
	query := r.URL.Query()
	for key := range query {
		if key != "limit" && key != "marker" && !slices.Contains(filters, key) {
			return 0, nil, netFault(http.StatusBadRequest, "HTTPBadRequest",
				"['%s'] is invalid attribute for filtering", key)
		}
	}
	rows := c.rows(plural, func(t thing) bool {
		for _, key := range filters {
			if want := query.Get(key); want != "" && fmt.Sprint(t[key]) != want {
				return false
			}
		}
		return true
	})
	return http.StatusOK, page(r, plural, rows), nil
}

func (c *Cloud) makeNet(plural string, body map[string]any) (int, any, *refusal) {
	t := thing{"name": "", "description": "", "tags": []any{}, "revision_number": 1, "status": "ACTIVE"}
	for k, v := range body {
		if k == "tags" || k == "id" {
			return 0, nil, netFault(http.StatusBadRequest, "HTTPBadRequest", "Attribute '%s' not allowed in POST", k)
		}
		t[k] = v
	}
	switch plural {
	case "networks":
		t["router:external"] = false
	case "subnets":
		p, err := netip.ParsePrefix(t.text("cidr"))
		if err != nil || c.things["networks"][t.text("network_id")] == nil {
			return 0, nil, netFault(http.StatusBadRequest, "InvalidInput",
				"Invalid input for cidr. Reason: '%s' is not a valid IP subnet.", t.text("cidr"))
		}
		for _, s := range c.things["subnets"] {
			other := netip.MustParsePrefix(s.text("cidr"))
			if s.text("network_id") == t.text("network_id") && other.Overlaps(p) {
				return 0, nil, netFault(http.StatusBadRequest, "InvalidInput",
					"Invalid input for operation: Requested subnet with cidr: %s for network: %s overlaps with "+
						"another subnet.", p, t.text("network_id"))
			}
		}
		t["gateway_ip"] = p.Addr().Next().String()
		if t["dns_nameservers"] == nil {
			t["dns_nameservers"] = []any{}
		}
	case "ports":
		if no := c.address(t); no != nil {
			return 0, nil, no
		}
		t["status"] = "DOWN"
	case "security-groups":
		t["security_group_rules"] = []any{map[string]any{"id": "egress", "direction": "egress", "ethertype": "IPv4"}}
	case "floatingips":
		t["floating_ip_address"], t["status"] = fmt.Sprintf("203.0.113.%d", 10+len(c.ever)%200), "DOWN"
		if t["port_id"] != nil {
			if no := c.floats(t, t.text("port_id")); no != nil {
				return 0, nil, no
			}
		}
	}
	c.put(plural, t)
	return http.StatusCreated, map[string]any{singular[plural]: t}, nil
}

// address gives a port an address of its subnet.
func (c *Cloud) address(t thing) *refusal {
	list, _ := t["fixed_ips"].([]any)
	at, _ := list[0].(map[string]any)
	s := c.things["subnets"][fmt.Sprint(at["subnet_id"])]
	if s == nil {
		return netFault(http.StatusBadRequest, "InvalidInput", "Invalid input for operation: subnet %v.",
			at["subnet_id"])
	}
	p := netip.MustParsePrefix(s.text("cidr"))
	for a := p.Addr().Next().Next(); p.Contains(a); a = a.Next() {
		free := true
		for _, other := range c.things["ports"] {
			for _, x := range other["fixed_ips"].([]any) {
				free = free && x.(map[string]any)["ip_address"] != a.String()
			}
		}
		if free {
			at["ip_address"] = a.String()
			return nil
		}
	}
	return netFault(http.StatusConflict, "IpAddressGenerationFailure", "No more IP addresses available on network %s.",
		s.text("network_id"))
}

// floats puts a floating address on a port; a moment later it is active.
func (c *Cloud) floats(f thing, port string) *refusal {
	for _, other := range c.things["floatingips"] {
		if other.text("port_id") == port && other.text("id") != f.text("id") {
			return netFault(http.StatusConflict, "FloatingIPPortAlreadyAssociated",
				"Cannot associate floating IP %s with port %s", f.text("floating_ip_address"), port)
		}
	}
	f["port_id"] = port
	c.later(func() { f["status"] = "ACTIVE" })
	return nil
}

func (c *Cloud) changeNet(plural, one string, t thing, body map[string]any) (int, any, *refusal) {
	for k, v := range body {
		switch {
		case k == "cidr":
			return 0, nil, netFault(http.StatusBadRequest, "HTTPBadRequest", "Cannot update read-only attribute cidr")
		case plural == "floatingips" && k == "port_id" && v != nil:
			if no := c.floats(t, fmt.Sprint(v)); no != nil {
				return 0, nil, no
			}
		default:
			t[k] = v
		}
	}
	t["revision_number"] = t["revision_number"].(int) + 1
	return http.StatusOK, map[string]any{one: t}, nil
}

// dropNet removes a thing that nothing uses: the order is enforced.
func (c *Cloud) dropNet(plural, one string, t thing) (int, any, *refusal) {
	id := t.text("id")
	for _, p := range c.things["ports"] {
		on := slices.ContainsFunc(p["fixed_ips"].([]any),
			func(x any) bool { return x.(map[string]any)["subnet_id"] == id })
		in := false
		if groups, _ := p["security_groups"].([]any); plural == "security-groups" {
			in = slices.Contains(groups, any(id))
		}
		switch {
		case plural == "networks" && p.text("network_id") == id:
			return 0, nil, netFault(http.StatusConflict, "NetworkInUse",
				"Unable to complete operation on network %s. There are one or more ports still in use on the network.",
				id)
		case plural == "routers" && p.text("device_id") == id:
			return 0, nil, netFault(http.StatusConflict, "RouterInUse", "Router %s has ports still attached: %s", id,
				p.text("id"))
		case plural == "subnets" && on:
			return 0, nil, netFault(http.StatusConflict, "SubnetInUse",
				"Unable to complete operation on subnet %s: One or more ports have an IP allocation from this subnet.",
				id)
		case in:
			return 0, nil, netFault(http.StatusConflict, "SecurityGroupInUse", "Security Group %s in use.", id)
		}
	}
	if plural == "networks" {
		for sid, s := range c.things["subnets"] {
			if s.text("network_id") == id {
				return 0, nil, netFault(http.StatusConflict, "NetworkInUse",
					"Unable to complete operation on network %s: subnet %s is there.", id, sid)
			}
		}
	}
	delete(c.things[plural], id)
	return http.StatusNoContent, nil, nil
}

// leads puts a router into a subnet, or takes it out.
func (c *Cloud) leads(router thing, action string, in map[string]any) (int, any, *refusal) {
	subnet := c.things["subnets"][fmt.Sprint(in["subnet_id"])]
	if subnet == nil {
		return 0, nil, netFault(http.StatusNotFound, "SubnetNotFound", "Subnet %v could not be found.", in["subnet_id"])
	}
	var port thing
	for _, p := range c.things["ports"] {
		if p.text("device_id") == router.text("id") &&
			p["fixed_ips"].([]any)[0].(map[string]any)["subnet_id"] == subnet.text("id") {
			port = p
		}
	}
	answer := map[string]any{"id": router.text("id"), "subnet_id": subnet.text("id")}
	if action == "remove_router_interface" {
		if port == nil {
			return 0, nil, netFault(http.StatusNotFound, "RouterInterfaceNotFoundForSubnet",
				"Router %s has no interface on subnet %s", router.text("id"), subnet.text("id"))
		}
		for _, f := range c.things["floatingips"] {
			owner := c.things["ports"][f.text("port_id")]
			if owner != nil && inRange(owner["fixed_ips"].([]any)[0].(map[string]any)["ip_address"].(string),
				subnet.text("cidr")) && owner.text("network_id") == subnet.text("network_id") {
				return 0, nil, netFault(http.StatusConflict, "RouterInterfaceInUseByFloatingIP",
					"Router interface for subnet %s on router %s cannot be deleted, as it is required by one or "+
						"more floating IPs.", subnet.text("id"), router.text("id"))
			}
		}
		delete(c.things["ports"], port.text("id"))
		return http.StatusOK, answer, nil
	}
	if port != nil {
		return 0, nil, netFault(http.StatusBadRequest, "BadRequest",
			"Bad router request: Router already has a port on subnet %s.", subnet.text("id"))
	}
	c.put("ports", thing{"name": "", "description": "", "tags": []any{}, "revision_number": 1, "status": "ACTIVE",
		"network_id": subnet.text("network_id"), "device_id": router.text("id"),
		"device_owner": "network:router_interface",
		"fixed_ips": []any{map[string]any{
			"subnet_id":  subnet.text("id"),
			"ip_address": subnet.text("gateway_ip"),
		}},
		"security_groups": []any{}})
	return http.StatusOK, answer, nil
}

func (c *Cloud) rules(r *http.Request, words []string, in map[string]any) (int, any, *refusal) {
	if r.Method == http.MethodDelete {
		for _, g := range c.things["security-groups"] {
			list := g["security_group_rules"].([]any)
			g["security_group_rules"] = slices.DeleteFunc(slices.Clone(list),
				func(x any) bool { return x.(map[string]any)["id"] == words[1] })
		}
		return http.StatusNoContent, nil, nil
	}
	body, _ := in["security_group_rule"].(map[string]any)
	g := c.things["security-groups"][fmt.Sprint(body["security_group_id"])]
	if g == nil {
		return 0, nil, netFault(http.StatusNotFound, "SecurityGroupNotFound", "Security group %v does not exist",
			body["security_group_id"])
	}
	list := g["security_group_rules"].([]any)
	for _, x := range list {
		have := x.(map[string]any)
		same := true
		for _, key := range []string{"direction", "ethertype", "protocol", "port_range_min", "port_range_max",
			"remote_ip_prefix"} {
			same = same && fmt.Sprint(have[key]) == fmt.Sprint(body[key])
		}
		if same {
			return 0, nil, netFault(http.StatusConflict, "SecurityGroupRuleExists",
				"Security group rule already exists. Rule id is %v.", have["id"])
		}
	}
	body["id"] = fmt.Sprintf("rule-%d-%d", len(c.ever), time.Now().UnixNano())
	g["security_group_rules"] = append(list, body)
	g["revision_number"] = g["revision_number"].(int) + 1
	return http.StatusCreated, map[string]any{"security_group_rule": body}, nil
}
