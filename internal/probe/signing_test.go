package probe

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/miekg/dns"

	"undersail/internal/postgres/postgrestest"
	"undersail/internal/secret"
)

func TestMain(m *testing.M) { postgrestest.Main(m, nil) }

// TestProofOfSigningInOverHTTP signs in by form, by basic authentication and with a body.
func TestProofOfSigningInOverHTTP(t *testing.T) {
	t.Parallel()
	const password = "Neap-Tide-7"
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, given, basic := r.BasicAuth()
		session, _ := r.Cookie("session")
		switch {
		case r.URL.Path == "/sign-in" && r.Method == http.MethodPost && r.PostFormValue("password") == password:
			http.SetCookie(w, &http.Cookie{Name: "session", Value: "open", Path: "/"})
		case r.URL.Path == "/sign-in" && r.PostFormValue("password") == "forgetful":
		case r.URL.Path == "/jobs" && r.Method == http.MethodPost && r.Header.Get("Tide") == "spring":
			body := make([]byte, 20)
			n, _ := r.Body.Read(body)
			w.WriteHeader(http.StatusCreated)
			fmt.Fprintf(w, "queued %s", body[:n])
		case session != nil && session.Value == "open":
			fmt.Fprint(w, "signed in by form")
		case basic && user == "duty" && given == password:
			fmt.Fprint(w, "signed in as duty")
		default:
			w.WriteHeader(http.StatusUnauthorized)
			fmt.Fprintf(w, "not right: %s", given)
		}
	}))
	defer server.Close()
	p := Prober{Policy: loopback(t), Secrets: secret.NewScrubber(map[string]string{"board/password@1": password})}
	form := func(given string) map[string]any {
		return map[string]any{
			"url": server.URL + "/",
			"sign_in": map[string]any{
				"url":  server.URL + "/sign-in",
				"form": map[string]any{"user": "duty", "password": given},
			},
		}
	}
	for _, c := range []struct {
		spec   map[string]any
		passed bool
		answer string
	}{
		{form(password), true, "signed in by form"},
		{form("wrong"), false, "not signed in: the form was answered 401"},
		{form("forgetful"), false, "without a session"},
		{map[string]any{"url": server.URL + "/", "user": "duty", "password": password, "contains": "as duty"}, true,
			"signed in as duty"},
		{map[string]any{"url": server.URL + "/", "user": "tam", "password": password}, false,
			"401 not right: secret:board/password@1"},
		{map[string]any{"url": server.URL + "/", "user": "duty", "password": "no", "status": int64(401)}, true, "401"},
		{map[string]any{
			"url":      server.URL + "/jobs",
			"method":   "POST",
			"body":     "five",
			"headers":  map[string]any{"Tide": "spring"},
			"status":   int64(201),
			"contains": "queued five",
		}, true, "201"},
		{map[string]any{"url": server.URL + "/jobs", "method": "POST", "body": "five"}, false, "401"},
	} {
		e := look(p, "http", c.spec)
		if e.Passed != c.passed || !strings.Contains(e.Answer, c.answer) {
			t.Errorf("%v: %+v", c.spec, e)
		}
		if strings.Contains(e.Asked+e.Answer, password) {
			t.Errorf("the password stands in the evidence: %+v", e)
		}
	}
	e := look(p, "http", form(password))
	if !strings.Contains(e.Asked, "signed in at "+server.URL+"/sign-in by password, user") {
		t.Errorf("what was asked: %s", e.Asked)
	}
}

