package larch

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"undersail/sim/world"
)

// madeBy is the tag under which machines make others by themselves.
const madeBy = "made-by"

// makeBy lets a machine make others by itself, in its own subnet and with the rights of its
// role, until there are so many.
func (c *Cloud) makeBy(maker *world.Resource, machines int) error {
	var fresh []*world.Resource
	err := c.world.Update(func(tx *world.Tx) error {
		maker = tx.ByID(maker.Account, maker.ID)
		if maker == nil {
			return nil
		}
		if !c.may(tx, maker, "instance.make") {
			return refuse(403, "denied", "the machine's role does not let it make instances", nil)
		}
		have := tx.All(func(x *world.Resource) bool {
			return x.Account == maker.Account && x.Tags[madeBy] == maker.ID && x.RemoveAt.IsZero()
		})
		for n := len(have) + 1; n <= machines; n++ {
			name := fmt.Sprintf("%s-made-%d", maker.Name, n)
			properties := map[string]any{
				"size":      "plain-1",
				"image":     "debian-12",
				"subnet_id": maker.Properties["subnet_id"],
			}
			x, err := c.machineBy(tx, maker, name, fmt.Sprintf("%s-gauge-%d", maker.Label, n), madeBy, properties,
				time.Now())
			if err != nil {
				return err
			}
			tx.Put(x)
			fresh = append(fresh, x)
		}
		return nil
	})
	for _, x := range fresh {
		c.plan(x)
	}
	return err
}

// machineBy makes a machine that another resource makes by itself, with its id under a tag.
// Who makes it puts it into the world.
func (c *Cloud) machineBy(tx *world.Tx, maker *world.Resource, name, label, tag string, properties map[string]any,
	at time.Time) (*world.Resource, error) {
	x := &world.Resource{
		Account:    maker.Account,
		Region:     maker.Region,
		Kind:       "instances",
		Name:       name,
		ID:         idOf(kinds["instances"], maker.Account, maker.Region, name),
		Label:      label,
		Properties: properties,
		Attributes: map[string]any{},
		Tags:       map[string]string{tag: maker.ID},
		Generation: 1,
		MadeAt:     at,
		MadeBy:     maker.ID,
		Digest:     tag,
	}
	m := &making{cloud: c, tx: tx, x: x}
	if err := m.instance(); err != nil {
		return nil, err
	}
	if err := c.withinQuota(tx, x); err != nil {
		return nil, err
	}
	x.ReadyAt = at.Add(c.world.Takes(c.market.Durations["instance"], x.Region+x.Label))
	return x, nil
}

// may reports whether the role of a machine lets it do something, and everybody knows of
// that already.
func (c *Cloud) may(tx *world.Tx, x *world.Resource, right string) bool {
	role := tx.ByID(x.Account, str(x.Properties["role_id"]))
	if role == nil {
		return false
	}
	felt, err := time.Parse(time.RFC3339Nano, str(role.Attributes["felt_at"]))
	if err != nil || time.Now().Before(felt) {
		return false
	}
	grants, _ := role.Properties["grants"].([]any)
	return slices.ContainsFunc(grants, func(item any) bool {
		grant, _ := item.(map[string]any)
		may, _ := grant["may"].([]any)
		return slices.ContainsFunc(may, func(r any) bool {
			kind, _, _ := strings.Cut(right, ".")
			return r == right || r == kind+".*"
		})
	})
}
