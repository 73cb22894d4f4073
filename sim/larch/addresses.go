package larch

import (
	"fmt"
	"net/netip"

	"undersail/sim/world"
)

func (m *making) address() error {
	if m.change {
		return nil
	}
	if err := m.label(); err != nil {
		return err
	}
	at, err := m.publicAddress()
	if err == nil {
		m.x.Attributes["address"] = at
	}
	return err
}

// publicAddress finds the lowest address of the cloud's block that nobody has.
func (m *making) publicAddress() (string, error) {
	taken := map[string]bool{}
	for _, o := range m.tx.All(func(o *world.Resource) bool { return o.Kind == "addresses" || o.Kind == "instances" }) {
		for _, name := range []string{"address", "public_address"} {
			if a, ok := o.Attributes[name].(string); ok {
				taken[a] = true
			}
		}
	}
	for n := 1; n < 250; n++ {
		if a := fmt.Sprintf("%s.%d", m.cloud.block, n); !taken[a] {
			return a, nil
		}
	}
	return "", refuse(409, "capacity", "no public address is free", nil)
}

// addresses gives the machine its private and public addresses.
func (m *making) addresses(subnet *world.Resource) error {
	at, err := m.privateAddress(subnet, "subnet_id", nil)
	if err != nil {
		return err
	}
	m.x.Attributes["private_address"] = at
	given := []any{}
	for i, card := range cardsOf(m.x) {
		property := fmt.Sprintf("cards[%d]", i)
		in, err := m.needs(property+".subnet_id", str(card["subnet_id"]), "subnets")
		if err != nil {
			return err
		}
		if zone, _ := in.Properties["zone"].(string); zone != "" && zone != m.text("zone") {
			return invalid(property+".subnet_id", "the subnet is in zone %s", zone)
		}
		at, err := m.privateAddress(in, property+".subnet_id", append(given, m.x.Attributes["private_address"]))
		if err != nil {
			return err
		}
		given = append(given, at)
		if id := str(card["address_id"]); id != "" {
			if _, err := m.needs(property+".address_id", id, "addresses"); err != nil {
				return err
			}
		}
		firewalls, _ := card["firewall_ids"].([]any)
		for _, id := range firewalls {
			if _, err := m.needs(property+".firewall_ids", fmt.Sprint(id), "firewalls"); err != nil {
				return err
			}
		}
	}
	if len(given) > 0 {
		m.x.Attributes["card_addresses"] = given
	}
	if id := m.text("address_id"); id != "" {
		fixed, err := m.needs("address_id", id, "addresses")
		if err != nil {
			return err
		}
		m.x.Attributes["public_address"] = fixed.Attributes["address"]
		return nil
	}
	if public, _ := m.x.Properties["public"].(bool); public {
		a, err := m.publicAddress()
		if err != nil {
			return err
		}
		m.x.Attributes["public_address"] = a
	}
	return nil
}

// privateAddress finds the lowest free address of a subnet, beside some that are about to
// be taken.
func (m *making) privateAddress(subnet *world.Resource, property string, beside []any) (string, error) {
	within, err := netip.ParsePrefix(fmt.Sprint(subnet.Properties["cidr"]))
	if err != nil {
		return "", err
	}
	taken := map[string]bool{}
	for _, at := range beside {
		taken[fmt.Sprint(at)] = true
	}
	m.tx.All(func(o *world.Resource) bool {
		// no two networks have the same ranges
		if o.Account == m.x.Account && o.Region == m.x.Region && o.ID != m.x.ID {
			taken[fmt.Sprint(o.Attributes["private_address"])] = true
			further, _ := o.Attributes["card_addresses"].([]any)
			for _, at := range further {
				taken[fmt.Sprint(at)] = true
			}
		}
		return false
	})
	at := within.Addr()
	for range 4 { // network, router and two more are the cloud's own
		at = at.Next()
	}
	for taken[at.String()] {
		at = at.Next()
	}
	if !within.Contains(at.Next()) {
		return "", refuse(409, "capacity", "the subnet has no free address", map[string]any{"property": property})
	}
	return at.String(), nil
}
