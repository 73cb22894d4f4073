package openstack

import (
	"net/http"
	"testing"

	"undersail/internal/cloud"
	"undersail/internal/cloud/cloudtest"
	"undersail/internal/cloud/openstack/openstacktest"
)

// standIn opens the project of a stand-in of its own.
func standIn(t *testing.T) (*openstacktest.Cloud, *Adapter, *cloudtest.Faults) {
	t.Helper()
	c := openstacktest.Start()
	t.Cleanup(c.Close)
	a, faults := open(t, c.Endpoint(), Credentials{ApplicationID: openstacktest.ApplicationID, ApplicationSecret: openstacktest.ApplicationSecret})
	return c, a, faults
}

func TestConformance(t *testing.T) {
	t.Parallel()
	cloudtest.Run(t, func(t *testing.T) cloudtest.Place {
		c, a, faults := standIn(t)
		stranger, _ := open(t, c.Endpoint(), Credentials{ApplicationID: openstacktest.ApplicationID, ApplicationSecret: "wrong"})
		return cloudtest.Place{
			Adapter: a, Stranger: stranger, Region: openstacktest.Region, Size: "s1.small", Image: "debian-12", DiskType: "standard",
			Fault: faults.Plan,
			Made: func(mark string) int {
				return c.Count(func(kind string, raw map[string]any) bool {
					text, _ := raw["description"].(string)
					name, _ := raw["name"].(string)
					return kind != "routers" && (text == marking+mark || kind == "os-keypairs" && len(name) > len(mark) && name[len(name)-len(mark):] == mark)
				})
			},
			Refuse: func(class cloud.Class) (map[string]any, bool) {
				switch class {
				case cloud.Quota:
					c.Cores = c.UsedCores()
					t.Cleanup(func() { c.Cores = 20 })
					return map[string]any{"size": "s1.large"}, false
				case cloud.Capacity:
					c.Cores = 20
					return map[string]any{"size": "us.huge"}, true
				}
				return map[string]any{"size": "s1.small", "zone": "zone-a:compute1"}, false
			},
		}
	})
}

var _ = http.MethodGet
