package test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/gophercloud/gophercloud/v2"
	platform "github.com/gophercloud/gophercloud/v2/openstack"
	"github.com/gophercloud/gophercloud/v2/openstack/config"
	"github.com/gophercloud/gophercloud/v2/openstack/config/clouds"
	"github.com/gophercloud/gophercloud/v2/openstack/identity/v3/tokens"
)

const (
	realAccount = "harbour"
	realRegion  = "RegionOne"
)

// serveFor runs the service by itself, with a real cloud in its reach, and signs in.
func serveFor(t *testing.T, cloudsFile string) *bench {
	t.Helper()
	bin, err := programs()
	if err != nil {
		t.Fatal(err)
	}
	b := &bench{t: t, dir: t.TempDir(), bin: bin}
	b.cmd = exec.Command(filepath.Join(bin, "undersail"), "serve", "--dir", filepath.Join(b.dir, "service"), "--listen",
		"127.0.0.1:0", "--reach", "127.40.0.1")
	b.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	out, err := b.cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	talk, err := os.Create(filepath.Join(b.dir, "talk")) // where the first link is told
	if err != nil {
		t.Fatal(err)
	}
	defer talk.Close()
	b.cmd.Stderr = talk
	if err := b.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	for b.url == "" && lines.Scan() {
		if strings.HasPrefix(lines.Text(), "ready") {
			b.url = strings.Fields(lines.Text())[1]
		}
	}
	if err := lines.Err(); err != nil {
		t.Fatal(err)
	}
	said, err := os.ReadFile(talk.Name())
	_, link, found := strings.Cut(string(said), "/welcome#")
	if !found || err != nil {
		t.Fatalf("%v: %s", err, said)
	}
	b.password = adminPassword
	b.ended = make(chan struct{})
	go func() {
		io.Copy(io.Discard, out)
		b.cmd.Wait()
		close(b.ended)
	}()
	t.Cleanup(func() {
		b.stop(syscall.SIGTERM)
		b.dropDatabase()
	})
	b.env = append(os.Environ(), "HOME="+b.dir, "XDG_CONFIG_HOME="+b.dir)
	if r := b.runWith(strings.Fields(link)[0]+"\n"+b.password+"\n", "login", b.url, "--invited"); r.code != 0 {
		t.Fatal(r.err)
	}
	r := b.must(0, "accounts", "add", realAccount, "--cloud", "openstack", "--clouds-file", cloudsFile, "--entry",
		"harbour-app")
	if !strings.Contains(r.out, realRegion) {
		t.Fatal(r.out)
	}
	b.must(0, "accounts", "set", realAccount, "--unreached")
	for _, name := range []string{"shore-notice", "shore-readings"} {
		b.must(0, "templates", "publish", "examples/"+name+".sail.yaml")
	}
	return b
}

// lists are the cloud's own: by service what is counted.
var lists = []struct{ service, path, key string }{
	{"network", "networks?router:external=false", "networks"},
	{"network", "subnets", "subnets"},
	{"network", "routers", "routers"},
	{"network", "ports", "ports"},
	{"network", "floatingips", "floatingips"},
	{"network", "security-groups", "security_groups"},
	{"compute", "servers", "servers"},
	{"compute", "os-keypairs", "keypairs"},
	{"volume", "volumes", "volumes"},
}

// ownLists asks a project what it has, past the product.
type ownLists struct {
	t        *testing.T
	services map[string]*gophercloud.ServiceClient
	user     string // who asks, by id
}

func ownListsOf(t *testing.T, cloudsFile, entry string) ownLists {
	t.Helper()
	ao, eo, tls, err := clouds.Parse(clouds.WithLocations(cloudsFile), clouds.WithCloudName(entry))
	if err != nil {
		t.Fatal(err)
	}
	ao.AllowReauth = true
	provider, err := config.NewProviderClient(t.Context(), ao, config.WithTLSConfig(tls))
	if err != nil {
		t.Fatal(err)
	}
	result, ok := provider.GetAuthResult().(tokens.CreateResult)
	if !ok {
		t.Fatal("nobody was signed in")
	}
	user, err := result.ExtractUser()
	if err != nil {
		t.Fatal(err)
	}
	o := ownLists{t, map[string]*gophercloud.ServiceClient{}, user.ID}
	type opener func(*gophercloud.ProviderClient, gophercloud.EndpointOpts) (*gophercloud.ServiceClient, error)
	for name, open := range map[string]opener{
		"identity": platform.NewIdentityV3,
		"network":  platform.NewNetworkV2,
		"compute":  platform.NewComputeV2,
		"volume":   platform.NewBlockStorageV3,
	} {
		if o.services[name], err = open(provider, eo); err != nil {
			t.Fatal(err)
		}
	}
	return o
}

