package test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"
)

// TestPeopleOfADemo tries what people may do with accounts and stacks.
func TestPeopleOfADemo(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	t.Run("what is computed ends with whoever asked",
		func(t *testing.T) { whatIsComputedEndsWithWhoeverAsked(t, b.in(t)) })
	t.Run("roles in one account", func(t *testing.T) { whoHasRolesInOneAccountSeesNothingOfOthers(t, b.in(t)) })
	t.Run("a second person", func(t *testing.T) { aSecondPersonAccepts(t, b.in(t)) })
}

// text is a whole answer as it came.
func (d *door) text(t *testing.T, method, path, token, body string) (int, string) {
	t.Helper()
	r, err := http.NewRequest(method, d.url+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/json")
	res, err := d.client.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, string(raw)
}

// demoDoor meets a demo as an attacker does.
func demoDoor(t *testing.T, b *bench) *door {
	return &door{t: t, url: b.url, admin: b.token(), client: &http.Client{Timeout: time.Minute}}
}

// whoHasRolesInOneAccountSeesNothingOfOthers asks for everything of a stack in another
// account, by every call that there is.
func whoHasRolesInOneAccountSeesNothingOfOthers(t *testing.T, b *bench) {
	d := demoDoor(t, b)
	apply := func(stack, account string) (proposal, run string) {
		p := d.must("POST", "/api/v1/proposals", d.admin,
			fmt.Sprintf(`{"stack":%q,"template":"warning-site","account":%q,"region":"north-fell"}`, stack, account),
			201).body
		proposal = fmt.Sprint(p["id"])
		agree := ""
		if list, ok := p["consents"].([]any); ok {
			for _, c := range list {
				agree += "&agree=" + c.(map[string]any)["name"].(string)
			}
		}
		d.must("POST", "/api/v1/proposals/"+proposal+"/accept?"+strings.TrimPrefix(agree, "&"), d.admin, "", 200)
		run = fmt.Sprint(d.must("POST", "/api/v1/proposals/"+proposal+"/apply", d.admin, "", 200).body["id"])
		b.must(0, "watch", run)
		return proposal, run
	}
	d.must("POST", "/api/v1/secrets", d.admin,
		`{"name":"zealous-gate","kind":"secret","rules":{"length":20,"kinds":["small","capital","digit"]}}`, 201)
	ownProposal, ownRun := apply("quay-own", "saltmere-lab")
	proposal, run := apply("zealous-lamp", "saltmere-live")
	rota := d.must("POST", "/api/v1/proposals", d.admin,
		`{"stack":"zealous-rota","template":"duty-rota","account":"saltmere-live","region":"north-fell","inputs":{"range":"10.77.0.0/24","admin_sources":["127.0.0.0/8"],"password":"secret:zealous-gate"}}`, 201).body
	d.must("POST", fmt.Sprintf("/api/v1/proposals/%v/accept?agree=secret-use", rota["id"]), d.admin, "", 200)
	b.must(0, "watch", fmt.Sprint(d.must("POST", fmt.Sprintf("/api/v1/proposals/%v/apply", rota["id"]), d.admin, "",
		200).body["id"]))
	draft := d.must("POST", "/api/v1/drafts", d.admin,
		`{"stack":"zealous-draft","template":"warning-site","account":"saltmere-live","region":"north-fell"}`,
		201).body["id"].(string)
	lab := d.person("lab", "operator@saltmere-lab")

	// What they may: their own account, whole.
	for _, path := range []string{"/stacks/quay-own", "/stacks/quay-own/outputs", "/proposals/" + ownProposal,
		"/runs/" + ownRun, "/runs/" + ownRun + "/events", "/accounts/saltmere-lab"} {
		d.must("GET", "/api/v1"+path, lab, "", 200)
	}
	d.must("POST", "/api/v1/stacks/quay-own/verify", lab, "", 200)
	if list := d.must("GET", "/api/v1/stacks", lab, "", 200).list; len(list) != 1 {
		t.Errorf("they see %d stacks", len(list))
	}
	leaks := []string{"zealous-lamp", "zealous-rota", "zealous-draft", "saltmere-live"}
	look := func(method, path, body string, want ...int) {
		t.Helper()
		status, text := d.text(t, method, "/api/v1"+path, lab, body)
		for _, leak := range leaks {
			if strings.Contains(strings.ReplaceAll(text, path, ""), leak) && status < 400 {
				t.Errorf("%s %s tells of %s: %.200s", method, path, leak, text)
			}
		}
		for _, s := range want {
			if status == s {
				return
			}
		}
		t.Errorf("%s %s answers %d: %.200s", method, path, status, text)
	}
	for _, path := range []string{"/stacks", "/runs", "/proposals", "/drafts", "/accounts", "/kept", "/events",
		"/secrets", "/policies", "/templates", "/users", "/tokens", "/audit", "/libraries"} {
		look("GET", path, "", 200)
	}
	for _, path := range []string{"/stacks/zealous-lamp", "/stacks/zealous-lamp/outputs", "/stacks/zealous-lamp/cost",
		"/stacks/zealous-lamp/guide", "/stacks/zealous-lamp/template", "/runs/" + run, "/runs/" + run + "/events",
		"/runs/" + run + "/evidence", "/runs/" + run + "/events/stream", "/proposals/" + proposal,
		"/proposals/" + proposal + "/markdown", "/drafts/" + draft, "/drafts/" + draft + "/places",
		"/drafts/" + draft + "/presets",
		"/accounts/saltmere-live", "/accounts/saltmere-live/offers?region=north-fell", "/accounts/saltmere-live/ranges",
		"/accounts/saltmere-live/addresses?region=north-fell"} {
		look("GET", path, "", 404)
	}
	for path, body := range map[string]string{
		"/stacks/zealous-lamp/verify": "", "/stacks/zealous-lamp/continue": "", "/stacks/zealous-lamp/retire": "",
		"/stacks/zealous-lamp/connections": `{}`,
		"/stacks/zealous-lamp/given":       `{"inputs":{}}`, "/runs/" + run + "/stop": "", "/runs/" + run + "/undo": "",
		"/runs/" + run + "/retry":            "",
		"/proposals/" + proposal + "/accept": "", "/proposals/" + proposal + "/refuse": `{"why":"x"}`,
		"/proposals/" + proposal + "/apply": "", "/proposals/" + proposal + "/renewal": "",
		"/proposals/" + proposal + "/draft": "",
		"/accounts/saltmere-live/test":      "", "/drafts/" + draft + "/propose": "",
		"/reveal": `{"reference":"zealous-lamp/password","reason":"to see it"}`,
	} {
		look("POST", path, body, 403, 404, 409, 422)
	}
	for path, body := range map[string]string{
		"/proposals": `{"stack":"mine","template":"warning-site","account":"saltmere-live","region":"north-fell"}`,
		"/checks":    `{"stack":"mine","template":"warning-site","account":"saltmere-live","region":"north-fell"}`,
		"/drafts":    `{"stack":"mine","template":"warning-site","account":"saltmere-live","region":"north-fell"}`,
	} {
		look("POST", path, body, 403, 404)
	}
	look("POST", "/proposals",
		`{"stack":"zealous-lamp","template":"warning-site","account":"saltmere-lab","region":"north-fell"}`, 409, 422)
	look("POST", "/reveal", `{"reference":"zealous-gate","reason":"to see it"}`, 403)
	look("POST", "/accounts",
		`{"name":"saltmere-live","cloud":"larch","endpoint":"http://127.0.0.1:1","credentials":{"client_id":"x","client_secret":"y"}}`, 403)
	look("PATCH", "/accounts/saltmere-lab", `{"second_person":true}`, 403)
	// A token of somebody who sees all, for one account, sees that one alone.
	made := d.must("POST", "/api/v1/tokens", d.admin, `{"about":"lab","seconds":600,"roles":["viewer@saltmere-lab"]}`,
		201).body["value"].(string)
	if list := d.must("GET", "/api/v1/stacks", made, "", 200).list; len(list) != 1 || list[0]["name"] != "quay-own" {
		t.Errorf("the token for one account sees %v", list)
	}
	if a := d.ask("POST", "/api/v1/stacks/quay-own/verify", made, ""); a.status != 403 {
		t.Errorf("a reading token verifies: %d", a.status)
	}
	// The administrator of one account holds it, and no other.
	keeper := d.person("keeper-of-lab", "admin@saltmere-lab")
	d.must("PATCH", "/api/v1/accounts/saltmere-lab", keeper, `{"budget":900}`, 200)
	a := d.ask("PATCH", "/api/v1/accounts/saltmere-live", keeper, `{"budget":900}`)
	if a.status != 403 && a.status != 404 {
		t.Errorf("another account: %d", a.status)
	}
	if a := d.ask("POST", "/api/v1/users", keeper, `{"name":"m","full_name":"","roles":["viewer"]}`); a.status != 403 {
		t.Errorf("people: %d", a.status)
	}
}

// aSecondPersonAccepts tries every way to accept what one proposed oneself.
func aSecondPersonAccepts(t *testing.T, b *bench) {
	d := demoDoor(t, b)
	ada := d.person("ada", "operator")
	bo := d.person("bo", "reviewer")
	propose := func(stack string) string {
		return fmt.Sprint(d.must("POST", "/api/v1/proposals", ada,
			fmt.Sprintf(`{"stack":%q,"template":"warning-site","account":"saltmere-lab","region":"north-fell","inputs":{"range":"10.61.0.0/24"}}`, stack), 201).body["id"])
	}
	accept := func(id, by string) answer { return d.ask("POST", "/api/v1/proposals/"+id+"/accept", by, "") }
	early := propose("early")
	b.must(0, "accounts", "set", "saltmere-lab", "--second-person")
	if a := accept(early, ada); a.status != 403 {
		t.Errorf("one that was proposed before: %d", a.status)
	}
	id := propose("late")
	if a := d.must("GET", "/api/v1/proposals/"+id, ada, "", 200); a.body["second_person"] != true {
		t.Error("the proposal does not say that it asks for a second person")
	}
	a := accept(id, ada)
	if a.status != 403 || !strings.Contains(fmt.Sprint(a.body["title"]), "somebody else than ada") {
		t.Errorf("the author accepts: %d %v", a.status, a.body)
	}
	made := d.must("POST", "/api/v1/tokens", ada, `{"about":"twin","seconds":600}`, 201).body["value"].(string)
	if a := accept(id, made); a.status != 403 {
		t.Errorf("the author's token accepts: %d", a.status)
	}
	if a := d.ask("POST", "/api/v1/proposals/"+id+"/apply", ada, ""); a.status != 409 {
		t.Errorf("what nobody accepted is applied: %d", a.status)
	}
	// Turned off, it still holds for what asked for it.
	b.must(0, "accounts", "set", "saltmere-lab", "--second-person=false")
	if a := accept(id, ada); a.status != 403 {
		t.Errorf("the account asks no more, and the author accepts: %d", a.status)
	}
	b.must(0, "accounts", "set", "saltmere-lab", "--second-person")
	if a := accept(id, bo); a.status != 200 || a.body["decided_by"] != "bo" {
		t.Errorf("somebody else accepts: %d %v", a.status, a.body)
	}
	run := fmt.Sprint(d.must("POST", "/api/v1/proposals/"+id+"/apply", ada, "", 200).body["id"])
	b.must(0, "watch", run)
	if a := d.ask("POST", "/api/v1/proposals/"+id+"/apply", bo, ""); a.status != 403 {
		t.Errorf("a reviewer applies: %d", a.status)
	}
	// In one go, the command stops where it needs the other.
	env := b.env
	b.env = append(append([]string{}, env...), "UNDERSAIL_TOKEN="+made)
	if r := b.run("retire", "late", "--yes"); r.code != 4 || !strings.Contains(r.err, "somebody else") {
		t.Errorf("retire --yes: %d %s %s", r.code, r.out, r.err)
	}
	b.env = env
	// The audit names both.
	var entries []struct{ Who, Action, Subject string }
	if err := json.Unmarshal([]byte(b.must(0, "audit", "late", "-o", "json").out), &entries); err != nil {
		t.Fatal(err)
	}
	who := map[string]string{}
	for _, e := range entries {
		who[e.Action] = e.Who
	}
	if who["propose"] != "ada" || who["accept"] != "bo" {
		t.Errorf("the audit says %v", who)
	}
}

func whatIsComputedEndsWithWhoeverAsked(t *testing.T, b *bench) {
	check := func(source string) string {
		raw, _ := json.Marshal(map[string]any{
			"stack":   "quays",
			"file":    "quays.sail.yaml",
			"source":  source,
			"account": "saltmere-lab",
			"region":  "north-fell",
		})
		return string(raw)
	}
	d := &door{t: t, url: b.url, client: &http.Client{Timeout: 5 * time.Minute}}
	head := "undersail: 1\nabout: {name: quays, version: 1.0.0, title: Quays}\nresources:\n"
	began := time.Now()
	a := d.ask("POST", "/api/v1/checks", b.token(), check(head+"  quay: {type: address, repeat: 200000}\n"))
	if text := fmt.Sprint(a.body); a.status != 200 || !strings.Contains(text, "more than 10000 resources") {
		t.Errorf("200,000 resources: %d %.300s", a.status, text)
	}
	t.Logf("200,000 resources were refused after %v", time.Since(began))
	// Members that are costly each; whoever asks hangs up at once.
	heavy := head + "  quay: {type: address, repeat: 9900, want: {tags: {n: \"=string(lists.range(150).map(i, i * " +
		"index).filter(i, i % 7 == 3).size())\"}}}\n"
	for range 3 {
		ctx, cancel := context.WithTimeout(context.Background(), 150*time.Millisecond)
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
	a = d.ask("POST", "/api/v1/checks", b.token(), check(heavy))
	if a.status != 200 && a.body["type"] != "urn:undersail:too-much" {
		t.Errorf("a heavy check: %d %v", a.status, a.body)
	} else if whole := time.Since(began); after > whole {
		t.Errorf("a small check waited %v for what nobody wanted any more; a whole heavy one takes %v", after, whole)
	}
}
