package test

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"

	contracts "undersail/api"
	"undersail/internal/await"
)

// How an operation of the contract is held: whom it is open to, and what it touches.
const (
	isOpen  = "open"    // before anybody signed in
	ofSelf  = "self"    // touches what is one's own
	listing = "lists"   // lists what one sees, and nothing else
	shared  = "shared"  // reads what all accounts share
	ofAll   = "service" // needs a right for the whole service
	foreign = "foreign" // touches something of an account
)

// operations has a row for each operation of the contract: how it is held, and with which
// body it is tried. A new operation without a row fails the build.
var operations = map[string]struct{ held, body string }{
	"signIn": {isOpen, ""}, "signOut": {ofSelf, ""}, "getMyAddress": {ofSelf, ""}, "getLanguage": {shared, ""},
	"getMe": {ofSelf, ""}, "changePassword": {ofSelf, ""},
	"lookAtInvitation": {isOpen, ""}, "takeInvitation": {isOpen, ""}, "beginTerminal": {isOpen, ""},
	"askTerminal": {isOpen, ""}, "signInPipeline": {isOpen, ""},
	"listUsers": {listing, ""}, "inviteUser": {ofAll, `{"name":"x","full_name":"","roles":["viewer"]}`},
	"changeUser": {ofAll, `{"full_name":"x"}`}, "linkUser": {ofAll, ""}, "signOutEverywhere": {ofAll, ""},
	"listTokens": {listing, ""}, "addToken": {ofSelf, ""}, "revokeToken": {foreign, ""},
	"listClouds": {listing, ""}, "listAccounts": {listing, ""},
	"addAccount": {ofAll,
		`{"name":"x","cloud":"larch","endpoint":"http://127.0.0.1:1","credentials":{"client_id":"x","client_secret":"y"}}`}, "showAccount": {foreign, ""}, "boundAccount": {foreign, `{"budget":1}`},
	"removeAccount": {foreign, `{"why":"x"}`}, "testAccount": {foreign, ""},
	"renewAccount": {foreign, `{"credentials":{"client_id":"x","client_secret":"y"}}`}, "getOffers": {foreign, ""},
	"limitAccount": {foreign, `{"most_month":1}`},
	"listRanges":   {foreign, ""}, "declareRange": {foreign, `{"range":"10.0.0.0/8","about":"x"}`},
	"removeRange": {foreign, ""}, "drawAddresses": {foreign, ""},
	"fitNeed": {foreign, `{"account":"saltmere-live","need":{}}`},
	"fitTemplate": {foreign,
		`{"stack":"x","template":"warning-site","account":"saltmere-live","region":"north-fell"}`},
	"fitEverywhere": {listing, `{"stack":"x","template":"warning-site"}`},
	"compareVariants": {foreign,
		`{"stack":"x","template":"warning-site","account":"saltmere-live","region":"north-fell"}`},
	"checkForm": {foreign,
		`{"stack":"x","template":"warning-site","account":"saltmere-live","region":"north-fell"}`},
	"listChoices": {foreign,
		`{"stack":"x","template":"warning-site","account":"saltmere-live","region":"north-fell"}`},
	"listDrafts": {listing, ""},
	"addDraft": {foreign,
		`{"stack":"x","template":"warning-site","account":"saltmere-live","region":"north-fell"}`},
	"getDraft": {foreign, ""}, "changeDraft": {foreign, `{"inputs":{}}`}, "removeDraft": {foreign, ""},
	"listDraftPlaces": {foreign, ""}, "compareDraftPresets": {foreign, ""}, "proposeDraft": {foreign, ""},
	"sealForDraft":   {foreign, `{"value":"kelp-and-shingle-4"}`},
	"tryDraftSecret": {foreign, `{"value":"kelp-and-shingle-4"}`}, "listDraftChoices": {foreign, ""},
	"listPolicies":       {shared, ""},
	"addPolicy":          {ofAll, `{"name":"x","does":"warn","types":["address"],"that":"true","says":"x"}`},
	"tryPolicy":          {ofAll, `{"policy":{"name":"x","does":"warn","types":["address"],"that":"true","says":"x"}}`},
	"listPolicyVersions": {shared, ""}, "removePolicy": {ofAll, ""},
	"listTemplates": {shared, ""},
	"publishTemplate": {ofAll,
		`{"file":"x.sail.yaml","source":"undersail: 1\nabout: {name: x, version: 1.0.0, title: X}\nresources: {a: {type: address}}\n"}`}, "checkTemplate": {shared, ""}, "startTemplate": {shared, ""}, "runCases": {shared, ""},
	"saveCases": {ofAll, `{"source":"cases: []"}`}, "compareVersions": {shared, ""}, "getTemplate": {shared, ""},
	"listLibraries": {shared, ""}, "addLibrary": {ofAll, `{"name":"x","place":"/tmp"}`}, "refreshLibrary": {ofAll, ""},
	"listVersions":  {shared, ""},
	"listProposals": {listing, ""},
	"propose": {foreign,
		`{"stack":"x","template":"warning-site","account":"saltmere-live","region":"north-fell"}`},
	"getProposal": {foreign, ""}, "writeProposal": {foreign, ""}, "renewProposal": {foreign, ""},
	"draftProposal":  {foreign, ""},
	"acceptProposal": {foreign, ""}, "refuseProposal": {foreign, `{"why":"x"}`}, "applyProposal": {foreign, ""},
	"listRuns": {listing, ""}, "getRun": {foreign, ""}, "stopRun": {foreign, ""}, "undoRun": {foreign, ""},
	"retryRun": {foreign, ""}, "listRunEvents": {foreign, ""}, "streamRunEvents": {foreign, ""},
	"listRunEvidence": {foreign, ""},
	"listEvents":      {listing, ""}, "streamEvents": {listing, ""}, "listSecrets": {listing, ""},
	"putSecret": {foreign, `{"name":"x","kind":"secret","account":"saltmere-live"}`}, "showSecret": {foreign, ""},
	"removeSecret": {foreign, ""}, "reveal": {foreign, `{"reference":"veiled-word","reason":"to see it"}`},
	"listAgreements": {listing, ""}, "endAgreement": {foreign, ""}, "listAudit": {listing, ""},
	"checkAudit": {ofAll, ""},
	"getGuide":   {foreign, ""}, "connect": {foreign, `{}`}, "signConnection": {foreign, `{"hop":0,"data":"AAAA"}`},
	"listStacks": {listing, ""}, "streamChanges": {listing, ""}, "getStack": {foreign, ""}, "getOutputs": {foreign, ""},
	"getCost": {foreign, ""}, "getStackTemplate": {foreign, ""},
	"verifyStack": {foreign, ""}, "continueStack": {foreign, ""}, "giveValues": {foreign, `{"inputs":{"a":"b"}}`},
	"arrange": {shared, ""}, "listKept": {listing, ""}, "getQuiet": {listing, ""},
	"discardKept": {foreign, `{"name":"veiled/data"}`},
	"moveKept":    {foreign, `{"name":"veiled/data","to":"moles/data"}`}, "retireStack": {foreign, ""},
}

