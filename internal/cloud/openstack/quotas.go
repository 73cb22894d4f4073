package openstack

import (
	"context"
	"encoding/json"
	"fmt"

	"undersail/internal/cloud"
	"undersail/internal/core/offer"
)

// quotas reads what the project may have. A limit below nothing is none.
func (a *Adapter) quotas(ctx context.Context, region string, o *offer.Offers) error {
	put := func(name string, limit, used int64) {
		if limit >= 0 {
			o.Quotas[name] = offer.Quota{Limit: limit, Used: used}
		}
	}
	var machines struct {
		Limits struct {
			Absolute map[string]any `json:"absolute"`
		} `json:"limits"`
	}
	if err := a.get(ctx, region, compute, "limits", &machines); err != nil {
		return fmt.Errorf("read the quotas of compute: %w", err)
	}
	of := func(name string) int64 { return number(machines.Limits.Absolute[name]) }
	put("vcpus", of("maxTotalCores"), of("totalCoresUsed"))
	put("machines", of("maxTotalInstances"), of("totalInstancesUsed"))
	put("memory_gib", of("maxTotalRAMSize")/1024, (of("totalRAMUsed")+1023)/1024)
	if of("maxTotalRAMSize") < 0 {
		delete(o.Quotas, "memory_gib")
	}
	machines.Limits.Absolute = nil
	switch err := a.get(ctx, region, volume, "limits", &machines); {
	case absent(err):
	case err != nil:
		return fmt.Errorf("read the quotas of volumes: %w", err)
	default:
		put("disks", of("maxTotalVolumes"), of("totalVolumesUsed"))
		put("disk_gib", of("maxTotalVolumeGigabytes"), of("totalGigabytesUsed"))
	}
	s, err := a.signedIn(ctx)
	if err != nil {
		return err
	}
	var nets struct {
		Quota map[string]struct {
			Limit    int64 `json:"limit"`
			Used     int64 `json:"used"`
			Reserved int64 `json:"reserved"`
		} `json:"quota"`
	}
	if err := a.get(ctx, region, network, "quotas/"+s.project.ID+"/details.json", &nets); err != nil {
		if c := cloud.ClassOf(err); c == cloud.Gone || c == cloud.Denied || c == cloud.Invalid {
			return nil // an extension that not every cloud has
		}
		return fmt.Errorf("read the quotas of network: %w", err)
	}
	for theirs, ours := range map[string]string{
		"network":        "networks",
		"subnet":         "subnets",
		"router":         "routers",
		"floatingip":     "addresses",
		"security_group": "firewalls",
	} {
		q := nets.Quota[theirs]
		put(ours, q.Limit, q.Used+q.Reserved)
	}
	return nil
}

func number(v any) int64 {
	switch n := v.(type) {
	case float64:
		return int64(n)
	case json.Number:
		i, _ := n.Int64()
		return i
	}
	return 0
}