// TestProofOfSigningInToADatabase asks a real server by its own protocol.
func TestProofOfSigningInToADatabase(t *testing.T) {
	t.Parallel()
	at, err := url.Parse(postgrestest.AsAdmin(postgrestest.Database(t)))
	if err != nil {
		t.Fatal(err)
	}
	password, _ := at.User.Password()
	host, port, _ := net.SplitHostPort(at.Host)
	var number int64
	fmt.Sscan(port, &number)
	p := Prober{Policy: loopback(t), Secrets: secret.NewScrubber(map[string]string{"store/password@1": password})}
	spec := func(more map[string]any) map[string]any {
		out := map[string]any{
			"host":     host,
			"port":     number,
			"name":     strings.TrimPrefix(at.Path, "/"),
			"user":     at.User.Username(),
			"password": password,
		}
		for k, v := range more {
			out[k] = v
		}
		return out
	}
	for _, c := range []struct {
		more   map[string]any
		passed bool
		answer string
	}{
		{nil, true, "signed in; 1 (1 rows)"},
		{map[string]any{"query": "select count(*) || ' tides' from generate_series(1, 3)", "answer": "3 tides"}, true,
			"3 tides"},
		{map[string]any{"query": "select 2", "answer": "3"}, false, "signed in; 2"},
		{map[string]any{"query": "select 1 where false"}, false, "no row"},
		{map[string]any{"query": "select * from nowhere"}, false, `signed in; relation "nowhere" does not exist`},
		{map[string]any{"password": "wrong"}, false, "not signed in: password authentication failed"},
		{map[string]any{"name": "nowhere"}, false, `database "nowhere" does not exist`},
		{map[string]any{"port": int64(1)}, false, "connection refused"},
		{map[string]any{"trust": "any"}, false, "TLS"},
	} {
		e := look(p, "database", spec(c.more))
		if e.Passed != c.passed || !strings.Contains(e.Answer, c.answer) {
			t.Errorf("%v: %+v", c.more, e)
		}
		if strings.Contains(e.Asked+e.Answer, password) {
			t.Errorf("the password stands in the evidence: %+v", e)
		}
	}
}

// TestANameIsAskedForAtItsServers asks a real name server over TCP, and reaches a machine
// by a name that only the cloud's own server knows.
func TestANameIsAskedForAtItsServers(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &dns.Server{Listener: l, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		records := map[string][]string{
			"gauges.example. A":    {"gauges.example. 60 IN A 127.0.0.1", "gauges.example. 60 IN A 127.0.0.2"},
			"www.example. CNAME":   {"www.example. 60 IN CNAME Gauges.example."},
			"gauges.example. TXT":  {`gauges.example. 60 IN TXT "High water"`},
			"mail.example. TXT":    {`mail.example. 60 IN TXT "10 mail.example."`},
			"gauges.example. AAAA": {"gauges.example. 60 IN AAAA 2001:db8::7"},
		}
		for _, text := range records[q.Question[0].Name+" "+dns.TypeToString[q.Question[0].Qtype]] {
			rr, _ := dns.NewRR(text)
			m.Answer = append(m.Answer, rr)
		}
		if strings.HasSuffix(q.Question[0].Name, "elsewhere.") {
			m.Rcode = dns.RcodeRefused
		}
		w.WriteMsg(m)
	})}
	go server.ActivateAndServe()
	defer server.Shutdown()
	p := Prober{Policy: loopback(t), Secrets: secret.NewScrubber(nil), Names: l.Addr().String()}
	for _, c := range []struct {
		name, kind string
		values     []any
		passed     bool
		answer     string
	}{
		{"gauges.example", "A", []any{"127.0.0.2"}, true, "127.0.0.1, 127.0.0.2"},
		{"gauges.example", "", nil, true, "127.0.0.1"},
		{"gauges.example", "A", []any{"127.0.0.9"}, false, "127.0.0.1"},
		{"www.example", "CNAME", []any{"gauges.example."}, true, "gauges.example"},
		{"gauges.example", "TXT", []any{"High water"}, true, "High water"},
		{"gauges.example", "TXT", []any{"high water"}, false, "High water"},
		{"mail.example", "TXT", []any{"10 mail.example."}, true, "10 mail.example."},
		{"gauges.example", "AAAA", []any{"2001:0DB8:0::7"}, true, "2001:db8::7"},
		{"nobody.example", "A", nil, false, "no such record"},
		{"gauges.elsewhere", "A", nil, false, "REFUSED"},
	} {
		spec := map[string]any{"name": c.name, "server": l.Addr().String(), "kind": c.kind}
		if c.values != nil {
			spec["values"] = c.values
		}
		if e := look(p, "name", spec); e.Passed != c.passed || !strings.Contains(e.Answer, c.answer) {
			t.Errorf("%s %s: %+v", c.name, c.kind, e)
		}
	}
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "at "+r.Host)
	}))
	defer page.Close()
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(page.URL, "http://"))
	e := look(p, "http", map[string]any{"url": "http://gauges.example:" + port + "/", "contains": "at gauges.example"})
	if !e.Passed {
		t.Errorf("by its name: %+v", e)
	}
	e = look(p, "http", map[string]any{"url": "http://nobody.example:" + port + "/"})
	if e.Passed || !strings.Contains(e.Answer, "there is no name nobody.example") {
		t.Errorf("by a name that nobody has: %+v", e)
	}
}