// restless is what the service tells anew from time to time, whoever does what.
var restless = regexp.MustCompile(`"(used|left|tested_at|signed_in_at|checked_at|spent[a-z_]*|cost_so_far|at|asked_at|offers_at)":("[^"]*"|[0-9.]+)`)

// TestEveryOperationIsHeld calls every operation of the contract for what belongs to another
// account, with a token that was made for less than its owner may, and as somebody who had
// the role before: none of them does anything, and none tells what there is.
func TestEveryOperationIsHeld(t *testing.T) {
	t.Parallel()
	doc, err := openapi3.NewLoader().LoadFromData(contracts.OpenAPI)
	if err != nil {
		t.Fatal(err)
	}
	b := start(t, "--empty", "--pace", "240")
	s := &siege{b: b, door: demoDoor(t, b)}
	mole, former := s.person("mole", "operator@saltmere-lab"), s.person("former", "operator")
	things := s.veil()
	narrow := s.must("POST", "/api/v1/tokens", s.admin,
		`{"about":"narrow","seconds":3600,"roles":["viewer@saltmere-lab"]}`, 201).body["value"].(string)
	s.must("PATCH", "/api/v1/users/former", s.admin, `{"roles":["viewer@saltmere-lab"]}`, 200)
	// everything that could be touched, as the administrator sees it, but for what is read from the cloud
	// from time to time
	whole := func() string {
		return s.seen(t, "/stacks/veiled", "/proposals/"+things["proposals"], "/drafts/"+things["drafts"],
			"/secrets/veiled-word", "/accounts/saltmere-live", "/kept", "/users", "/policies", "/libraries",
			"/accounts")
	}
	before := whole()
	tried := 0
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			row, known := operations[op.OperationID]
			if !known {
				t.Errorf("the operation %s has no row: say how it is held", op.OperationID)
				continue
			}
			if row.held == isOpen || row.held == ofSelf || row.held == shared || strings.HasSuffix(path, "stream") {
				continue
			}
			for who, token := range map[string]string{
				"another account's operator": mole,
				"a narrow token":             narrow,
				"a former operator":          former,
			} {
				tried++
				at := things.at(path, op)
				status, text := s.held(method, at, token, row.body)
				what := fmt.Sprintf("%s: %s %s (%s)", who, method, at, op.OperationID)
				if row.held == listing {
					if status != 200 || tells(text, at) {
						t.Errorf("%s answers %d and tells of what is elsewhere: %.300s", what, status, text)
					}
					continue
				}
				if !slices.Contains([]int{403, 404, 409, 405}, status) {
					t.Errorf("%s answers %d: %.300s", what, status, text)
				}
				if row.held == foreign && tells(text, at+row.body) {
					t.Errorf("%s tells of what is elsewhere: %.300s", what, text)
				}
			}
		}
	}
	for name := range operations {
		found := false
		for _, item := range doc.Paths.Map() {
			for _, op := range item.Operations() {
				found = found || op.OperationID == name
			}
		}
		if !found {
			t.Errorf("there is no operation %s any more", name)
		}
	}
	was := strings.Split(before, ",")
	for i, part := range strings.Split(whole(), ",") {
		if i >= len(was) || part != was[i] {
			t.Errorf("something was changed: %s, and was %s", part, was[min(i, len(was)-1)])
		}
	}
	t.Logf("%d calls of %d operations: none was let through", tried, len(operations))
	s.nothingStaleIsDone(t, doc)
	s.everyDeedIsInTheAudit(t, doc)
}

