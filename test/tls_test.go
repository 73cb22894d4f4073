package test

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"math/big"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undersail/internal/await"
	"undersail/internal/tlstest"
)

func TestTLS(t *testing.T) {
	t.Parallel()
	a := tlstest.New(t)
	first, _ := a.Sign(t, "service", []string{"127.0.0.1", "localhost"})
	d := newDoor(t)
	d.up("--tls-cert", a.File("service"), "--tls-key", a.KeyFile("service"))
	d.client = a.Trusting(&tls.Config{})
	if !strings.HasPrefix(d.url, "https://") {
		t.Fatal(d.url)
	}
	d.admin = d.invited(d.first, "admin")
	res := d.must("POST", "/api/v1/session", "", signInBody("admin", goodPassword), 200)
	for _, c := range res.cookies {
		if !c.Secure || !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || !strings.HasPrefix(c.Name, "__Host-") ||
			c.Path != "/" {
			t.Errorf("a cookie by TLS: %+v", c)
		}
	}
	if got := res.header.Get("Strict-Transport-Security"); !strings.Contains(got, "max-age=31536000") {
		t.Errorf("HSTS: %q", got)
	}
	if a := d.ask("GET", "/api/v1/me", "", "", "Cookie", "undersail_session="+d.admin); a.status != 401 {
		t.Errorf("a cookie that any page of the domain could have set is taken: %d", a.status)
	}
	plain := *d
	plain.url, plain.client = strings.Replace(d.url, "https", "http", 1), &http.Client{Timeout: 10 * time.Second}
	if a, err := plain.try("GET", "/api/v1/me", d.admin, ""); err == nil && a.status != 400 {
		t.Errorf("in the clear it answers %d", a.status)
	}
	old := a.Trusting(&tls.Config{MaxVersion: tls.VersionTLS11, MinVersion: tls.VersionTLS10})
	if res, err := old.Get(d.url + "/healthz"); err == nil {
		t.Errorf("TLS 1.1 is spoken: %s", res.Status)
	}
	// The client holds the certificate against the authority that it is told.
	b := &bench{t: t, bin: filepath.Dir(d.bin), env: append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir())}
	r := b.runWith(goodPassword+"\n", "login", d.url, "--user", "admin")
	if r.code == 0 || !strings.Contains(r.err, "certificate") {
		t.Errorf("a certificate of nobody known: %d %s", r.code, r.err)
	}
	if r := b.runWith(goodPassword+"\n", "login", d.url, "--user", "admin", "--ca", a.File("authority")); r.code != 0 {
		t.Fatalf("with its authority: %s", r.err)
	}
	b.must(0, "whoami")
	r = b.runWith("x\n", "login", "http://undersail.saltmere.example", "--user", "admin")
	if r.code != 2 || !strings.Contains(r.err, "in the clear") {
		t.Errorf("a password over a network in the clear: %d %s", r.code, r.err)
	}
	// The certificate is renewed, without a restart; files that are half written change nothing.
	serial := func() *big.Int {
		t.Helper()
		res, err := d.client.Get(d.url + "/healthz")
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		return res.TLS.PeerCertificates[0].SerialNumber
	}
	if serial().Cmp(first.SerialNumber) != 0 {
		t.Fatal("another certificate than its own")
	}
	if err := os.WriteFile(a.File("service"), []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	for range 15 {
		if serial().Cmp(first.SerialNumber) != 0 {
			t.Fatal("another certificate than the last that could be read")
		}
		time.Sleep(100 * time.Millisecond) // it looks once a second
	}
	second, _ := a.Sign(t, "service", []string{"127.0.0.1"})
	await.Until(t, "a renewed certificate is taken", func() bool { return serial().Cmp(second.SerialNumber) == 0 })
}

func TestNothingInTheClearBeyondThisMachine(t *testing.T) {
	t.Parallel()
	d := newDoor(t)
	for what, c := range map[string]struct {
		args []string
		says string
	}{
		"every address":        {[]string{"--listen", "0.0.0.0:0"}, "--tls-cert"},
		"every address, again": {[]string{"--listen", ":0"}, "--tls-cert"},
		"no key":               {[]string{"--listen", "127.0.0.1:0", "--tls-cert", "x.pem"}, "both"},
		"a proxy and no URL":   {[]string{"--listen", "127.0.0.1:0", "--behind-proxy", "127.0.0.1"}, "--url"},
		"a URL in the clear": {[]string{"--listen", "127.0.0.1:0", "--behind-proxy", "127.0.0.1", "--url",
			"http://undersail.saltmere.example"}, "https"},
		"no range": {[]string{"--listen", "127.0.0.1:0", "--behind-proxy", "harbour"}, "harbour"},
	} {
		cmd := exec.Command(d.bin, append([]string{"serve", "--dir", filepath.Join(d.dir, "service")}, c.args...)...)
		out, err := cmd.CombinedOutput()
		if err == nil || !strings.Contains(string(out), c.says) || strings.Contains(string(out), "ready") {
			t.Errorf("%s: %v %s", what, err, out)
		}
	}
	t.Cleanup(func() { (&bench{dir: d.dir}).dropDatabase() })
}

