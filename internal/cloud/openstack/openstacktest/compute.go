package openstacktest

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
)

func (c *Cloud) compute(r *http.Request, path string, in map[string]any) (int, any, *refusal) {
	words := strings.Split(path, "/")
	switch words[0] {
	case "flavors":
		switch version := strings.TrimPrefix(r.Header.Get("OpenStack-API-Version"), "compute "); {
		case c.Old && version == "2.61":
			return 0, nil, faulty(http.StatusNotAcceptable, "computeFault",
				"Version 2.61 is not supported by the API. Minimum is 2.1 and maximum is 2.53.")
		case version == "2.61":
			rows := []any{}
			for _, f := range c.rows("flavors", nil) {
				t := maps.Clone(f.(thing))
				t["extra_specs"] = t[" specs"]
				rows = append(rows, t)
			}
			return http.StatusOK, page(r, "flavors", rows), nil
		}
		return http.StatusOK, page(r, "flavors", c.rows("flavors", nil)), nil
	case "limits":
		return http.StatusOK, map[string]any{
			"limits": map[string]any{
				"absolute": map[string]any{
					"maxTotalCores":      c.Cores,
					"totalCoresUsed":     c.used(),
					"maxTotalInstances":  10,
					"totalInstancesUsed": len(c.things["servers"]),
					"maxTotalRAMSize":    51200,
					"totalRAMUsed":       0,
				},
			},
		}, nil
	case "os-availability-zone":
		return http.StatusOK, zones("zone-a", "zone-b"), nil
	case "os-keypairs":
		return c.keys(r, words, in)
	case "servers":
		return c.servers(r, words, in)
	}
	return 0, nil, faulty(http.StatusNotFound, "itemNotFound", "The resource could not be found.")
}

func zones(names ...string) map[string]any {
	list := []any{}
	for _, n := range names {
		list = append(list, map[string]any{"zoneName": n, "zoneState": map[string]any{"available": true}})
	}
	return map[string]any{"availabilityZoneInfo": list}
}

func (c *Cloud) keys(r *http.Request, words []string, in map[string]any) (int, any, *refusal) {
	if len(words) == 1 && r.Method == http.MethodGet {
		out := page(r, "os-keypairs", c.rows("os-keypairs", nil))
		list := []any{}
		for _, k := range out["os_keypairs"].([]any) {
			t := k.(thing)
			list = append(list, map[string]any{
				"keypair": map[string]any{"name": t["name"], "public_key": t["public_key"], "fingerprint": ""},
			})
		}
		answer := map[string]any{"keypairs": list}
		if links, more := out["os_keypairs_links"]; more {
			answer["keypairs_links"] = links
		}
		return http.StatusOK, answer, nil
	}
	if len(words) == 1 {
		body, _ := in["keypair"].(map[string]any)
		name := fmt.Sprint(body["name"])
		if len(name) > 255 {
			return 0, nil, faulty(http.StatusBadRequest, "badRequest",
				"Invalid input for field/attribute name. Value: "+name+". '"+name+"' is too long")
		}
		if c.things["os-keypairs"][name] != nil {
			return 0, nil, faulty(http.StatusConflict, "conflictingRequest", "Key pair '"+name+"' already exists.")
		}
		t := c.put("os-keypairs", thing{"id": name, "name": name, "public_key": body["public_key"]})
		return http.StatusCreated, map[string]any{
			"keypair": map[string]any{"name": name, "public_key": t["public_key"], "fingerprint": ""},
		}, nil
	}
	t := c.things["os-keypairs"][words[1]]
	switch {
	case t == nil:
		return 0, nil, faulty(http.StatusNotFound, "itemNotFound", "Keypair "+words[1]+" not found for user sailor")
	case r.Method == http.MethodDelete:
		delete(c.things["os-keypairs"], words[1])
		return http.StatusAccepted, nil, nil
	}
	// the id is a number
	return http.StatusOK, map[string]any{
		"keypair": map[string]any{
			"id":          1,
			"name":        t["name"],
			"public_key":  t["public_key"],
			"fingerprint": "",
			"deleted":     false,
		},
	}, nil
}

