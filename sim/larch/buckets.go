package larch

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"undersail/sim/world"
)

// namesHeld is how many cloud seconds a name stays taken for all others after what had it
// was removed.
const namesHeld = 600

// taken tells who has a name that only one customer of the cloud can have, in words that
// name nobody.
func (c *Cloud) taken(tx *world.Tx, kind, account, region, name, but string) string {
	u := unique[kind]
	why := ""
	if slices.Contains(c.market.TakenNames, name) {
		why = "somebody has it"
	}
	tx.Everything(func(o *world.Resource) {
		if o.Kind != kind || o.ID == but || u.byRegion && o.Region != region ||
			fmt.Sprint(o.Properties[u.property]) != name {
			return
		}
		switch gone := o.RemoveAt; {
		case gone.IsZero() || time.Now().Before(gone):
			why = "somebody has it"
		case why == "" && o.Account != account && time.Since(gone) < c.world.Real(namesHeld):
			why = "whoever had it gave it up a short while ago, and it is kept for them"
		}
	})
	return why
}

// unique are the names that only one customer can have, by kind: the property and, where
// they are unique in a region only, true.
var unique = map[string]struct {
	property string
	byRegion bool
}{"buckets": {"global_name", false}, "name-zones": {"domain", false}, "addresses": {"label", true}}

// isTaken tells whether somebody has a name.
func (c *Cloud) isTaken(w http.ResponseWriter, r *http.Request) error {
	kind, name := r.URL.Query().Get("kind"), r.URL.Query().Get("name")
	if _, known := unique[kind]; !known {
		return refuse(404, "no-kind", "names of "+kind+" are not unique", nil)
	}
	why := ""
	err := c.world.Update(func(tx *world.Tx) error {
		why = c.taken(tx, kind, c.account(r).Name, r.PathValue("region"), name, "")
		return nil
	})
	if err != nil {
		return err
	}
	return writeJSON(w, 200, map[string]any{"taken": why != "", "why": why})
}

// alone refuses a name that somebody else has.
func (m *making) alone(property string) error {
	if why := m.cloud.taken(m.tx, m.x.Kind, m.x.Account, m.x.Region, m.text(property), m.x.ID); why != "" {
		return refuse(409, "name-taken", fmt.Sprintf("the name %q is taken: %s", m.text(property), why), map[string]any{
			"property": property,
		})
	}
	return nil
}

// fetch reads an object of a bucket for a machine, by the rights of its role.
func (c *Cloud) fetch(account, machine, address string) (status int, body string) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "https" {
		return 0, ""
	}
	c.world.Update(func(tx *world.Tx) error {
		for _, b := range tx.All(func(x *world.Resource) bool {
			return x.Kind == "buckets" && str(x.Attributes["endpoint"]) == "https://"+u.Host &&
				x.PhaseAt(time.Now()) != world.Making
		}) {
			x := tx.ByID(account, machine)
			objects, _ := b.Properties["objects"].(map[string]any)
			object, there := objects[strings.TrimPrefix(u.Path, "/")]
			switch raw, err := base64.StdEncoding.DecodeString(str(object)); {
			case x == nil || b.Account != account || !c.may(tx, x, "bucket.read"):
				status = http.StatusForbidden
			case !there || err != nil:
				status = http.StatusNotFound
			default:
				status, body = http.StatusOK, string(raw)
			}
		}
		return nil
	})
	return status, body
}

// bucket is a store of objects under a name that nobody else has. It tells the digests
// of what it holds.
func (m *making) bucket() error {
	if m.text("global_name") == "" {
		return invalid("global_name", "a bucket has a name")
	}
	if err := m.alone("global_name"); err != nil {
		return err
	}
	digests := map[string]any{}
	objects, _ := m.x.Properties["objects"].(map[string]any)
	for name, encoded := range objects {
		raw, err := base64.StdEncoding.DecodeString(str(encoded))
		if err != nil {
			return invalid("objects", "object %s is not base64", name)
		}
		digests[name] = fmt.Sprintf("%x", sha256.Sum256(raw))
	}
	m.x.Attributes["objects"] = digests
	m.x.Attributes["endpoint"] = fmt.Sprintf("https://%s.store.%s.larch.example", m.text("global_name"), m.x.Region)
	return nil
}
