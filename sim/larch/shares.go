package larch

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"undersail/sim/guest"
	"undersail/sim/world"
)

// placeAfter is how many cloud seconds after one another the places appear from which a
// shared file system can be mounted.
const placeAfter = 20

// share is a file system that machines mount over the network: from an address in each of
// its subnets.
func (m *making) share() error {
	if gib := number(m.x.Properties["gib"]); gib < 100 || gib > 65536 {
		return invalid("gib", "a shared file system has 100 to 65536 GiB")
	}
	if encrypted, _ := m.x.Properties["encrypted"].(bool); encrypted && !m.cloud.market.Has(m.x.Region, "disk-encryption") {
		return invalid("encrypted", "region %s encrypts no disks", m.x.Region)
	}
	if err := m.belongings(); err != nil {
		return err
	}
	ids, _ := m.x.Properties["subnet_ids"].([]any)
	if len(ids) == 0 {
		return invalid("subnet_ids", "a shared file system is mounted from a subnet")
	}
	var zones []string
	places := map[string]any{} // addresses by subnet, so that those of a change stay
	before, _ := m.x.Attributes["by_subnet"].(map[string]any)
	network, addresses := "", []any{}
	for i, id := range ids {
		at := fmt.Sprintf("subnet_ids[%d]", i)
		subnet, err := m.needs(at, str(id), "subnets")
		if err != nil {
			return err
		}
		if zone := str(subnet.Properties["zone"]); slices.Contains(zones, zone) {
			return invalid(at, "the subnets are in different zones, each one's own")
		} else {
			zones = append(zones, zone)
		}
		if in := str(subnet.Properties["network_id"]); network == "" {
			network = in
		} else if network != in {
			return invalid(at, "the subnets are of one network")
		}
		address := str(before[subnet.ID])
		if address == "" {
			if address, err = m.privateAddress(subnet, at, addresses); err != nil {
				return err
			}
		}
		places[subnet.ID] = address
		addresses = append(addresses, address)
	}
	// Further places are taken as cards of a machine are, so that nobody else gets them.
	m.x.Attributes["by_subnet"], m.x.Attributes["network"] = places, network
	m.x.Attributes["private_address"], m.x.Attributes["card_addresses"] = addresses[0], addresses
	return nil
}

// openShare shows a shared file system that is there at its addresses.
func (c *Cloud) openShare(id, account string) {
	var x *world.Resource
	c.world.Update(func(tx *world.Tx) error { x = tx.ByID(account, id); return nil })
	if x == nil || x.PhaseAt(time.Now()) != world.Ready {
		return
	}
	o := guest.Offer{Network: str(x.Attributes["network"]), Bytes: number(x.Properties["gib"]) << 30}
	for _, at := range c.placesOf(x) {
		if address, err := netip.ParseAddr(str(at)); err == nil {
			o.At = append(o.At, address)
		}
	}
	o.Dial = func(source netip.Addr, port int) (net.Conn, error) {
		if port != guest.NFS || !c.lets(account, id, source, port) {
			return nil, fmt.Errorf("timed out")
		}
		near, far := net.Pipe()
		far.Close() // who mounts it speaks to the file system itself
		return near, nil
	}
	c.fabric.Offer(id, o)
}

// placesOf are the addresses from which a shared file system can be mounted now.
func (c *Cloud) placesOf(x *world.Resource) []any {
	at := x.ReadyAt
	if x.ChangedAt.After(at) {
		at = x.ChangedAt
	}
	all, _ := x.Attributes["card_addresses"].([]any)
	there := 0
	for there < len(all) && time.Since(at) >= c.world.Real(float64(placeAfter*there)) {
		there++
	}
	return all[:there]
}

// planShare shows a shared file system when it is there, and each place as it appears.
func (c *Cloud) planShare(x *world.Resource) {
	at := x.ReadyAt
	if x.ChangedAt.After(at) {
		at = x.ChangedAt
	}
	all, _ := x.Attributes["card_addresses"].([]any)
	for i := range all {
		time.AfterFunc(time.Until(at.Add(c.world.Real(float64(placeAfter*i)))), func() { c.openShare(x.ID, x.Account) })
	}
}

// shareTells is what a shared file system tells of itself now.
func (c *Cloud) shareTells(x *world.Resource, phase world.Phase, attributes map[string]any) {
	delete(attributes, "card_addresses")
	delete(attributes, "network")
	delete(attributes, "by_subnet")
	places := []any{}
	if phase == world.Ready || phase == world.Changing {
		places = c.placesOf(x)
	}
	attributes["address"] = x.Attributes["private_address"]
	attributes["places"], attributes["addresses"], attributes["path"] = len(places), places, "/"
}
