package larch

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"undersail/sim/world"
)

// A pool makes its members itself: instances that its customer sees in every list, with
// the pool's id as a tag. It replaces those that are gone or answer nothing, grows while
// work is queued and shrinks when it is idle.

const (
	poolTag = "larch-pool"
	// jobTakes is how many cloud seconds a member needs for a job of the queue.
	jobTakes = 40
	// tendEvery is how often a pool looks after its members, in cloud seconds.
	tendEvery = 5
)

func (m *making) pool() error {
	least, most := number(m.x.Properties["least"]), number(m.x.Properties["most"])
	if least < 0 || most < 1 || least > most {
		return invalid("least", "a pool has from 0 to its most members")
	}
	if members, set := m.x.Properties["members"]; set && (number(members) < least || number(members) > most) {
		return invalid("members", "the members are between least and most")
	}
	subnets, _ := m.x.Properties["subnet_ids"].([]any)
	if len(subnets) == 0 {
		return invalid("subnet_ids", "a pool stands in a subnet")
	}
	for i, id := range subnets {
		subnet, err := m.needs(fmt.Sprintf("subnet_ids[%d]", i), str(id), "subnets")
		if err != nil {
			return err
		}
		first := m.tx.ByID(m.x.Account, str(subnets[0]))
		if first.Properties["network_id"] != subnet.Properties["network_id"] {
			return invalid(fmt.Sprintf("subnet_ids[%d]", i), "the subnets are of one network")
		}
		m.x.Properties["zone"] = cmp.Or(str(subnet.Properties["zone"]), m.cloud.market.Regions[m.x.Region].Zones[0])
		err = m.machine() // members may come to stand in each of them
		for _, name := range []string{"vcpus", "memory_gib", "zone"} {
			delete(m.x.Attributes, name)
		}
		if delete(m.x.Properties, "zone"); err != nil {
			return err
		}
	}
	if err := m.belongings(); err != nil {
		return err
	}
	if _, err := userData(m.text("user_data")); err != nil {
		return invalid("user_data", "%v", err)
	}
	m.cloud.pools.Store(true)
	m.x.Attributes["edition"] = editionOf(m.x)
	if !m.change {
		m.x.Attributes["count"], m.x.Attributes["queued"], m.x.Attributes["done"], m.x.Attributes["addresses"] = 0, 0,
			0, []any{}
	}
	return nil
}

// ofMembers are the properties of a pool that its members get when they are made, and keep.
var ofMembers = []string{"size", "image", "subnet_ids", "firewall_ids", "key_id", "role_id", "user_data"}

// editionOf names what a pool makes its members of now: each tells of which edition it is.
func editionOf(pool *world.Resource) string {
	of := map[string]any{}
	for _, name := range ofMembers {
		of[name] = pool.Properties[name]
	}
	raw, err := json.Marshal(of)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:6])
}

// sameAlready reports whether a change asks for what is there.
func sameAlready(x *world.Resource, b body) bool {
	for key, v := range b.Properties {
		if fmt.Sprint(x.Properties[key]) != fmt.Sprint(v) || x.Properties[key] == nil && v != nil {
			return false
		}
	}
	return (b.Label == "" || b.Label == x.Label) && (b.Tags == nil || maps.Equal(b.Tags, x.Tags))
}

// tend looks after all pools for as long as the cloud is there.
func (c *Cloud) tend() {
	for {
		select {
		case <-c.over:
			return
		case <-time.After(max(c.world.Real(tendEvery), 20*time.Millisecond)):
		}
		if !c.pools.Load() {
			continue
		}
		var fresh []*world.Resource
		var gone []string
		c.world.Update(func(tx *world.Tx) error {
			for _, pool := range tx.All(func(x *world.Resource) bool { return x.Kind == "pools" }) {
				f, g := c.tendPool(tx, pool)
				fresh, gone = append(fresh, f...), append(gone, g...)
			}
			return nil
		})
		for _, id := range gone {
			c.fabric.Halt(id)
			c.fabric.Forget(id)
		}
		for _, x := range fresh {
			c.plan(x)
		}
	}
}

// members are those of a pool that are not on their way out, oldest first.
func members(tx *world.Tx, pool *world.Resource) []*world.Resource {
	return tx.All(func(x *world.Resource) bool {
		return x.Kind == "instances" && x.Account == pool.Account && x.Region == pool.Region &&
			x.Tags[poolTag] == pool.ID && x.RemoveAt.IsZero()
	})
}

