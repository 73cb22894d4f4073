package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"time"

	"undersail/internal/api"
	"undersail/internal/core/budget"
	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/storage"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
	"undersail/sim"
)

// sold makes the offers of some regions with so many sizes and disk types.
func sold(regions, sizes, disks int) []*offer.Offers {
	var out []*offer.Offers
	for r := range regions {
		o := &offer.Offers{
			Cloud:    "larch",
			Account:  "saltmere-lab",
			Region:   fmt.Sprintf("region-%d", r),
			Currency: "kr",
			Types:    []string{"instance", "disk"},
			Quotas:   map[string]offer.Quota{"vcpus": {Limit: 200}, "disk_gib": {Limit: 40_000}},
		}
		for z := range 3 {
			o.Zones = append(o.Zones, fmt.Sprintf("%s-%c", o.Region, 'a'+z))
		}
		for i := range sizes {
			o.Sizes = append(o.Sizes, offer.Size{
				Name:         fmt.Sprintf("size-%d", i),
				Family:       "general",
				VCPUs:        int64(1 + i%16),
				MemoryBytes:  int64(4+i) << 30,
				Architecture: []string{"x86_64", "arm64"}[i%2],
				Speed:        1,
				NetworkGbps:  1,
				DiskMBps:     float64(100 + 10*i),
				Hour:         0.02 * float64(1+i%16),
				Zones:        o.Zones[i%2:],
			})
		}
		for i := range disks {
			o.DiskTypes = append(o.DiskTypes, offer.DiskType{
				Name:     fmt.Sprintf("disk-%d", i),
				For:      []string{"steady"},
				GiBHour:  0.0001 * float64(1+i),
				MinBytes: 4 << 30,
				MaxBytes: 16 << 40,
				MBps:     float64(50 * (i + 1)),
				MBpsTiB:  60,
				Ops:      3000,
				Zones:    o.Zones,
			})
		}
		out = append(out, o)
	}
	return out
}

// choosing measures a fit over all that five regions sell, and the call of a form.
func choosing(rounds int) ([]row, error) {
	offers := sold(5, 40, 5)
	raw, err := json.Marshal(offers)
	if err != nil {
		return nil, err
	}
	need := fit.Need{
		Machine: offer.Need{VCPUs: 4, MemoryBytes: 16 << 30, Architecture: "x86_64"},
		Count:   3,
		Zones:   2,
		Disk:    storage.Need{Bytes: 1 << 40, MBps: 150},
		By:      "disk",
	}
	m, r, ratio := paired(rounds,
		func() {
			if _, err := fit.Search(need, offers); err != nil {
				panic(err)
			}
		},
		func() {
			var again []*offer.Offers
			if err := json.Unmarshal(raw, &again); err != nil {
				panic(err)
			}
		})
	rows := []row{{
		id:        "fit",
		what:      "fit over 5 regions x 40 sizes x 5 disk types, over reading those offers",
		measured:  short(m),
		reference: short(r),
		ratio:     ratio,
		target:    6,
	}}
	more, err := withDatabase(func(h *servicetest.Harness) ([]row, error) { return form(h, rounds) })
	return append(rows, more...), err
}

// sixty is a template of 60 resources as people write them: machines with a disk and a
// check each behind firewalls.
const sixty = `undersail: 1
about: {name: quays, version: 1.0.0, title: Quays}
inputs:
  range: {type: string, format: cidr, default: 10.40.0.0/16, page: Network}
  readers: {type: array, items: {type: string, format: cidr}, default: [0.0.0.0/0], page: Network}
  size: {picks: size, needs: {vcpus: 1, memory: 4GiB}, default: plain-2, page: Machines}
  count: {type: integer, minimum: 1, maximum: 40, default: 26, page: Machines}
  disk: {type: string, format: amount, default: 20GiB, page: Machines}
calc:
  parts: =carve(inputs.range, ["one/20", "two/20", "three/20"])
  mark: =stack.name + "-" + short_hash(stack.id, 5)
resources:
  net: {type: network, want: {range: =inputs.range, tags: {owner: ines}}}
  lan: {type: subnet, repeat: {part: '=["one", "two", "three"]'}, want: {network: =net.id, range: '=calc.parts[part]'}}
  door:
    type: firewall
    repeat: 3
    want:
      network: =net.id
      rules: >-
        =inputs.readers.map(r, [80, 443].map(p, firewall_rule{from: r, port: p, about: "readers"})).flatten()
  key: {type: key_pair}
  data:
    type: disk
    repeat: =inputs.count
    want:
      name: =calc.mark + "-" + pad(index, 2)
      size: =inputs.disk
      type: solid
      encrypted: true
      tags: {owner: ines}
  quay:
    type: instance
    repeat: =inputs.count
    want:
      name: =calc.mark + "-" + pad(index, 2)
      size: =inputs.size
      image: debian-12
      subnet: '=lan["one"].id'
      public: true
      firewalls: '=[door[index % 3].id]'
      key_pair: =key.id
      tags: {owner: ines, quay: '=string(index)'}
      disks: [{disk: '=data[index].id', mount: /var/lib/quay, format: ext4}]
      user_data: {packages: [nginx], write_files: [{path: /var/www/html/ready, content: =calc.mark}]}
    health:
      - http: {url: '="http://" + self.reach["80"] + "/ready"', contains: =calc.mark}
        within: 5m
outputs:
  quays: '=quay.map(q, q.private_address)'
`

