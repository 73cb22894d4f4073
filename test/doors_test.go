package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// TestDoors goes through the doors of one service as an attacker would, at a time.
func TestDoors(t *testing.T) {
	t.Parallel()
	d := serveDoor(t, "--metrics-listen", "127.0.0.1:0")
	for what, try := range map[string]func(*testing.T, *door){
		"guessing passwords":         guessingPasswordsComesToNothingAndLocksNobodyOut,
		"bodies of strangers":        nothingIsReadFromStrangers,
		"slow peers":                 slowPeersAreLeft,
		"cookies, hosts and origins": cookiesHostsAndOrigins,
		"streams":                    streamsEndWithWhatTheyWereOpenedBy,
		"invitations and tokens":     invitationsAndTokensGiveNoMoreThanTheySay,
		"metrics":                    metricsAreForThoseWhoMay,
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			own := *d
			own.t = t
			try(t, &own)
		})
	}
}

// door is a service by itself, without clouds, as its attackers meet it.
type door struct {
	t    *testing.T
	dir  string
	url  string
	bin  string
	cmd  *exec.Cmd
	talk *bytes.Buffer
	// admin is a token of the administrator ines, first the link that she was invited by.
	admin, first, metrics string
	client                *http.Client
}

// serveDoor runs a service and lets ines in.
func serveDoor(t *testing.T, args ...string) *door {
	t.Helper()
	d := newDoor(t)
	d.up(args...)
	d.admin = d.invited(d.first, "admin")
	return d
}

func newDoor(t *testing.T) *door {
	t.Helper()
	bin, err := programs()
	if err != nil {
		t.Fatal(err)
	}
	return &door{
		t:      t,
		dir:    t.TempDir(),
		bin:    filepath.Join(bin, "undersail"),
		client: &http.Client{Timeout: time.Minute},
		talk:   &bytes.Buffer{},
	}
}

func (d *door) up(args ...string) {
	d.t.Helper()
	d.cmd = exec.Command(d.bin,
		append([]string{"serve", "--dir", filepath.Join(d.dir, "service"), "--listen", "127.0.0.1:0", "-o", "json"},
			args...)...)
	d.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	d.cmd.Stderr = d.talk
	out, err := d.cmd.StdoutPipe()
	if err != nil {
		d.t.Fatal(err)
	}
	if err := d.cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	var ready struct {
		URL, Metrics string
		First        string `json:"first_admin"`
	}
	if err := json.NewDecoder(out).Decode(&ready); err != nil {
		d.cmd.Wait()
		d.t.Fatalf("the service did not come up: %s", d.talk)
	}
	d.url, d.first, d.metrics = ready.URL, ready.First, ready.Metrics
	d.t.Cleanup(func() {
		d.cmd.Process.Signal(syscall.SIGTERM)
		d.cmd.Wait()
		if place, err := os.ReadFile(filepath.Join(d.dir, "service", "database", "place")); err == nil {
			os.RemoveAll(strings.TrimSpace(string(place)))
		}
	})
}

// answer is what the service answers.
type answer struct {
	status  int
	header  http.Header
	cookies []*http.Cookie
	body    map[string]any
	list    []map[string]any
}

// ask makes a call with a token, if there is one; more are headers, by turns name and value.
func (d *door) ask(method, path, token, body string, more ...string) answer {
	d.t.Helper()
	a, err := d.try(method, path, token, body, more...)
	if err != nil {
		d.t.Fatal(err)
	}
	return a
}

