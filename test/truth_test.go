package test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"undersail/internal/await"
)

// TestByHandUndoneAndTriedAgain goes the ways of the client when things did not go
// as they should: what was altered by hand, a run that is undone, one that is tried
// again, one that undoes itself, and one that waits for credentials.
func TestByHandUndoneAndTriedAgain(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	apply := func(id string, code int, more ...string) result {
		t.Helper()
		return b.must(code, append([]string{"apply", id, "--watch"}, more...)...)
	}
	apply(b.propose("site", "warning-site"), 0)

	b.simcloud("change", "site-web_rules", `inbound=[{"source": "0.0.0.0/0", "port": 22}]`)
	if r := b.run("verify", "site"); r.code != 3 || !strings.Contains(r.out, "altered by hand: `rules`") {
		t.Errorf("verifying an opened port: exit code %d\n%s%s", r.code, r.out, r.err)
	}
	for _, x := range b.ledger("site").Alive {
		if x.Kind == "instances" {
			b.simcloud("delete", x.ID, "--force")
		}
	}
	if r := b.run("verify", "site"); r.code != 3 || !strings.Contains(r.out, "missing") {
		t.Errorf("verifying without the machine: exit code %d\n%s%s", r.code, r.out, r.err)
	}
	r := b.must(0, "propose", "site")
	for _, want := range []string{"altered by hand and is put back", "removed by hand"} {
		if !strings.Contains(r.out+r.err, want) {
			t.Errorf("the proposal does not say %q:\n%s%s", want, r.out, r.err)
		}
	}
	apply(b.propose("site", "warning-site"), 0)
	if r := b.must(0, "verify", "site", "-o", "json"); !strings.Contains(r.out, `"healthy": true`) {
		t.Errorf("put back and made again: %s", r.out)
	}

	apply(b.propose("site", "warning-site", "--input", "size=plain-2"), 0)
	var runs []struct{ ID int64 }
	b.into(&runs, "runs", "--stack", "site")
	last := fmt.Sprint(runs[0].ID)
	if r := b.must(0, "undo", last); !strings.Contains(r.out, "1 alter") {
		t.Errorf("the proposal to undo: %s", r.out)
	}
	if r := b.must(0, "undo", last, "--yes", "--watch"); !strings.Contains(r.out, "run "+last+" is undone") {
		t.Errorf("undoing: %s%s", r.out, r.err)
	}
	if r := b.run("undo", last); r.code != 4 {
		t.Errorf("undoing twice: exit code %d %s", r.code, r.err)
	}

	b.simcloud("fault", "add", "denied", "--on", "firewalls", "--count", "-1")
	id := b.propose("desk", "warning-site", "--input", "range=10.77.0.0/24")
	r = apply(id, 1)
	b.into(&runs, "runs", "--stack", "desk")
	failed := fmt.Sprint(runs[0].ID)
	if r := b.run("retry", failed, "nothing"); r.code == 0 || !strings.Contains(r.err, "web_rules") {
		t.Errorf("trying an unknown step again: %s", r.err)
	}
	b.simcloud("fault", "lift")
	if r := b.must(0, "retry", failed, "--watch"); !strings.Contains(r.out, "try again") {
		t.Errorf("tried again: %s", r.out)
	}

	b.simcloud("fault", "add", "denied", "--on", "firewalls", "--count", "-1")
	apply(b.propose("trial", "warning-site", "--input", "range=10.78.0.0/24"), 1, "--on-failure", "undo")
	await.Until(t, "undone by itself", func() bool {
		return strings.Contains(b.must(0, "runs", "--stack", "trial").out, "undone")
	})
	if l := b.ledger("trial"); len(l.Alive) != 0 {
		t.Errorf("left are %v", l.Alive)
	}
	b.simcloud("fault", "lift")

	b.simcloud("fault", "add", "slow", "--on", "networks", "--method", "PUT", "--seconds", "2")
	b.must(0, "apply", b.propose("tower", "warning-site", "--input", "range=10.79.0.0/24"))
	b.simcloud("fault", "add", "credentials-end", "--count", "-1")
	b.into(&runs, "runs", "--stack", "tower")
	if r := b.run("watch", fmt.Sprint(runs[0].ID)); r.code != 6 || !strings.Contains(r.err, "waits for a person") {
		t.Errorf("watching a parked run: exit code %d\n%s%s", r.code, r.out, r.err)
	}
	r = b.run("retry", fmt.Sprint(runs[0].ID))
	if r.code == 0 || !strings.Contains(r.err, "does not accept the account's credentials") {
		t.Errorf("going on without credentials: exit code %d %s", r.code, r.err)
	}
	b.simcloud("fault", "lift")
	b.must(0, "retry", fmt.Sprint(runs[0].ID), "--watch")
}

