package larch_test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"testing"

	"undersail/internal/cloud"
	"undersail/internal/cloud/cloudtest"
	"undersail/internal/cloud/larch"
	"undersail/sim"
	"undersail/sim/world"
)

func TestConformance(t *testing.T) {
	t.Parallel()
	cloudtest.Run(t, func(t *testing.T) cloudtest.Place {
		// Its clock runs 600 times as fast, and so does the suite look: only a planned fault is
		// to throttle.
		s, err := sim.Start(sim.Config{
			Dir:      t.TempDir(),
			Accounts: []string{"saltmere-lab"},
			Pace:     600,
			Seed:     1,
			Rate:     40 * 600,
		})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		a := s.Accounts[0]
		plan := func(f world.Fault) {
			body, _ := json.Marshal(f)
			res, err := http.Post(s.Place.Admin+"/faults", "application/json", bytes.NewReader(body))
			if err != nil || res.StatusCode != http.StatusCreated {
				t.Fatal(err, res)
			}
			res.Body.Close()
		}
		client := cloud.NewClient(cloud.Transport{})
		return cloudtest.Place{
			Adapter: larch.New(s.Place.Larch, larch.Credentials{ClientID: a.ClientID, ClientSecret: a.ClientSecret},
				client),
			Stranger: larch.New(s.Place.Larch, larch.Credentials{ClientID: a.ClientID, ClientSecret: "wrong"}, client),
			Region:   "north-fell",
			Size:     "plain-2",
			Image:    "debian-12",
			DiskType: "solid",
			Tells:    []string{"host_key"},
			Priced:   true,
			Fault:    func(kind string) { plan(world.Fault{Kind: kind, Method: http.MethodPut, Count: 1}) },
			Refuse: func(class cloud.Class) (map[string]any, bool) {
				req, _ := http.NewRequest(http.MethodDelete, s.Place.Admin+"/faults", nil)
				if res, err := http.DefaultClient.Do(req); err == nil {
					res.Body.Close()
				}
				plan(map[cloud.Class]world.Fault{
					cloud.Quota:    {Kind: "quota", Label: "vcpus", Count: -1, Value: 0},
					cloud.Capacity: {Kind: "capacity", Count: -1},
					cloud.Denied:   {Kind: "denied", On: "instances", Count: -1},
				}[class])
				return map[string]any{"size": "plain-2"}, false
			},
			Made: func(token string) int {
				res, err := http.Get(s.Place.Admin + "/ledger")
				if err != nil {
					t.Fatal(err)
				}
				defer res.Body.Close()
				var l world.Ledger
				if err := json.NewDecoder(res.Body).Decode(&l); err != nil {
					t.Fatal(err)
				}
				n := 0
				for _, r := range append(l.Alive, l.Gone...) {
					if r.Name == token {
						n++
					}
				}
				return n
			},
		}
	})
}
