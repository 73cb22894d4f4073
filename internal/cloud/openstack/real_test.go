package openstack

import (
	"context"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/gophercloud/gophercloud/v2"
	platform "github.com/gophercloud/gophercloud/v2/openstack"
	"github.com/gophercloud/gophercloud/v2/openstack/identity/v3/tokens"

	"undersail/internal/cloud"
	"undersail/internal/cloud/cloudtest"
)

// realCloud opens an entry of the clouds.yaml of a real cloud, if there is one.
func realCloud(t *testing.T, entry string) (*Adapter, *cloudtest.Faults) {
	t.Helper()
	file := os.Getenv("UNDERSAIL_REAL_CLOUD")
	if file == "" {
		t.Skip("no real cloud is named: make real-cloud starts one, make test-real-cloud names it")
	}
	endpoint, c, err := FromCloudsFile(file, entry)
	if err != nil {
		t.Fatal(err)
	}
	return open(t, endpoint, c)
}

func open(t *testing.T, endpoint string, c Credentials) (*Adapter, *cloudtest.Faults) {
	t.Helper()
	faults := &cloudtest.Faults{Base: &http.Transport{MaxIdleConnsPerHost: 16}, Creates: func(r *http.Request) bool {
		return r.Method == http.MethodPost && !strings.HasSuffix(r.URL.Path, "/action") &&
			!strings.HasSuffix(r.URL.Path, "/auth/tokens")
	}}
	a, err := New(endpoint, c, cloud.NewClient(cloud.Transport{Base: faults}))
	if err != nil {
		t.Fatal(err)
	}
	return a, faults
}

// cleared removes all that is marked as ours.
func cleared(t *testing.T, a *Adapter, region string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	for _, name := range []string{"instance", "disk", "address", "firewall", "subnet", "network", "key_pair"} {
		for range 30 {
			left := 0
			list, err := a.all(ctx, region, name)
			if err != nil {
				t.Fatal(err)
			}
			for _, l := range list {
				if !strings.HasPrefix(l.Token, "us-") {
					continue
				}
				left++
				task := cloud.Task{Action: cloud.Remove, Ref: l.Ref}
				for more := true; more; {
					p, err := a.Step(ctx, task, nil)
					if err != nil {
						t.Logf("clearing %s: %v", l.Token, err)
					}
					if more = err == nil && p.More; more && p.Live.ReadyIn > 0 {
						time.Sleep(500 * time.Millisecond)
					}
				}
			}
			if left == 0 {
				break
			}
			time.Sleep(500 * time.Millisecond)
		}
	}
}

func TestConformanceOnARealCloud(t *testing.T) {
	const region = "RegionOne"
	a, _ := realCloud(t, "harbour-app")
	cleared(t, a, region)
	cloudtest.Run(t, func(t *testing.T) cloudtest.Place {
		a, faults := realCloud(t, "harbour-app")
		t.Cleanup(func() { cleared(t, a, region) })
		endpoint, c := a.endpoint, a.creds
		c.ApplicationSecret = "wrong"
		stranger, _ := open(t, endpoint, c)
		return cloudtest.Place{
			Adapter:  a,
			Stranger: stranger,
			Region:   region,
			Size:     "s1.small",
			Image:    "debian-12",
			DiskType: "standard",
			Patience: time.Minute,
			Alone:    true,
			Fault:    faults.Plan,
			Made: func(mark string) int {
				n := 0
				for kind, of := range things(t, a, region, mark) {
					if kind != "router" { // a network has one beside it
						n += of
					}
				}
				return n
			},
			Refuse: func(class cloud.Class) (map[string]any, bool) { return refuse(t, a, region, class) },
		}
	})
}

// refuse makes the cloud refuse machines: for want of quota, of room, or of a right.
func refuse(t *testing.T, a *Adapter, region string, class cloud.Class) (map[string]any, bool) {
	t.Helper()
	admin, _ := realCloud(t, "admin")
	ask := func(service, method, path string, in, out any) {
		t.Helper()
		err := admin.do(context.Background(), region, call{
			service: service,
			method:  method,
			path:    path,
			in:      in,
			out:     out,
		})
		if err != nil && cloud.ClassOf(err) != cloud.Conflict {
			t.Fatal(method, path, err)
		}
	}
	s, err := a.signedIn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	quota := func(cores int) {
		ask(compute, http.MethodPut, "os-quota-sets/"+s.project.ID,
			map[string]any{"quota_set": map[string]any{"cores": cores}}, nil)
	}
	quota(20)
	switch class {
	case cloud.Quota:
		var answer struct {
			Set struct {
				Cores struct {
					Used int `json:"in_use"`
				}
			} `json:"quota_set"`
		}
		ask(compute, http.MethodGet, "os-quota-sets/"+s.project.ID+"/detail", nil, &answer)
		quota(answer.Set.Cores.Used)
		t.Cleanup(func() { quota(20) })
		return map[string]any{"size": "s1.large"}, false
	case cloud.Capacity:
		ask(compute, http.MethodPost, "flavors",
			map[string]any{
				"flavor": map[string]any{"id": "us-huge", "name": "us.huge", "vcpus": 2, "ram": 40000, "disk": 900000},
			}, nil)
		t.Cleanup(func() { ask(compute, http.MethodDelete, "flavors/us-huge", nil, nil) })
		a.sold = nil // it is a new one
		return map[string]any{"size": "us.huge"}, true
	default: // only who runs the cloud may name a host
		return map[string]any{"size": "s1.small", "zone": "zone-a:compute1"}, false
	}
}

// TestATokenThatARealCloudRevokedIsReplaced goes on with another one, unseen by whoever asks.
func TestATokenThatARealCloudRevokedIsReplaced(t *testing.T) {
	const region = "RegionOne"
	a, _ := realCloud(t, "harbour-app")
	s, err := a.signedIn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	token := s.provider.Token()
	identity, err := platform.NewIdentityV3(s.provider, gophercloud.EndpointOpts{Region: region})
	if err != nil {
		t.Fatal(err)
	}
	if err := tokens.Revoke(t.Context(), identity, token).Err; err != nil {
		t.Fatal(err)
	}
	if _, err := a.Offers(t.Context(), region); err != nil {
		t.Error("after its token was revoked:", err)
	}
	switch now, err := a.signedIn(t.Context()); {
	case err != nil:
		t.Error(err)
	case now.provider.Token() == token:
		t.Error("the services still take the token that was revoked: nothing was tried")
	}
}

// TestCutOffAtEveryCallOfARealCloud prints how many kills there were.
func TestCutOffAtEveryCallOfARealCloud(t *testing.T) {
	const region = "RegionOne"
	a, faults := realCloud(t, "harbour-app")
	cleared(t, a, region)
	t.Cleanup(func() { cleared(t, a, region) })
	p := cloudtest.Place{Adapter: a, Region: region, Patience: time.Minute, Alone: true}
	plain, servers := subjects("debian-12", "s1.small", "s1.medium", "standard")
	total := map[string]int{}
	for name, list := range map[string][]cloudtest.Subject{"networks and volumes": plain, "servers": servers} {
		for _, s := range list {
			t.Run(s.Type, func(t *testing.T) {
				k := cloudtest.Kills(t, p, faults, s,
					func(mark string) map[string]int { return things(t, a, region, mark) })
				t.Logf("%s: cut off at %d calls of creating, %d of altering, %d of removing", s.Type, k.Create, k.Alter,
					k.Remove)
				total[name] += k.Total()
			})
		}
	}
	t.Logf("kills on networks and volumes: %d; with servers: %d", total["networks and volumes"], total["servers"])
}
