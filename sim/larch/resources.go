package larch

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"undersail/sim/world"
)

// body is what creates or changes a resource.
type body struct {
	Label      string            `json:"label"`
	Properties map[string]any    `json:"properties"`
	Tags       map[string]string `json:"tags"`
}

var namePattern = regexp.MustCompile(`^[a-z][a-z0-9-]{2,62}$`)

// create makes a resource under the name that the client chose. The same call
// again finds it; the same name with another body is a conflict; the name of a
// removed resource is recognised and refused.
func (c *Cloud) create(w http.ResponseWriter, r *http.Request) error {
	k, ok := kinds[r.PathValue("kind")]
	if !ok {
		return refuse(404, "no-kind", "Larch has no "+r.PathValue("kind"), nil)
	}
	name, region, account := r.PathValue("name"), r.PathValue("region"), c.account(r)
	if !namePattern.MatchString(name) {
		return refuse(422, "invalid", "a name has 3 to 63 small letters, digits and hyphens", map[string]any{
			"property": "name",
		})
	}
	var b body
	if err := readJSON(r, &b); err != nil {
		return err
	}
	raw, err := json.Marshal(b)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(raw)
	digest := hex.EncodeToString(sum[:])
	var made *world.Resource
	status := http.StatusAccepted
	err = c.world.Update(func(tx *world.Tx) error {
		if was := tx.Ever(account.Name, region, k.plural, name); was != nil {
			if was.PhaseAt(time.Now()) == world.Gone {
				return refuse(410, "gone", "a resource of this name was made and removed", nil)
			}
			if was.Digest != digest {
				return refuse(409, "conflict", "the name is taken by another resource", nil)
			}
			made, status = was, http.StatusOK
			return nil
		}
		var err error
		made, err = c.make(tx, k, account.Name, region, name, b)
		if err == nil {
			made.Digest = digest
			tx.Put(made)
		}
		return err
	})
	if err != nil {
		return err
	}
	if status == http.StatusAccepted {
		c.plan(made)
	}
	if _, hit := c.world.Strike("lose-answer", account.Name, k.plural, b.Label+" "+name, "PUT"); hit {
		return &lostAnswer{}
	}
	return writeJSON(w, status, map[string]any{"operation": "create." + made.ID, "resource": c.document(made)})
}

func (c *Cloud) make(tx *world.Tx, k kind, account, region, name string, b body) (*world.Resource, error) {
	if _, hit := tx.Planned("denied", account, k.plural, b.Label+" "+name); hit {
		return nil, refuse(403, "denied", "the account may not make a "+k.name, map[string]any{
			"permission": k.plural + ".make",
		})
	}
	now := time.Now()
	x := &world.Resource{
		Account:    account,
		Region:     region,
		Kind:       k.plural,
		Name:       name,
		ID:         idOf(k, account, region, name),
		Label:      b.Label,
		Properties: b.Properties,
		Attributes: map[string]any{},
		Tags:       b.Tags,
		Generation: 1,
		MadeAt:     now,
	}
	if x.Properties == nil {
		x.Properties = map[string]any{}
	}
	m := &making{cloud: c, tx: tx, x: x}
	for key := range x.Properties {
		if !slices.Contains(k.properties, key) {
			return nil, refuse(422, "invalid", fmt.Sprintf("a %s has no property %s", k.name, key), map[string]any{
				"property": key,
			})
		}
	}
	if err := m.bounded(x.Properties); err != nil {
		return nil, err
	}
	if err := k.make(m); err != nil {
		return nil, err
	}
	if err := c.withinQuota(tx, x); err != nil {
		return nil, err
	}
	takes := c.world.Takes(c.market.Durations[k.name], x.Region+x.Label)
	x.ReadyAt = now.Add(takes)
	matches := b.Label + " " + name
	if _, hit := tx.Strike("late-failure", account, k.plural, matches); hit {
		x.BreaksAt, x.Why = now.Add(takes*3/4), "the host failed while the "+k.name+" was being made"
	}
	if f, hit := tx.Strike("late-visibility", account, k.plural, matches); hit {
		x.VisibleAt = now.Add(time.Duration(f.Seconds) * time.Second)
	}
	if _, hit := tx.Strike("stuck", account, k.plural, matches); hit {
		x.ReadyAt = now.Add(365 * 24 * time.Hour)
	}
	return x, nil
}

func (c *Cloud) find(tx *world.Tx, r *http.Request) (*world.Resource, kind, error) {
	k, ok := kinds[r.PathValue("kind")]
	if !ok {
		return nil, k, refuse(404, "no-kind", "Larch has no "+r.PathValue("kind"), nil)
	}
	x := tx.Find(c.account(r).Name, r.PathValue("region"), k.plural, r.PathValue("name"))
	if x == nil {
		return nil, k, refuse(404, "gone", fmt.Sprintf("there is no %s %s", k.name, r.PathValue("name")), nil)
	}
	return x, k, nil
}

