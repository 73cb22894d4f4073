package test

import (
	"bufio"
	"bytes"
	"context"
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
	return &door{t: t, dir: t.TempDir(), bin: filepath.Join(bin, "undersail"), client: &http.Client{Timeout: time.Minute}, talk: &bytes.Buffer{}}
}

func (d *door) up(args ...string) {
	d.t.Helper()
	d.cmd = exec.Command(d.bin, append([]string{"serve", "--dir", filepath.Join(d.dir, "service"), "--listen", "127.0.0.1:0", "-o", "json"}, args...)...)
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
	if who := d.must("POST", "/api/v1/invitations/look", "", fmt.Sprintf(`{"code":%q}`, code), 200); who.body["name"] != name {
		d.t.Fatalf("the invitation is for %v, not %s", who.body["name"], name)
	}
	a := d.must("POST", "/api/v1/invitations/take", "", fmt.Sprintf(`{"code":%q,"password":%q}`, code, goodPassword), 200)
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
	other.client = &http.Client{Timeout: time.Minute, Transport: &http.Transport{DialContext: dialer.DialContext, MaxIdleConnsPerHost: 64}}
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

func TestGuessingPasswordsComesToNothingAndLocksNobodyOut(t *testing.T) {
	t.Parallel()
	d := serveDoor(t)
	d.must("POST", "/api/v1/session", "", signInBody("admin", goodPassword), 200)
	stranger := d.from("127.0.0.2")
	var wrong, slowed, other int
	var mu sync.Mutex
	var all sync.WaitGroup
	for i := range 40 { // all at once, so that none has failed when the others begin
		all.Go(func() {
			a, err := stranger.try("POST", "/api/v1/session", "", signInBody("admin", fmt.Sprint("guess ", i)))
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err != nil:
				other++
			case a.status == 401:
				wrong++
			case a.status == 429 && a.header.Get("Retry-After") != "":
				slowed++
			default:
				other++
			}
		})
	}
	all.Wait()
	if wrong > 5 || wrong+slowed != 40 {
		t.Errorf("of 40 guesses at once %d were looked at, %d slowed down, %d came to something else", wrong, slowed, other)
	}
	if a := d.ask("POST", "/api/v1/session", "", signInBody("admin", goodPassword)); a.status != 200 {
		t.Errorf("the administrator is locked out by a stranger: %d %v", a.status, a.body)
	}
	// Guesses at other names from there are counted together.
	wrong = 0
	for i := range 40 {
		if a := stranger.ask("POST", "/api/v1/session", "", signInBody(fmt.Sprint("name", i), "guess")); a.status == 401 {
			wrong++
		}
	}
	if wrong > 20 {
		t.Errorf("%d names were guessed at from one address", wrong)
	}
	// Whoever shares the attacker's address, but has signed in there with this browser, gets in.
	at := d.from("127.0.0.3")
	first := at.must("POST", "/api/v1/session", "", signInBody("admin", goodPassword), 200)
	for range 12 {
		at.ask("POST", "/api/v1/session", "", signInBody("admin", "guess"))
	}
	if a := at.ask("POST", "/api/v1/session", "", signInBody("admin", goodPassword)); a.status != 429 {
		t.Errorf("a right password after many wrong ones, and no browser that is known: %d", a.status)
	}
	if a := at.ask("POST", "/api/v1/session", "", signInBody("admin", goodPassword), "Cookie", "undersail_device="+cookieOf(first, "device")); a.status != 200 {
		t.Errorf("with the browser that is known: %d %v", a.status, a.body)
	}
	if most := d.peak(); most > 450 {
		t.Errorf("signing in took %d MiB", most)
	}
}

