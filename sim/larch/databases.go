package larch

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"time"

	"undersail/sim/database"
	"undersail/sim/guest"
	"undersail/sim/world"
)

// standbyAfter is how many cloud seconds after a database is there its standby is in step.
const standbyAfter = 90

// database is a relational database of the account, with a standby where it has subnets
// in two zones. It really is one: a server that speaks its protocol.
func (m *making) database() error {
	if !slices.Contains(m.cloud.market.Engines, m.text("engine")) {
		return refuse(422, "not-sold", fmt.Sprintf("there is no database engine %q", m.text("engine")), map[string]any{
			"property": "engine",
		})
	}
	size, ok := m.cloud.market.Size(m.x.Region, m.text("size"))
	if !ok || size.Withdrawn || size.Host {
		return refuse(422, "not-sold",
			fmt.Sprintf("region %s runs no databases on size %q", m.x.Region, m.text("size")), map[string]any{
				"property": "size",
			})
	}
	subnets, err := m.apart("a database")
	if err != nil {
		return err
	}
	for _, subnet := range subnets {
		zone := cmp.Or(str(subnet.Properties["zone"]), m.cloud.market.Regions[m.x.Region].Zones[0])
		if !slices.Contains(size.Zones, zone) {
			return refuse(422, "not-sold", fmt.Sprintf("zone %s does not sell size %q", zone, size.Name),
				map[string]any{"property": "size"})
		}
	}
	users, _ := m.x.Properties["accounts"].([]any)
	if len(users) == 0 {
		return invalid("accounts", "somebody signs in to a database")
	}
	names := map[string]bool{}
	for i, item := range users {
		u, _ := item.(map[string]any)
		name := str(u["name"])
		if name == "" || str(u["password"]) == "" {
			return invalid(fmt.Sprintf("accounts[%d]", i), "a user has a name and a password")
		}
		if names[name] {
			return invalid(fmt.Sprintf("accounts[%d].name", i), "there are two users %s", name)
		}
		names[name] = true
	}
	if err := m.encryption(); err != nil {
		return err
	}
	if err := m.belongings(); err != nil {
		return err
	}
	if m.change {
		return nil
	}
	at, err := m.privateAddress(subnets[0], "subnet_ids", nil)
	if err != nil {
		return err
	}
	m.x.Attributes["private_address"], m.x.Attributes["host"], m.x.Attributes["port"], m.x.Attributes["database"] = at,
		at, 5432, database.Name
	return nil
}

// openDatabase starts the server of a database that is there, lets in whom it should, and
// shows it at its address. It is told as ready only then.
func (c *Cloud) openDatabase(id, account string) {
	var x, subnet *world.Resource
	c.world.Update(func(tx *world.Tx) error {
		if x = tx.ByID(account, id); x == nil {
			return nil
		}
		ids, _ := x.Properties["subnet_ids"].([]any)
		subnet = tx.ByID(account, str(ids[0]))
		return nil
	})
	if x == nil || subnet == nil || x.PhaseAt(time.Now()) != world.Ready {
		return
	}
	var users []database.User
	list, _ := x.Properties["accounts"].([]any)
	for _, item := range list {
		u, _ := item.(map[string]any)
		users = append(users, database.User{
			Name:     str(u["name"]),
			Password: str(u["password"]),
			Rights:   str(u["rights"]),
		})
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := c.databases.Ensure(ctx, id, users); err != nil {
		slog.Warn("a database does not start", "label", x.Label, "error", err)
		c.world.Update(func(tx *world.Tx) error {
			if now := tx.ByID(account, id); now != nil {
				now.BreaksAt, now.Why = time.Now(), "its server did not start"
				tx.Put(now)
			}
			return nil
		})
		return
	}
	at, err := netip.ParseAddr(str(x.Attributes["private_address"]))
	if err != nil {
		return
	}
	c.fabric.Offer(id, guest.Offer{
		Network: str(subnet.Properties["network_id"]),
		At:      []netip.Addr{at},
		Dial: func(source netip.Addr, port int) (net.Conn, error) {
			if port != 5432 || !c.lets(account, id, source, port) {
				return nil, fmt.Errorf("timed out")
			}
			return c.databases.Dial(id)
		},
	})
	c.mu.Lock()
	c.opened[id] = x.Generation
	c.mu.Unlock()
}

// lets reports whether the firewalls of something let a source connect to a port.
func (c *Cloud) lets(account, id string, source netip.Addr, port int) bool {
	open := false
	c.world.Update(func(tx *world.Tx) error {
		x := tx.ByID(account, id)
		if x == nil {
			return nil
		}
		firewalls, _ := x.Properties["firewall_ids"].([]any)
		for _, r := range rulesBefore(tx, account, firewalls, 0) {
			open = open || r.Port == port && r.From.Contains(source)
		}
		return nil
	})
	return open
}

// databaseTells is what a database tells of itself now.
func (c *Cloud) databaseTells(x *world.Resource, phase world.Phase, attributes map[string]any) world.Phase {
	c.mu.Lock()
	opened, there := c.opened[x.ID]
	c.mu.Unlock()
	if phase == world.Ready && (!there || opened != x.Generation) {
		phase = world.Changing
		if !there {
			phase = world.Making
		}
	}
	subnets, _ := x.Properties["subnet_ids"].([]any)
	_, lags := c.world.Planned("spoilt", x.Account, "replication", x.Label+" "+x.Name)
	attributes["standby"] = len(subnets) > 1 && !lags && time.Since(x.ReadyAt) > c.world.Real(standbyAfter)
	return phase
}

// closeDatabase ends a database that is removed.
func (c *Cloud) closeDatabase(id string) {
	c.fabric.Withdraw(id)
	c.mu.Lock()
	delete(c.opened, id)
	c.mu.Unlock()
	go c.databases.Remove(id)
}