// TestACreatingCallWithAKeyIsCarriedOutOnce asks many times at once with one key.
func TestACreatingCallWithAKeyIsCarriedOutOnce(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	post := func(key, body string) (int, map[string]any) {
		req, _ := http.NewRequest("POST", b.url+"/api/v1/proposals", strings.NewReader(body))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer "+b.token())
		req.Header.Set("Idempotency-Key", key)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Error(err)
			return 0, nil
		}
		defer res.Body.Close()
		var v map[string]any
		json.NewDecoder(res.Body).Decode(&v)
		return res.StatusCode, v
	}
	body := `{"stack":"site","template":"warning-site","account":"saltmere-lab","region":"north-fell"}`
	var all sync.WaitGroup
	var mu sync.Mutex
	ids := map[any]int{}
	for range 12 {
		all.Go(func() {
			var status int
			var v map[string]any
			await.Holds(func() bool {
				status, v = post("one", body)
				return status != 409 || !strings.Contains(fmt.Sprint(v["title"]), "still being carried out")
			})
			mu.Lock()
			defer mu.Unlock()
			if ids[v["id"]]++; status != 201 {
				t.Errorf("%d %v", status, v)
			}
		})
	}
	all.Wait()
	if len(ids) != 1 {
		t.Errorf("one key made the proposals %v", ids)
	}
	status, v := post("one", strings.Replace(body, "site", "other", 1))
	if status != 409 || !strings.Contains(fmt.Sprint(v["title"]), "another call") {
		t.Errorf("another call with the same key: %d %v", status, v)
	}
	if status, _ := post("bad", `{"stack":"site","template":"nothing"}`); status != 404 {
		t.Errorf("an unknown template: %d", status)
	}
	if status, v := post("bad", body); status != 201 {
		t.Errorf("a call that nothing came of keeps its key: %d %v", status, v)
	}
	if status, _ := post(strings.Repeat("x", 201), body); status != 422 {
		t.Errorf("a key that is too long: %d", status)
	}
}

// TestChangesArePushedOnOneStream follows the stream of stacks while one is made.
func TestChangesArePushedOnOneStream(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	open := func(last string) *bufio.Scanner {
		req, _ := http.NewRequestWithContext(ctx, "GET", b.url+"/api/v1/stream", nil)
		req.Header.Set("Authorization", "Bearer "+b.token())
		if last != "" {
			req.Header.Set("Last-Event-ID", last)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil || res.StatusCode != 200 {
			t.Fatal(err, res)
		}
		t.Cleanup(func() { res.Body.Close() })
		return bufio.NewScanner(res.Body)
	}
	// next reads one event: its kind, its place, and the state of the stack in it.
	next := func(s *bufio.Scanner) (kind, place, state string) {
		for s.Scan() {
			line := s.Text()
			if v, ok := strings.CutPrefix(line, "event: "); ok {
				kind = v
			}
			if v, ok := strings.CutPrefix(line, "id: "); ok {
				place = v
			}
			if v, ok := strings.CutPrefix(line, "data: "); ok {
				var st struct{ Name, State string }
				json.Unmarshal([]byte(v), &st)
				return kind, place, st.State
			}
		}
		t.Fatal("the stream ended")
		return
	}
	stream := open("")
	kind, first, _ := next(stream)
	if kind != "reset" || first == "" {
		t.Fatalf("a new reader is told %s %s", kind, first)
	}
	b.must(0, "apply", b.propose("site", "warning-site"))
	seen := map[string]bool{}
	for state := ""; state != "healthy"; {
		_, _, state = next(stream)
		seen[state] = true
	}
	if !seen["underway"] {
		t.Errorf("seen were %v", seen)
	}
	b.must(0, "retire", "site", "--yes", "--watch")
	// A reader that comes back is told what it missed, and no more.
	again := open(first)
	for {
		kind, _, state := next(again)
		if kind != "stack" {
			t.Fatalf("a reader that comes back is told %s", kind)
		}
		if state == "removed" {
			break
		}
	}
	_, told := demoDoor(t, b).text(t, "GET", "/metrics", b.token(), "")
	for _, name := range []string{`undersail_runs_ended_total{kind="apply",result="done"} 1`,
		`undersail_steps_ended_total{action="create",state="healthy"} 4`,
		`undersail_cloud_calls_seconds_count{account="saltmere-lab",class="2xx",method="PUT"} 4`,
		"undersail_looks_total", "undersail_lateness_seconds", "undersail_limit_wait_seconds", "undersail_call_rate"} {
		if !strings.Contains(told, name) {
			t.Errorf("the metrics do not tell %s", name)
		}
	}
}