func (c *Cloud) servers(r *http.Request, words []string, in map[string]any) (int, any, *refusal) {
	if len(words) == 1 && r.Method == http.MethodPost {
		body, _ := in["server"].(map[string]any)
		if body["tags"] != nil && r.Header.Get("OpenStack-API-Version") == "" {
			return 0, nil, faulty(http.StatusBadRequest, "badRequest",
				"Additional properties are not allowed ('tags' was unexpected)")
		}
		if data, _ := body["user_data"].(string); len(data) > 65535 {
			return 0, nil, faulty(http.StatusBadRequest, "badRequest",
				"Invalid input for field/attribute user_data. Value: '"+data[:40]+"...' is too long")
		}
		return c.makeServer(body)
	}
	if len(words) == 2 && words[1] == "detail" {
		tag := r.URL.Query().Get("tags") // a filter by metadata is not heeded
		return http.StatusOK, page(r, "servers", c.rows("servers", func(t thing) bool {
			list, _ := t["tags"].([]any)
			return tag == "" || slices.Contains(list, any(tag))
		})), nil
	}
	s := c.things["servers"][words[1]]
	switch {
	case s == nil:
		return 0, nil, faulty(http.StatusNotFound, "itemNotFound", "Instance "+words[1]+" could not be found.")
	case len(words) == 3 && words[2] == "metadata":
		s["metadata"] = in["metadata"]
		return http.StatusOK, in, nil
	case len(words) >= 3 && words[2] == "os-volume_attachments":
		return c.attaches(r, s, words[3:], in)
	case len(words) == 3:
		return c.acts(s, in)
	case r.Method == http.MethodPut:
		body, _ := in["server"].(map[string]any)
		s["name"] = body["name"]
	case r.Method == http.MethodDelete:
		s["OS-EXT-STS:task_state"] = "deleting"
		c.later(func() { c.gone(s) })
		return http.StatusNoContent, nil, nil
	}
	return http.StatusOK, map[string]any{"server": s}, nil
}

// attaches attaches a volume to a server that runs, or detaches it; either takes a while.
func (c *Cloud) attaches(r *http.Request, s thing, words []string, in map[string]any) (int, any, *refusal) {
	attached, _ := s["os-extended-volumes:volumes_attached"].([]any)
	body, _ := in["volumeAttachment"].(map[string]any)
	id := fmt.Sprint(body["volumeId"])
	if len(words) > 0 {
		id = words[0]
	}
	at := slices.IndexFunc(attached, func(x any) bool { return x.(map[string]any)["id"] == id })
	v := c.things["volumes"][id]
	switch {
	case s["OS-EXT-STS:task_state"] != nil:
		return 0, nil, faulty(http.StatusConflict, "conflictingRequest",
			fmt.Sprintf("Cannot act on instance %s while it is in task_state %v", s.text("id"),
				s["OS-EXT-STS:task_state"]))
	case r.Method == http.MethodDelete && at < 0:
		return 0, nil, faulty(http.StatusNotFound, "itemNotFound",
			"Instance "+s.text("id")+" is not attached to volume "+id)
	case r.Method == http.MethodDelete && v.text("status") == "detaching":
		return 0, nil, faulty(http.StatusBadRequest, "badRequest",
			"Invalid volume: Invalid input received: Invalid volume: Unable to detach volume. Volume status must "+
				"be 'in-use'")
	case r.Method == http.MethodDelete:
		v["status"] = "detaching"
		c.later(func() {
			v["status"], v["attachments"] = "available", []any{}
			now, _ := s["os-extended-volumes:volumes_attached"].([]any)
			s["os-extended-volumes:volumes_attached"] = slices.DeleteFunc(slices.Clone(now),
				func(x any) bool { return x.(map[string]any)["id"] == id })
		})
		return http.StatusAccepted, nil, nil
	case v == nil:
		return 0, nil, faulty(http.StatusNotFound, "itemNotFound", "Volume "+id+" could not be found.")
	case v.text("status") != "available":
		return 0, nil, faulty(http.StatusBadRequest, "badRequest",
			"Invalid volume: volume "+id+" is already attached to instances: "+s.text("id"))
	}
	v["status"], v["attachments"] = "attaching", []any{map[string]any{"server_id": s.text("id")}}
	s["os-extended-volumes:volumes_attached"] = append(slices.Clone(attached), map[string]any{"id": id})
	c.later(func() { v["status"] = "in-use" })
	return http.StatusOK, map[string]any{
		"volumeAttachment": map[string]any{"id": id, "volumeId": id, "serverId": s.text("id")},
	}, nil
}