// do makes one call to a service.
func (o ownLists) do(service, method, path string, in any) map[string]json.RawMessage {
	o.t.Helper()
	var out map[string]json.RawMessage
	options := &gophercloud.RequestOpts{JSONBody: in, OkCodes: []int{200, 201, 202, 204}}
	if method != "DELETE" {
		options.JSONResponse = &out
	}
	_, err := o.services[service].Request(context.Background(), method, o.services[service].ServiceURL(path), options)
	if err != nil {
		o.t.Fatalf("%s %s: %v", method, path, err)
	}
	return out
}

// rows reads one of the cloud's own lists.
func (o ownLists) rows(service, path, key string) []map[string]any {
	o.t.Helper()
	var rows []map[string]any
	if err := json.Unmarshal(o.do(service, "GET", path, nil)[key], &rows); err != nil {
		o.t.Fatal(path, err)
	}
	return rows
}

// credential makes an application credential and gives a clouds.yaml that holds it as the entry
// short, and what takes it away.
func (o ownLists) credential(name string) (cloudsFile string, takeAway func()) {
	o.t.Helper()
	user := "users/" + o.user + "/application_credentials"
	var made struct{ ID, Secret string }
	err := json.Unmarshal(o.do("identity", "POST", user, map[string]any{
		"application_credential": map[string]any{"name": name},
	})["application_credential"], &made)
	if err != nil {
		o.t.Fatal(err)
	}
	gone := sync.OnceFunc(func() { o.do("identity", "DELETE", user+"/"+made.ID, nil) })
	o.t.Cleanup(gone)
	return file(o.t, "clouds.yaml", fmt.Sprintf(`clouds:
  short:
    auth_type: v3applicationcredential
    region_name: %s
    auth: {auth_url: "%s", application_credential_id: %s, application_credential_secret: %s}
`, realRegion, o.services["identity"].Endpoint, made.ID, made.Secret)), gone
}

// count counts all that there is. Names of keys stand one level deeper.
func (o ownLists) count() map[string]int {
	o.t.Helper()
	out := map[string]int{}
	for _, l := range lists {
		for _, row := range o.rows(l.service, l.path, l.key) {
			if row["name"] != "default" {
				out[l.key]++
			}
		}
	}
	return out
}

