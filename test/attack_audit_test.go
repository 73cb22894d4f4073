package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"

	"undersail/internal/await"
)

// untold are the operations that change something and leave no entry in the audit, with the reason.
var untold = map[string]string{
	"addDraft":         "a draft is nobody's deed until it is proposed",
	"changeDraft":      "as addDraft",
	"removeDraft":      "as addDraft",
	"draftProposal":    "as addDraft",
	"sealForDraft":     "as addDraft",
	"signOut":          "an end of what the sign-in told",
	"verifyStack":      "it looks; what it sees is evidence, with its own record",
	"refreshLibrary":   "what it publishes is told, each by itself",
	"signConnection":   "a part of the connection that was told",
	"testAccount":      "it looks",
	"askTerminal":      "the sign-in that comes of it is told",
	"beginTerminal":    "as askTerminal",
	"lookAtInvitation": "it looks",
	"signInPipeline":   "told where people sign in: the pipelines of package people are tried there",
	"takeInvitation":   "told where people sign in, as an invitation is taken in package people",
	"signIn":           "told where people sign in, with every way that there is",
}

// own begins a text of one's own.
const own = "undersail: 1\nabout: {name: own, version: 1.0.0, title: Own}\n"

// audited does things as the administrator and finds each in the audit.
type audited struct {
	*siege
	t    *testing.T
	done map[string]bool
}

// do calls an operation, and finds its entry behind all that were there before.
func (a *audited) do(op, action, subject, method, path, body string) answer {
	a.t.Helper()
	newest := func(query string) (number float64, who any) {
		list := a.must("GET", "/api/v1/audit?limit=1"+query, a.admin, "", 200).list
		if len(list) == 0 {
			return 0, nil
		}
		return list[0]["number"].(float64), list[0]["who"]
	}
	before, _ := newest("")
	got := a.ask(method, "/api/v1"+path, a.admin, body, "If-Match", `"1"`)
	if got.status >= 300 {
		a.t.Fatalf("%s: %s %s answers %d: %v", op, method, path, got.status, got.body)
	}
	query := "&action=" + url.QueryEscape(action) + "&subject=" + url.QueryEscape(subject)
	if number, who := newest(query); number <= before || who != "ines" {
		a.t.Errorf("%s: no entry tells %q of %q by ines behind entry %v", op, action, subject, before)
	}
	a.done[op] = true
	return got
}

// everyDeedIsInTheAudit holds that each operation that changes something is done once as it
// succeeds, and leaves its entry, or says why it leaves none.
func (s *siege) everyDeedIsInTheAudit(t *testing.T, doc *openapi3.T) {
	a := &audited{s, t, map[string]bool{}}
	a.peopleAndSecrets()
	a.accounts()
	a.texts()
	a.stacks()
	a.do("changePassword", "change password", "ines", "PUT", "/me/password",
		fmt.Sprintf(`{"before":%q,"after":%q}`, a.b.password, goodPassword))
	for _, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			row := operations[op.OperationID]
			changes := method != http.MethodGet && (op.Extensions["x-asks"] != true || basis[op.OperationID] != "")
			switch {
			case !changes || row.held == shared || a.done[op.OperationID] && untold[op.OperationID] == "":
			case strings.HasPrefix(op.OperationID, "try") && row.held != isOpen: // whether a rule holds
			case untold[op.OperationID] == "":
				t.Errorf("%s is not looked for in the audit: say what it leaves there, or why nothing", op.OperationID)
			}
		}
	}
	t.Logf("%d operations leave their entry, %d say why they leave none", len(a.done), len(untold))
}

func (a *audited) peopleAndSecrets() {
	a.t.Helper()
	a.do("inviteUser", "invite user", "told", "POST", "/users", `{"name":"told","full_name":"T","roles":["viewer"]}`)
	a.do("linkUser", "link for user", "told", "POST", "/users/told/link", "")
	a.do("changeUser", "rename user", "told", "PATCH", "/users/told", `{"full_name":"Told"}`)
	a.do("changeUser", "change roles", "told", "PATCH", "/users/told", `{"roles":["operator"]}`)
	a.do("changeUser", "disable user", "told", "PATCH", "/users/told", `{"disabled":true}`)
	a.do("changeUser", "enable user", "told", "PATCH", "/users/told", `{"disabled":false}`)
	a.do("signOutEverywhere", "sign out everywhere", "told", "DELETE", "/users/told/sessions", "")
	token := a.do("addToken", "add token", "", "POST", "/tokens", `{"about":"told","seconds":3600}`)
	id := fmt.Sprint(token.body["id"])
	a.do("revokeToken", "revoke token", id, "DELETE", "/tokens/"+id, "")
	a.do("putSecret", "make secret", "", "POST", "/secrets", `{"name":"told-word","kind":"secret"}`)
	a.do("reveal", "reveal", "", "POST", "/reveal", `{"reference":"told-word","reason":"to see it"}`)
	a.do("removeSecret", "remove secret", "told-word", "DELETE", "/secrets/told-word", "")
}

