package test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"
)

// stream opens a stream and gives a channel that is closed when it ends.
func (d *door) stream(t *testing.T, token string, more ...string) (over <-chan struct{}, status int) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	r, _ := http.NewRequestWithContext(ctx, "GET", d.url+"/api/v1/stream", nil)
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i+1 < len(more); i += 2 {
		r.Header.Set(more[i], more[i+1])
	}
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

func streamsEndWithWhatTheyWereOpenedBy(t *testing.T, d *door) {
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
	streaming, _ := d.stream(t, "", "Cookie", "undersail_session="+idle)
	began := time.Now()
	ended := map[string]time.Duration{}
	for len(ended) < 2 && time.Since(began) < 60*time.Second {
		for name, session := range map[string]string{"idle": idle, "busy": busy} {
			page := []string{"Cookie", "undersail_session=" + session}
			if name == "idle" { // the open page of nobody
				page = append(page, "X-Undersail-Unattended", "1")
			}
			if _, over := ended[name]; !over && d.ask("GET", "/api/v1/me", "", "", page...).status == 401 {
				ended[name] = time.Since(began)
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	within(t, "an idle session", streaming, 8*time.Second)
	if ended["idle"] == 0 || ended["idle"] > 8*time.Second || ended["busy"] < 8*time.Second {
		t.Errorf("they ended after %v", ended)
	}
}