// gone takes a server away. Its volumes are free again; ports that a client made stay.
func (c *Cloud) gone(s thing) {
	delete(c.things["servers"], s.text("id"))
	for _, v := range c.things["volumes"] {
		list, _ := v["attachments"].([]any)
		if len(list) > 0 && list[0].(map[string]any)["server_id"] == s.text("id") {
			v["attachments"], v["status"] = []any{}, "available"
		}
	}
	for _, p := range c.things["ports"] {
		if p.text("device_id") == s.text("id") {
			p["device_id"], p["status"] = "", "DOWN"
		}
	}
}

func (c *Cloud) makeServer(body map[string]any) (int, any, *refusal) {
	flavor := c.things["flavors"][fmt.Sprint(body["flavorRef"])]
	zone, _ := body["availability_zone"].(string)
	switch {
	case flavor == nil:
		return 0, nil, faulty(http.StatusBadRequest, "badRequest",
			fmt.Sprintf("Flavor %v could not be found.", body["flavorRef"]))
	case c.things["images"][fmt.Sprint(body["imageRef"])] == nil:
		return 0, nil, faulty(http.StatusBadRequest, "badRequest",
			fmt.Sprintf("Image %v is not active.", body["imageRef"]))
	case strings.Contains(zone, ":"):
		return 0, nil, faulty(http.StatusForbidden, "forbidden",
			"Policy doesn't allow os_compute_api:servers:create:forced_host to be performed.")
	case zone != "" && zone != "zone-a" && zone != "zone-b":
		return 0, nil, faulty(http.StatusBadRequest, "badRequest", "The requested availability zone is not available")
	}
	if wanted := flavor["vcpus"].(int64); c.used()+wanted > c.Cores {
		return 0, nil, faulty(http.StatusForbidden, "forbidden",
			fmt.Sprintf("Quota exceeded for cores: Requested %d, but already used %d of %d cores", wanted, c.used(),
				c.Cores))
	}
	if zone == "" {
		zone = "zone-a"
	}
	s := thing{"name": body["name"], "status": "BUILD", "OS-EXT-STS:task_state": "spawning",
		"OS-EXT-AZ:availability_zone": zone, "metadata": body["metadata"], "tags": body["tags"],
		"key_name": body["key_name"],
		"image":    map[string]any{"id": body["imageRef"]}, "flavor": shownFlavor(flavor), " flavor": flavor.text("id"),
		"os-extended-volumes:volumes_attached": []any{}}
	mapping, _ := body["block_device_mapping_v2"].([]any)
	var volumes []thing
	for _, m := range mapping {
		d := m.(map[string]any)
		v := c.things["volumes"][fmt.Sprint(d["uuid"])]
		if d["source_type"] == "volume" && (v == nil || v.text("status") != "available") {
			return 0, nil, faulty(http.StatusBadRequest, "badRequest",
				fmt.Sprintf("Block Device Mapping is Invalid: failed to get volume %v.", d["uuid"]))
		} else if v != nil {
			volumes = append(volumes, v)
		}
	}
	c.put("servers", s)
	networks, _ := body["networks"].([]any)
	if flavor.text("name") == "us.huge" {
		c.later(func() {
			s["status"], s["OS-EXT-STS:task_state"] = "ERROR", nil
			s["fault"] = map[string]any{"code": 500, "message": "No valid host was found. "}
		})
		return http.StatusAccepted, map[string]any{"server": map[string]any{"id": s["id"]}}, nil
	}
	c.later(func() {
		s["status"], s["OS-EXT-STS:task_state"] = "ACTIVE", nil
		for _, n := range networks {
			if p := c.things["ports"][fmt.Sprint(n.(map[string]any)["port"])]; p != nil {
				p["status"], p["device_id"], p["device_owner"] = "ACTIVE", s.text("id"), "compute:"+zone
			}
		}
		var attached []any
		for _, v := range volumes {
			v["status"], v["attachments"] = "in-use", []any{map[string]any{"server_id": s.text("id")}}
			attached = append(attached, map[string]any{"id": v.text("id")})
		}
		if attached != nil {
			s["os-extended-volumes:volumes_attached"] = attached
		}
	})
	return http.StatusAccepted, map[string]any{"server": map[string]any{"id": s["id"]}}, nil // no more than that
}