func (a *audited) accounts() {
	a.t.Helper()
	endpoint, id, secret := a.b.cloudAccount()
	opens := fmt.Sprintf(`{"client_id":%q,"client_secret":%q}`, id, secret)
	a.do("addAccount", "add account", "told-account", "POST", "/accounts",
		fmt.Sprintf(`{"name":"told-account","cloud":"larch","endpoint":%q,"credentials":%s}`, endpoint, opens))
	at := "/accounts/told-account"
	a.do("boundAccount", "bound account", "told-account", "PATCH", at, `{"budget":900}`)
	a.do("limitAccount", "limit account", "told-account", "PUT", at+"/limit", `{"most_month":900}`)
	a.do("renewAccount", "renew account", "told-account", "PUT", at+"/credentials", `{"credentials":`+opens+`}`)
	a.do("declareRange", "declare range", "told-account", "POST", at+"/ranges", `{"range":"10.99.0.0/16","about":"x"}`)
	a.do("removeRange", "remove range", "told-account", "DELETE", at+"/ranges?range=10.99.0.0/16", "")
	a.do("removeAccount", "close account", "told-account", "DELETE", at, `{"why":"it is told"}`)
}

func (a *audited) texts() {
	a.t.Helper()
	a.do("addPolicy", "add policy", "told", "POST", "/policies",
		`{"name":"told","does":"warn","types":["address"],"that":"true","says":"x"}`)
	a.do("removePolicy", "withdraw policy", "told", "DELETE", "/policies/told", "")
	source, _ := json.Marshal("undersail: 1\nabout: {name: told, version: 1.0.0, title: Told}\nresources: {a: {type: " +
		"address}}\n")
	a.do("publishTemplate", "publish template", "told@1.0.0", "POST", "/templates",
		`{"file":"told.sail.yaml","source":`+string(source)+`}`)
	cases, _ := json.Marshal("cases:\n  - name: as it is\n    expect: {order: [a]}\n")
	a.do("saveCases", "save cases", "told@1.0.0", "PUT", "/templates/told@1.0.0/cases", `{"source":`+string(cases)+`}`)
	a.do("addLibrary", "add library", "told", "POST", "/libraries",
		fmt.Sprintf(`{"name":"told","place":%q}`, filepath.Join(a.b.dir, "library")))
}

func (a *audited) stacks() {
	a.t.Helper()
	const account = "saltmere-lab"
	const front = own + "resources: {front: {type: address}}\n"
	raw, _ := json.Marshal(fields{
		"stack":   "told",
		"file":    "own.sail.yaml",
		"source":  front,
		"account": account,
		"region":  "north-fell",
	})
	wish := string(raw)
	id := func(x answer) string { return fmt.Sprint(x.body["id"]) }
	refused := id(a.do("propose", "propose", "told", "POST", "/proposals", wish))
	next := id(a.do("renewProposal", "propose", "told", "POST", "/proposals/"+refused+"/renewal", ""))
	a.do("refuseProposal", "refuse", "told", "POST", "/proposals/"+next+"/refuse", `{"why":"it is told"}`)
	next = id(a.do("propose", "propose", "told", "POST", "/proposals", wish))
	a.do("acceptProposal", "accept", "told", "POST", "/proposals/"+next+"/accept", "")
	run := id(a.do("applyProposal", "apply", "told", "POST", "/proposals/"+next+"/apply", ""))
	a.b.must(0, "watch", run)
	const tagged = own + "resources: {front: {type: address, want: {tags: {a: b}}}}\n"
	run = a.run(a.propose(a.admin, "told", account, tagged, nil), a.admin)
	a.b.must(0, "watch", run)
	a.do("undoRun", "propose", "told", "POST", "/runs/"+run+"/undo", "")
	a.do("retireStack", "propose", "told", "POST", "/stacks/told/retire", "")
	a.failing(a.propose(a.admin, "told-failing", account, front, nil))
	a.keeping(account)
	a.giving(account)
	a.stopping(account)
	draft := id(a.must("POST", "/api/v1/drafts", a.admin,
		`{"stack":"told-draft","template":"told","account":"saltmere-lab","region":"north-fell"}`, 201))
	a.do("proposeDraft", "propose", "told-draft", "POST", "/drafts/"+draft+"/propose", "")
	a.machine(account)
}