// TestBehindAProxy lets a proxy tell where requests come from, and nobody else.
func TestBehindAProxy(t *testing.T) {
	t.Parallel()
	d := newDoor(t)
	d.up("--behind-proxy", "127.0.0.1", "--url", "https://undersail.saltmere.example")
	public := d.url
	// The proxy is us: it passes the name on, and the address it was asked from.
	raw, err := os.ReadFile(filepath.Join("/proc", fmt.Sprint(d.cmd.Process.Pid), "net/tcp"))
	if err != nil || public != "https://undersail.saltmere.example" {
		t.Fatal(public, err)
	}
	d.url = "http://" + listening(t, d.cmd.Process.Pid, raw)
	through := []string{"Host", "undersail.saltmere.example", "X-Forwarded-For", "203.0.113.9"}
	code := d.first[strings.LastIndexByte(d.first, '#')+1:]
	a := d.must("POST", "/api/v1/invitations/take", "", fmt.Sprintf(`{"code":%q,"password":%q}`, code, goodPassword),
		200, through...)
	if !strings.HasPrefix(d.first, public+"/welcome#") || !a.cookies[0].Secure {
		t.Errorf("behind TLS: %s %+v", d.first, a.cookies[0])
	}
	session := cookieOf(a, "session")
	for what, c := range map[string]struct{ told, want string }{
		"one":                        {"198.51.100.7", "198.51.100.7"},
		"one that the peer invented": {"10.0.0.1, 198.51.100.7", "198.51.100.7"},
		"through two of ours":        {"198.51.100.7, 127.0.0.1", "198.51.100.7"},
		"none":                       {"", "127.0.0.1"},
		"nonsense":                   {"harbour", "127.0.0.1"},
	} {
		a := d.must("GET", "/api/v1/me/address", session, "", 200, "Host", "undersail.saltmere.example",
			"X-Forwarded-For", c.told)
		if a.body["address"] != c.want {
			t.Errorf("%s: %v, want %s", what, a.body["address"], c.want)
		}
	}
	// Another peer is no proxy, whatever it says.
	other := d.from("127.0.0.5")
	a = other.must("GET", "/api/v1/me/address", session, "", 200, "Host", "undersail.saltmere.example",
		"X-Forwarded-For", "198.51.100.7")
	if a.body["address"] != "127.0.0.5" {
		t.Errorf("a peer that is no proxy is believed: %v", a.body)
	}
	wrong, began := 0, time.Now()
	for i := range 30 { // each guess claims to come from elsewhere
		a := other.ask("POST", "/api/v1/session", "", signInBody("admin", "guess"), "Host",
			"undersail.saltmere.example", "X-Forwarded-For", fmt.Sprintf("198.51.100.%d", i))
		if a.status == 401 {
			wrong++
		}
	}
	if wrong > freely(5, 2*time.Second, began) {
		t.Errorf("%d guesses from one peer that claims to be many", wrong)
	}
}

// listening finds where a process listens for its own service: the one of its listeners
// that answers as it.
func listening(t *testing.T, pid int, tcp []byte) string {
	t.Helper()
	links, _ := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", pid))
	own := map[string]bool{}
	for _, l := range links {
		if to, err := os.Readlink(l); err == nil {
			own[strings.TrimSuffix(strings.TrimPrefix(to, "socket:["), "]")] = true
		}
	}
	for line := range bytes.Lines(tcp) {
		f := strings.Fields(string(line))
		if len(f) < 10 || f[3] != "0A" || !own[f[9]] {
			continue
		}
		var port int
		fmt.Sscanf(f[1][strings.IndexByte(f[1], ':')+1:], "%X", &port)
		return fmt.Sprintf("127.0.0.1:%d", port)
	}
	t.Fatal("it listens nowhere")
	return ""
}