// TestALifeOnARealCloud adds an account, is told its mistakes before the first call, applies,
// verifies, changes, is disturbed by others, and retires; in the end nothing is left by the
// cloud's own lists.
func TestALifeOnARealCloud(t *testing.T) {
	cloudsFile := os.Getenv("UNDERSAIL_REAL_CLOUD")
	if cloudsFile == "" {
		t.Skip("no real cloud is named: make test-real-cloud starts and names one")
	}
	o := ownListsOf(t, cloudsFile, "harbour")
	before := o.count()
	b := serveFor(t, cloudsFile)
	at := []string{"--account", realAccount, "--region", realRegion}

	// What is wrong is found before the first call.
	mistakes := file(t, "mistaken.sail.yaml", `undersail: 1
about: {name: mistaken, version: 1.0.0, title: Mistaken}
resources:
  net: {type: network, want: {range: 10.80.0.0/16}}
  one: {type: subnet, want: {network: =net.id, range: 10.80.0.0/20}}
  two: {type: subnet, want: {network: =net.id, range: 10.80.1.0/24}}
  nope: {type: instance, want: {size: s9.none, image: debian-12, subnet: =one.id}}
  zone: {type: instance, want: {size: s1.small, image: debian-12, subnet: =one.id, zone: zone-z}}
  many: {type: instance, repeat: 6, want: {size: s1.large, image: debian-12, subnet: =one.id}}
`)
	r := b.run(append([]string{"check", mistakes}, at...)...)
	for _, want := range []string{`no size "s9.none"`, `no zone "zone-z"`, "10.80.1.0/24 overlaps 10.80.0.0/20",
		"vcpus"} {
		if r.code != 3 || !strings.Contains(r.out+r.err, want) {
			t.Errorf("the mistake %q is not told (exit code %d):\n%s%s", want, r.code, r.out, r.err)
		}
	}
	if now := o.count(); !maps.Equal(now, before) {
		t.Errorf("a check made something: %v, before %v", now, before)
	}

	apply := func(stack string, code int, args ...string) result {
		t.Helper()
		var p proposed
		b.into(&p, append([]string{"propose", stack}, args...)...)
		return b.must(code, "apply", b.accept(p), "--watch")
	}
	readings := append([]string{"--template", "shore-readings", "--input", `admin_sources=["198.51.100.0/24"]`}, at...)
	apply("readings", 0, readings...)
	r = b.must(0, "verify", "readings")
	if !strings.Contains(r.out, "9 of 9") && !strings.Contains(r.out, "11 of 11") ||
		!strings.Contains(r.out, "not asked: no packets from here reach") {
		t.Errorf("verified: %s", r.out)
	}
	apply("readings", 0, "--input", "disk=12GiB", "--input", "workers=3", "--input", "more_ports=[9400]", "--input",
		"vcpus=2")
	n := o.count()
	if n["servers"]-before["servers"] != 4 || n["volumes"]-before["volumes"] != 3 ||
		n["floatingips"]-before["floatingips"] != 1 {
		t.Errorf("after the change there are %v, before %v", n, before)
	}
	// A new size that was proved is confirmed, which takes the cloud a moment.
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(time.Second) {
		waiting := slices.DeleteFunc(o.rows("compute", "servers/detail", "servers"),
			func(s map[string]any) bool { return s["status"] == "ACTIVE" })
		if len(waiting) == 0 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%v is %v", waiting[0]["name"], waiting[0]["status"])
		}
	}
	t.Run("somebody removes a port", func(t *testing.T) {
		in := b.in(t)
		for _, p := range o.rows("network", "ports", "ports") {
			if p["name"] == "readings-worker[2]" {
				o.do("network", "DELETE", "ports/"+p["id"].(string), nil)
			}
		}
		r := in.run("verify", "readings")
		if r.code != 1 || !strings.Contains(r.out, "a port of it was removed by somebody else") {
			t.Errorf("exit code %d: %s", r.code, r.out)
		}
		var p proposed
		in.into(&p, "propose", "readings")
		in.must(0, "apply", in.accept(p), "--watch")
		if r := in.must(0, "verify", "readings", "-o", "json"); !strings.Contains(r.out, `"healthy": true`) {
			t.Errorf("after the mend: %s", r.out)
		}
	})
	t.Run("somebody fills the quota", func(t *testing.T) {
		in := b.in(t)
		admin := ownListsOf(t, cloudsFile, "admin")
		var project string
		for _, n := range o.rows("network", "networks?router:external=false", "networks") {
			project, _ = n["project_id"].(string)
		}
		quota := func(cores int) {
			admin.do("compute", "PUT", "os-quota-sets/"+project, map[string]any{
				"quota_set": map[string]any{"cores": cores},
			})
		}
		var p proposed
		in.into(&p, append([]string{"propose", "notice", "--template", "shore-notice", "--input",
			`readers=["198.51.100.0/24"]`, "--input", "vcpus=4"}, at...)...)
		id := in.accept(p)
		quota(8) // after it was accepted
		t.Cleanup(func() { quota(20) })
		if r := in.run("apply", id, "--watch"); r.code == 0 || !strings.Contains(r.out+r.err, "uota") {
			t.Errorf("exit code %d: %s%s", r.code, r.out, r.err)
		}
		quota(20)
		var next proposed
		in.into(&next, append([]string{"propose", "notice", "--template", "shore-notice", "--input",
			`readers=["198.51.100.0/24"]`, "--input", "vcpus=4"}, at...)...)
		in.must(0, "apply", in.accept(next), "--watch")
		in.retire("notice")
	})
	t.Run("a volume fails", func(t *testing.T) {
		in := b.in(t)
		doomed := file(t, "doomed.sail.yaml",
			"undersail: 1\nabout: {name: doomed, version: 1.0.0, title: Doomed}\nresources:\n  data: {type: disk, "+
				"want: {name: to-fail, size: 1GiB, type: standard}}\n")
		var p proposed
		in.into(&p, append([]string{"propose", "doomed", "--template", doomed}, at...)...)
		if r := in.run("apply", in.accept(p), "--watch"); r.code != 1 || !strings.Contains(r.out+r.err, "got broken") {
			t.Errorf("exit code %d: %s%s", r.code, r.out, r.err)
		}
		in.retire("doomed")
	})
	t.Run("compute stops in the middle of a run and starts again", func(t *testing.T) {
		in := b.in(t)
		var p proposed
		in.into(&p, append([]string{"propose", "notice", "--template", "shore-notice", "--input",
			`readers=["198.51.100.0/24"]`}, at...)...)
		in.must(0, "apply", in.accept(p))
		var runs []struct {
			ID    int64
			State string
		}
		in.into(&runs, "runs", "--stack", "notice")
		dir := filepath.Dir(cloudsFile)
		for _, name := range []string{"nova-compute-1", "nova-compute-2"} {
			raw, err := os.ReadFile(filepath.Join(dir, "run", name+".pid"))
			if err != nil {
				t.Fatal(err)
			}
			pid := 0
			fmt.Sscan(string(raw), &pid)
			syscall.Kill(-pid, syscall.SIGKILL)
		}
		time.Sleep(20 * time.Second)
		up := exec.Command("scripts/real-cloud/up")
		up.Dir, up.Env = "..", append(os.Environ(), "REAL_CLOUD_DIR="+dir)
		if out, err := up.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		if r := in.run("watch", fmt.Sprint(runs[0].ID)); r.code != 0 {
			t.Errorf("the run did not go on: exit code %d\n%s%s", r.code, r.out, r.err)
		}
		in.retire("notice")
	})
	t.Run("the credential is taken away in the middle of a run", func(t *testing.T) {
		in := b.in(t)
		short, takeAway := o.credential("for-a-while")
		in.must(0, "accounts", "renew", realAccount, "--clouds-file", short, "--entry", "short")
		var p proposed
		in.into(&p, append([]string{"propose", "notice", "--template", "shore-notice", "--input",
			`readers=["198.51.100.0/24"]`}, at...)...)
		in.must(0, "apply", in.accept(p))
		takeAway()
		var runs []struct {
			ID    int64
			State string
		}
		in.into(&runs, "runs", "--stack", "notice")
		r := in.run("watch", fmt.Sprint(runs[0].ID))
		if r.code != 6 || !strings.Contains(r.out+r.err, "accounts renew") {
			t.Errorf("the run does not wait for other credentials: exit code %d\n%s%s", r.code, r.out, r.err)
		}
		in.must(0, "accounts", "renew", realAccount, "--clouds-file", cloudsFile, "--entry", "harbour-app")
		if r := in.run("watch", fmt.Sprint(runs[0].ID)); r.code != 0 {
			t.Errorf("the run did not go on: exit code %d\n%s%s", r.code, r.out, r.err)
		}
		in.retire("notice")
	})
	b.pictures()
	b.retire("readings")
	deadline := time.Now().Add(time.Minute)
	for now := o.count(); !maps.Equal(now, before); now = o.count() {
		if time.Now().After(deadline) {
			t.Fatalf("left by the cloud's own lists: %v; before %v", now, before)
		}
		time.Sleep(time.Second)
	}
	for _, l := range lists {
		t.Logf("%s: %d, as before", l.key, before[l.key])
	}
}

// pictures takes those of the documentation, where a folder for them is named.
func (b *bench) pictures() {
	b.t.Helper()
	to := os.Getenv("UNDERSAIL_SCREENSHOTS")
	if to == "" {
		return
	}
	p := b.browse()
	p.open("/")
	p.fill("name", "admin")
	p.fill("password", b.password)
	p.press("Sign in")
	p.sees("readings")
	var shown proposed
	b.into(&shown, "propose", "lookout", "--template", "shore-readings", "--account", realAccount, "--region",
		realRegion, "--input", `admin_sources=["198.51.100.0/24"]`, "--input", "workers=1")
	id := b.accept(shown)
	p.open("/proposals/" + id)
	p.press("Apply")
	p.sees("What happened", "bastion is made and settling")
	p.sees("ended ")
	p.open("/stacks/readings")
	p.press("Verify now")
	p.sees("just now", "not asked")
	time.Sleep(time.Second)
	p.shoot(filepath.Join(to, "real-cloud-stack.png"))
	b.retire("lookout")
	fmt.Fprintln(os.Stderr, "two pictures of a real cloud are taken")
}
