package larch_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"undersail/internal/await"
	"undersail/sim"
	"undersail/sim/world"
)

// client speaks to a Larch as anybody could, without the product.
type client struct {
	t     *testing.T
	cloud *sim.Running
	token string
}

func open(t *testing.T, dir string, pace float64) *client {
	t.Helper()
	cloud, err := sim.Start(sim.Config{Dir: dir, Accounts: []string{"saltmere-lab"}, Pace: pace, Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	c := &client{t: t, cloud: cloud}
	http.DefaultClient.CloseIdleConnections() // to a simulator that may have been there before
	a := cloud.Accounts[0]
	res, err := http.PostForm(cloud.Place.Larch+"/sign-in/token", url.Values{
		"grant_type":    {"client_credentials"},
		"client_id":     {a.ClientID},
		"client_secret": {a.ClientSecret},
	})
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	var got struct {
		AccessToken string `json:"access_token"`
	}
	if json.NewDecoder(res.Body).Decode(&got); got.AccessToken == "" {
		t.Fatalf("signing in answers %s", res.Status)
	}
	c.token = got.AccessToken
	return c
}

func setup(t *testing.T, pace float64) *client {
	c := open(t, t.TempDir(), pace)
	t.Cleanup(func() { c.cloud.Close() })
	return c
}

func (c *client) call(method, path string, body any) (int, map[string]any, http.Header) {
	c.t.Helper()
	raw, err := json.Marshal(body)
	if err != nil {
		c.t.Fatal(err)
	}
	req, err := http.NewRequest(method, c.cloud.Place.Larch+"/v1/"+path, bytes.NewReader(raw))
	if err != nil {
		c.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, nil, nil
	}
	defer res.Body.Close()
	var out map[string]any
	json.NewDecoder(res.Body).Decode(&out)
	return res.StatusCode, out, res.Header
}

type props = map[string]any

func (c *client) make(path, label string, p props) (id string) {
	c.t.Helper()
	status, out, _ := c.call("PUT", "regions/north-fell/"+path, props{
		"label":      label,
		"properties": p,
		"tags":       props{"test": label},
	})
	if status != 202 {
		c.t.Fatalf("%s: %d %v", path, status, out)
	}
	c.ready(path)
	return out["resource"].(map[string]any)["id"].(string)
}

func (c *client) ready(path string) map[string]any {
	c.t.Helper()
	var attributes map[string]any
	await.Until(c.t, path+" is ready", func() bool {
		_, out, _ := c.call("GET", "regions/north-fell/"+path, nil)
		if out["phase"] != "ready" {
			return false
		}
		attributes = out["attributes"].(map[string]any)
		_, told := attributes["reach"] // a machine tells how it is reached a little later
		return told || !strings.HasPrefix(path, "instances/")
	})
	return attributes
}

func cloudConfig(text string) string {
	return base64.StdEncoding.EncodeToString([]byte("#cloud-config\n" + text))
}

func TestItRefusesWhatRealCloudsRefuse(t *testing.T) {
	t.Parallel()
	c := setup(t, 1000)
	network := c.make("networks/net-one", "one", props{"cidr": "10.1.0.0/16"})
	subnet := c.make("subnets/sub-one", "one", props{
		"network_id": network,
		"cidr":       "10.1.0.0/24",
		"zone":       "north-fell-b",
	})
	disk := c.make("disks/dsk-one", "one", props{"gib": 20, "class": "solid", "zone": "north-fell-a"})
	c.make("keys/key-one", "one", props{
		"public_key": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIH3vDlXvW1kTjJ0mJqQ2eV6f3v6r9Ztq0ZqzB1m0c1xY " +
			"duty@saltmere.example",
	})
	machine := func(change props) props {
		p := props{"size": "plain-2", "image": "debian-12", "subnet_id": subnet}
		for k, v := range change {
			p[k] = v
		}
		return p
	}
	for _, x := range []struct {
		about, method, path string
		p                   props
		status              int
		kind, property      string
	}{
		{"a range that overlaps", "PUT", "networks/net-two", props{"cidr": "10.1.128.0/20"}, 409, "overlap", "cidr"},
		{"a range with host bits", "PUT", "networks/net-two", props{"cidr": "10.2.0.1/16"}, 422, "invalid", "cidr"},
		{"a name too short", "PUT", "networks/n", props{"cidr": "10.2.0.0/16"}, 422, "invalid", "name"},
		{"an unknown property", "PUT", "networks/net-two", props{"cidr": "10.2.0.0/16", "colour": "red"}, 422,
			"invalid", "colour"},
		{"an unknown kind", "PUT", "clouds/net-two", props{}, 404, "no-kind", ""},
		{"the same name for another body", "PUT", "networks/net-one", props{"cidr": "10.9.0.0/16"}, 409, "conflict",
			""},
		{"a subnet outside its network", "PUT", "subnets/sub-two", props{"network_id": network, "cidr": "10.2.0.0/24"},
			422, "invalid", "cidr"},
		{"a subnet on another", "PUT", "subnets/sub-two", props{"network_id": network, "cidr": "10.1.0.0/25"}, 409,
			"overlap", "cidr"},
		{"a subnet in no zone", "PUT", "subnets/sub-two",
			props{"network_id": network, "cidr": "10.1.1.0/24", "zone": "moon-a"}, 422, "invalid", "zone"},
		{"a subnet of no network", "PUT", "subnets/sub-two", props{"network_id": "net-none", "cidr": "10.1.1.0/24"},
			422, "invalid", "network_id"},
		{"a rule without a range", "PUT", "firewalls/fw-one",
			props{"network_id": network, "inbound": []any{props{"source": "all", "port": 22}}}, 422, "invalid",
			"inbound[0].source"},
		{"a rule for no port", "PUT", "firewalls/fw-one",
			props{"network_id": network, "inbound": []any{props{"source": "10.0.0.0/8", "port": 70000}}}, 422,
			"invalid", "inbound[0].port"},
		{"a key that is none", "PUT", "keys/key-two", props{"public_key": "hello"}, 422, "invalid", "public_key"},
		{"an empty secret", "PUT", "secrets/sec-one", props{}, 422, "invalid", "value"},
		{"a disk class that is not sold", "PUT", "disks/dsk-two", props{"gib": 20, "class": "golden"}, 422, "invalid",
			"class"},
		{"a disk too small for its class", "PUT", "disks/dsk-two", props{"gib": 20, "class": "cold"}, 422, "invalid",
			"gib"},
		{"a disk class of another zone", "PUT", "disks/dsk-two",
			props{"gib": 60, "class": "local", "zone": "north-fell-c"}, 422, "invalid", "zone"},
		{"a size the zone does not sell", "PUT", "instances/vm-two", machine(props{"size": "vast-64"}), 422, "not-sold",
			"size"},
		{"a size no longer sold", "PUT", "instances/vm-two", machine(props{"size": "plain-48"}), 422, "not-sold",
			"size"},
		{"an image of another architecture", "PUT", "instances/vm-two", machine(props{"image": "debian-12-arm"}), 422,
			"invalid", "image"},
		{"an image too large for the size", "PUT", "instances/vm-two",
			machine(props{"size": "plain-1", "image": "tide-archive-2"}), 422, "invalid", "size"},
		{"a zone other than the subnet's", "PUT", "instances/vm-two", machine(props{"zone": "north-fell-a"}), 422,
			"invalid", "zone"},
		{"a disk of another zone", "PUT", "instances/vm-two", machine(props{"disks": []any{props{"disk_id": disk}}}),
			422, "invalid", "disks[0]"},
		{"no such firewall", "PUT", "instances/vm-two", machine(props{"firewall_ids": []any{"fw-none"}}), 422,
			"invalid", "firewall_ids"},
		{"user data that is no cloud-config", "PUT", "instances/vm-two", machine(props{"user_data": "aGVsbG8="}), 422,
			"invalid", "user_data"},
		{"more than the quota", "PUT", "instances/vm-two", machine(props{"size": "plain-64"}), 202, "", ""},
		{"and then even more", "PUT", "instances/vm-three", machine(props{"size": "plain-64"}), 403, "quota", ""},
		{"a range that is fixed", "PATCH", "networks/net-one", props{"cidr": "10.3.0.0/16"}, 422, "fixed", "cidr"},
		{"a shrinking disk", "PATCH", "disks/dsk-one", props{"gib": 10}, 422, "invalid", "gib"},
		{"removing what is used", "DELETE", "networks/net-one", nil, 409, "in-use", ""},
		{"what was never there", "GET", "networks/net-none", nil, 404, "gone", ""},
	} {
		var body any
		if x.p != nil {
			body = props{"label": "x", "properties": x.p}
		}
		status, out, _ := c.call(x.method, "regions/north-fell/"+x.path, body)
		kind, _ := out["type"].(string)
		property, _ := out["property"].(string)
		if status != x.status || x.kind != "" && kind != "urn:larch:"+x.kind || property != x.property {
			t.Errorf("%s: %d %v, want %d %s about %q", x.about, status, out, x.status, x.kind, x.property)
		}
	}
	if status, _, _ := c.call("GET", "regions/nowhere-bay/market", nil); status != 404 {
		t.Errorf("a region that is none: %d", status)
	}
}

func TestAPrerequisiteThatIsNotReadyIsRefused(t *testing.T) {
	t.Parallel()
	c := setup(t, 4) // a network takes a second
	_, out, _ := c.call("PUT", "regions/north-fell/networks/net-slow", props{
		"label":      "slow",
		"properties": props{"cidr": "10.1.0.0/16"},
	})
	network := out["resource"].(map[string]any)
	if network["phase"] != "making" || network["ready_in"] == nil {
		t.Errorf("a network just asked for is %v", network)
	}
	status, out, _ := c.call("PUT", "regions/north-fell/subnets/sub-slow", props{
		"label":      "s",
		"properties": props{"network_id": network["id"], "cidr": "10.1.0.0/24"},
	})
	if status != 409 || out["type"] != "urn:larch:not-ready" {
		t.Errorf("a subnet before its network: %d %v", status, out)
	}
	_, op, _ := c.call("GET", "regions/north-fell/operations/create."+network["id"].(string), nil)
	if op["state"] != "going" {
		t.Errorf("its operation is %v", op)
	}
	c.ready("networks/net-slow")
	_, op, _ = c.call("GET", "regions/north-fell/operations/create."+network["id"].(string), nil)
	if op["state"] != "done" {
		t.Errorf("then its operation is %v", op)
	}
}

func TestConditionsGuardChanges(t *testing.T) {
	t.Parallel()
	c := setup(t, 1000)
	c.make("disks/dsk-one", "one", props{"gib": 20, "class": "solid"})
	req, _ := http.NewRequest("DELETE", c.cloud.Place.Larch+"/v1/regions/north-fell/disks/dsk-one", nil)
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("If-Match", "7")
	if res, err := http.DefaultClient.Do(req); err != nil || res.StatusCode != 412 {
		t.Errorf("removing another generation: %v %v", res, err)
	}
}

func TestFaultsStrikeAsPlanned(t *testing.T) {
	t.Parallel()
	c := setup(t, 1000)
	plan := func(f world.Fault) {
		raw, _ := json.Marshal(f)
		res, err := http.Post(c.cloud.Place.Admin+"/faults", "application/json", bytes.NewReader(raw))
		if err != nil || res.StatusCode != 201 {
			t.Fatal(res, err)
		}
		res.Body.Close()
	}
	make := func(name, cidr string) (int, map[string]any, http.Header) {
		return c.call("PUT", "regions/north-fell/networks/"+name, props{
			"label":      name,
			"properties": props{"cidr": cidr},
		})
	}
	plan(world.Fault{Kind: "throttle", On: "networks", Count: 1, Seconds: 3})
	if status, _, h := make("net-one", "10.1.0.0/16"); status != 429 || h.Get("Retry-After") != "3" {
		t.Errorf("throttled: %d %q", status, h.Get("Retry-After"))
	}
	plan(world.Fault{Kind: "server-error", On: "networks", Count: 1})
	if status, _, _ := make("net-one", "10.1.0.0/16"); status != 503 {
		t.Errorf("server error: %d", status)
	}
	plan(world.Fault{Kind: "lose-answer", On: "networks", Count: 1})
	if status, _, _ := make("net-one", "10.1.0.0/16"); status != 0 {
		t.Errorf("a lost answer came: %d", status)
	}
	if status, _, _ := make("net-one", "10.1.0.0/16"); status != 200 {
		t.Errorf("the same call again: %d, want 200 for what is there", status)
	}
	plan(world.Fault{Kind: "late-failure", On: "networks", Label: "doomed", Count: 1})
	make("net-doomed", "10.2.0.0/16")
	var out map[string]any
	await.Holds(func() bool {
		_, out, _ = c.call("GET", "regions/north-fell/networks/net-doomed", nil)
		return out["phase"] != "making"
	})
	if out["phase"] != "broken" || out["why"] == nil {
		t.Errorf("late failure: %v", out)
	}
	plan(world.Fault{Kind: "stuck", On: "networks", Count: 1})
	make("net-stuck", "10.3.0.0/16")
	time.Sleep(30 * time.Millisecond) // longer than a network takes
	if _, out, _ := c.call("GET", "regions/north-fell/networks/net-stuck", nil); out["phase"] != "making" {
		t.Errorf("stuck: %v", out["phase"])
	}
	res, err := http.Post(c.cloud.Place.Admin+"/faults", "application/json", strings.NewReader(`{"kind":"hurricane"}`))
	if err != nil || res.StatusCode != 400 {
		t.Errorf("a fault that is none: %v", err)
	}
	ledger := c.ledger()
	struck := map[string]int{}
	for _, call := range ledger.Calls {
		struck[call.Fault]++
	}
	if struck["throttle"] != 1 || struck["server-error"] != 1 || struck["lose-answer"] != 1 {
		t.Errorf("the ledger tells of %v", struck)
	}
}

func (c *client) ledger() world.Ledger {
	c.t.Helper()
	res, err := http.Get(c.cloud.Place.Admin + "/ledger")
	if err != nil {
		c.t.Fatal(err)
	}
	defer res.Body.Close()
	var l world.Ledger
	if err := json.NewDecoder(res.Body).Decode(&l); err != nil {
		c.t.Fatal(err)
	}
	return l
}

func TestStateSurvivesARestart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	c := open(t, dir, 300)
	network := c.make("networks/net-one", "one", props{"cidr": "10.1.0.0/16"})
	subnet := c.make("subnets/sub-one", "one", props{"network_id": network, "cidr": "10.1.0.0/24"})
	rules := c.make("firewalls/fw-one", "one", props{
		"network_id": network,
		"inbound":    []any{props{"source": "127.0.0.0/8", "port": 80}},
	})
	c.make("instances/vm-one", "one", props{
		"size":         "plain-1",
		"image":        "debian-12",
		"subnet_id":    subnet,
		"public":       true,
		"firewall_ids": []any{rules},
		"user_data":    cloudConfig("packages: [nginx]\n"),
	})
	before := c.ready("instances/vm-one")
	larch := c.cloud.Place.Larch
	if err := c.cloud.Close(); err != nil {
		t.Fatal(err)
	}
	c = open(t, dir, 300)
	defer c.cloud.Close()
	if c.cloud.Place.Larch != larch {
		t.Errorf("it was at %s and is at %s", larch, c.cloud.Place.Larch)
	}
	after := c.ready("instances/vm-one")
	for _, name := range []string{"public_address", "private_address", "host_key"} {
		if before[name] != after[name] {
			t.Errorf("%s was %v and is %v", name, before[name], after[name])
		}
	}
	at := after["reach"].(map[string]any)["80"].(string)
	await.Until(t, "the guest serves after the restart", func() bool {
		res, err := http.Get("http://" + at + "/")
		if err == nil {
			res.Body.Close()
		}
		return err == nil
	})
	if l := c.ledger(); len(l.Alive) != 4 || len(l.Calls) < 8 {
		t.Errorf("the ledger has %d alive and %d calls", len(l.Alive), len(l.Calls))
	}
}

func TestAFirewallReallyCloses(t *testing.T) {
	t.Parallel()
	c := setup(t, 600)
	network := c.make("networks/net-one", "one", props{"cidr": "10.1.0.0/16"})
	subnet := c.make("subnets/sub-one", "one", props{"network_id": network, "cidr": "10.1.0.0/24"})
	rules := c.make("firewalls/fw-one", "one", props{
		"network_id": network,
		"inbound":    []any{props{"source": "127.0.0.9/32", "port": 80}},
	})
	c.make("instances/vm-one", "one", props{
		"size":         "plain-1",
		"image":        "debian-12",
		"subnet_id":    subnet,
		"public":       true,
		"firewall_ids": []any{rules},
		"user_data":    cloudConfig("packages: [nginx]\n"),
	})
	at := c.ready("instances/vm-one")["reach"].(map[string]any)["80"].(string)
	dial := func(from string) error {
		d := net.Dialer{Timeout: 400 * time.Millisecond, LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
		conn, err := d.Dial("tcp", at)
		if err != nil {
			return err
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(400 * time.Millisecond))
		fmt.Fprint(conn, "GET / HTTP/1.0\r\n\r\n")
		_, err = conn.Read(make([]byte, 1))
		return err
	}
	until := func(what string, holds func() bool) { t.Helper(); await.Until(t, what, holds) }
	until("the allowed source gets in", func() bool { return dial("127.0.0.9") == nil })
	want := "timeout" // root's sockets drop the packets
	if os.Geteuid() != 0 {
		want = "reset"
	}
	if err := dial("127.0.0.1"); err == nil || !strings.Contains(err.Error(), want) {
		t.Errorf("a source that no rule allows: %v, want a %s", err, want)
	}
	status, out, _ := c.call("PATCH", "regions/north-fell/firewalls/fw-one", props{
		"properties": props{"inbound": []any{props{"source": "127.0.0.1/32", "port": 80}}},
	})
	if status != 202 {
		t.Fatal(status, out)
	}
	until("after the change the new source never gets in", func() bool { return dial("127.0.0.1") == nil })
	if err := dial("127.0.0.9"); err == nil {
		t.Error("after the change the old source still gets in")
	}
}

func TestPagesAndTags(t *testing.T) {
	t.Parallel()
	c := setup(t, 1000)
	for i := range 55 {
		path := fmt.Sprintf("regions/north-fell/addresses/adr-%02d", i)
		status, out, _ := c.call("PUT", path, props{"label": "a", "tags": props{"team": fmt.Sprint(i % 2)}})
		if want := 202; i < 24 && status != want {
			t.Fatal(status, out)
		} else if i >= 24 && out["type"] != "urn:larch:quota" {
			t.Fatalf("address %d beyond the quota: %d %v", i, status, out)
		}
		if i == 24 {
			break
		}
	}
	_, out, h := c.call("GET", "regions/north-fell/resources?tag=team:1", nil)
	if n := len(out["resources"].([]any)); n != 12 || h.Get("Link") != "" {
		t.Errorf("%d of 12 with the tag, link %q", n, h.Get("Link"))
	}
}

// TestWhatTurnsBadAfterwards plans the faults of things that were well.
func TestWhatTurnsBadAfterwards(t *testing.T) {
	t.Parallel()
	c := setup(t, 1000)
	admin := func(method, path string, body any) int {
		raw, _ := json.Marshal(body)
		req, _ := http.NewRequest(method, c.cloud.Place.Admin+path, bytes.NewReader(raw))
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		return res.StatusCode
	}
	lift := func() { admin("DELETE", "/faults", nil) }
	network := c.make("networks/us-net", "net", props{"cidr": "10.1.0.0/16"})
	lan := c.make("subnets/us-lan", "lan", props{"network_id": network, "cidr": "10.1.0.0/24"})
	rules := c.make("firewalls/us-fw", "rules", props{
		"network_id": network,
		"inbound":    []any{props{"source": "127.0.0.0/8", "port": 80}},
	})
	disk := c.make("disks/us-disk", "data", props{"gib": 20, "class": "solid"})
	c.make("instances/us-vm", "host", props{
		"size":         "plain-1",
		"image":        "debian-12",
		"subnet_id":    lan,
		"public":       true,
		"firewall_ids": []any{rules},
		"disks":        []any{props{"disk_id": disk, "mount": "/data"}},
		"user_data":    cloudConfig("packages: [nginx]\n"),
	})
	at := c.ready("instances/us-vm")["reach"].(map[string]any)["80"].(string)
	answers := func(want bool, about string) {
		t.Helper()
		await.Until(t, fmt.Sprintf("%s: answers %v", about, want), func() bool {
			conn, err := dial(at)
			if err == nil {
				conn.Close()
			}
			return (err == nil) == want
		})
	}
	answers(true, "well")
	for _, f := range []world.Fault{
		{Kind: "guest-dead", Label: "host", Count: -1},
		{Kind: "zone-down", Label: "north-fell-a", Count: -1},
		{Kind: "turns-back", Label: "host", Count: -1},
	} {
		admin("POST", "/faults", f)
		answers(false, f.Kind)
		lift()
		answers(true, f.Kind+" lifted")
	}
	phase := func(path string) any {
		_, out, _ := c.call("GET", "regions/north-fell/"+path, nil)
		return out["phase"]
	}
	admin("POST", "/faults", world.Fault{Kind: "disk-fails", Label: "data", Count: -1})
	if p := phase("disks/us-disk"); p != "broken" {
		t.Errorf("a failed disk is %v", p)
	}
	lift()
	admin("POST", "/faults", world.Fault{Kind: "late-visibility", On: "disks", Count: 1, Seconds: 1})
	status, _, _ := c.call("PUT", "regions/north-fell/disks/us-late", props{
		"label":      "late",
		"properties": props{"gib": 20, "class": "solid"},
	})
	if status != 202 {
		t.Fatal(status)
	}
	if status, _, _ := c.call("GET", "regions/north-fell/disks/us-late", nil); status != 404 {
		t.Errorf("a fresh disk is seen at once: %d", status)
	}
	c.ready("disks/us-late")
	if status := admin("DELETE", "/resources/data", nil); status != http.StatusConflict {
		t.Errorf("deleting by hand what is in use answers %d", status)
	}
	status = admin("PATCH", "/resources/rules", props{"inbound": []any{props{"source": "x", "port": 80}}})
	if status != http.StatusConflict {
		t.Errorf("a change by hand that breaks the rules answers %d", status)
	}
	admin("PATCH", "/resources/rules", props{"inbound": []any{}})
	answers(false, "closed by hand")
	if status := admin("DELETE", "/resources/host?force", nil); status != 200 || phase("instances/us-vm") != nil {
		t.Errorf("deleted by hand (%d) it is %v", status, phase("instances/us-vm"))
	}
	admin("POST", "/faults", world.Fault{Kind: "credentials-end", Count: -1})
	if status, _, _ := c.call("GET", "me", nil); status != 401 {
		t.Errorf("ended credentials are answered %d", status)
	}
}

func dial(at string) (net.Conn, error) { return net.DialTimeout("tcp", at, 200*time.Millisecond) }

func TestAStaleReadTellsWhatWasAMomentAgo(t *testing.T) {
	t.Parallel()
	c := setup(t, 20)
	c.make("disks/us-disk", "data", props{"gib": 20, "class": "solid"})
	gib := func() any {
		_, out, _ := c.call("GET", "regions/north-fell/disks/us-disk", nil)
		properties, _ := out["properties"].(map[string]any)
		return properties["gib"]
	}
	plan := func() {
		raw, _ := json.Marshal(world.Fault{Kind: "stale-read", On: "disks", Count: 1})
		res, err := http.Post(c.cloud.Place.Admin+"/faults", "application/json", bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
	}
	time.Sleep(c.cloud.Real(10)) // until its making is no news any more
	plan()
	if g := gib(); g != 20.0 {
		t.Errorf("a disk of yesterday is told as %v", g)
	}
	status, _, _ := c.call("PATCH", "regions/north-fell/disks/us-disk", props{"properties": props{"gib": 30}})
	if status != 202 {
		t.Fatal(status)
	}
	if old, now := gib(), gib(); old != 20.0 || now != 30.0 {
		t.Errorf("a stale read tells %v and the next one %v", old, now)
	}
}
