package test

import (
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"undersail/internal/tlstest"
	"undersail/sim"
	"undersail/sim/openid"
)

// readmeCommands are those of a section of the README, as they stand there.
func readmeCommands(t *testing.T, section string) []string {
	t.Helper()
	raw, err := os.ReadFile("../README.md")
	if err != nil {
		t.Fatal(err)
	}
	_, text, found := strings.Cut(string(raw), "\n## "+section+"\n")
	_, text, open := strings.Cut(text, "```\n")
	text, _, shut := strings.Cut(text, "```")
	if !found || !open || !shut {
		t.Fatalf("the README has no commands under %q", section)
	}
	var out []string
	for line := range strings.Lines(strings.ReplaceAll(text, "\\\n", " ")) {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	return out
}

// words splits a command as a shell does whose quotes hold blanks alone.
func words(line string) (out []string) {
	for _, m := range regexp.MustCompile(`"([^"]*)"|(\S+)`).FindAllStringSubmatch(line, -1) {
		out = append(out, m[1]+m[2])
	}
	return out
}

// TestASharedServiceInTenCommands runs the README's section, with the names of this machine
// in the place of those that are made up there.
func TestASharedServiceInTenCommands(t *testing.T) {
	t.Parallel()
	commands := readmeCommands(t, "A shared service")
	if len(commands) != 10 {
		t.Fatalf("these are %d commands: %q", len(commands), commands)
	}
	bin, err := programs()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	certificates := tlstest.New(t)
	certificates.Sign(t, "service", []string{"127.0.0.1", "127.0.0.9"})
	cloud, err := sim.Start(sim.Config{Dir: t.TempDir(), Accounts: []string{"live"}, Pace: 240, Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cloud.Close() })
	// Nobody else takes a port of this address between here and the start of the service.
	free, err := net.Listen("tcp", "127.0.0.9:0")
	if err != nil {
		t.Fatal(err)
	}
	at := free.Addr().String()
	free.Close()
	var provider *openid.Provider
	people := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		provider.ServeHTTP(w, r)
	}))
	issuer := "http://" + people.Listener.Addr().String()
	provider = openid.New(issuer,
		[]openid.Person{{Subject: "1", Name: "wren", FullName: "Wren Castell", Groups: []string{"tide-operators"}}},
		map[string]openid.Client{
			"undersail": {Returns: func(back string) bool { return strings.HasPrefix(back, "https://"+at) }},
		})
	people.Start()
	t.Cleanup(people.Close)
	here := strings.NewReplacer("https://undersail.saltmere.example:7420", "https://"+at, "0.0.0.0:7420", at,
		"/var/lib/undersail-anew", filepath.Join(dir, "anew"), "/var/lib/undersail", filepath.Join(dir, "service"),
		"/etc/undersail/chain.pem", certificates.File("service"), "/etc/undersail/key.pem",
		certificates.KeyFile("service"), "https://people.saltmere.example", issuer,
		"https://larch.saltmere.example", cloud.Place.Larch, "LIVE", cloud.Accounts[0].ClientID,
		"/backup/undersail.dump", filepath.Join(dir, "undersail.dump"), "/media/safe/undersail.key",
		filepath.Join(dir, "undersail.key"))
	b := &bench{t: t, dir: filepath.Join(dir, "service"), bin: bin}
	home := func(name string) []string {
		return append(os.Environ(), "XDG_CONFIG_HOME="+filepath.Join(dir, name),
			"SSL_CERT_FILE="+certificates.File("authority"))
	}
	args := func(i int) []string { return words(here.Replace(commands[i]))[1:] }
	command := func(i int, stdin string) string {
		t.Helper()
		r := b.runWith(stdin, args(i)...)
		if r.code != 0 {
			t.Fatalf("%s: %d %s", commands[i], r.code, r.err)
		}
		return r.out
	}

	// 1: the service. The cloud of this test is on a private address.
	serve := exec.Command(filepath.Join(bin, "undersail"), append(args(0), "--reach", "127.0.0.0/8", "-o", "json")...)
	serve.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	out, err := serve.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	serve.Stderr = os.Stderr
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		serve.Process.Signal(syscall.SIGTERM)
		serve.Wait()
		b.dropDatabase()
		(&bench{dir: dir}).dropDatabase()
		if place, err := os.ReadFile(filepath.Join(dir, "anew", "database", "place")); err == nil {
			os.RemoveAll(strings.TrimSpace(string(place)))
		}
	})
	var ready struct {
		First string `json:"first_admin"`
	}
	if err := json.NewDecoder(out).Decode(&ready); err != nil {
		t.Fatal(err)
	}
	// 2 to 6: the administrator lets others in.
	b.env = home("admin")
	command(1, ready.First+"\n"+goodPassword+"\n")
	command(2, cloud.Accounts[0].ClientSecret+"\n")
	ada, bo := command(3, ""), command(4, "")
	token := strings.TrimSpace(command(5, ""))

	// The two people, each with their own rights; the account asks for both.
	login := args(1)
	for name, link := range map[string]string{"ada": ada, "bo": bo} {
		b.env = home(name)
		if r := b.runWith(link+goodPassword+"\n", login...); r.code != 0 {
			t.Fatalf("%s: %s", name, r.err)
		}
	}
	b.env = append(home("admin"), "")
	b.must(0, "templates", "publish", "examples/warning-site.sail.yaml")
	b.env = home("ada")
	b.must(0, "propose", "site", "--template", "warning-site", "--account", "saltmere-live", "--region", "north-fell",
		"--inputs", "examples/warning-site.inputs.yaml")
	if r := b.run("accept", "1"); r.code != 4 || !strings.Contains(r.err, "somebody else than ada") {
		t.Errorf("the author accepts: %d %s", r.code, r.err)
	}
	b.env = home("bo")
	b.must(0, "accept", "1")
	if r := b.run("apply", "1"); r.code != 4 {
		t.Errorf("a reviewer applies: %d %s", r.code, r.err)
	}
	b.env = home("ada")
	b.must(0, "apply", "1", "--watch")

	// The nightly job has its token, and no more than that.
	b.env = append(home("ci"), "UNDERSAIL_URL=https://"+at, "UNDERSAIL_TOKEN="+token)
	b.must(0, "verify", "site")
	if r := b.run("users", "invite", "mallory", "--role", "admin"); r.code != 4 {
		t.Errorf("the job invites: %d %s", r.code, r.err)
	}
	// 7: from a terminal, by the provider.
	wren := exec.Command(filepath.Join(bin, "undersail"), args(6)...)
	wren.Env = home("wren")
	said, err := wren.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := wren.Start(); err != nil {
		t.Fatal(err)
	}
	entered(t, said, issuer, "wren", nil)
	if err := wren.Wait(); err != nil {
		t.Fatal(err)
	}
	b.env = home("wren")
	if r := b.must(0, "whoami"); !strings.Contains(r.out, "wren") || !strings.Contains(r.out, "operator") {
		t.Error(r.out)
	}
	// 8 to 10: kept, sealed anew while it runs, and restored elsewhere.
	command(7, "")
	if out := command(8, ""); !strings.Contains(out, "seal") {
		t.Error(out)
	}
	b.env = append(home("ci"), "UNDERSAIL_URL=https://"+at, "UNDERSAIL_TOKEN="+token)
	b.must(0, "verify", "site")
	if out := command(9, ""); !strings.Contains(out, "1 accounts, 1 stacks") &&
		!strings.Contains(out, "1 account, 1 stack") {
		t.Error(out)
	}
	// The restored one knows the people and their rights.
	second := exec.Command(filepath.Join(bin, "undersail"), "serve", "--dir", filepath.Join(dir, "anew"), "--listen",
		"127.0.0.1:0", "--reach", "127.0.0.0/8", "-o", "json")
	second.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if out, err = second.StdoutPipe(); err != nil {
		t.Fatal(err)
	}
	if err := second.Start(); err != nil {
		t.Fatal(err)
	}
	var anew struct {
		URL   string
		First string `json:"first_admin"`
	}
	if err := json.NewDecoder(out).Decode(&anew); err != nil || anew.First != "" {
		t.Fatalf("the restored service: %v %+v", err, anew)
	}
	b.env = home("bo-anew")
	r := b.runWith(goodPassword+"\n", "login", anew.URL, "--user", "bo")
	if r.code != 0 || !strings.Contains(r.out, "reviewer@saltmere-live") {
		t.Errorf("signing in to the restored service: %d %s%s", r.code, r.out, r.err)
	}
	second.Process.Signal(syscall.SIGTERM)
	ended := make(chan struct{})
	go func() { second.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(60 * time.Second):
		t.Error("the restored service does not stop")
	}
}