func TestNothingIsReadFromStrangers(t *testing.T) {
	t.Parallel()
	d := serveDoor(t)
	for what, head := range map[string]string{
		"a large body without a token": "POST /api/v1/proposals HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: 4000000\r\n\r\n",
		"a body in pieces":             "POST /api/v1/proposals HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n",
		"a wrong token":                "POST /api/v1/proposals HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer usk_0\r\nContent-Length: 4000000\r\n\r\n",
	} {
		if line := d.say(t, fmt.Sprintf(head, d.host())); !strings.Contains(line, "401") {
			t.Errorf("%s: the answer before the body is %q", what, line)
		}
	}
	if line := d.say(t, fmt.Sprintf("POST /api/v1/session HTTP/1.1\r\nHost: %s\r\nContent-Length: 20000\r\n\r\n", d.host())); !strings.Contains(line, "413") {
		t.Errorf("a sign-in of 20 kB: %q", line)
	}
	if line := d.say(t, "GET /healthz HTTP/1.1\r\nHost: "+d.host()+"\r\nX-Long: "+strings.Repeat("a", 64<<10)+"\r\n\r\n"); !strings.Contains(line, "431") {
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

// TestSlowPeersAreLeft holds many connections open without saying much.
func TestSlowPeersAreLeft(t *testing.T) {
	t.Parallel()
	d := serveDoor(t)
	other := d.person("oda", "viewer")
	held := func(most int, head, drip string) (left int, took time.Duration) {
		began := time.Now()
		var conns []net.Conn
		for range most {
			c, err := net.Dial("tcp", d.host())
			if err != nil {
				t.Fatal(err)
			}
			io.WriteString(c, head)
			conns = append(conns, c)
		}
		if a := d.ask("GET", "/api/v1/me", other, ""); a.status != 200 {
			t.Errorf("meanwhile others get %d", a.status)
		}
		var mu sync.Mutex
		var all sync.WaitGroup
		for _, c := range conns {
			all.Go(func() {
				defer c.Close()
				c.SetDeadline(time.Now().Add(60 * time.Second))
				go func() {
					for range 40 { // a byte now and then, as if it were only slow
						if _, err := io.WriteString(c, drip); err != nil {
							return
						}
						time.Sleep(time.Second)
					}
				}()
				if _, err := io.Copy(io.Discard, c); err == nil || !os.IsTimeout(err) {
					mu.Lock()
					left++
					mu.Unlock()
				}
			})
		}
		all.Wait()
		return left, time.Since(began)
	}
	if left, took := held(60, "GET /healthz HTTP/1.1\r\nHost: "+d.host()+"\r\n", "X-A: b\r\n"); left != 60 || took > 40*time.Second {
		t.Errorf("of 60 with slow headers %d were left, after %v", left, took)
	}
	head := fmt.Sprintf("POST /api/v1/checks HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: 400000\r\n\r\n{", d.host(), d.admin)
	if left, took := held(8, head, " "); left != 8 || took > 50*time.Second {
		t.Errorf("of 8 with slow bodies %d were left, after %v", left, took)
	}
	if left, _ := held(4, fmt.Sprintf("POST /api/v1/session HTTP/1.1\r\nHost: %s\r\nContent-Length: 4000\r\n\r\n{", d.host()), " "); left != 4 {
		t.Errorf("of 4 slow sign-ins %d were left", left)
	}
}

func TestCookiesHostsAndOrigins(t *testing.T) {
	t.Parallel()
	d := serveDoor(t)
	cookie := "undersail_session=" + d.admin
	invite := `{"name":"mallory","full_name":"","roles":["admin"]}`
	for what, c := range map[string]struct {
		more []string
		want int
	}{
		"a change with the cookie alone":              {[]string{"Cookie", cookie}, 403},
		"the cookie beside another kind of sign-in":   {[]string{"Cookie", cookie, "Authorization", "Basic eDp5"}, 401},
		"the cookie beside an empty sign-in":          {[]string{"Cookie", cookie, "Authorization", ""}, 401},
		"the cookie beside a wrong token":             {[]string{"Cookie", cookie, "Authorization", "Bearer usk_wrong"}, 401},
		"the console's header, from another site":     {[]string{"Cookie", cookie, "X-Undersail-Console", "1", "Origin", "https://elsewhere.example"}, 403},
		"the same from a page without an origin":      {[]string{"Cookie", cookie, "X-Undersail-Console", "1", "Origin", "null"}, 403},
		"the same, said by the browser":               {[]string{"Cookie", cookie, "X-Undersail-Console", "1", "Sec-Fetch-Site", "cross-site"}, 403},
		"a token from a page of another site":         {[]string{"Authorization", "Bearer " + d.admin, "Origin", "https://elsewhere.example"}, 403},
		"another name that leads here":                {[]string{"Authorization", "Bearer " + d.admin, "Host", "elsewhere.example"}, 421},
		"another name with the right port":            {[]string{"Authorization", "Bearer " + d.admin, "Host", "elsewhere.example:" + d.port()}, 421},
		"the address with another port":               {[]string{"Authorization", "Bearer " + d.admin, "Host", "127.0.0.1:1"}, 421},
		"a page of this service on another port":      {[]string{"Cookie", cookie, "X-Undersail-Console", "1", "Origin", "http://127.0.0.1:1"}, 403},
		"an address that the request did not come to": {[]string{"Authorization", "Bearer " + d.admin, "Host", "127.0.0.9:" + d.port()}, 421},
	} {
		if a := d.ask("POST", "/api/v1/users", "", invite, c.more...); a.status != c.want {
			t.Errorf("%s: %d, want %d (%v)", what, a.status, c.want, a.body["title"])
		}
	}
	if a := d.ask("POST", "/api/v1/session", "", signInBody("admin", goodPassword), "Origin", "https://elsewhere.example"); a.status != 403 {
		t.Errorf("signing in from a page of another site: %d", a.status)
	}
	for what, more := range map[string][]string{"its own page": {"Cookie", cookie, "Origin", d.url}, "by the name localhost": {"Authorization", "Bearer " + d.admin, "Host", "localhost:" + d.port()}} {
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

// stream opens a stream and gives a channel that is closed when it ends.
func (d *door) stream(t *testing.T, token string) (over <-chan struct{}, status int) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	r, _ := http.NewRequestWithContext(ctx, "GET", d.url+"/api/v1/stream", nil)
	r.Header.Set("Authorization", "Bearer "+token)
	res, err := (&http.Client{Transport: &http.Transport{}}).Do(r)
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer res.Body.Close()
		io.Copy(io.Discard, res.Body)
	}()
	return ended, res.StatusCode
}

func within(t *testing.T, what string, over <-chan struct{}, patience time.Duration) {
	t.Helper()
	select {
	case <-over:
	case <-time.After(patience):
		t.Errorf("%s: the stream goes on after %v", what, patience)
	}
}

func TestStreamsEndWithWhatTheyWereOpenedBy(t *testing.T) {
	t.Parallel()
	d := serveDoor(t)
	for what, end := range map[string]func(name, session string){
		"signed out":      func(_, session string) { d.must("DELETE", "/api/v1/session", session, "", 204) },
		"disabled":        func(name, _ string) { d.must("PATCH", "/api/v1/users/"+name, d.admin, `{"disabled":true}`, 200) },
		"other-roles":     func(name, _ string) { d.must("PATCH", "/api/v1/users/"+name, d.admin, `{"roles":["keeper"]}`, 200) },
		"everywhere":      func(name, _ string) { d.must("DELETE", "/api/v1/users/"+name+"/sessions", d.admin, "", 204) },
		"ended-by-others": func(name, _ string) { d.endSession(name) },
		"new-password": func(name, _ string) {
			link := d.must("POST", "/api/v1/users/"+name+"/link", d.admin, "", 201).body["link"].(string)
			d.invited(link, name)
		},
	} {
		name := strings.ReplaceAll(what, " ", "-")
		session := d.person(name, "viewer")
		over, status := d.stream(t, session)
		if status != 200 {
			t.Fatalf("%s: %d", what, status)
		}
		end(name, session)
		within(t, what, over, 4*time.Second)
		if a := d.ask("GET", "/api/v1/me", session, ""); what != "other-roles" && a.status != 401 {
			t.Errorf("%s: the session still answers %d", what, a.status)
		}
	}
	// A token is revoked at once, and nothing of its owner's beside it.
	owner := d.person("owner", "operator")
	made := d.must("POST", "/api/v1/tokens", owner, `{"about":"nightly","seconds":3600,"roles":["viewer"]}`, 201).body
	over, _ := d.stream(t, made["value"].(string))
	other, _ := d.stream(t, owner)
	d.must("DELETE", fmt.Sprintf("/api/v1/tokens/%v", made["id"]), owner, "", 204)
	within(t, "a revoked token", over, 4*time.Second)
	select {
	case <-other:
		t.Error("the owner's own stream ended with the token's")
	default:
	}
	// One person has so many streams, and others have theirs.
	greedy, refused := d.person("greedy", "viewer"), 0
	for range 30 {
		if _, status := d.stream(t, greedy); status == 429 {
			refused++
		}
	}
	if _, status := d.stream(t, owner); refused != 6 || status != 200 {
		t.Errorf("of 30 streams %d were refused, and somebody else gets %d", refused, status)
	}
}

func (d *door) endSession(name string) {
	d.t.Helper()
	for _, x := range d.must("GET", "/api/v1/tokens?owner="+name, d.admin, "", 200).list {
		d.must("DELETE", fmt.Sprintf("/api/v1/tokens/%v", x["id"]), d.admin, "", 204)
	}
}

func TestSessionsEndByThemselves(t *testing.T) {
	t.Parallel()
	d := serveDoor(t, "--session-idle", "3s", "--session-life", "9s")
	idle := d.person("idle", "viewer")
	busy := d.person("busy", "viewer")
	streaming, _ := d.stream(t, idle)
	began := time.Now()
	ended := map[string]time.Duration{}
	for len(ended) < 2 && time.Since(began) < 60*time.Second {
		for name, session := range map[string]string{"idle": idle, "busy": busy} {
			unattended := []string{}
			if name == "idle" { // the open page of nobody
				unattended = []string{"X-Undersail-Unattended", "1"}
			}
			if _, over := ended[name]; !over && d.ask("GET", "/api/v1/me", session, "", unattended...).status == 401 {
				ended[name] = time.Since(began)
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	within(t, "an idle session", streaming, 8*time.Second)
	// Uses are noted once in a minute at most, so that one that is used ends by its life.
	if ended["idle"] == 0 || ended["busy"] == 0 || ended["idle"] > 8*time.Second {
		t.Errorf("they ended after %v", ended)
	}
}

func TestInvitationsAndTokensGiveNoMoreThanTheySay(t *testing.T) {
	t.Parallel()
	d := serveDoor(t)
	link := d.must("POST", "/api/v1/users", d.admin, `{"name":"tomas","full_name":"Tomas Holm","roles":["operator"]}`, 201).body["link"].(string)
	code := link[strings.LastIndexByte(link, '#')+1:]
	var took, refused int
	var mu sync.Mutex
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			a, err := d.try("POST", "/api/v1/invitations/take", "", fmt.Sprintf(`{"code":%q,"password":%q}`, code, goodPassword))
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil && a.status == 200:
				took++
			case err == nil && (a.status == 404 || a.status == 429):
				refused++
			}
		})
	}
	all.Wait()
	if took != 1 || refused != 5 {
		t.Errorf("an invitation was taken %d times and refused %d times of 6", took, refused)
	}
	for _, weak := range []string{"short", "password password", "tomas tomas tomas", "aaaaaaaaaaaaaaaa", strings.Repeat("long ", 100)} {
		link := d.must("POST", "/api/v1/users/tomas/link", d.admin, "", 201).body["code"].(string)
		if a := d.ask("POST", "/api/v1/invitations/take", "", fmt.Sprintf(`{"code":%q,"password":%q}`, link, weak)); a.status != 422 {
			t.Errorf("the password %.20q: %d %v", weak, a.status, a.body)
		}
	}
	tomas := cookieOf(d.must("POST", "/api/v1/session", "", signInBody("tomas", goodPassword), 200), "session")
	token := func(by, body string) answer { return d.ask("POST", "/api/v1/tokens", by, body) }
	for what, c := range map[string]struct {
		body string
		want int
	}{
		"more than its owner":     {`{"about":"x","seconds":60,"roles":["admin"]}`, 403},
		"another kind of right":   {`{"about":"x","seconds":60,"roles":["keeper"]}`, 403},
		"no end":                  {`{"about":"x","seconds":0}`, 422},
		"an end too far":          {`{"about":"x","seconds":99999999}`, 422},
		"no role at all":          {`{"about":"x","seconds":60,"roles":[]}`, 422},
		"a role that there isn't": {`{"about":"x","seconds":60,"roles":["root"]}`, 422},
		"an unknown field":        {`{"about":"x","seconds":60,"owner":"admin"}`, 422},
	} {
		if a := token(tomas, c.body); a.status != c.want {
			t.Errorf("a token with %s: %d, want %d (%v)", what, a.status, c.want, a.body["title"])
		}
	}
	narrow := token(tomas, `{"about":"reads","seconds":600,"roles":["viewer"]}`).body["value"].(string)
	if a := token(narrow, `{"about":"wider","seconds":60,"roles":["operator"]}`); a.status != 403 {
		t.Errorf("a token makes a wider one: %d", a.status)
	}
	if a := token(narrow, `{"about":"longer","seconds":6000}`); a.status != 403 {
		t.Errorf("a token makes one that outlives it: %d", a.status)
	}
	if a := token(narrow, `{"about":"the same","seconds":60}`); a.status != 201 || fmt.Sprint(a.body["roles"]) != "[viewer]" {
		t.Errorf("a token of a token: %d %v", a.status, a.body)
	}
	wide := token(tomas, `{"about":"all","seconds":600}`).body["value"].(string)
	secret := `{"name":"gate","kind":"secret"}`
	if a := d.ask("POST", "/api/v1/secrets", narrow, secret); a.status != 403 {
		t.Errorf("a reading token makes a secret: %d", a.status)
	}
	d.must("POST", "/api/v1/secrets", wide, secret, 201)
	d.must("PATCH", "/api/v1/users/tomas", d.admin, `{"roles":["viewer"]}`, 200)
	if a := d.ask("POST", "/api/v1/secrets", wide, `{"name":"gate","kind":"secret","rotate":true}`); a.status != 403 {
		t.Errorf("a token still has what its owner lost: %d", a.status)
	}
	for path, body := range map[string]string{"/api/v1/users": `{"name":"m","full_name":"","roles":["admin"]}`, "/api/v1/users/admin/link": ""} {
		if a := d.ask("POST", path, tomas, body); a.status != 403 {
			t.Errorf("a viewer at %s: %d", path, a.status)
		}
	}
	if a := d.ask("GET", "/api/v1/tokens?owner=admin", tomas, ""); a.status != 403 {
		t.Errorf("a viewer reads the tokens of others: %d", a.status)
	}
	if a := d.ask("DELETE", "/api/v1/tokens/1", tomas, ""); a.status != 404 {
		t.Errorf("a viewer ends the session of another: %d", a.status)
	}
	if a := d.ask("PATCH", "/api/v1/users/admin", d.admin, `{"roles":["viewer"]}`); a.status != 409 {
		t.Errorf("the last administrator goes: %d", a.status)
	}
	// What is told once is not kept to be told again.
	d.ask("POST", "/api/v1/users/tomas/link", d.admin, "", "Idempotency-Key", "k1")
	one := d.ask("POST", "/api/v1/users/tomas/link", d.admin, "", "Idempotency-Key", "k1")
	if one.header.Get("Idempotency-Replayed") != "" {
		t.Error("an invitation was kept and told again")
	}
	// A changed password ends every other session, and is asked for.
	before := d.must("POST", "/api/v1/session", "", signInBody("tomas", goodPassword), 200)
	if a := d.ask("PUT", "/api/v1/me/password", tomas, `{"before":"guess","after":"the harbour bell rings at dusk"}`); a.status != 401 {
		t.Errorf("a password is changed without the one of now: %d", a.status)
	}
	d.must("PUT", "/api/v1/me/password", tomas, fmt.Sprintf(`{"before":%q,"after":"the harbour bell rings at dusk"}`, goodPassword), 204)
	if a := d.ask("GET", "/api/v1/me", cookieOf(before, "session"), ""); a.status != 401 {
		t.Errorf("another session outlives the password: %d", a.status)
	}
	d.must("GET", "/api/v1/me", tomas, "", 200)
}

func TestMetricsAreForThoseWhoMay(t *testing.T) {
	t.Parallel()
	d := serveDoor(t, "--metrics-listen", "127.0.0.1:0")
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
	if res, err := http.Get(strings.Replace(d.metrics, "/metrics", "/api/v1/me", 1)); err != nil || res.StatusCode != 404 {
		t.Errorf("the listener for metrics serves more: %v %v", res, err)
	}
}

func TestWhatIsComputedEndsWithWhoeverAsked(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	check := func(source string) string {
		raw, _ := json.Marshal(map[string]any{"stack": "quays", "file": "quays.sail.yaml", "source": source, "account": "saltmere-lab", "region": "north-fell"})
		return string(raw)
	}
	d := &door{t: t, url: b.url, client: &http.Client{Timeout: time.Minute}}
	head := "undersail: 1\nabout: {name: quays, version: 1.0.0, title: Quays}\nresources:\n"
	began := time.Now()
	a := d.ask("POST", "/api/v1/checks", b.token(), check(head+"  quay: {type: address, repeat: 200000}\n"))
	if text := fmt.Sprint(a.body); a.status != 200 || !strings.Contains(text, "more than 10000 resources") {
		t.Errorf("200,000 resources: %d %.300s", a.status, text)
	}
	t.Logf("200,000 resources were refused after %v", time.Since(began))
	// Members that are costly each; whoever asks hangs up at once.
	heavy := head + "  quay: {type: address, repeat: 9900, want: {tags: {n: \"=string(lists.range(600).map(i, i * index).filter(i, i % 7 == 3).size())\"}}}\n"
	for range 3 {
		ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
		r, _ := http.NewRequestWithContext(ctx, "POST", b.url+"/api/v1/checks", strings.NewReader(check(heavy)))
		r.Header.Set("Authorization", "Bearer "+b.token())
		r.Header.Set("Content-Type", "application/json")
		if res, err := http.DefaultClient.Do(r); err == nil {
			raw, _ := io.ReadAll(res.Body)
			res.Body.Close()
			t.Errorf("it was not heavy at all: %d %.300s", res.StatusCode, raw)
		}
		cancel()
	}
	// Were they still computed, this would have to wait for all three.
	began = time.Now()
	if a := d.ask("POST", "/api/v1/checks", b.token(), check(head+"  quay: {type: address}\n")); a.status != 200 {
		t.Errorf("afterwards: %d %v", a.status, a.body)
	}
	after := time.Since(began)
	began = time.Now()
	if a := d.ask("POST", "/api/v1/checks", b.token(), check(heavy)); a.status != 200 && a.body["type"] != "urn:undersail:too-much" {
		t.Errorf("a heavy check: %d %v", a.status, a.body)
	} else if whole := time.Since(began); after > whole {
		t.Errorf("a small check waited %v for what nobody wanted any more; a whole heavy one takes %v", after, whole)
	}
}
