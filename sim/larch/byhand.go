package larch

import (
	"fmt"
	"strings"
	"time"

	"undersail/sim/world"
)

// byHand finds a resource of any account by its id or its label.
func byHand(tx *world.Tx, name string) (*world.Resource, error) {
	found := tx.All(func(x *world.Resource) bool { return x.ID == name || x.Label == name })
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return nil, refuse(404, "gone", "nothing alive has the id or label "+name, nil)
	}
	return nil, refuse(409, "conflict", fmt.Sprintf("%d resources have the label %s; give an id", len(found), name),
		nil)
}

// DeleteByHand removes a resource at once, as somebody would who does it past
// the product. Force removes what is still in use too.
func (c *Cloud) DeleteByHand(name string, force bool) error {
	var x *world.Resource
	err := c.world.Update(func(tx *world.Tx) (err error) {
		if x, err = byHand(tx, name); err != nil {
			return err
		}
		if users := usersOf(tx, x); len(users) > 0 && !force {
			return refuse(409, "in-use", fmt.Sprintf("%s is used by %s", x.Label, strings.Join(users, ", ")), nil)
		}
		x.RemoveAt = time.Now()
		tx.Put(x)
		return nil
	})
	if err == nil {
		c.removed(x)
	}
	return err
}

// ChangeByHand sets properties of a resource at once, or takes them away where
// the value is null, by the rules of its kind.
func (c *Cloud) ChangeByHand(name string, properties map[string]any) error {
	var x *world.Resource
	err := c.world.Update(func(tx *world.Tx) (err error) {
		if x, err = byHand(tx, name); err != nil {
			return err
		}
		for key, v := range properties {
			if x.Properties[key] = v; v == nil {
				delete(x.Properties, key)
			}
		}
		if err := kinds[x.Kind].make(&making{cloud: c, tx: tx, x: x, change: true}); err != nil {
			return err
		}
		x.Generation++
		x.ChangedAt = time.Now()
		tx.Put(x)
		return nil
	})
	if err == nil {
		c.changed(x, properties)
	}
	return err
}
