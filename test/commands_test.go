package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"undersail/internal/postgres/postgrestest"
)

// TestTheCommandsForPeople runs each of them against a service whose database somebody else
// prepared, as its users and whoever runs it do.
func TestTheCommandsForPeople(t *testing.T) {
	t.Parallel()
	url, owner := postgrestest.Empty(t)
	d := newDoor(t)
	b := &bench{t: t, bin: filepath.Dir(d.bin), env: append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir())}
	place := []string{"--dir", filepath.Join(d.dir, "service"), "--database-url", url}
	r := b.run(append([]string{"serve", "--listen", "127.0.0.1:0"}, place...)...)
	if r.code != 1 || !strings.Contains(r.err, "permission denied") {
		t.Fatalf("a database without tables, and a role that makes none: %d %s", r.code, r.err)
	}
	b.must(0, "migrate", "--database-url", url, "--migrate-url", owner)
	b.must(0, "migrate", "--database-url", url, "--migrate-url", owner) // again changes nothing
	d.up("--database-url", url)
	if strings.Contains(d.talk.String(), "superuser") {
		t.Error(d.talk)
	}
	as := func(who string) {
		b.env = append(os.Environ(), "XDG_CONFIG_HOME="+filepath.Join(d.dir, who))
	}
	as("admin")
	if r := b.runWith(d.first+"\n"+goodPassword+"\n", "login", d.url, "--invited"); r.code != 0 {
		t.Fatal(r.err)
	}
	link := b.must(0, "users", "invite", "nils", "--called", "Nils Aker", "--role", "operator").out
	as("nils")
	r = b.runWith(link+"short\n", "login", d.url, "--invited")
	if r.code != 1 || !strings.Contains(r.err, "needs 12") {
		t.Errorf("a short password: %d %s", r.code, r.err)
	}
	r = b.runWith(link+goodPassword+"\n", "login", d.url, "--invited")
	if r.code != 0 || !strings.Contains(r.out, "as nils (operator)") {
		t.Fatal(r.out, r.err)
	}
	if r := b.runWith(goodPassword+"\nthe harbour bell rings at dusk\n", "password"); r.code != 0 {
		t.Errorf("a new password: %s", r.err)
	}
	if r := b.runWith(goodPassword+"\n", "login", d.url, "--user", "nils"); r.code != 5 {
		t.Errorf("the one of before: %d", r.code)
	}
	token := strings.TrimSpace(b.must(0, "tokens", "add", "nightly-checks", "--role", "viewer", "--for", "3d").out)
	list := b.must(0, "tokens").out
	if !strings.Contains(list, "nightly-checks") || !strings.Contains(list, "not yet") ||
		!strings.Contains(list, "session (this)") {
		t.Errorf("its tokens:\n%s", list)
	}
	var tokens []struct {
		ID    int64
		About string
	}
	b.into(&tokens, "tokens", "-o", "json")
	for _, x := range tokens {
		if x.About == "nightly-checks" {
			raw, _ := json.Marshal(x.ID)
			b.must(0, "tokens", "revoke", string(raw))
		}
	}
	if a := d.ask("GET", "/api/v1/me", token, ""); a.status != 401 {
		t.Errorf("a revoked token: %d", a.status)
	}
	if r := b.run("users", "link", "admin"); r.code != 4 {
		t.Errorf("an operator makes a link for the administrator: %d", r.code)
	}
	b.must(0, "logout")
	if r := b.run("whoami"); r.code != 5 {
		t.Errorf("after logout: %d", r.code)
	}
	as("admin")
	b.must(0, "users", "disable", "nils")
	r = b.runWith("the harbour bell rings at dusk\n", "login", d.url, "--user", "nils")
	if r.code != 4 || !strings.Contains(r.err, "disabled") {
		t.Errorf("disabled: %d %s", r.code, r.err)
	}
	b.must(0, "users", "enable", "nils")
	b.must(0, "users", "roles", "nils", "reviewer", "keeper")
	if again := b.must(0, "users", "link", "nils").out; again == link {
		t.Error("the new link is the old one")
	}
	b.must(0, "users", "sign-out", "nils", "--tokens")
	list = b.must(0, "users").out
	if !strings.Contains(list, "keeper, reviewer") || !strings.Contains(list, "link until") {
		t.Errorf("people:\n%s", list)
	}
	b.must(0, "logout", "--everywhere")
	// Whoever runs the service is never locked out.
	for name, code := range map[string]int{"admin": 0, "ines": 0, "nils": 1} {
		as("host")
		r := b.run(append([]string{"admin-link", "--name", name, "--url", d.url}, place...)...)
		if r.code != code {
			t.Errorf("a link for %s: %d %s", name, r.code, r.err)
		}
		if code == 0 && b.runWith(r.out+goodPassword+"\n", "login", d.url, "--invited").code != 0 {
			t.Errorf("the link for %s does not let them in", name)
		}
	}
	if who := b.must(0, "whoami").out; !strings.Contains(who, "admin") {
		t.Error(who)
	}
}
