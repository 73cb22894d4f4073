package larch

import (
	"fmt"
	"strings"
	"time"

	"undersail/sim/world"
)

// host is a physical host of the account's own, for machines of one family.
func (m *making) host() error {
	family := m.text("family")
	kind, sold := m.cloud.market.Host(m.x.Region, family)
	if !sold {
		return refuse(422, "not-sold", fmt.Sprintf("region %s has no dedicated hosts of family %q", m.x.Region, family),
			map[string]any{"property": "family"})
	}
	if m.text("zone") == "" {
		m.x.Properties["zone"] = kind.Zones[0]
	}
	if err := m.zone(kind.Zones); err != nil {
		return err
	}
	m.x.Attributes["vcpus"], m.x.Attributes["memory_gib"] = kind.VCPUs, kind.GiB
	return nil
}

// onHost checks that a machine's host is of its family, stands in its zone and has room.
func (m *making) onHost() error {
	id := m.text("host_id")
	if id == "" {
		return nil
	}
	host, err := m.needs("host_id", id, "hosts")
	if err != nil {
		return err
	}
	size, _ := m.cloud.market.Size(m.x.Region, m.text("size"))
	family := str(host.Properties["family"])
	if !strings.HasPrefix(size.Name, family+"-") {
		return invalid("host_id", "host %s carries machines of family %s, and %s is none", host.Label, family,
			size.Name)
	}
	if host.Properties["zone"] != m.text("zone") {
		return invalid("host_id", "the host is in zone %v", host.Properties["zone"])
	}
	left := number(host.Attributes["vcpus"])
	for _, o := range m.others("instances", func(o *world.Resource) bool { return o.Properties["host_id"] == id }) {
		s, _ := m.cloud.market.Size(o.Region, str(o.Properties["size"]))
		left -= s.VCPUs
	}
	if size.VCPUs > left {
		return refuse(409, "no-room",
			fmt.Sprintf("host %s has room for %d processors, and %s has %d", host.Label, left, size.Name, size.VCPUs),
			map[string]any{"property": "host_id"})
	}
	return nil
}

// role is a set of rights that machines act with. They are felt seconds after it is there.
func (m *making) role() error {
	grants, _ := m.x.Properties["grants"].([]any)
	if len(grants) == 0 {
		return invalid("grants", "a role grants something")
	}
	for i, item := range grants {
		grant, _ := item.(map[string]any)
		may, _ := grant["may"].([]any)
		if len(may) == 0 {
			return invalid(fmt.Sprintf("grants[%d].may", i), "a grant names what may be done")
		}
	}
	m.x.Attributes["felt_at"] = time.Now().Add(m.cloud.world.Real(feltAfter)).Format(time.RFC3339Nano)
	return nil
}

// feltAfter is how many cloud seconds pass until everybody knows of a role.
const feltAfter = 12
