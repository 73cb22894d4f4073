package test

import (
	"fmt"
	"math/bits"
	"strings"
	"sync"
	"testing"
	"time"
)

func guessingPasswordsComesToNothingAndLocksNobodyOut(t *testing.T, d *door) {
	d.must("POST", "/api/v1/session", "", signInBody("admin", goodPassword), 200)
	stranger := d.from("127.0.0.2")
	var wrong, slowed, otherwise, sprayed int
	var mu sync.Mutex
	var all sync.WaitGroup
	for i := range 40 { // all at once, so that none has failed when the others begin
		all.Go(func() {
			a, err := stranger.try("POST", "/api/v1/session", "", signInBody("admin", fmt.Sprint("guess ", i)))
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err != nil:
				otherwise++
			case a.status == 401:
				wrong++
			case a.status == 429 && a.header.Get("Retry-After") != "":
				slowed++
			default:
				otherwise++
			}
		})
	}
	all.Wait()
	if wrong > 5 || wrong+slowed != 40 {
		t.Errorf("of 40 guesses at once %d were looked at, %d slowed down, %d came to something else", wrong, slowed,
			otherwise)
	}
	if a := d.ask("POST", "/api/v1/session", "", signInBody("admin", goodPassword)); a.status != 200 {
		t.Errorf("the administrator is locked out by a stranger: %d %v", a.status, a.body)
	}
	// Guesses at other names from there are counted together.
	wrong = 0
	began := time.Now()
	for i := range 40 {
		a := stranger.ask("POST", "/api/v1/session", "", signInBody(fmt.Sprint("name", i), "guess"))
		if a.status == 401 {
			wrong++
		}
	}
	if wrong > freely(20, time.Second, began) {
		t.Errorf("%d names were guessed at from one address", wrong)
	}
	// Nothing that a browser may say of itself takes it out of that count.
	other := d.from("127.0.0.6")
	began = time.Now()
	for _, said := range []string{`"signed in"`, "guess", "", strings.Repeat("x", 5000)} {
		for i := range 15 {
			a := other.ask("POST", "/api/v1/session", "", signInBody(fmt.Sprint(len(said), "name", i), "guess"),
				"Cookie", "undersail_device="+said)
			if a.status == 401 {
				sprayed++
			}
		}
	}
	if sprayed > freely(20, time.Second, began) {
		t.Errorf("%d names were guessed at by a browser that claims to be known", sprayed)
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
	a := at.ask("POST", "/api/v1/session", "", signInBody("admin", goodPassword), "Cookie",
		"undersail_device="+cookieOf(first, "device"))
	if a.status != 200 {
		t.Errorf("with the browser that is known: %d %v", a.status, a.body)
	}
	if most := d.peak(); most > 450 {
		t.Errorf("signing in took %d MiB", most)
	}
}

func invitationsAndTokensGiveNoMoreThanTheySay(t *testing.T, d *door) {
	link := d.must("POST", "/api/v1/users", d.admin, `{"name":"tomas","full_name":"Tomas Holm","roles":["operator"]}`,
		201).body["link"].(string)
	code := link[strings.LastIndexByte(link, '#')+1:]
	var took, refused int
	var mu sync.Mutex
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			a, err := d.try("POST", "/api/v1/invitations/take", "",
				fmt.Sprintf(`{"code":%q,"password":%q}`, code, goodPassword))
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
	for _, weak := range []string{"short", "password password", "tomas tomas tomas", "aaaaaaaaaaaaaaaa",
		strings.Repeat("long ", 100)} {
		link := d.must("POST", "/api/v1/users/tomas/link", d.admin, "", 201).body["code"].(string)
		a := d.ask("POST", "/api/v1/invitations/take", "", fmt.Sprintf(`{"code":%q,"password":%q}`, link, weak))
		if a.status != 422 {
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
	a := token(narrow, `{"about":"the same","seconds":60}`)
	if a.status != 201 || fmt.Sprint(a.body["roles"]) != "[viewer]" {
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
	for path, body := range map[string]string{
		"/api/v1/users":            `{"name":"m","full_name":"","roles":["admin"]}`,
		"/api/v1/users/admin/link": "",
	} {
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
	a = d.ask("PUT", "/api/v1/me/password", tomas, `{"before":"guess","after":"the harbour bell rings at dusk"}`)
	if a.status != 401 {
		t.Errorf("a password is changed without the one of now: %d", a.status)
	}
	d.must("PUT", "/api/v1/me/password", tomas,
		fmt.Sprintf(`{"before":%q,"after":"the harbour bell rings at dusk"}`, goodPassword), 204)
	if a := d.ask("GET", "/api/v1/me", cookieOf(before, "session"), ""); a.status != 401 {
		t.Errorf("another session outlives the password: %d", a.status)
	}
	d.must("GET", "/api/v1/me", tomas, "", 200)
}

// freely is how many guesses are looked at, of which some are free: then one after a first span,
// and each time after twice as long, which a slow machine has the time for.
func freely(free int, first time.Duration, began time.Time) int {
	return free + bits.Len(uint(time.Since(began)/first))
}
