package test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"undersail/internal/api/contract"
)

func TestBadInputGetsAClearAnswerAndHarmsNothing(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	token := b.token()
	for _, c := range []struct {
		about, method, path, body string
		status                    int
		says                      string
	}{
		{"no JSON", "POST", "/api/v1/proposals", "{", 422, "cannot be read as JSON"},
		{"unknown field", "POST", "/api/v1/proposals", `{"stack":"a","colour":"red"}`, 422, "colour"},
		{"wrong type", "POST", "/api/v1/proposals", `{"stack":7}`, 422, "stack: got number, want string"},
		{"missing field", "POST", "/api/v1/proposals", `{}`, 422, "stack"},
		{"10 MB", "POST", "/api/v1/proposals", `{"stack":"` + strings.Repeat("a", 10<<20) + `"}`, 413, "larger than"},
		{"unknown id", "GET", "/api/v1/proposals/99", "", 404, "there is no proposal 99"},
		{"id is no number", "GET", "/api/v1/runs/abc", "", 422, "id"},
		{"id is too small", "GET", "/api/v1/runs/0", "", 422, "id"},
		{"limit is too large", "GET", "/api/v1/runs?limit=5000", "", 422, "limit"},
		{"unknown stack", "GET", "/api/v1/stacks/nothing", "", 404, "there is no stack nothing"},
		{"unknown path", "GET", "/api/v1/nowhere", "", 404, "there is nothing at"},
		{"wrong method", "PUT", "/api/v1/stacks", "", 405, "not possible here"},
		{"malformed YAML", "POST", "/api/v1/templates", `{"file":"x","source":"a: [b"}`, 422,
			"the template has errors"},
		{"YAML bomb", "POST", "/api/v1/templates", `{"file":"x","source":"a: &a [x,x]\nb: [*a,*a]"}`, 422,
			"the template has errors"},
		{"template of another stack's name", "POST", "/api/v1/proposals",
			`{"stack":"a","template":"../../etc","account":"saltmere-lab","region":"north-fell"}`, 404,
			"there is no template"},
		{"a place in the stream that is none", "GET", "/api/v1/events?cursor=x", "", 422, "not a place in the stream"},
		{"text with a zero byte", "GET", "/api/v1/stacks/a%00b", "", 422, "character zero"},
	} {
		status, problem := b.call(c.method, c.path, token, c.body)
		if status != c.status || !strings.Contains(fmt.Sprint(problem["title"]), c.says) || problem["type"] == nil {
			t.Errorf("%s: %d %v, want %d with %q", c.about, status, problem, c.status, c.says)
		}
	}
	for about, token := range map[string]string{"no token": "", "an unknown token": "usk_0000"} {
		if status, problem := b.call("GET", "/api/v1/stacks", token, ""); status != 401 || problem["remedy"] == nil {
			t.Errorf("%s: %d %v", about, status, problem)
		}
	}
	if status, _ := b.call("GET", "/api/v1/stacks", token, ""); status != 200 {
		t.Errorf("after all that the service answers %d", status)
	}
}

func TestRolesLimitWhatAUserMayDo(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	session := func(name string) string {
		res, err := http.Post(b.url+"/api/v1/session", "application/json",
			strings.NewReader(fmt.Sprintf(`{"name":%q,"password":%q}`, name, b.password)))
		if err != nil || res.StatusCode != 200 {
			t.Fatal(err, res)
		}
		defer res.Body.Close()
		cookie := res.Cookies()[0]
		if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode {
			t.Errorf("the session's cookie is %+v", cookie)
		}
		return cookie.Value
	}
	new := `{"stack":"site","template":"warning-site","account":"saltmere-lab","region":"north-fell"}`
	if status, problem := b.call("POST", "/api/v1/proposals", session("oda"), new); status != 403 {
		t.Errorf("a viewer proposes: %d %v", status, problem)
	}
	status, p := b.call("POST", "/api/v1/proposals", b.token(), new)
	if status != 201 {
		t.Fatal(status, p)
	}
	path := fmt.Sprintf("/api/v1/proposals/%v", p["id"])
	if status, _ := b.call("POST", path+"/accept", session("oda"), ""); status != 403 {
		t.Errorf("a viewer accepts: %d", status)
	}
	if status, p := b.call("POST", path+"/accept", session("tomas"), ""); status != 200 || p["decided_by"] != "tomas" {
		t.Errorf("a reviewer accepts: %d %v", status, p)
	}
	if status, _ := b.call("POST", path+"/apply", session("tomas"), ""); status != 403 {
		t.Errorf("a reviewer applies: %d", status)
	}
	// A session in a cookie needs the console's header to change anything.
	req, _ := http.NewRequest("POST", b.url+path+"/apply", nil)
	req.AddCookie(&http.Cookie{Name: "undersail_session", Value: session("ines")})
	if res, err := http.DefaultClient.Do(req); err != nil || res.StatusCode != 403 {
		t.Errorf("another site could apply: %v %v", res, err)
	}
	for range 8 {
		http.Post(b.url+"/api/v1/session", "application/json", strings.NewReader(`{"name":"oda","password":"wrong"}`))
	}
	status, problem := b.call("POST", "/api/v1/session", "", fmt.Sprintf(`{"name":"oda","password":%q}`, b.password))
	if status != 429 {
		t.Errorf("after eight wrong tries: %d %v", status, problem)
	}
}

