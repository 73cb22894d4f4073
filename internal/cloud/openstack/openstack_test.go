package openstack

import (
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/gophercloud/gophercloud/v2"

	"undersail/internal/await"
	"undersail/internal/cloud"
	"undersail/internal/cloud/cloudtest"
	"undersail/internal/cloud/openstack/openstacktest"
	"undersail/internal/core/resource"
)

// standIn opens the project of a stand-in of its own.
func standIn(t *testing.T) (*openstacktest.Cloud, *Adapter, *cloudtest.Faults) {
	t.Helper()
	c := openstacktest.Start()
	t.Cleanup(c.Close)
	a, faults := open(t, c.Endpoint(), Credentials{
		ApplicationID:     openstacktest.ApplicationID,
		ApplicationSecret: openstacktest.ApplicationSecret,
	})
	return c, a, faults
}

func TestConformance(t *testing.T) {
	t.Parallel()
	cloudtest.Run(t, func(t *testing.T) cloudtest.Place {
		c, a, faults := standIn(t)
		stranger, _ := open(t, c.Endpoint(), Credentials{
			ApplicationID:     openstacktest.ApplicationID,
			ApplicationSecret: "wrong",
		})
		return cloudtest.Place{
			Adapter:  a,
			Stranger: stranger,
			Region:   openstacktest.Region,
			Size:     "s1.small",
			Image:    "debian-12",
			DiskType: "standard",
			Patience: 5 * time.Second,
			Fault:    faults.Plan,
			Made: func(mark string) int {
				return c.Count(func(kind string, raw map[string]any) bool {
					text, _ := raw["description"].(string)
					name, _ := raw["name"].(string)
					return kind != "routers" &&
						(text == marking+mark ||
							kind == "os-keypairs" && len(name) > len(mark) && name[len(name)-len(mark):] == mark)
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
				default:
					return map[string]any{"size": "s1.small", "zone": "zone-a:compute1"}, false
				}
			},
		}
	})
}

// subjects are what is cut off at each call: networks and volumes, and what has a server.
func subjects(image, size, other, diskType string) (plain, servers []cloudtest.Subject) {
	network := cloudtest.Given{Name: "net", Type: "network", Want: map[string]any{"range": "10.1.0.0/16"}}
	subnet := cloudtest.Given{
		Name: "lan",
		Type: "subnet",
		Want: map[string]any{"network": "=net", "range": "10.1.1.0/24"},
	}
	rule := func(port int64) any {
		return map[string]any{"from": "198.51.100.0/24", "port": port, "about": "readers"}
	}
	rules := cloudtest.Given{
		Name: "rules",
		Type: "firewall",
		Want: map[string]any{"network": "=net", "rules": []any{rule(22)}},
	}
	disk := cloudtest.Given{Name: "data", Type: "disk", Want: map[string]any{"size": "1GiB", "type": diskType}}
	logs := cloudtest.Given{Name: "logs", Type: "disk", Want: disk.Want}
	key := cloudtest.Given{
		Name: "key",
		Type: "key_pair",
		Want: map[string]any{
			"public_key": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIH3vDlXvW1kTjJ0mJqQ2eV6f3v6r9Ztq0ZqzB1m0c1xY " +
				"duty@saltmere.example",
		},
	}
	return []cloudtest.Subject{
			{Type: "network", Want: network.Want, Alter: map[string]any{"name": "another"}},
			{
				Type:   "subnet",
				Before: []cloudtest.Given{network},
				Want:   subnet.Want,
				Alter:  map[string]any{"name": "another"},
			},
			{
				Type:   "firewall",
				Before: []cloudtest.Given{network},
				Want:   map[string]any{"network": "=net", "rules": []any{rule(80), rule(443)}},
				Alter:  map[string]any{"rules": []any{rule(443), rule(8443)}},
			},
			{Type: "address"},
			{Type: "key_pair", Want: key.Want},
			{Type: "disk", Want: disk.Want, Alter: map[string]any{"size": "2GiB"}},
		}, []cloudtest.Subject{
			{
				Type:   "instance",
				Before: []cloudtest.Given{network, subnet, rules, disk, logs, key},
				Want: map[string]any{
					"size":      size,
					"image":     image,
					"subnet":    "=lan",
					"firewalls": []any{"=rules"},
					"key_pair":  "=key",
					"public":    true,
					"disks":     []any{map[string]any{"disk": "=data", "mount": "/data"}},
				},
				Alter: map[string]any{
					"size":  other,
					"disks": []any{map[string]any{"disk": "=logs"}, map[string]any{"disk": "=data", "mount": "/data"}},
				},
			},
		}
}

// TestCutOffAtEveryCall kills the process before and after each changing call.
func TestCutOffAtEveryCall(t *testing.T) {
	t.Parallel()
	plain, servers := subjects("debian-12", "s1.small", "s1.medium", "standard")
	for _, s := range append(plain, servers...) {
		t.Run(s.Type, func(t *testing.T) {
			t.Parallel()
			_, a, faults := standIn(t)
			p := cloudtest.Place{Adapter: a, Region: openstacktest.Region, Patience: 3 * time.Second}
			k := cloudtest.Kills(t, p, faults, s,
				func(mark string) map[string]int { return things(t, a, openstacktest.Region, mark) })
			if k.Create == 0 || k.Remove == 0 || s.Alter != nil && k.Alter == 0 {
				t.Errorf("cuts: %+v", k)
			}
			t.Logf("%s: %+v", s.Type, k)
		})
	}
}

// things counts by kind what carries a mark.
func things(t *testing.T, a *Adapter, region, mark string) map[string]int {
	t.Helper()
	out := map[string]int{}
	for kind := range kinds {
		list, err := a.list(t.Context(), region, kind, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range list {
			if m := x.mark(); m == mark || strings.HasPrefix(m, mark+".") {
				out[kind]++
			}
		}
	}
	return out
}

// step makes something on a stand-in, step by step. After each one, after is given whether
// another is needed and what a look sees.
func step(t *testing.T, a *Adapter, typeName, name string, want map[string]any,
	after func(more bool, l cloud.Live)) cloud.Live {
	t.Helper()
	want["name"] = name
	task := cloud.Task{
		Action: cloud.Create,
		Ref:    cloud.Ref{Region: openstacktest.Region, Type: typeName, Token: "us-" + name + "-" + typeName},
		Want:   want,
		Tags:   map[string]string{cloud.TagStack: name},
	}
	var l cloud.Live
	await.Until(t, typeName+" is made", func() bool {
		p, err := a.Step(t.Context(), task, func(p cloud.Part) error { task.Ref = task.Ref.With(p); return nil })
		if err != nil {
			t.Fatal(err)
		}
		for _, part := range p.Live.Parts {
			task.Ref = task.Ref.With(part)
		}
		if l, _, err = a.Look(t.Context(), task.Ref); err != nil {
			t.Fatal(err)
		}
		after(p.More, l)
		return !p.More && l.Phase != cloud.Making
	})
	return l
}

// made makes a network, a subnet and a machine on it, on a stand-in.
func made(t *testing.T, a *Adapter) (network, subnet, machine cloud.Live) {
	t.Helper()
	make := func(typeName string, want map[string]any) cloud.Live {
		t.Helper()
		return step(t, a, typeName, "pier", want, func(bool, cloud.Live) {})
	}
	network = make("network", map[string]any{"range": "10.1.0.0/16"})
	subnet = make("subnet", map[string]any{"network": network.ID, "range": "10.1.1.0/24"})
	return network, subnet, make("instance", map[string]any{
		"size":   "s1.small",
		"image":  "debian-12",
		"subnet": subnet.ID,
		"public": true,
	})
}

// TestAMachineIsNotThereBeforeItsFixedAddresses looks between the calls that make one with
// two cards, each with an address of its own.
func TestAMachineIsNotThereBeforeItsFixedAddresses(t *testing.T) {
	t.Parallel()
	c, a, _ := standIn(t)
	_, subnet, _ := made(t, a)
	no := func(bool, cloud.Live) {}
	first, second := step(t, a, "address", "quay", map[string]any{}, no),
		step(t, a, "address", "lamp", map[string]any{}, no)
	waited := false
	m := step(t, a, "instance", "quay",
		map[string]any{"size": "s1.small", "image": "debian-12", "subnet": subnet.ID, "address": first.ID,
			"cards": []any{map[string]any{"subnet": subnet.ID, "address": second.ID}}}, func(_ bool, l cloud.Live) {
			for _, address := range []cloud.Live{first, second} {
				f, err := a.byID(t.Context(), openstacktest.Region, "floating", address.ID)
				if err != nil {
					t.Fatal(err)
				}
				if there := f.Port != "" && f.Status == "ACTIVE"; !there && l.Phase == cloud.Ready {
					t.Errorf("it is ready, and %s is %s on port %q", f.Floating, f.Status, f.Port)
				}
			}
			waited = waited || strings.HasPrefix(l.Why, "203.0.113.")
		})
	if !waited {
		t.Error("nothing told which address is waited for")
	}
	if m.Phase != cloud.Ready || m.Has["address"] != first.ID ||
		m.Attributes["public_address"] != first.Attributes["address"] || len(m.Parts) != 3 || len(m.Tags) != 1 {
		t.Errorf("%+v", m)
	}
	c.Break("floatingips", second.ID, map[string]any{"port_id": nil})
	l, _, err := a.Look(t.Context(), m.Ref)
	if err != nil || l.Phase != cloud.Making || l.Why != fmt.Sprint(second.Attributes["address"], " is not on it") {
		t.Errorf("with an address taken off it is %s: %s, %v", l.Phase, l.Why, err)
	}
	c.Break("floatingips", first.ID, nil)
	l, _, err = a.Look(t.Context(), m.Ref)
	if err != nil || l.Phase != cloud.Broken || !strings.Contains(l.Why, "fixed address was removed") {
		t.Errorf("with an address removed it is %s: %s, %v", l.Phase, l.Why, err)
	}
}

// TestARegionMayDoWithoutVolumes offers what there is, and finds what there is.
func TestARegionMayDoWithoutVolumes(t *testing.T) {
	t.Parallel()
	c, a, _ := standIn(t)
	c.Diskless = true
	o, err := a.Offers(t.Context(), openstacktest.Region)
	if err != nil {
		t.Fatal(err)
	}
	if slices.Contains(o.Types, "disk") || !slices.Contains(o.Types, "instance") ||
		!slices.Contains(o.Without["instance"], "disks") || len(o.DiskTypes) > 0 || o.Quotas["disks"].Limit > 0 ||
		o.Quotas["vcpus"].Limit == 0 {
		t.Errorf("%+v", o)
	}
	network, _, _ := made(t, a)
	all, err := cloud.Collect(a.Search(t.Context(), cloud.Query{Region: openstacktest.Region, Tags: network.Tags}))
	if err != nil || len(all) != 3 {
		t.Errorf("found %d, %v", len(all), err)
	}
	disk := cloud.Task{
		Action: cloud.Create,
		Ref:    cloud.Ref{Region: openstacktest.Region, Type: "disk", Token: "us-none"},
		Want:   map[string]any{"name": "none", "size": "1GiB"},
	}
	_, err = a.Step(t.Context(), disk, func(cloud.Part) error { return nil })
	if cloud.ClassOf(err) != cloud.Invalid || !strings.Contains(err.Error(), "volumev3") {
		t.Errorf("a disk there: %v", err)
	}
}

// TestWhatSomebodyTookAwayIsTold removes parts behind our back, and breaks a volume.
func TestWhatSomebodyTookAwayIsTold(t *testing.T) {
	t.Parallel()
	c, a, _ := standIn(t)
	network, _, machine := made(t, a)
	look := func(l cloud.Live) (cloud.Phase, string) {
		t.Helper()
		now, there, err := a.Look(t.Context(), l.Ref)
		if err != nil || there != cloud.Present {
			t.Fatal(there, err)
		}
		return now.Phase, now.Why
	}
	if phase, why := look(machine); phase != cloud.Ready {
		t.Fatal(phase, why)
	}
	c.Break("floatingips", machine.Part("floating", machine.Token).ID, nil)
	if phase, why := look(machine); phase != cloud.Broken || !strings.Contains(why, "floating address was removed") {
		t.Errorf("without its floating address it is %s: %s", phase, why)
	}
	c.Break("ports", machine.Part("port", machine.Token).ID, nil)
	if phase, why := look(machine); phase != cloud.Broken || !strings.Contains(why, "port of it was removed") {
		t.Errorf("without its port it is %s: %s", phase, why)
	}
	c.Break("servers", machine.ID, map[string]any{"status": "SHUTOFF"})
	if phase, why := look(machine); phase != cloud.Making || why != "it is shut off" {
		t.Errorf("shut off it is %s: %s", phase, why)
	}
	c.Break("routers", network.Part("router", network.Token).ID, nil)
	if phase, why := look(network); phase != cloud.Broken || why != "its router is gone" {
		t.Errorf("without its router the network is %s: %s", phase, why)
	}
	doomed := cloud.Task{
		Action: cloud.Create,
		Ref:    cloud.Ref{Region: openstacktest.Region, Type: "disk", Token: "us-doomed"},
		Want:   map[string]any{"name": "doomed", "size": "1GiB"},
	}
	p, err := a.Step(t.Context(), doomed, func(cloud.Part) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	phase, why := cloud.Making, ""
	await.Holds(func() bool { phase, why = look(p.Live); return phase != cloud.Making })
	if phase != cloud.Broken || !strings.Contains(why, "available weighted backend") {
		t.Errorf("a volume that fails is %s: %s", phase, why)
	}
}

// TestARevokedTokenIsReplaced goes on with another one, as long as there is one to have.
func TestARevokedTokenIsReplaced(t *testing.T) {
	t.Parallel()
	c, a, _ := standIn(t)
	network, _, _ := made(t, a)
	c.Revoke()
	if _, there, err := a.Look(t.Context(), network.Ref); err != nil || there != cloud.Present {
		t.Errorf("after its token was revoked: %s %v", there, err)
	}
}

// TestAResizeIsOnTrialUntilItIsConfirmed keeps one size and gives another back.
func TestAResizeIsOnTrialUntilItIsConfirmed(t *testing.T) {
	t.Parallel()
	_, a, _ := standIn(t)
	network, _, machine := made(t, a)
	status := func() string {
		t.Helper()
		s, err := a.byID(t.Context(), openstacktest.Region, "server", machine.ID)
		if err != nil || s == nil {
			t.Fatal(s, err)
		}
		return s.Status
	}
	to := func(size string) cloud.Live {
		t.Helper()
		var l cloud.Live
		await.Until(t, "it has the size "+size, func() bool {
			var err error
			if l, _, err = a.Look(t.Context(), machine.Ref); err != nil {
				t.Fatal(err)
			}
			is := l.Phase == cloud.Ready && l.Has["size"] == size
			if l.Phase == cloud.Ready && !is {
				_, err := a.Step(t.Context(),
					cloud.Task{Action: cloud.Alter, Ref: l.Ref, Want: map[string]any{"size": size}}, nil)
				if err != nil {
					t.Fatal(err)
				}
			}
			return is
		})
		return l
	}
	settled := func(want string) {
		t.Helper()
		var l cloud.Live
		await.Holds(func() bool {
			l, _, _ = a.Look(t.Context(), machine.Ref)
			return l.Phase == cloud.Ready && status() == "ACTIVE"
		})
		if now := status(); now != "ACTIVE" || l.Has["size"] != want {
			t.Errorf("settled it has the size %v and is %s; want %s", l.Has["size"], now, want)
		}
	}
	to("s1.medium")
	if now := status(); now != "VERIFY_RESIZE" {
		t.Errorf("a new size is on no trial: %s", now)
	}
	if back, err := a.Revert(t.Context(), machine.Ref); err != nil || !slices.Equal(back, []string{"size"}) {
		t.Fatal(back, err)
	}
	settled("s1.small")
	to("s1.medium")
	if err := a.Confirm(t.Context(), machine.Ref); err != nil {
		t.Fatal(err)
	}
	settled("s1.medium")
	for _, ref := range []cloud.Ref{machine.Ref, network.Ref} {
		back, err := a.Revert(t.Context(), ref)
		if again := a.Confirm(t.Context(), ref); err != nil || len(back) > 0 || again != nil {
			t.Errorf("of a %s that is on no trial: %v %v, %v", ref.Type, back, err, again)
		}
	}
	settled("s1.medium")
}

// TestOffersTellWhatAProjectHas reads a region in which something is there.
func TestOffersTellWhatAProjectHas(t *testing.T) {
	t.Parallel()
	_, a, _ := standIn(t)
	made(t, a)
	o, err := a.Offers(t.Context(), openstacktest.Region)
	if err != nil {
		t.Fatal(err)
	}
	q := o.Quotas["machines"]
	if q.Limit != 10 || q.Used != 1 || o.Quotas["networks"].Used != 1 || o.Quotas["addresses"].Used != 1 ||
		o.Quotas["disk_gib"].Limit != 1000 {
		t.Errorf("quotas %+v", o.Quotas)
	}
	if len(o.Networks) != 1 || o.Networks[0].Range != "10.1.0.0/16" || len(o.Subnets) != 1 || o.Subnets[0].Used < 3 ||
		!o.Overlapping {
		t.Errorf("networks %+v, subnets %+v", o.Networks, o.Subnets)
	}
	if _, why, _ := o.Limits["subnet.range"].Breaks(resource.Shape{Kind: resource.Range}, "fd00::/64"); why == "" {
		t.Error("an IPv6 range is not refused")
	}
	if i, _ := o.Image("debian-12"); i.System != "debian" || i.Version != "12" || i.User != "debian" {
		t.Errorf("image %+v", i)
	}
	if len(o.DiskTypes) != 2 || strings.Join(o.Zones, " ") != "zone-a zone-b" || o.Currency != "" ||
		strings.Join(o.Types, " ") != "network subnet firewall address key_pair instance disk" {
		t.Errorf("disk types %+v, zones %v, types %v", o.DiskTypes, o.Zones, o.Types)
	}
}

// TestLimitsAreThoseOfTheInterfaces asks for the longest that the limits allow, which is taken,
// and for more, which is not.
func TestLimitsAreThoseOfTheInterfaces(t *testing.T) {
	t.Parallel()
	_, a, _ := standIn(t)
	_, subnet, _ := made(t, a)
	first := "#cloud-config\nhostname: \n"
	all := limits()
	for _, c := range []struct {
		typeName string
		most     int64
		want     func(letters int) map[string]any
	}{
		{"key_pair", all["key_pair.name"].Most, func(n int) map[string]any {
			return map[string]any{
				"name":       strings.Repeat("n", n),
				"public_key": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPSJ3kk1fmbXi1Wt9h8zV2bPyl0ZW8JwQdlyL9CyYkYk",
			}
		}},
		{"instance", all["instance.user_data"].Most, func(n int) map[string]any {
			return map[string]any{
				"name":      "pier",
				"size":      "s1.small",
				"image":     "debian-12",
				"subnet":    subnet.ID,
				"user_data": map[string]any{"hostname": strings.Repeat("n", n-len(first))},
			}
		}},
	} {
		for _, beyond := range []int{0, forMounts + 64} {
			ref := cloud.Ref{
				Region: openstacktest.Region,
				Type:   c.typeName,
				Token:  fmt.Sprintf("us-key-pair-%016d", beyond),
			}
			var err error
			for more := true; more && err == nil; {
				var p cloud.Progress
				p, err = a.Step(t.Context(),
					cloud.Task{Action: cloud.Create, Ref: ref, Want: c.want(int(c.most) + beyond)},
					func(part cloud.Part) error { ref = ref.With(part); return nil })
				more = p.More
			}
			if (err != nil) != (beyond > 0) {
				t.Errorf("a %s with %d beyond what is taken: %v", c.typeName, beyond, err)
			}
		}
	}
}

// TestFlavorsTellMoreWhereTheCloudIsNewEnough asks for a better version and falls back.
func TestFlavorsTellMoreWhereTheCloudIsNewEnough(t *testing.T) {
	t.Parallel()
	for _, old := range []bool{false, true} {
		c, a, _ := standIn(t)
		c.Old = old
		o, err := a.Offers(t.Context(), openstacktest.Region)
		if err != nil {
			t.Fatal(err)
		}
		large, _ := o.Size("s1.large")
		tells := large.Architecture == "arm64" && large.NetworkGbps == 1 && large.DiskOps == 2000
		if tells == old || large.VCPUs != 4 {
			t.Errorf("an old cloud: %t, and the size %+v", old, large)
		}
	}
}

// TestErrorsAreClassifiedByWhatTheySay reads answers of real services.
func TestErrorsAreClassifiedByWhatTheySay(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		status  int
		method  string
		body    string
		class   cloud.Class
		missing int64
		about   string
	}{
		{403, "POST",
			`{"forbidden": {"code": 403, "message": "Quota exceeded for cores: Requested 32, but already used 0 of 20 cores"}}`, cloud.Quota, 12, ""},
		{403, "POST",
			`{"forbidden": {"code": 403, "message": "Quota exceeded for instances, cores: Requested 1, 4, but already used 3, 18 of 10, 20 instances, cores"}}`, cloud.Quota, 2, ""},
		{403, "POST",
			`{"forbidden": {"code": 403, "message": "Policy doesn't allow os_compute_api:os-flavor-manage:create to be performed."}}`, cloud.Denied, 0, ""},
		{403, "POST",
			`{"NeutronError": {"type": "PolicyNotAuthorized", "message": "(rule:create_network and rule:create_network:provider:network_type) is disallowed by policy", "detail": ""}}`, cloud.Denied, 0, ""},
		{413, "POST",
			`{"overLimit": {"code": 413, "message": "VolumeSizeExceedsAvailableQuota: Requested volume or snapshot exceeds allowed gigabytes quota. Requested 1001G, quota is 1000G and 0G has been consumed.", "retryAfter": "0"}}`, cloud.Quota, 1, ""},
		{413, "POST",
			`{"overLimit": {"code": 413, "message": "VolumeLimitExceeded: Maximum number of volumes allowed (10) exceeded for quota 'volumes'.", "retryAfter": "0"}}`, cloud.Quota, 1, ""},
		{409, "POST",
			`{"NeutronError": {"type": "OverQuota", "message": "Quota exceeded for resources: ['router'].", "detail": ""}}`, cloud.Quota, 1, ""},
		{409, "DELETE",
			`{"NeutronError": {"type": "NetworkInUse", "message": "Unable to complete operation on network x. There are one or more ports still in use on the network", "detail": ""}}`, cloud.InUse, 0, ""},
		{409, "PUT",
			`{"NeutronError": {"type": "RouterInterfaceInUseByFloatingIP", "message": "Router interface for subnet x on router y cannot be deleted", "detail": ""}}`, cloud.InUse, 0, ""},
		{409, "POST",
			`{"conflictingRequest": {"code": 409, "message": "Cannot 'resize' instance x while it is in task_state powering-off"}}`, cloud.Conflict, 0, ""},
		{412, "PUT",
			`{"NeutronError": {"type": "RevisionNumberConstraintFailed", "message": "Constrained to 99, but current revision is 6", "detail": ""}}`, cloud.Conflict, 0, ""},
		{400, "DELETE",
			`{"badRequest": {"code": 400, "message": "Invalid volume: Volume status must be available or error or error_restoring and must not be migrating, attached, belong to a group"}}`, cloud.InUse, 0, ""},
		{400, "POST",
			`{"badRequest": {"code": 400, "message": "Invalid input received: Invalid volume: Volume x status must be available or downloading to reserve"}}`, cloud.Conflict, 0, ""},
		{400, "POST", `{"badRequest": {"code": 400, "message": "The requested availability zone is not available"}}`,
			cloud.Invalid, 0, "zone"},
		{400, "POST", `{"badRequest": {"code": 400, "message": "Flavor nope could not be found."}}`, cloud.Invalid, 0,
			"size"},
		{400, "POST",
			`{"NeutronError": {"type": "InvalidInput", "message": "Invalid input for operation: Requested subnet with cidr: 10.30.0.0/16 for network: x overlaps with another subnet.", "detail": ""}}`, cloud.Invalid, 0, "range"},
		{404, "GET",
			`<html><head><title>404 Not Found</title></head><body><h1>404 Not Found</h1>No image found with ID x<br /></body></html>`, cloud.Gone, 0, ""},
		{401, "GET",
			`{"error": {"code": 401, "title": "Unauthorized", "message": "The request you have made requires authentication."}}`, cloud.SignIn, 0, ""},
		{406, "GET",
			`{"computeFault": {"code": 406, "message": "Version 2.52 is not supported by the API. Minimum is 2.1 and maximum is 2.38."}}`, cloud.Invalid, 0, ""},
		{500, "POST", `{"computeFault": {"code": 500, "message": "Unexpected API Error."}}`, cloud.UnknownOutcome, 0,
			""},
		{503, "POST", ``, cloud.Transient, 0, ""},
		{502, "GET", `<html>bad gateway</html>`, cloud.Transient, 0, ""},
	} {
		err := classified(gophercloud.ErrUnexpectedResponseCode{
			Actual: c.status,
			Method: c.method,
			Body:   []byte(c.body),
		}, compute, c.method)
		var e *cloud.Error
		if !errors.As(err, &e) || e.Class != c.class || e.Missing != c.missing || e.Property != c.about ||
			strings.Contains(e.Message, "<") {
			t.Errorf("%d %s %s: %+v", c.status, c.method, c.body, e)
		}
	}
}

// TestCredentialsComeFromTheFormsOfTheTrade reads a clouds.yaml and the environment.
func TestCredentialsComeFromTheFormsOfTheTrade(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	server := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(server.Close)
	own := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}))
	for name, text := range map[string]string{
		"clouds.yaml": "clouds:\n  harbour:\n    auth_type: v3applicationcredential\n    cacert: " +
			filepath.Join(dir, "own.pem") +
			"\n    auth: {auth_url: 'https://cloud.saltmere.example:5000/v3', application_credential_id: id-1}\n" +
			"  pier:\n    auth: {auth_url: 'https://cloud.saltmere.example:5000/v3', username: ines, password: " +
			"kelp, project_name: pier, user_domain_name: Default, project_domain_name: Default}\n",
		"secure.yaml": "clouds:\n  harbour:\n    auth: {application_credential_secret: sealed}\n", "own.pem": own,
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(dir, "clouds.yaml")
	endpoint, c, err := FromCloudsFile(file, "harbour")
	if err != nil || endpoint != "https://cloud.saltmere.example:5000/v3" || c.ApplicationID != "id-1" ||
		c.ApplicationSecret != "sealed" || c.Authority != own {
		t.Errorf("%s %+v %v", endpoint, c, err)
	}
	_, c, err = FromCloudsFile(file, "pier")
	again, mapErr := FromMap(c.Map())
	if err != nil || mapErr != nil || again != c || c.User != "ines" || c.Project != "pier" ||
		c.ProjectDomain != "Default" {
		t.Errorf("%+v %v %v", c, err, mapErr)
	}
	if _, _, err := FromCloudsFile(file, "nobody"); err == nil || !strings.Contains(err.Error(), "nobody") {
		t.Errorf("an entry that is not there: %v", err)
	}
	env := map[string]string{
		"OS_AUTH_URL":     "https://cloud.saltmere.example/v3",
		"OS_USERNAME":     "ines",
		"OS_PASSWORD":     "kelp",
		"OS_PROJECT_NAME": "pier",
	}
	endpoint, c, err = FromEnvironment(func(k string) string { return env[k] })
	if err != nil || endpoint != env["OS_AUTH_URL"] || c.User != "ines" ||
		c.options(endpoint).Scope.DomainName != "Default" {
		t.Errorf("%s %+v %v", endpoint, c, err)
	}
	_, _, err = FromEnvironment(func(string) string { return "" })
	if err == nil || !strings.Contains(err.Error(), "OS_AUTH_URL") {
		t.Errorf("an empty environment: %v", err)
	}
	_, err = FromMap(map[string]string{"username": "ines", "password": "kelp"})
	if err == nil || !strings.Contains(err.Error(), "project_name") {
		t.Errorf("without a project: %v", err)
	}
	// A cloud with certificates of its own is trusted by them, and by nothing else.
	for authority, want := range map[string]cloud.Class{"": cloud.Transient, own: cloud.SignIn} {
		a, err := New(server.URL+"/v3",
			Credentials{ApplicationID: "id-1", ApplicationSecret: "sealed", Authority: authority},
			cloud.NewClient(cloud.Transport{}))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := a.WhoAmI(t.Context()); cloud.ClassOf(err) != want {
			t.Errorf("with the authority %t: %v", authority != "", err)
		}
	}
	_, err = New("https://cloud.saltmere.example", Credentials{Authority: "no certificate"},
		cloud.NewClient(cloud.Transport{}))
	if err == nil {
		t.Error("an authority that is no certificate is taken")
	}
}