func shownFlavor(f thing) map[string]any {
	return map[string]any{"original_name": f["name"], "vcpus": f["vcpus"], "ram": f["ram"], "disk": f["disk"]}
}

// acts carries out an action on a server.
func (c *Cloud) acts(s thing, in map[string]any) (int, any, *refusal) {
	if s["OS-EXT-STS:task_state"] != nil {
		return 0, nil, faulty(http.StatusConflict, "conflictingRequest",
			fmt.Sprintf("Cannot act on instance %s while it is in task_state %v", s.text("id"),
				s["OS-EXT-STS:task_state"]))
	}
	settle := func(status string) {
		s["OS-EXT-STS:task_state"] = "resizing"
		c.later(func() { s["status"], s["OS-EXT-STS:task_state"] = status, nil })
	}
	for action, v := range in {
		switch action {
		case "resize":
			to := c.things["flavors"][fmt.Sprint(v.(map[string]any)["flavorRef"])]
			was := c.things["flavors"][s.text(" flavor")]
			if to.text("id") == was.text("id") {
				return 0, nil, faulty(http.StatusBadRequest, "badRequest",
					"When resizing, instances must change flavor!")
			}
			if more := to["vcpus"].(int64) - was["vcpus"].(int64); c.used()+more > c.Cores {
				return 0, nil, faulty(http.StatusForbidden, "forbidden",
					fmt.Sprintf("Quota exceeded for cores: Requested %d, but already used %d of %d cores", more,
						c.used(), c.Cores))
			}
			s[" before"], s[" flavor"], s["flavor"], s["status"] = was.text("id"), to.text("id"), shownFlavor(to),
				"RESIZE"
			settle("VERIFY_RESIZE")
		case "confirmResize", "revertResize":
			if s.text("status") != "VERIFY_RESIZE" {
				return 0, nil, faulty(http.StatusConflict, "conflictingRequest",
					"Cannot '"+action+"' instance "+s.text("id")+" while it is in vm_state active")
			}
			if action == "revertResize" {
				was := c.things["flavors"][s.text(" before")]
				s[" flavor"], s["flavor"] = was.text("id"), shownFlavor(was)
			}
			settle("ACTIVE")
		case "os-getConsoleOutput":
			return http.StatusOK, map[string]any{"output": "booting\nready\n"}, nil
		}
	}
	return http.StatusAccepted, nil, nil
}