func (c *Cloud) read(w http.ResponseWriter, r *http.Request) error {
	var x *world.Resource
	err := c.world.Update(func(tx *world.Tx) (err error) {
		k := kind{}
		if x, k, err = c.find(tx, r); err != nil {
			return err
		}
		unseen := refuse(404, "gone", fmt.Sprintf("there is no %s %s", k.name, x.Name), nil)
		if time.Now().Before(x.VisibleAt) {
			return unseen
		}
		if !c.fresh(x) {
			return nil // old answers are of a moment ago, not of yesterday
		}
		if _, hit := tx.Strike("stale-read", x.Account, k.plural, x.Label+" "+x.Name); hit {
			callOf(r.Context()).Fault = "stale-read"
			if x = tx.Before(x); x == nil {
				return unseen
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return writeJSON(w, 200, c.document(x))
}

// staleFor is how many cloud seconds after a change a read may still tell what was
// before it.
const staleFor = 9

// fresh reports whether a resource changed a moment ago.
func (c *Cloud) fresh(x *world.Resource) bool {
	at := x.MadeAt
	if x.ChangedAt.After(at) {
		at = x.ChangedAt
	}
	return time.Since(at) < c.world.Real(staleFor)
}

func (c *Cloud) change(w http.ResponseWriter, r *http.Request) error {
	var b body
	if err := readJSON(r, &b); err != nil {
		return err
	}
	var x *world.Resource
	err := c.world.Update(func(tx *world.Tx) error {
		var k kind
		var err error
		if x, k, err = c.find(tx, r); err != nil {
			return err
		}
		if match := r.Header.Get("If-Match"); match != "" && match != fmt.Sprint(x.Generation) {
			return refuse(412, "conflict", "the resource has changed since it was read", map[string]any{
				"generation": x.Generation,
			})
		}
		now := time.Now()
		if phase := x.PhaseAt(now); phase != world.Ready {
			return refuse(409, "busy", fmt.Sprintf("the %s is %s", k.name, phase), map[string]any{"retry_after": 1})
		}
		if x.Kind == "pools" && sameAlready(x, b) {
			return nil // nothing is changed by it
		}
		takes := c.market.Durations["change"]
		before, quotas := c.draws(x), c.quotas(tx, x.Account, x.Region)
		for key, v := range b.Properties {
			if !slices.Contains(k.changeable, key) {
				return refuse(422, "fixed", fmt.Sprintf("%s of a %s cannot be changed", key, k.name), map[string]any{
					"property": key,
				})
			}
			if key == "size" {
				takes = c.market.Durations["resize"]
			}
			if v == nil {
				delete(x.Properties, key) // taken away
				continue
			}
			if key == "gib" && number(v) < number(x.Properties["gib"]) {
				return refuse(422, "invalid", "a disk never shrinks", map[string]any{"property": "gib"})
			}
			x.Properties[key] = v
		}
		if b.Label != "" {
			x.Label = b.Label
		}
		if b.Tags != nil {
			x.Tags = b.Tags
		}
		m := &making{cloud: c, tx: tx, x: x, change: true}
		if err := m.bounded(b.Properties); err != nil {
			return err
		}
		if err := k.make(m); err != nil {
			return err
		}
		if err := within(quotas, before, c.draws(x)); err != nil {
			return err
		}
		x.Generation++
		x.ChangedAt = now.Add(c.world.Takes(takes, x.Label+"change"))
		tx.Put(x)
		return nil
	})
	if err != nil {
		return err
	}
	c.changed(x, b.Properties)
	if _, hit := c.world.Strike("lose-answer", x.Account, x.Kind, x.Label+" "+x.Name, "PATCH"); hit {
		return &lostAnswer{}
	}
	return writeJSON(w, 202, map[string]any{"operation": "change." + x.ID, "resource": c.document(x)})
}

func (c *Cloud) remove(w http.ResponseWriter, r *http.Request) error {
	var x *world.Resource
	var gone []string // members of a pool
	err := c.world.Update(func(tx *world.Tx) error {
		var k kind
		var err error
		if x, k, err = c.find(tx, r); err != nil {
			return err
		}
		if match := r.Header.Get("If-Match"); match != "" && match != fmt.Sprint(x.Generation) {
			return refuse(412, "conflict", "the resource has changed since it was read", map[string]any{
				"generation": x.Generation,
			})
		}
		if users := usersOf(tx, x); len(users) > 0 {
			return refuse(409, "in-use", fmt.Sprintf("the %s is used by %s", k.name, strings.Join(users, ", ")),
				map[string]any{"users": users})
		}
		if x.RemoveAt.IsZero() {
			x.RemoveAt = time.Now().Add(c.world.Takes(c.market.Durations["remove"], x.Label+"remove"))
			for _, member := range members(tx, x) { // a pool goes after its members
				member.RemoveAt = x.RemoveAt
				x.RemoveAt = x.RemoveAt.Add(c.world.Real(1))
				tx.Put(member)
				gone = append(gone, member.ID)
			}
			tx.Put(x)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, id := range gone {
		c.fabric.Halt(id)
		c.fabric.Forget(id)
	}
	c.removed(x)
	if _, hit := c.world.Strike("lose-answer", x.Account, x.Kind, x.Label+" "+x.Name, "DELETE"); hit {
		return &lostAnswer{}
	}
	return writeJSON(w, 202, map[string]any{"operation": "remove." + x.ID})
}

// removed ends what a resource was for others.
func (c *Cloud) removed(x *world.Resource) {
	switch x.Kind {
	case "databases":
		c.closeDatabase(x.ID)
	case "private-clouds", "file-shares":
		c.fabric.Withdraw(x.ID)
	}
	c.fabric.Halt(x.ID)
	c.fabric.Forget(x.ID)
}

// usersOf lists the labels of what still refers to a resource.
func usersOf(tx *world.Tx, x *world.Resource) []string {
	var users []string
	for _, other := range tx.All(func(o *world.Resource) bool {
		return o.Account == x.Account && o.Region == x.Region && o.ID != x.ID
	}) {
		if refersTo(other.Properties, x.ID) {
			users = append(users, other.Label)
		}
	}
	return users
}

func refersTo(tree any, id string) bool {
	switch t := tree.(type) {
	case string:
		return t == id
	case []any:
		return slices.ContainsFunc(t, func(v any) bool { return refersTo(v, id) })
	case map[string]any:
		for k, v := range t {
			if k != "user_data" && refersTo(v, id) {
				return true
			}
		}
	}
	return false
}

// quotas tells limits and use in a region.
func (c *Cloud) quotas(tx *world.Tx, account, region string) map[string]any {
	used := map[string]int64{}
	for _, x := range tx.All(func(o *world.Resource) bool { return o.Account == account && o.Region == region }) {
		for name, n := range c.draws(x) {
			used[name] += n
		}
	}
	out := map[string]any{}
	for name := range c.market.Quotas {
		limit := c.market.Quota(region, name)
		if f, hit := tx.Planned("quota", account, "", name); hit {
			limit = f.Value
		}
		out[name] = map[string]int64{"limit": limit, "used": used[name]}
	}
	return out
}

// draws tells how much of which quota a resource takes.
func (c *Cloud) draws(x *world.Resource) map[string]int64 {
	switch x.Kind {
	case "networks":
		return map[string]int64{"networks": 1}
	case "addresses":
		return map[string]int64{"addresses": 1}
	case "databases":
		return map[string]int64{"databases": 1}
	case "private-clouds":
		return map[string]int64{"hosts": layoutHosts(x)}
	case "pools":
		return map[string]int64{"pools": 1} // its members count for themselves
	case "file-shares":
		return map[string]int64{"file_shares": 1}
	case "buckets":
		return map[string]int64{"buckets": 1}
	case "disks":
		return map[string]int64{"disk_gib": number(x.Properties["gib"])}
	case "hosts":
		return map[string]int64{"hosts": 1}
	case "instances":
		out := map[string]int64{}
		s, ok := c.market.Size(x.Region, fmt.Sprint(x.Properties["size"]))
		if ok && str(x.Properties["host_id"]) == "" { // else its host counts
			out["vcpus"] = s.VCPUs
			if s.Quota != "" {
				out[s.Quota] = s.VCPUs
			}
		}
		if public, _ := x.Properties["public"].(bool); public {
			out["addresses"] = 1
		}
		return out
	}
	return nil
}

func (c *Cloud) withinQuota(tx *world.Tx, x *world.Resource) error {
	return within(c.quotas(tx, x.Account, x.Region), nil, c.draws(x))
}

// within refuses what would draw more than a quota has left, beyond what it draws
// already.
func within(quotas map[string]any, before, after map[string]int64) error {
	for name, n := range after {
		more := n - before[name]
		q, ok := quotas[name].(map[string]int64)
		if short := q["used"] + more - q["limit"]; ok && more > 0 && short > 0 {
			return refuse(403, "quota", fmt.Sprintf("the quota of %s does not suffice", name), map[string]any{
				"quota": name,
				"short": short,
			})
		}
	}
	return nil
}

func number(v any) int64 {
	switch n := v.(type) {
	case json.Number:
		i, err := n.Int64()
		if err != nil {
			return -1
		}
		return i
	case float64:
		return int64(n)
	case int64:
		return n
	case int:
		return int64(n)
	}
	return -1
}

// idOf gives the id of a resource, which is the same whenever its name is asked for again.
func idOf(k kind, account, region, name string) string {
	sum := sha256.Sum256([]byte(account + region + k.plural + name))
	return k.prefix + "-" + hex.EncodeToString(sum[:5])
}
