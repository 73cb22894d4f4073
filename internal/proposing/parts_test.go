package proposing_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"undersail/internal/accounts"
	"undersail/internal/cloud/openstack/openstacktest"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
)

const quaySource = `undersail: 1
about: {name: quay, version: 1.0.0, title: Quay}
inputs:
  size: {picks: size, default: s1.small}
resources:
  net: {type: network, want: {range: 10.1.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.1.1.0/24}}
  rules: {type: firewall, want: {network: =net.id, rules: [{from: 198.51.100.0/24, port: 80}]}}
  data: {type: disk, want: {size: 2GiB, type: standard}}
  host:
    type: instance
    want: {size: =inputs.size, image: debian-12, subnet: =lan.id, firewalls: ["=rules.id"], public: true, disks: [{disk: =data.id, mount: /data}]}
    health:
      - http: {url: '="http://" + self.reach["80"] + "/ready"'}
        within: 3s
outputs:
  address: {value: =host.public_address}
`

// TestAStackOnACloudWhereOneThingIsSeveral applies, verifies, alters and retires on an
// OpenStack cloud whose machines nobody reaches, with somebody in the way.
func TestAStackOnACloudWhereOneThingIsSeveral(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	c := openstacktest.Start()
	t.Cleanup(c.Close)
	_, err := b.Service.Accounts.Add(ctx, b.Rig.Admin, accounts.NewAccount{
		Name:     "harbour",
		Cloud:    "openstack",
		Endpoint: c.Endpoint(),
		Credentials: map[string]string{
			"application_credential_id":     openstacktest.ApplicationID,
			"application_credential_secret": openstacktest.ApplicationSecret,
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	// Its clouds take milliseconds; nobody has to look only every two seconds.
	servicetest.Query(t, b.Rig, "UPDATE accounts SET clock_rate = 20 WHERE name = 'harbour'")
	unreached, reached := true, false
	if d, err := b.Service.Accounts.Bound(ctx, b.Rig.Admin, "harbour", accounts.Bounds{
		Unreached: &unreached,
	}); err != nil || !d.Unreached {
		t.Fatal(d, err)
	}
	propose := func(inputs map[string]any) proposing.Proposal {
		t.Helper()
		p, err := b.Service.Proposing.Propose(ctx, b.Rig.Admin, proposing.NewProposal{
			Stack:   "quay",
			File:    "quay.sail.yaml",
			Source:  quaySource,
			Account: "harbour",
			Region:  openstacktest.Region,
			Inputs:  inputs,
		})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		return p
	}
	apply := func(inputs map[string]any) proposing.Proposal {
		t.Helper()
		p := propose(inputs)
		b.Done(p)
		return p
	}
	apply(nil)
	stack := func() stacks.Stack {
		t.Helper()
		s, err := b.Service.Stacks.Show(ctx, "quay")
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := stack()
	if s.State != "healthy" || s.Unasked != 1 || fmt.Sprint(s.Outputs[0].Value) == "" {
		t.Errorf("%s, %d checks not asked, outputs %v", s.State, s.Unasked, s.Outputs)
	}
	v, err := b.Service.Stacks.Verify(ctx, b.Rig.Admin, "quay")
	if err != nil || !v.Healthy {
		t.Errorf("verified: %+v %v", v, err)
	}
	if p := apply(map[string]any{"size": "s1.medium"}); servicetest.Changes(p) != "alter host" {
		t.Errorf("another size: %s", servicetest.Changes(p))
	}
	if n := c.Count(func(kind string, x map[string]any) bool {
		return kind == "servers" && x["status"] == "VERIFY_RESIZE" && x["OS-EXT-STS:task_state"] == nil
	}); n != 0 { // nobody is at work on it
		t.Error("a size that was proved waits to be confirmed")
	}
	// A size that does not do is given back, and recorded as what there is.
	if _, err := b.Service.Accounts.Bound(ctx, b.Rig.Admin, "harbour", accounts.Bounds{
		Unreached: &reached,
	}); err != nil {
		t.Fatal(err)
	}
	p := propose(map[string]any{"size": "s1.small"})
	run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, p))
	if run.State != "failed" || servicetest.Changes(p) != "alter host" {
		t.Errorf("a size under which nobody answers: %s, the run is %s", servicetest.Changes(p), run.State)
	}
	if _, err := b.Service.Accounts.Bound(ctx, b.Rig.Admin, "harbour", accounts.Bounds{
		Unreached: &unreached,
	}); err != nil {
		t.Fatal(err)
	}
	if p = propose(map[string]any{"size": "s1.small"}); servicetest.Changes(p) != "alter host" ||
		strings.Contains(fmt.Sprint(p.Changes), "by hand") {
		t.Errorf("the same size again: %+v", p.Changes)
	}
	var port string
	c.Count(func(kind string, x map[string]any) bool {
		if owner, _ := x["device_owner"].(string); kind == "ports" && strings.HasPrefix(owner, "compute:") {
			port = x["id"].(string)
		}
		return false
	})
	c.Break("ports", port, nil)
	v, err = b.Service.Stacks.Verify(ctx, b.Rig.Admin, "quay")
	if err != nil || v.Healthy ||
		!strings.Contains(fmt.Sprint(v.Resources), "a port of it was removed by somebody else") {
		t.Errorf("without its port: %+v %v", v.Resources, err)
	}
	c.Revoke()
	if p := apply(map[string]any{"size": "s1.medium"}); servicetest.Changes(p) != "rebuild host" {
		t.Errorf("the mend: %s", servicetest.Changes(p))
	}
	p, err = b.Service.Proposing.Retire(ctx, b.Rig.Admin, "quay")
	if err != nil {
		t.Fatal(err)
	}
	b.Done(p)
	if left := c.Left(); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
}