// tendPool lets one pool do what it has to do now: the machines that are new, and the ids
// of those that go.
func (c *Cloud) tendPool(tx *world.Tx, pool *world.Resource) (fresh []*world.Resource, gone []string) {
	now := time.Now()
	have := members(tx, pool)
	drop := func(x *world.Resource) {
		x.RemoveAt = now.Add(c.world.Takes(c.market.Durations["remove"], x.Label+"remove"))
		tx.Put(x)
		gone = append(gone, x.ID)
		have = slices.DeleteFunc(have, func(o *world.Resource) bool { return o.ID == x.ID })
	}
	if !pool.RemoveAt.IsZero() {
		for _, x := range slices.Clone(have) {
			drop(x)
		}
		return nil, gone
	}
	if pool.PhaseAt(now) == world.Making {
		return nil, nil
	}
	if heal, set := pool.Properties["heal"].(bool); heal || !set {
		for _, x := range slices.Clone(have) {
			_, dead := tx.Planned("guest-dead", x.Account, "instances", x.Label+" "+x.Name)
			if dead || x.PhaseAt(now) == world.Broken {
				drop(x)
			}
		}
	}
	ready := []any{}
	for _, x := range have {
		if x.PhaseAt(now) == world.Ready && x.Attributes["host_key"] != nil {
			ready = append(ready, x.Attributes["private_address"])
		}
	}
	queued, done := c.work(pool, len(ready), now)
	wanted := c.wants(pool, queued, now)
	for i := 0; len(have) < wanted && i < 20; i++ {
		x := c.member(tx, pool, now)
		if x == nil {
			break // no quota, no address: it tries again
		}
		tx.Put(x)
		have, fresh = append(have, x), append(fresh, x)
	}
	for len(have) > wanted {
		drop(have[len(have)-1])
	}
	if number(pool.Attributes["count"]) != int64(len(ready)) || number(pool.Attributes["queued"]) != int64(queued) ||
		number(pool.Attributes["done"]) != int64(done) || len(fresh)+len(gone) > 0 {
		pool.Attributes["count"], pool.Attributes["addresses"], pool.Attributes["queued"],
			pool.Attributes["done"] = len(ready), ready, queued, done
		tx.Put(pool)
	}
	return fresh, gone
}

// work lets the members that are ready take jobs off the queue.
func (c *Cloud) work(pool *world.Resource, hands int, now time.Time) (queued, done int) {
	queued, done = int(max(number(pool.Attributes["queued"]), 0)), int(max(number(pool.Attributes["done"]), 0))
	since, err := time.Parse(time.RFC3339Nano, str(pool.Attributes["worked_at"]))
	if queued == 0 || hands == 0 {
		pool.Attributes["worked_at"] = now.Format(time.RFC3339Nano)
		return queued, done
	}
	if err != nil {
		since = now
	}
	n := min(int(now.Sub(since)/c.world.Real(jobTakes))*hands, queued)
	if n > 0 {
		pool.Attributes["worked_at"] = now.Format(time.RFC3339Nano)
	}
	return queued - n, done + n
}

// wants is how many members a pool wants now: as many as it is told, or by its work, and
// after an idle time as few as it may have.
func (c *Cloud) wants(pool *world.Resource, queued int, now time.Time) int {
	least, most := int(number(pool.Properties["least"])), int(number(pool.Properties["most"]))
	if set, there := pool.Properties["members"]; there {
		return int(number(set))
	}
	have := int(max(number(pool.Attributes["wanted"]), int64(least)))
	idle := number(pool.Properties["idle_seconds"])
	if idle <= 0 {
		idle = 300
	}
	last, err := time.Parse(time.RFC3339Nano, str(pool.Attributes["busy_at"]))
	switch {
	case queued > 0:
		have = max(have, min(most, max(least, queued)))
		pool.Attributes["busy_at"] = now.Format(time.RFC3339Nano)
	case err != nil || now.Sub(last) > c.world.Real(float64(idle)):
		have = least
	}
	have = min(max(have, least), most)
	pool.Attributes["wanted"] = have
	return have
}

// member makes one machine for a pool, or nil where the account may not have one more.
func (c *Cloud) member(tx *world.Tx, pool *world.Resource, now time.Time) *world.Resource {
	n := number(pool.Attributes["made"]) + 1
	if n < 1 {
		n = 1
	}
	pool.Attributes["made"] = n
	name := fmt.Sprintf("%s-%d", pool.Name, n)
	subnets, _ := pool.Properties["subnet_ids"].([]any)
	properties := map[string]any{
		"size":      pool.Properties["size"],
		"image":     pool.Properties["image"],
		"subnet_id": subnets[int(n)%len(subnets)],
	}
	for _, property := range []string{"key_id", "role_id", "firewall_ids", "user_data"} {
		if v, there := pool.Properties[property]; there {
			properties[property] = v
		}
	}
	x, err := c.machineBy(tx, pool, name, fmt.Sprintf("%s-%d", pool.Label, n), poolTag, properties, now)
	if err != nil {
		return nil
	}
	x.Attributes["edition"] = pool.Attributes["edition"]
	return x
}

// poolsOf are the pools of a network.
func poolsOf(tx *world.Tx, account, network string) []*world.Resource {
	return tx.All(func(x *world.Resource) bool {
		subnets, _ := x.Properties["subnet_ids"].([]any)
		if x.Kind != "pools" || x.Account != account || len(subnets) == 0 {
			return false
		}
		subnet := tx.ByID(account, str(subnets[0]))
		return subnet != nil && subnet.Properties["network_id"] == network
	})
}

// submit queues jobs for the pools of a network, as a machine in it asks.
func (c *Cloud) submit(account, network string, jobs int) (pool string, err error) {
	err = c.world.Update(func(tx *world.Tx) error {
		for _, x := range poolsOf(tx, account, network) {
			if x.RemoveAt.IsZero() {
				x.Attributes["queued"] = int(max(number(x.Attributes["queued"]), 0)) + jobs
				pool = x.Label
				tx.Put(x)
				return nil
			}
		}
		return fmt.Errorf("no queue answers in this network")
	})
	return pool, err
}

// queue tells what is queued and done in the pools of a network.
func (c *Cloud) queue(account, network string) (queued, done, members int64) {
	c.world.Update(func(tx *world.Tx) error {
		for _, x := range poolsOf(tx, account, network) {
			queued, done, members = queued+max(number(x.Attributes["queued"]), 0),
				done+max(number(x.Attributes["done"]), 0), members+max(number(x.Attributes["count"]), 0)
		}
		return nil
	})
	return queued, done, members
}
