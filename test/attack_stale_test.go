package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
)

// What an operation that changes something stands on.
const (
	makes = "makes" // something new, from what it is given alone
	sets  = "sets"  // what it names, and nothing beside it
	needs = "needs" // what was there when its caller looked
)

// basis has a row for each operation of the contract that changes something, but for those
// before and about one's own sign-in: what it stands on. A new one without a row fails the build.
var basis = map[string]string{
	"changeUser": sets, "boundAccount": sets, "renewAccount": sets, "limitAccount": sets, "signOutEverywhere": sets,
	"saveCases":  sets,
	"addAccount": makes, "declareRange": makes, "addDraft": makes, "addPolicy": makes, "publishTemplate": makes,
	"addLibrary": makes, "propose": makes, "renewProposal": makes, "draftProposal": makes,
	"inviteUser": makes, "linkUser": makes, "addToken": makes, "putSecret": makes, "connect": makes,
	"revokeToken": needs, "removeAccount": needs, "removeRange": needs, "changeDraft": needs, "removeDraft": needs,
	"proposeDraft": needs, "sealForDraft": needs, "tryDraftSecret": needs,
	"removePolicy": needs, "refreshLibrary": needs, "acceptProposal": needs, "refuseProposal": needs,
	"applyProposal": needs, "stopRun": needs, "undoRun": needs, "retryRun": needs,
	"removeSecret": needs, "endAgreement": needs, "verifyStack": needs, "continueStack": needs, "giveValues": needs,
	"discardKept": needs, "moveKept": needs, "retireStack": needs, "signConnection": needs,
	"reveal": needs, "testAccount": sets,
}

// nothingStaleIsDone calls every operation that needs what was there before, as the
// administrator, after that was changed or has gone: none of them does anything.
func (s *siege) nothingStaleIsDone(t *testing.T, doc *openapi3.T) {
	gone := s.gone(t)
	whole := func() string {
		return s.seen(t, "/stacks", "/runs", "/proposals", "/drafts", "/secrets", "/kept", "/agreements", "/policies")
	}
	before := whole()
	tried := 0
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			held := operations[op.OperationID].held
			asks := op.Extensions["x-asks"] == true &&
				(held == shared || held == listing || strings.HasPrefix(op.OperationID, "fit") ||
					strings.HasPrefix(op.OperationID, "check") ||
					slices.Contains([]string{"compareVariants", "listChoices", "tryPolicy"}, op.OperationID))
			if method == http.MethodGet || asks || held == isOpen || held == ofSelf && basis[op.OperationID] == "" {
				continue
			}
			switch stands, known := basis[op.OperationID]; {
			case !known:
				t.Errorf("the operation %s has no row: say what it stands on", op.OperationID)
				continue
			case stands != needs:
				continue
			}
			body := operations[op.OperationID].body
			if strings.HasSuffix(op.OperationID, "Kept") {
				body = `{"name":"stale-kept/data","to":"stale/data"}`
			}
			if op.OperationID == "discardKept" {
				body = `{"name":"stale-kept/data"}`
			}
			if op.OperationID == "reveal" {
				body = `{"reference":"stale-word","reason":"to see it"}`
			}
			at := gone.at(path, op)
			if op.OperationID == "acceptProposal" {
				at = strings.Replace(at, gone["proposals"], gone["unaccepted"], 1)
			}
			tried++
			a, err := s.try(method, at, s.admin, body, "If-Match", `"1"`)
			if err != nil || !slices.Contains([]int{404, 409, 410, 412}, a.status) {
				t.Errorf("%s: %s %s on what was there before: %d %v %v", op.OperationID, method, at, a.status, a.body,
					err)
			}
		}
	}
	for name := range basis {
		if _, there := operations[name]; !there {
			t.Errorf("there is no operation %s any more", name)
		}
	}
	if after := whole(); after != before {
		t.Errorf("something was changed: %s\nand was %s", after, before)
	}
	t.Logf("%d calls on what was there before: none did anything", tried)
}

// gone makes one of everything, and lets it go or become another.
func (s *siege) gone(t *testing.T) veiled {
	t.Helper()
	text := func(note, more string) string {
		return "undersail: 1\nabout: {name: stale, version: 1.0.0, title: Stale}\nresources:\n  front: {type: " +
			"address, want: {tags: {note: " + note + "}}}\n" + more
	}
	id := func(a answer) string { t.Helper(); return fmt.Sprint(a.body["id"]) }
	const account = "saltmere-live"
	const kept = "  data: {type: disk, at_retire: keep, want: {size: 10GiB, type: solid, zone: north-fell-a, " +
		"encrypted: true}}\n"
	run := s.run(s.propose(s.admin, "stale", account, text("a", ""), nil), s.admin)
	s.b.must(0, "watch", run)
	accepted := s.propose(s.admin, "stale", account, text("b", ""), nil)
	s.must("POST", "/api/v1/proposals/"+id(accepted)+"/accept"+agreed(accepted), s.admin, "", 200)
	unaccepted := s.propose(s.admin, "stale", account, text("c", ""), nil)
	// somebody else was first
	s.b.must(0, "watch", s.run(s.propose(s.admin, "stale", account, text("d", ""), nil), s.admin))
	s.b.must(0, "watch", s.run(s.propose(s.admin, "stale-kept", account, text("a", kept), nil), s.admin))
	s.b.must(0, "watch", s.run(s.must("POST", "/api/v1/stacks/stale-kept/retire", s.admin, "", 201), s.admin))
	s.b.must(0, "watch", s.run(s.must("POST", "/api/v1/kept/discard", s.admin, `{"name":"stale-kept/data"}`, 201),
		s.admin))
	raw, _ := json.Marshal(fields{
		"stack":    "stale-draft",
		"template": "warning-site",
		"account":  account,
		"region":   "north-fell",
	})
	draft := id(s.must("POST", "/api/v1/drafts", s.admin, string(raw), 201))
	a, err := s.try("PATCH", "/api/v1/drafts/"+draft, s.admin, `{"inputs":{"range":"10.43.0.0/24"}}`, "If-Match", `"1"`)
	if err != nil || a.status != 200 {
		t.Fatal(a, err)
	}
	a, err = s.try("PATCH", "/api/v1/drafts/"+draft, s.admin, `{"inputs":{"range":"10.44.0.0/24"}}`, "If-Match", `"1"`)
	if err != nil || a.status != 409 && a.status != 412 {
		t.Errorf("a draft that somebody else changed: %v %v", a, err)
	}
	s.must("DELETE", "/api/v1/drafts/"+draft, s.admin, "", 204)
	token := id(s.must("POST", "/api/v1/tokens", s.admin, `{"about":"stale","seconds":3600}`, 201))
	s.must("DELETE", "/api/v1/tokens/"+token, s.admin, "", 204)
	s.must("POST", "/api/v1/secrets", s.admin, `{"name":"stale-word","kind":"secret","account":"saltmere-live"}`, 201)
	s.must("DELETE", "/api/v1/secrets/stale-word", s.admin, "", 204)
	return veiled{"stacks": "stale-kept", "runs": run, "proposals": id(accepted), "unaccepted": id(unaccepted),
		"drafts": draft, "accounts": account, "secrets": "stale-word", "tokens": token, "users": "ines",
		"policies": "stale", "libraries": "stale",
		"connections": "stale", "templates": "warning-site", "agreements": "999999"}
}
