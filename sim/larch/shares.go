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
	if err := m.encryption(); err != nil {
		return err
	}
	if err := m.belongings(); err != nil {
		return err
	}
	subnets, err := m.apart("a shared file system")
	if err != nil {
		return err
	}
	before := placesOf(m.x)
	network, places, addresses := subnets[0].Properties["network_id"], []any{}, []any{}
	for i, subnet := range subnets {
		at := fmt.Sprintf("subnet_ids[%d]", i)
		p := place{Subnet: subnet.ID}
		if was := slices.IndexFunc(before, func(b place) bool { return b.Subnet == subnet.ID }); was >= 0 {
			p = before[was] // it stays, whatever comes and goes beside it
		} else if p.At, err = m.privateAddress(subnet, at, addresses); err != nil {
			return err
		} else if m.change {
			p.Since = time.Now().Format(time.RFC3339Nano)
		}
		places = append(places, map[string]any{"subnet": p.Subnet, "at": p.At, "since": p.Since})
		addresses = append(addresses, p.At)
	}
	// Further places are taken as cards of a machine are, so that nobody else gets them.
	m.x.Attributes["of"], m.x.Attributes["network"] = places, network
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
	for _, at := range c.mountedAt(x) {
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

// place is one from which a shared file system is mounted: in a subnet, at an address,
// since a change that added it; empty since the beginning.
type place struct{ Subnet, At, Since string }

func placesOf(x *world.Resource) (out []place) {
	list, _ := x.Attributes["of"].([]any)
	for _, item := range list {
		p, _ := item.(map[string]any)
		out = append(out, place{str(p["subnet"]), str(p["at"]), str(p["since"])})
	}
	return out
}

// appears tells when each place of a shared file system appears, one after the other.
func (c *Cloud) appears(x *world.Resource) (out []time.Time) {
	for i, p := range placesOf(x) {
		since := x.ReadyAt
		if at, err := time.Parse(time.RFC3339Nano, p.Since); err == nil {
			since = at
		}
		out = append(out, since.Add(c.world.Real(float64(placeAfter*i))))
	}
	return out
}

// mountedAt are the addresses from which a shared file system can be mounted now.
func (c *Cloud) mountedAt(x *world.Resource) []any {
	there := []any{}
	times := c.appears(x)
	for i, p := range placesOf(x) {
		if !time.Now().Before(times[i]) {
			there = append(there, p.At)
		}
	}
	return there
}

// planShare shows a shared file system when it is there, and each place as it appears.
func (c *Cloud) planShare(x *world.Resource) {
	moments := append(c.appears(x), x.ReadyAt, x.ChangedAt)
	for _, at := range moments {
		time.AfterFunc(time.Until(at), func() { c.openShare(x.ID, x.Account) })
	}
}

// shareTells is what a shared file system tells of itself now.
func (c *Cloud) shareTells(x *world.Resource, phase world.Phase, attributes map[string]any) {
	delete(attributes, "card_addresses")
	delete(attributes, "network")
	delete(attributes, "of")
	places := []any{}
	if phase == world.Ready || phase == world.Changing {
		places = c.mountedAt(x)
	}
	attributes["address"] = x.Attributes["private_address"]
	attributes["places"], attributes["addresses"], attributes["path"] = len(places), places, "/"
}