func TestStreamsResumeFromAnyNumber(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	b.must(0, "apply", b.propose("site", "warning-site"), "--watch")
	read := func(path, last string, most int) (numbers []int64, lastID string) {
		ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
		defer cancel()
		req, _ := http.NewRequestWithContext(ctx, "GET", b.url+path, nil)
		req.Header.Set("Authorization", "Bearer "+b.token())
		if last != "" {
			req.Header.Set("Last-Event-ID", last)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		lines := bufio.NewScanner(res.Body)
		for lines.Scan() && len(numbers) < most {
			if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
				lastID = id
			}
			if data, ok := strings.CutPrefix(lines.Text(), "data: {\"run\""); ok {
				var e struct{ Number int64 }
				if err := json.Unmarshal([]byte(`{"run"`+data), &e); err != nil {
					t.Fatal(err)
				}
				numbers = append(numbers, e.Number)
			}
		}
		if err := lines.Err(); err != nil {
			t.Fatal(err)
		}
		return numbers, lastID
	}
	all, _ := read("/api/v1/runs/1/events/stream", "", 1000)
	rest, _ := read("/api/v1/runs/1/events/stream", "5", 1000)
	if len(all) < 10 || len(rest) != len(all)-5 || rest[0] != 6 {
		t.Errorf("from the start %d events, after the fifth %d beginning with %v", len(all), len(rest), rest)
	}
	some, cursor := read("/api/v1/events/stream", "", 7)
	more, _ := read("/api/v1/events/stream", cursor, len(all)-7)
	if len(some) != 7 || len(more) != len(all)-7 || more[0] != 8 {
		t.Errorf("over all runs: %v, then %v", some, more)
	}
}

func TestTheServiceTellsHowItIs(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	for _, c := range []struct{ path, says string }{
		{"/healthz", "ok"},
		{"/readyz", "ready"},
		{"/api/openapi.yaml", "openapi: 3.1.0"},
	} {
		if body := answers(t, b.url+c.path); !strings.Contains(body, c.says) {
			t.Errorf("%s: %.80s", c.path, body)
		}
	}
	_, body := demoDoor(t, b).text(t, "GET", "/metrics", b.token(), "")
	if !strings.Contains(body, `undersail_http_requests_total{method="GET",status="200"}`) {
		t.Errorf("/metrics: %.80s", body)
	}

	// What goes wrong at a cloud is found in the log by what the answer says.
	const trace = "4bf92f3577b34da6a3ce929d0e0e4736"
	req, err := http.NewRequest("POST", b.url+"/api/v1/accounts",
		strings.NewReader(`{"name": "far", "cloud": "larch", "endpoint": "http://127.0.0.1:9", "credentials": {"client_id": "x", "client_secret": "y"}}`))
	if err != nil {
		t.Fatal(err)
	}
	req.Header = http.Header{
		"Content-Type":  {"application/json"},
		"Authorization": {"Bearer " + b.token()},
		"Traceparent":   {"00-" + trace + "-00f067aa0ba902b7-01"},
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	var problem contract.Problem
	if err := json.NewDecoder(res.Body).Decode(&problem); err != nil || res.StatusCode != http.StatusBadGateway ||
		problem.Instance == nil || *problem.Instance != "urn:undersail:trace:"+trace {
		t.Errorf("a cloud that is not there: %d, %+v, %v", res.StatusCode, problem, err)
	}
	log, err := os.ReadFile(filepath.Join(b.dir, "service.log"))
	if err != nil || !strings.Contains(string(log), "trace="+trace+" method=POST path=/api/v1/accounts status=502") {
		t.Errorf("the log has nothing of it (%v): %s", err, log)
	}
	_, body = demoDoor(t, b).text(t, "GET", "/metrics", b.token(), "")
	for _, measured := range []string{`undersail_http_request_seconds_count{method="POST",route="/api/v1/accounts"} 1`,
		`undersail_database_connections{state="busy"}`, "undersail_faults_total 0"} {
		if !strings.Contains(body, measured) {
			t.Errorf("the metrics lack %s", measured)
		}
	}
}