// seen is what the administrator reads at some paths, but for what is restless.
func (s *siege) seen(t *testing.T, paths ...string) string {
	t.Helper()
	var all []string
	for _, path := range paths {
		_, text := s.text(t, "GET", "/api/v1"+path, s.admin, "")
		all = append(all, restless.ReplaceAllString(text, ""))
	}
	return strings.Join(all, "\n")
}

// tells reports whether a text has something of what is veiled, beside what was asked with.
func tells(text, asked string) bool {
	for _, word := range []string{"veiled", "saltmere-live"} {
		if strings.Contains(text, word) && !strings.Contains(asked, word) {
			return true
		}
	}
	return strings.Contains(text, "kelp-and-shingle-4711")
}

func (s *siege) held(method, path, token, body string) (int, string) {
	s.t.Helper()
	a, err := s.try(method, path, token, body, "If-Match", `"1"`)
	if err != nil {
		return 0, err.Error()
	}
	raw, _ := json.Marshal([]any{a.body, a.list})
	return a.status, string(raw)
}

// veiled are things of an account that those who try see nothing of, by what paths call them.
type veiled map[string]string

// veil makes one of everything in saltmere-live.
func (s *siege) veil() veiled {
	s.t.Helper()
	s.must("POST", "/api/v1/secrets", s.admin,
		`{"name":"veiled-word","kind":"secret","account":"saltmere-live","value":"kelp-and-shingle-4711"}`, 201)
	const source = "undersail: 1\nabout: {name: veiled, version: 1.0.0, title: Veiled}\ninputs: {word: {secret: " +
		"true}}\nresources:\n  copy: {type: secret, want: {value: =inputs.word}}\n  data: {type: disk, at_retire: " +
		"keep, want: {size: 10GiB, type: solid, zone: north-fell-a, encrypted: true}}\noutputs: {word: {value: " +
		"=inputs.word}}\n"
	p := s.propose(s.admin, "veiled-kept", "saltmere-live", source, fields{
		"inputs": fields{"word": "secret:veiled-word"},
	})
	s.b.must(0, "watch", s.run(p, s.admin))
	p = s.must("POST", "/api/v1/stacks/veiled-kept/retire", s.admin, "", 201)
	s.b.must(0, "watch", s.run(p, s.admin))
	p = s.propose(s.admin, "veiled", "saltmere-live", source, fields{"inputs": fields{"word": "secret:veiled-word"}})
	run := s.run(p, s.admin)
	s.b.must(0, "watch", run)
	raw, _ := json.Marshal(fields{
		"stack":    "veiled-draft",
		"template": "warning-site",
		"account":  "saltmere-live",
		"region":   "north-fell",
	})
	draft := s.must("POST", "/api/v1/drafts", s.admin, string(raw), 201).body["id"].(string)
	token := s.must("POST", "/api/v1/tokens", s.admin, `{"about":"veiled","seconds":3600}`, 201).body
	p = s.propose(s.admin, "veiled-falls", "saltmere-live",
		"undersail: 1\nabout: {name: falls, version: 1.0.0, title: Falls}\nresources: {front: {type: address}}\n", nil)
	id := fmt.Sprint(p.body["id"])
	s.must("POST", "/api/v1/proposals/"+id+"/accept?on_failure=undo", s.admin, "", 200)
	falls := fmt.Sprint(s.must("POST", "/api/v1/proposals/"+id+"/apply", s.admin, "", 200).body["id"])
	agreement := "1"
	await.Until(s.t, "the agreement is listed, or its run is over", func() bool {
		if list := s.must("GET", "/api/v1/agreements", s.admin, "", 200).list; len(list) > 0 {
			agreement = fmt.Sprint(list[0]["id"])
			return true
		}
		return s.ask("GET", "/api/v1/stacks/veiled-falls", s.admin, "").status == 200
	})
	s.b.must(0, "watch", falls)
	open := s.must("POST", "/api/v1/stacks/veiled/retire", s.admin, "", 201)
	return veiled{"stacks": "veiled", "runs": run, "proposals": fmt.Sprint(open.body["id"]), "drafts": draft,
		"accounts": "saltmere-live", "secrets": "veiled-word", "tokens": fmt.Sprint(token["id"]), "users": "ines",
		"policies": "veiled", "libraries": "veiled", "connections": "veiled", "templates": "warning-site",
		"agreements": agreement}
}

// at is a path of the contract for one of the things.
func (v veiled) at(path string, op *openapi3.Operation) string {
	parts := strings.Split(strings.TrimPrefix(path, "/api/v1/"), "/")
	for i, part := range parts {
		if !strings.HasPrefix(part, "{") {
			continue
		}
		if i > 0 && !strings.HasPrefix(parts[i-1], "{") {
			parts[i] = v[parts[i-1]]
		}
		if part == "{input}" {
			parts[i] = "range"
		}
	}
	out := "/api/v1/" + strings.Join(parts, "/")
	switch op.OperationID {
	case "getOffers", "drawAddresses":
		out += "?region=north-fell"
	case "removeRange":
		out += "?range=10.0.0.0/8"
	}
	return out
}