func (d *door) try(method, path, token, body string, more ...string) (a answer, err error) {
	r, err := http.NewRequest(method, d.url+path, strings.NewReader(body))
	if err != nil {
		return a, err
	}
	r.Header.Set("Content-Type", "application/json")
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i+1 < len(more); i += 2 {
		if more[i] == "Host" {
			r.Host = more[i+1]
		} else {
			r.Header.Set(more[i], more[i+1])
		}
	}
	res, err := d.client.Do(r)
	if err != nil {
		return a, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	a.status, a.header, a.cookies = res.StatusCode, res.Header, res.Cookies()
	if json.Unmarshal(raw, &a.body) != nil {
		json.Unmarshal(raw, &a.list)
	}
	return a, err
}

func (d *door) must(method, path, token, body string, want int, more ...string) answer {
	d.t.Helper()
	a := d.ask(method, path, token, body, more...)
	if a.status != want {
		d.t.Fatalf("%s %s answers %d, want %d: %v", method, path, a.status, want, a.body)
	}
	return a
}

const goodPassword = "slack water at half past nine"

// invited takes an invitation, and gives the session.
func (d *door) invited(link, name string) string {
	d.t.Helper()
	code := link[strings.LastIndexByte(link, '#')+1:]
	who := d.must("POST", "/api/v1/invitations/look", "", fmt.Sprintf(`{"code":%q}`, code), 200)
	if who.body["name"] != name {
		d.t.Fatalf("the invitation is for %v, not %s", who.body["name"], name)
	}
	a := d.must("POST", "/api/v1/invitations/take", "", fmt.Sprintf(`{"code":%q,"password":%q}`, code, goodPassword),
		200)
	return cookieOf(a, "session")
}

func cookieOf(a answer, what string) string {
	for _, c := range a.cookies {
		if strings.HasSuffix(c.Name, "undersail_"+what) {
			return c.Value
		}
	}
	return ""
}

// person invites somebody and gives a session of theirs.
func (d *door) person(name string, roles ...string) string {
	d.t.Helper()
	raw, _ := json.Marshal(map[string]any{"name": name, "full_name": name, "roles": roles})
	a := d.must("POST", "/api/v1/users", d.admin, string(raw), 201)
	return d.invited(a.body["link"].(string), name)
}

// from lets the client come from another address of this machine.
func (d *door) from(address string) *door {
	other := *d
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	other.client = &http.Client{
		Timeout:   time.Minute,
		Transport: &http.Transport{DialContext: dialer.DialContext, MaxIdleConnsPerHost: 64},
	}
	d.t.Cleanup(other.client.CloseIdleConnections)
	return &other
}

func signInBody(name, password string) string {
	return fmt.Sprintf(`{"name":%q,"password":%q}`, name, password)
}

// peak is the most memory that the service has had, in MiB.
func (d *door) peak() int {
	d.t.Helper()
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", d.cmd.Process.Pid))
	if err != nil {
		d.t.Fatal(err)
	}
	var kib int
	_, after, _ := strings.Cut(string(raw), "VmHWM:")
	fmt.Sscan(after, &kib)
	return kib >> 10
}

func nothingIsReadFromStrangers(t *testing.T, d *door) {
	for what, head := range map[string]string{
		"a large body without a token": "POST /api/v1/proposals HTTP/1.1\r\nHost: %s\r\nContent-Type: " +
			"application/json\r\nContent-Length: 4000000\r\n\r\n",
		"a body in pieces": "POST /api/v1/proposals HTTP/1.1\r\nHost: %s\r\nContent-Type: " +
			"application/json\r\nTransfer-Encoding: chunked\r\n\r\n",
		"a wrong token": "POST /api/v1/proposals HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer " +
			"usk_0\r\nContent-Length: 4000000\r\n\r\n",
	} {
		if line := d.say(t, fmt.Sprintf(head, d.host())); !strings.Contains(line, "401") {
			t.Errorf("%s: the answer before the body is %q", what, line)
		}
	}
	line := d.say(t, fmt.Sprintf("POST /api/v1/session HTTP/1.1\r\nHost: %s\r\nContent-Length: 20000\r\n\r\n",
		d.host()))
	if !strings.Contains(line, "413") {
		t.Errorf("a sign-in of 20 kB: %q", line)
	}
	line = d.say(t, "GET /healthz HTTP/1.1\r\nHost: "+d.host()+"\r\nX-Long: "+strings.Repeat("a", 64<<10)+"\r\n\r\n")
	if !strings.Contains(line, "431") {
		t.Errorf("headers of 64 kB: %q", line)
	}
}

func (d *door) host() string { return d.url[strings.Index(d.url, "//")+2:] }

// say sends raw bytes and gives the first line that comes back.
func (d *door) say(t *testing.T, text string) string {
	t.Helper()
	c, err := net.DialTimeout("tcp", d.host(), 5*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(30 * time.Second))
	go io.WriteString(c, text)
	line, _ := bufio.NewReader(c).ReadString('\n')
	return strings.TrimSpace(line)
}

// slowPeersAreLeft holds many connections open without saying, or reading, much.
func slowPeersAreLeft(t *testing.T, d *door) {
	other, slow := d.person("oda", "viewer"), d.person("slow", "viewer")
	elsewhere := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 4)}}
	writing := func(text string, pause time.Duration) func(net.Conn) error {
		return func(c net.Conn) error {
			for {
				if _, err := io.WriteString(c, text); err != nil {
					return err
				}
				time.Sleep(pause) // as slow as it is to be
			}
		}
	}
	dripping := func(drip string) func(net.Conn) error { return writing(drip, time.Second) } // as if it were only slow
	ask := "GET /api/openapi.yaml HTTP/1.1\r\nHost: " + d.host() + "\r\n\r\n"
	var all sync.WaitGroup
	for what, c := range map[string]struct {
		most  int
		head  string
		goOn  func(net.Conn) error
		reads bool
	}{
		"headers": {60, "GET /healthz HTTP/1.1\r\nHost: " + d.host() + "\r\n", dripping("X-A: b\r\n"), true},
		"bodies": {8, fmt.Sprintf("POST /api/v1/checks HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer "+
			"%s\r\nContent-Type: application/json\r\nContent-Length: 400000\r\n\r\n{", d.host(), slow), dripping(" "),
			true},
		"sign-ins": {4, fmt.Sprintf("POST /api/v1/session HTTP/1.1\r\nHost: %s\r\nContent-Length: 4000\r\n\r\n{",
			d.host()), dripping(" "), true},
		// Whoever reads nothing of many answers: their buffers are full at some time.
		"readers": {4, "", writing(ask, 0), false},
	} {
		all.Go(func() {
			left, took := held(t, elsewhere, d.host(), c.most, c.head, c.goOn, c.reads)
			if left != c.most || took > 55*time.Second {
				t.Errorf("of %d with slow %s %d were left, after %v", c.most, what, left, took)
			}
		})
	}
	for range 5 {
		if a := d.ask("GET", "/api/v1/me", other, ""); a.status != 200 {
			t.Errorf("meanwhile others get %d", a.status)
		}
		time.Sleep(100 * time.Millisecond) // while the slow ones go on
	}
	all.Wait()
}

