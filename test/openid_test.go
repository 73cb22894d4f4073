package test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"undersail/internal/await"
	"undersail/sim/openid"
)

func TestOpenIDConnect(t *testing.T) {
	t.Parallel()
	p := serveProvided(t)
	for _, x := range []struct {
		what string
		try  func(*testing.T, *provided)
	}{
		{"from a terminal", signingInFromATerminalByOpenIDConnect},
		{"from a browser", signingInByOpenIDConnect},
		{"as a pipeline", signingInAsAPipeline},
	} {
		t.Run(x.what, func(t *testing.T) {
			own := *p.door
			own.t = t
			x.try(t, &provided{&own, p.provider, p.issuer})
		})
	}
}

// provided is a service with a provider that people sign in by.
type provided struct {
	*door
	provider *openid.Provider
	issuer   string
}

func serveProvided(t *testing.T) *provided {
	t.Helper()
	p := &provided{door: newDoor(t)}
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.provider.ServeHTTP(w, r)
	}))
	p.issuer = "http://" + server.Listener.Addr().String()
	p.provider = openid.New(p.issuer, []openid.Person{
		{Subject: "1", Name: "wren", FullName: "Wren Castell", Groups: []string{"tide-operators"}},
		{Subject: "2", Name: "bram", FullName: "Bram Tully", Groups: []string{"gardeners"}},
		{Subject: "3", Name: "admin", FullName: "Not The Admin", Groups: []string{"tide-operators"}},
		{Subject: "4", Name: "Sela/../x", FullName: "A Strange Name", Groups: []string{"tide-operators"}},
	}, map[string]openid.Client{
		"undersail": {
			Secret:  "a secret: with/signs",
			Returns: func(at string) bool { return strings.HasPrefix(at, p.url) },
		},
	})
	server.Start()
	t.Cleanup(server.Close)
	file := filepath.Join(p.dir, "secret")
	if err := os.WriteFile(file, []byte("a secret: with/signs\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	pipelines := filepath.Join(p.dir, "pipelines.yaml")
	err := os.WriteFile(pipelines,
		[]byte("- {name: gauges, issuer: '"+p.issuer+"', claims: {repository: tide-office/gauges}, roles: [viewer]}\n"),
		0o600)
	if err != nil {
		t.Fatal(err)
	}
	p.up("--pipelines", pipelines, "--openid-issuer", p.issuer, "--openid-secret-file", file, "--openid-role",
		"tide-operators=operator", "--openid-role", "tide-watch=viewer")
	p.admin = p.invited(p.first, "admin")
	return p
}

// browser keeps cookies and follows nothing by itself.
func browser(t *testing.T) *http.Client {
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &http.Client{
		Jar:           jar,
		Timeout:       time.Minute,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// begin goes to the provider as a browser, says who is there, and gives the address that
// the provider sends it back to.
func (p *provided) begin(c *http.Client, person string) string {
	p.t.Helper()
	res, err := c.Get(p.url + "/sign-in/openid")
	if err != nil || res.StatusCode != http.StatusSeeOther {
		p.t.Fatal(err, res)
	}
	res.Body.Close()
	to, err := url.Parse(res.Header.Get("Location"))
	if err != nil || to.Query().Get("code_challenge_method") != "S256" || to.Query().Get("nonce") == "" ||
		to.Query().Get("state") == "" {
		p.t.Fatalf("sent to %v", to)
	}
	form := to.Query()
	form.Set("person", person)
	res, err = c.PostForm(p.issuer+"/authorize", form)
	if err != nil || res.StatusCode != http.StatusSeeOther {
		p.t.Fatal(err, res)
	}
	res.Body.Close()
	return res.Header.Get("Location")
}

// back comes back to the service, and gives the status and the session.
func (p *provided) back(c *http.Client, at string) (int, string) {
	p.t.Helper()
	res, err := c.Get(at)
	if err != nil {
		p.t.Fatal(err)
	}
	defer res.Body.Close()
	for _, cookie := range res.Cookies() {
		if cookie.Name == "undersail_session" {
			return res.StatusCode, cookie.Value
		}
	}
	return res.StatusCode, ""
}

func signingInByOpenIDConnect(t *testing.T, p *provided) {
	c := browser(t)
	at := p.begin(c, "wren")
	status, session := p.back(c, at)
	if status != 200 || session == "" {
		t.Fatalf("signing in: %d", status)
	}
	me := p.must("GET", "/api/v1/me", session, "", 200).body
	if me["name"] != "wren" || fmt.Sprint(me["roles"]) != "[operator]" || me["elsewhere"] != true {
		t.Errorf("they are %v", me)
	}
	a := p.ask("PUT", "/api/v1/me/password", session, fmt.Sprintf(`{"before":"","after":%q}`, goodPassword))
	if a.status != 409 {
		t.Errorf("a password beside the provider's: %d", a.status)
	}
	if a := p.ask("POST", "/api/v1/session", "", signInBody("wren", "")); a.status != 401 {
		t.Errorf("signing in without a password: %d", a.status)
	}
	for what, try := range map[string]func() (int, string){
		"the same answer again": func() (int, string) { return p.back(c, at) },
		"an answer in another browser": func() (int, string) {
			return p.back(browser(t), p.begin(browser(t), "wren"))
		},
		"an answer that the victim's browser is sent to": func() (int, string) {
			victim := browser(t)
			p.begin(victim, "wren") // an attempt of their own is under way
			return p.back(victim, p.begin(browser(t), "wren"))
		},
		"another state": func() (int, string) {
			c := browser(t)
			return p.back(c, regexp.MustCompile(`state=[^&]*`).ReplaceAllString(p.begin(c, "wren"), "state=guess"))
		},
		"no code": func() (int, string) {
			c := browser(t)
			return p.back(c, regexp.MustCompile(`code=[^&]*`).ReplaceAllString(p.begin(c, "wren"), "code="))
		},
		"a code that was guessed": func() (int, string) {
			c := browser(t)
			return p.back(c, regexp.MustCompile(`code=[^&]*`).ReplaceAllString(p.begin(c, "wren"), "code=guess"))
		},
		"an error in the place of a code": func() (int, string) {
			c := browser(t)
			p.begin(c, "wren")
			return p.back(c, p.url+"/sign-in/openid/back?error=access_denied&error_description=%3Cscript%3E")
		},
		"nobody of a group that has a role": func() (int, string) {
			c := browser(t)
			return p.back(c, p.begin(c, "bram"))
		},
		"somebody with the name of a user here": func() (int, string) {
			c := browser(t)
			return p.back(c, p.begin(c, "admin"))
		},
		"a name that cannot be": func() (int, string) { c := browser(t); return p.back(c, p.begin(c, "Sela/../x")) },
	} {
		if status, session := try(); status < 400 || session != "" {
			t.Errorf("%s: %d, a session: %t", what, status, session != "")
		}
	}
	for _, fault := range openid.Faults() {
		c := browser(t)
		at := p.begin(c, "wren")
		p.provider.Fail(fault)
		if status, session := p.back(c, at); status < 400 || session != "" {
			t.Errorf("a provider that fails by %s: %d, a session: %t", fault, status, session != "")
		}
	}
	// Groups decide at each sign-in; who lost all of them loses what was open too.
	p.provider.SetGroups("wren", "tide-watch")
	c = browser(t)
	_, again := p.back(c, p.begin(c, "wren"))
	if fmt.Sprint(p.must("GET", "/api/v1/me", again, "", 200).body["roles"]) != "[viewer]" {
		t.Error("the roles are those of before")
	}
	if a := p.ask("POST", "/api/v1/secrets", session, `{"name":"gate","kind":"secret"}`); a.status != 403 {
		t.Errorf("an older session has the roles of before: %d", a.status)
	}
	p.provider.SetGroups("wren", "gardeners")
	c = browser(t)
	if status, again := p.back(c, p.begin(c, "wren")); status != 403 || again != "" {
		t.Errorf("without a group: %d", status)
	}
	if a := p.ask("GET", "/api/v1/me", session, ""); a.status != 401 {
		t.Errorf("sessions outlive the last role: %d", a.status)
	}
	// Whoever is kept out here stays out.
	p.provider.SetGroups("wren", "tide-operators")
	p.must("PATCH", "/api/v1/users/wren", p.admin, `{"disabled":true}`, 200)
	c = browser(t)
	if status, again := p.back(c, p.begin(c, "wren")); status != 403 || again != "" {
		t.Errorf("disabled: %d", status)
	}
	if a := p.ask("PATCH", "/api/v1/users/wren", p.admin, `{"roles":["admin"]}`); a.status != 409 {
		t.Errorf("roles beside those of the groups: %d", a.status)
	}
}

// entered reads the code that a terminal shows, and enters it at the provider as somebody.
func entered(t *testing.T, said io.Reader, issuer, person string, meanwhile func(code string)) {
	t.Helper()
	raw := make([]byte, 4096)
	n, _ := said.Read(raw)
	code := regexp.MustCompile(`enter the code (\S+)`).FindStringSubmatch(string(raw[:n]))
	if code == nil {
		t.Fatalf("it says %q", raw[:n])
	}
	if meanwhile != nil {
		meanwhile(code[1])
	}
	res, err := http.PostForm(issuer+"/enter", url.Values{"user_code": {code[1]}, "person": {person}})
	if err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(err, res)
	}
	res.Body.Close()
}

func signingInAsAPipeline(t *testing.T, p *provided) {
	login := func(repository string) (int, string) {
		raw, err := p.provider.Pipeline("undersail", map[string]any{"repository": repository})
		if err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(p.bin, "login", p.url, "--pipeline")
		cmd.Env, cmd.Stdin = append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir()), strings.NewReader(raw+"\n")
		out, _ := cmd.CombinedOutput()
		return cmd.ProcessState.ExitCode(), string(out)
	}
	if code, said := login("tide-office/gauges"); code != 0 || !strings.Contains(said, "as gauges (viewer)") {
		t.Errorf("signing in: %d %s", code, said)
	}
	code, said := login("tide-office/others")
	if code == 0 || !strings.Contains(said, "no pipeline is let in with this token") {
		t.Errorf("of another repository: %d %s", code, said)
	}
	file := filepath.Join(t.TempDir(), "pipelines.yaml")
	for text, want := range map[string]string{
		"- {name: gauges, issuer: https://x.example, roles: [viewer]}": "names no claim",
		"- {name: gauges, isuer: x}":                                   "isuer",
		"- {name: gauges, issuer: https://x.example, claims: {sub: a}, roles: [admin]}": "no pipeline administers " +
			"the whole service",
	} {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(p.bin, "serve", "--dir", t.TempDir(), "--listen", "127.0.0.1:0", "--pipelines", file)
		if out, err := cmd.CombinedOutput(); err == nil || !strings.Contains(string(out), want) {
			t.Errorf("served with %s: %v %s", text, err, out)
		}
	}
}

func signingInFromATerminalByOpenIDConnect(t *testing.T, p *provided) {
	login := func(person string, meanwhile func(code string)) (int, string) {
		cmd := exec.Command(p.bin, "login", p.url, "--openid")
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir())
		out, err := cmd.StderrPipe()
		if err != nil {
			t.Fatal(err)
		}
		var said strings.Builder
		cmd.Stdout = &said
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		entered(t, out, p.issuer, person, meanwhile)
		rest, _ := io.ReadAll(out)
		cmd.Wait()
		return cmd.ProcessState.ExitCode(), said.String() + string(rest)
	}
	if code, said := login("wren", nil); code != 0 || !strings.Contains(said, "as wren (operator)") {
		t.Errorf("signing in: %d %s", code, said)
	}
	if code, said := login("", nil); code == 0 {
		t.Errorf("refused at the provider: %d %s", code, said)
	}
	if code, said := login("bram", nil); code == 0 || !strings.Contains(said, "none of your groups") {
		t.Errorf("without a role: %d %s", code, said)
	}
	for _, fault := range []string{openid.OtherAudience, openid.OtherKey, openid.Ended, openid.Unsigned} {
		if code, said := login("wren", func(string) { p.provider.Fail(fault) }); code == 0 {
			t.Errorf("a provider that fails by %s: %s", fault, said)
		}
	}
	p.provider.Fail(openid.Script)
	if a := p.ask("POST", "/api/v1/openid/terminal", "", ""); a.status < 400 {
		t.Errorf("people are sent to %v", a.body["url"])
	}
	// What the terminal holds asks for nobody else, and comes to its end once.
	begun := p.must("POST", "/api/v1/openid/terminal", "", "", 200).body
	handle := fmt.Sprintf(`{"handle":%q}`, begun["handle"])
	if strings.Contains(fmt.Sprint(begun), "device") {
		t.Errorf("the provider's own code is handed out: %v", begun)
	}
	a := p.ask("POST", "/api/v1/openid/terminal/ask", "", handle)
	if a.status != 409 || a.body["type"] != "urn:undersail:waiting" {
		t.Errorf("before anybody entered it: %d %v", a.status, a.body)
	}
	http.PostForm(p.issuer+"/enter", url.Values{"user_code": {fmt.Sprint(begun["code"])}, "person": {"wren"}})
	await.Until(t, "it is signed in", func() bool {
		a := p.ask("POST", "/api/v1/openid/terminal/ask", "", handle)
		if a.status != 200 && a.status != 409 {
			t.Fatalf("afterwards: %d %v", a.status, a.body)
		}
		return a.status == 200
	})
	if a := p.ask("POST", "/api/v1/openid/terminal/ask", "", handle); a.status != 401 {
		t.Errorf("a second time: %d", a.status)
	}
	a = p.ask("POST", "/api/v1/openid/terminal/ask", "", fmt.Sprintf(`{"handle":%q}`, begun["code"]))
	if a.status != 401 {
		t.Errorf("with the code that others see: %d", a.status)
	}
}