// form measures the call that a form makes at each keystroke, warm and through the API,
// over rendering the same bare.
func form(h *servicetest.Harness, rounds int) ([]row, error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	r := servicetest.NewWith(h, sim.Config{Pace: 60, Rate: 100_000, Quotas: map[string]int64{"addresses": 100}})
	s, _ := r.Replica(0)
	token, err := s.People.IssueToken(ctx, "ines", "bench") // an administrator, whom every replica has
	if err != nil {
		return nil, err
	}
	server := httptest.NewUnstartedServer(nil)
	at := &url.URL{Scheme: "http", Host: server.Listener.Addr().String()}
	if server.Config.Handler, _, err = api.New(ctx, s, api.Options{
		Log: slog.New(slog.DiscardHandler),
		URL: at,
	}); err != nil {
		return nil, err
	}
	server.Start()
	h.Cleanup(server.Close)
	h.Cleanup(cancel) // first of all, so that nothing listens to the database any more
	template, found := lang.Read("quays.sail.yaml", []byte(sixty))
	if template == nil {
		return nil, found
	}
	offers, err := s.Accounts.Offers(ctx, "saltmere-lab", "north-fell", true)
	if err != nil {
		return nil, err
	}
	n := 0
	graph := ""
	ask := func() {
		n++ // each keystroke is another question
		q := proposing.Question{
			NewProposal: proposing.NewProposal{
				Stack:   "quays",
				File:    "quays.sail.yaml",
				Source:  sixty,
				Account: "saltmere-lab",
				Region:  "north-fell",
				Inputs:  map[string]any{"disk": fmt.Sprintf("%dGiB", 20+n%50)},
			},
			Form:  "bench",
			Seq:   int64(n),
			Graph: graph,
		}
		body, _ := json.Marshal(q)
		req, _ := http.NewRequest(http.MethodPost, server.URL+"/api/v1/checks", bytes.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			panic(err)
		}
		defer res.Body.Close()
		raw, _ := io.ReadAll(res.Body)
		var a struct { // what a form looks at first
			Errors      int
			Summary     string
			GraphDigest string `json:"graph_digest"`
		}
		err = json.Unmarshal(raw, &a)
		if err != nil || res.StatusCode != http.StatusOK || a.Errors > 0 || !strings.HasPrefix(a.Summary, "60 create") {
			panic(fmt.Sprintf("%d %d errors, %s: %.600s", res.StatusCode, a.Errors, a.Summary, raw))
		}
		graph = a.GraphDigest
	}
	bare := func() {
		r := render.Render(budget.Boundless(), render.Request{
			Template: template,
			Stack: render.Stack{
				Name:    "quays",
				ID:      render.FixedID,
				Account: "saltmere-lab",
				Cloud:   "larch",
				Region:  "north-fell",
			},
			Offers: &offers,
			Inputs: map[string]any{"disk": fmt.Sprintf("%dGiB", 20+n%50)},
		})
		if len(r.Resources) != 60 {
			panic(len(r.Resources))
		}
	}
	const calls = 10
	times := func(f func()) func() {
		return func() {
			for range calls {
				f()
			}
		}
	}
	m, ref, ratio := paired(rounds, times(ask), times(bare))
	return []row{{
		id:        "form",
		what:      "a form's call for 60 resources through the API, warm, over rendering it bare",
		measured:  short(m / calls),
		reference: short(ref / time.Duration(calls)),
		ratio:     ratio,
		target:    4,
	}}, nil
}
