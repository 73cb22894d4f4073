package test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"
	"undersail/internal/postgres/postgrestest"

	"github.com/jackc/pgx/v5"
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

// within waits for the end of a stream: for as long as no machine is too busy.
func within(t *testing.T, what string, over <-chan struct{}) {
	t.Helper()
	select {
	case <-over:
	case <-time.After(time.Minute):
		t.Errorf("%s: the stream goes on", what)
	}
}

func streamsEndWithWhatTheyWereOpenedBy(t *testing.T, d *door) {
	for what, end := range map[string]func(name, session string){
		"signed out": func(_, session string) { d.must("DELETE", "/api/v1/session", session, "", 204) },
		"disabled": func(name, _ string) {
			d.must("PATCH", "/api/v1/users/"+name, d.admin, `{"disabled":true}`, 200)
		},
		"other-roles": func(name, _ string) {
			d.must("PATCH", "/api/v1/users/"+name, d.admin, `{"roles":["keeper"]}`, 200)
		},
		"everywhere": func(name, _ string) {
			d.must("DELETE", "/api/v1/users/"+name+"/sessions", d.admin, "", 204)
		},
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
		within(t, what, over)
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
	within(t, "a revoked token", over)
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
	database := postgrestest.Database(t)
	d := serveDoor(t, "--database-url", database, "--session-idle", "3h", "--session-life", "9h")
	admin, err := pgx.Connect(t.Context(), postgrestest.AsAdmin(database))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(context.Background())
	// of does something to the session of somebody, or asks about it.
	of := func(name, what string) (ago time.Duration) {
		t.Helper()
		var row struct{ idle, life, ago time.Duration }
		if what != "" {
			_, err := admin.Exec(t.Context(),
				"UPDATE tokens SET "+what+" WHERE user_id = (SELECT id FROM users WHERE name = $1)", name)
			if err != nil {
				t.Fatal(err)
			}
		}
		err := admin.QueryRow(t.Context(),
			"SELECT t.idle, t.expires_at - t.created_at, now() - t.used_at FROM tokens t JOIN users u ON u.id = "+
				"t.user_id WHERE u.name = $1", name).Scan(&row.idle, &row.life, &row.ago)
		if err != nil || what == "" && (row.idle != 3*time.Hour || row.life.Round(time.Minute) != 9*time.Hour) {
			t.Fatalf("the session of %s may go unused for %v and lasts %v (%v)", name, row.idle, row.life, err)
		}
		return row.ago
	}
	ask := func(session string, more ...string) int {
		t.Helper()
		return d.ask("GET", "/api/v1/me", "", "",
			append([]string{"Cookie", "undersail_session=" + session}, more...)...).status
	}
	idle, busy := d.person("idle", "viewer"), d.person("busy", "viewer")
	streaming, _ := d.stream(t, "", "Cookie", "undersail_session="+idle)
	of("idle", "")
	of("idle", "used_at = now() - interval '2 hours'")
	if status := ask(idle, "X-Undersail-Unattended", "1"); status != 200 || of("idle", "") < 2*time.Hour {
		t.Errorf("the open page of nobody is answered %d, and keeps the session awake", status)
	}
	of("busy", "used_at = now() - interval '2 hours'")
	if status := ask(busy); status != 200 || of("busy", "") > time.Hour {
		t.Errorf("somebody who works is answered %d, and the session does not know", status)
	}
	of("idle", "used_at = now() - interval '181 minutes'")
	of("busy", "expires_at = now() - interval '1 second'")
	within(t, "an idle session", streaming)
	for name, session := range map[string]string{"idle": idle, "busy": busy} {
		if status := ask(session); status != 401 {
			t.Errorf("a session that is over (%s) is answered %d", name, status)
		}
	}
}