// held opens connections that go on in some way, and tells how many of them were ended from
// the other side.
func held(t *testing.T, from net.Dialer, host string, most int, head string, goOn func(net.Conn) error,
	reads bool) (left int, took time.Duration) {
	began := time.Now()
	var mu sync.Mutex
	var all sync.WaitGroup
	for range most {
		c, err := from.Dial("tcp", host)
		if err != nil {
			t.Error(err)
			return 0, 0
		}
		all.Go(func() {
			defer c.Close()
			c.SetDeadline(time.Now().Add(60 * time.Second))
			io.WriteString(c, head)
			over := make(chan error, 2)
			go func() { over <- goOn(c) }()
			if reads {
				go func() { _, err := io.Copy(io.Discard, c); over <- err }()
			}
			if err := <-over; !os.IsTimeout(err) { // our own deadline is no end from there
				mu.Lock()
				left++
				mu.Unlock()
			}
		})
	}
	all.Wait()
	return left, time.Since(began)
}

func cookiesHostsAndOrigins(t *testing.T, d *door) {
	cookie := "undersail_session=" + d.admin
	invite := `{"name":"mallory","full_name":"","roles":["admin"]}`
	for what, c := range map[string]struct {
		more []string
		want int
	}{
		"a change with the cookie alone":            {[]string{"Cookie", cookie}, 403},
		"the cookie beside another kind of sign-in": {[]string{"Cookie", cookie, "Authorization", "Basic eDp5"}, 401},
		"the cookie beside an empty sign-in":        {[]string{"Cookie", cookie, "Authorization", ""}, 401},
		"the cookie beside a wrong token": {[]string{"Cookie", cookie, "Authorization", "Bearer usk_wrong"},
			401},
		"the console's header, from another site": {[]string{"Cookie", cookie, "X-Undersail-Console", "1", "Origin",
			"https://elsewhere.example"}, 403},
		"the same from a page without an origin": {[]string{"Cookie", cookie, "X-Undersail-Console", "1", "Origin",
			"null"}, 403},
		"the same, said by the browser": {[]string{"Cookie", cookie, "X-Undersail-Console", "1",
			"Sec-Fetch-Site", "cross-site"}, 403},
		"a token from a page of another site": {[]string{"Authorization", "Bearer " + d.admin, "Origin",
			"https://elsewhere.example"}, 403},
		"another name that leads here": {[]string{"Authorization", "Bearer " + d.admin, "Host",
			"elsewhere.example"}, 421},
		"another name with the right port": {[]string{"Authorization", "Bearer " + d.admin, "Host",
			"elsewhere.example:" + d.port()}, 421},
		"the address with another port": {[]string{"Authorization", "Bearer " + d.admin, "Host",
			"127.0.0.1:1"}, 421},
		"a page of this service on another port": {[]string{"Cookie", cookie, "X-Undersail-Console", "1", "Origin",
			"http://127.0.0.1:1"}, 403},
		"an address that the request did not come to": {[]string{"Authorization", "Bearer " + d.admin, "Host",
			"127.0.0.9:" + d.port()}, 421},
	} {
		if a := d.ask("POST", "/api/v1/users", "", invite, c.more...); a.status != c.want {
			t.Errorf("%s: %d, want %d (%v)", what, a.status, c.want, a.body["title"])
		}
	}
	if a := d.ask("POST", "/api/v1/session", "", signInBody("admin", goodPassword), "Origin",
		"https://elsewhere.example"); a.status != 403 {
		t.Errorf("signing in from a page of another site: %d", a.status)
	}
	for what, more := range map[string][]string{
		"its own page":          {"Cookie", cookie, "Origin", d.url},
		"by the name localhost": {"Authorization", "Bearer " + d.admin, "Host", "localhost:" + d.port()},
	} {
		if a := d.ask("GET", "/api/v1/me", "", "", more...); a.status != 200 {
			t.Errorf("%s: %d %v", what, a.status, a.body)
		}
	}
	a := d.ask("GET", "/sign-in", "", "")
	csp := a.header.Get("Content-Security-Policy")
	for _, want := range []string{"default-src 'none'", "script-src 'self'", "frame-ancestors 'none'", "'nonce-"} {
		if !strings.Contains(csp, want) {
			t.Errorf("the policy of a page lacks %s: %s", want, csp)
		}
	}
	if strings.Contains(csp, "unsafe") {
		t.Error(csp)
	}
}

func (d *door) port() string { _, port, _ := net.SplitHostPort(d.host()); return port }

func metricsAreForThoseWhoMay(t *testing.T, d *door) {
	if a := d.ask("GET", "/metrics", "", ""); a.status != 401 {
		t.Errorf("metrics without a token: %d", a.status)
	}
	d.must("GET", "/metrics", d.admin, "", 200)
	res, err := http.Get(d.metrics)
	if err != nil || res.StatusCode != 200 {
		t.Fatalf("on its own listener: %v %v", res, err)
	}
	raw, _ := io.ReadAll(res.Body)
	res.Body.Close()
	if !strings.Contains(string(raw), "undersail_http_requests_total") {
		t.Errorf("%.200s", raw)
	}
	res, err = http.Get(strings.Replace(d.metrics, "/metrics", "/api/v1/me", 1))
	if err != nil || res.StatusCode != 404 {
		t.Errorf("the listener for metrics serves more: %v %v", res, err)
	}
}