func (c *Cloud) volume(r *http.Request, path string, in map[string]any) (int, any, *refusal) {
	words := strings.Split(path, "/")
	switch {
	case words[0] == "types":
		return http.StatusOK, map[string]any{
			"volume_types": []any{map[string]any{"name": "standard"}, map[string]any{"name": "fast"}},
		}, nil
	case words[0] == "limits":
		used := int64(0)
		for _, v := range c.things["volumes"] {
			used += int64(v["size"].(float64))
		}
		return http.StatusOK, map[string]any{
			"limits": map[string]any{
				"absolute": map[string]any{
					"maxTotalVolumes":         10,
					"totalVolumesUsed":        len(c.things["volumes"]),
					"maxTotalVolumeGigabytes": 1000,
					"totalGigabytesUsed":      used,
				},
			},
		}, nil
	case words[0] == "os-availability-zone":
		return http.StatusOK, zones("nova"), nil
	case words[0] == "messages":
		return http.StatusOK, map[string]any{
			"messages": []any{map[string]any{
				"resource_uuid": r.URL.Query().Get("resource_uuid"),
				"user_message":  "schedule allocate volume: Could not find any available weighted backend.",
			}},
		}, nil
	case len(words) == 1 && r.Method == http.MethodPost:
		return c.makeVolume(in)
	case words[0] == "volumes" && len(words) > 1 && words[1] == "detail":
		filter := r.URL.Query().Get("metadata")
		return http.StatusOK, page(r, "volumes", c.rows("volumes", func(t thing) bool {
			meta, _ := t["metadata"].(map[string]any)
			return filter == "" || filter == fmt.Sprintf("{'undersail-mark': '%v'}", meta["undersail-mark"])
		})), nil
	}
	v := c.things["volumes"][words[1]]
	switch {
	case v == nil:
		return 0, nil, faulty(http.StatusNotFound, "itemNotFound", "Volume "+words[1]+" could not be found.")
	case len(words) == 3 && words[2] == "metadata":
		v["metadata"] = in["metadata"]
		return http.StatusOK, in, nil
	case len(words) == 3:
		grow, _ := in["os-extend"].(map[string]any)
		size, _ := grow["new_size"].(float64)
		if size <= v["size"].(float64) {
			return 0, nil, faulty(http.StatusBadRequest, "badRequest",
				fmt.Sprintf("Invalid input received: New size for extend must be greater than current size. "+
					"(current: %v, extended: %v).", v["size"], size))
		}
		v["size"] = size
		return http.StatusAccepted, nil, nil
	case r.Method == http.MethodPut:
		body, _ := in["volume"].(map[string]any)
		v["name"] = body["name"]
	case r.Method == http.MethodDelete:
		if v.text("status") != "available" && v.text("status") != "error" {
			return 0, nil, faulty(http.StatusBadRequest, "badRequest",
				"Invalid volume: Volume status must be available or error or error_restoring or error_extending or "+
					"error_managing and must not be migrating, attached, belong to a group, have snapshots or be "+
					"disassociated from snapshots after volume transfer.")
		}
		v["status"] = "deleting"
		c.later(func() { delete(c.things["volumes"], v.text("id")) })
		return http.StatusAccepted, nil, nil
	}
	return http.StatusOK, map[string]any{"volume": v}, nil
}

func (c *Cloud) makeVolume(in map[string]any) (int, any, *refusal) {
	body, _ := in["volume"].(map[string]any)
	size, ok := body["size"].(float64)
	used := 0.0
	for _, v := range c.things["volumes"] {
		used += v["size"].(float64)
	}
	switch {
	case !ok:
		return 0, nil, faulty(http.StatusBadRequest, "badRequest",
			fmt.Sprintf("Invalid input for field/attribute size. Value: %v.", body["size"]))
	case used+size > 1000:
		no := faulty(http.StatusRequestEntityTooLarge, "overLimit",
			fmt.Sprintf("VolumeSizeExceedsAvailableQuota: Requested volume or snapshot exceeds allowed gigabytes "+
				"quota. Requested %.0fG, quota is 1000G and %.0fG has been consumed.", size, used))
		no.header = map[string]string{"Retry-After": "0"}
		return 0, nil, no
	}
	kind, _ := body["volume_type"].(string)
	if kind == "" {
		kind = "standard"
	}
	v := c.put("volumes", thing{
		"name":              body["name"],
		"description":       body["description"],
		"size":              size,
		"volume_type":       kind,
		"metadata":          body["metadata"],
		"availability_zone": "nova",
		"status":            "creating",
		"attachments":       []any{},
	})
	c.later(func() {
		v["status"] = "available"
		if strings.Contains(v.text("name"), "doomed") {
			v["status"] = "error"
		}
	})
	return http.StatusAccepted, map[string]any{"volume": v}, nil
}