// failing lets the run of a proposal fail, and tries it again.
func (a *audited) failing(p answer) {
	a.t.Helper()
	a.b.simcloud("fault", "add", "denied", "--on", "addresses", "--count", "-1")
	run := a.run(p, a.admin)
	a.b.run("watch", run)
	a.do("retryRun", "retry run", "told-failing", "POST", "/runs/"+run+"/retry", "")
	a.b.run("watch", run)
	a.b.simcloud("fault", "lift")
}

// keeping gives what one stack left to another, and removes what it left for good.
func (a *audited) keeping(account string) {
	a.t.Helper()
	const kept = own + "resources:\n  data: {type: disk, at_retire: keep, want: {size: 10GiB, type: " +
		"solid, zone: north-fell-a, encrypted: true}}\n"
	a.carried("told-kept", account, kept, nil)
	a.b.must(0, "watch", a.run(a.must("POST", "/api/v1/stacks/told-kept/retire", a.admin, "", 201), a.admin))
	a.do("discardKept", "propose", "told-kept", "POST", "/kept/discard", `{"name":"told-kept/data"}`)
	a.carried("told-taker", account, strings.ReplaceAll(kept, "data:", "other:"), nil)
	a.do("moveKept", "move kept resource", "told-kept/data", "POST", "/kept/move",
		`{"name":"told-kept/data","to":"told-taker/data"}`)
}

// giving gives a run what it waits for, and takes an agreement back that waits beside it.
func (a *audited) giving(account string) {
	a.t.Helper()
	a.waiting("told-later", account, later)
	list := a.must("GET", "/api/v1/agreements", a.admin, "", 200).list
	if len(list) == 0 {
		a.t.Fatal("nothing is agreed to beforehand")
	}
	agreement := fmt.Sprint(list[0]["id"])
	a.do("endAgreement", "end agreement", fmt.Sprint(list[0]["stack"]), "DELETE", "/agreements/"+agreement, "")
	a.do("giveValues", "give values", "told-later", "POST", "/stacks/told-later/given",
		`{"inputs":{"from":"198.51.100.0/24"}}`)
}

// waiting applies a text whose run waits for a value, and is to be undone where it fails.
func (a *audited) waiting(stack, account, text string) (run string) {
	a.t.Helper()
	p := a.propose(a.admin, stack, account, text, nil)
	id := fmt.Sprint(p.body["id"])
	a.must("POST", "/api/v1/proposals/"+id+"/accept"+agreed(p)+"&on_failure=undo", a.admin, "", 200)
	run = fmt.Sprint(a.must("POST", "/api/v1/proposals/"+id+"/apply", a.admin, "", 200).body["id"])
	await.Until(a.t, "the run waits", func() bool {
		return a.ask("GET", "/api/v1/runs/"+run, a.admin, "").body["state"] == "parked"
	})
	return run
}

// stopping stops a run that waits, and goes on with its stack.
func (a *audited) stopping(account string) {
	a.t.Helper()
	run := a.waiting("told-stopped", account, strings.ReplaceAll(later, "10.95.", "10.98."))
	a.do("stopRun", "stop run", "told-stopped", "POST", "/runs/"+run+"/stop", "")
	await.Until(a.t, "the run is over", func() bool {
		state := a.ask("GET", "/api/v1/runs/"+run, a.admin, "").body["state"]
		return state == "stopped" || state == "undone"
	})
	a.do("continueStack", "propose", "told-stopped", "POST", "/stacks/told-stopped/continue", "")
}

// machine begins a connection to one.
func (a *audited) machine(account string) {
	a.t.Helper()
	a.carried("told-machine", account, own+"resources:\n"+
		"  net: {type: network, want: {range: 10.97.0.0/24}}\n  lan: {type: subnet, want: {network: =net.id, range: "+
		"10.97.0.0/25}}\n  pair: {type: key_pair}\n  box: {type: instance, want: {size: plain-1, image: debian-12, "+
		"subnet: =lan.id, public: true, key_pair: =pair.id}}\n", nil)
	a.do("connect", "connect", "told-machine/box", "POST", "/stacks/told-machine/connections", `{}`)
}
