package test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"

	"undersail/internal/await"
	"undersail/internal/postgres/postgrestest"
)

// TestAttacks goes the ways that lie behind the doors: whoever goes them is signed in, with
// few rights. Each of them led to somebody else's secret, machine or approval once.
func TestAttacks(t *testing.T) {
	t.Parallel()
	s := besiege(t)
	for _, way := range []struct {
		name string
		go_  func(*testing.T, *siege)
	}{
		{"rules of a template ask somebody else's secret for its letters", rulesAskASecret},
		{"a guess is compared with what is recorded", aGuessIsCompared},
		{"the key of a check is somebody else's", aCheckSignsInWithAnothersKey},
		{"a public half in one's own stack has its private half sign", aPublicHalfSigns},
		{"a text that waits goes elsewhere with the secret in it", aWaitingTextGoesElsewhere},
		{"what stands around a secret is not shown", surroundingsAreShown},
		{"a new version of a template sends the secret on", aNewVersionSendsItOn},
		{"a narrow token acts by its owner's name", aNarrowTokenActsByName},
		{"a former operator reveals what was drawn", aFormerOperatorReveals},
		{"a value that is given later opens a port", aLaterValueOpensAPort},
		{"a second person is gone around", aSecondPersonIsGoneAround},
		{"a secret stands in the clear in a tag", secretsStandInNoTag},
		{"a user's name is a command of a shell", aNameIsACommand},
		{"line breaks forge rows of tables", lineBreaksForgeRows},
		{"metrics tell of other accounts, and keep what strangers invent", metricsKeepAndTellNothing},
		{"two who bound an account undo each other", boundsAreNotLost},
		{"an answer is given to a narrower token", answersAreOfTheirToken},
		{"refusals tell what there is", refusalsTellNothing},
		{"a text reads as the place of a secret, and is filled when it is undone", aTextReadsAsASecret},
	} {
		t.Run(way.name, func(t *testing.T) {
			own := *s
			own.b, own.door = s.b.in(t), &door{t: t, url: s.url, admin: s.admin, client: s.client}
			way.go_(t, &own)
		})
	}
}

// siege is a demo with people of few rights in it, and what they are after.
type siege struct {
	b *bench
	*door
	// mole operates saltmere-lab and nothing else; aldo operates everywhere.
	mole, aldo string
}

// gateWord is the value of the secret zealous-gate, which the administrator gave.
const gateWord = "kelp-and-shingle-9x"

func besiege(t *testing.T) *siege {
	b := start(t, "--empty", "--pace", "240")
	s := &siege{b: b, door: demoDoor(t, b)}
	s.mole, s.aldo = s.person("mole", "operator@saltmere-lab"), s.person("aldo", "operator")
	s.must("POST", "/api/v1/secrets", s.admin, `{"name":"zealous-gate","kind":"secret","value":"`+gateWord+`"}`, 201)
	s.must("POST", "/api/v1/secrets", s.admin, `{"name":"zealous-key","kind":"key_pair"}`, 201)
	return s
}

type fields map[string]any

// propose proposes a template of one's own for a stack of an account.
func (s *siege) propose(token, stack, account, source string, more fields) answer {
	s.t.Helper()
	body := fields{
		"stack":   stack,
		"file":    "own.sail.yaml",
		"source":  source,
		"account": account,
		"region":  "north-fell",
	}
	for name, v := range more {
		body[name] = v
	}
	raw, _ := json.Marshal(body)
	return s.ask("POST", "/api/v1/proposals", token, string(raw))
}

// agreed is a proposal's consents, as they are given.
func agreed(p answer) string {
	q := url.Values{}
	for _, name := range consents(p) {
		q.Add("agree", name)
	}
	return "?" + q.Encode()
}

func consents(p answer) (names []string) {
	list, _ := p.body["consents"].([]any)
	for _, c := range list {
		names = append(names, c.(map[string]any)["name"].(string))
	}
	return names
}

// carried proposes something as the administrator, agrees to all of it, and waits for its run.
func (s *siege) carried(stack, account, source string, more fields) {
	s.t.Helper()
	p := s.propose(s.admin, stack, account, source, more)
	if p.status != 201 {
		s.t.Fatalf("propose %s: %d %v", stack, p.status, p.body)
	}
	s.b.must(0, "watch", s.run(p, s.admin))
}

// run accepts a proposal with all that it asks for, and begins its run.
func (s *siege) run(p answer, token string) string {
	s.t.Helper()
	if p.status != 201 {
		s.t.Fatalf("it is not proposed: %d %v", p.status, p.body)
	}
	id := fmt.Sprint(p.body["id"])
	s.must("POST", "/api/v1/proposals/"+id+"/accept"+agreed(p), token, "", 200)
	return fmt.Sprint(s.must("POST", "/api/v1/proposals/"+id+"/apply", token, "", 200).body["id"])
}

// alone tells whether somebody may propose and accept something with nobody else.
func (s *siege) alone(token string, p answer) bool {
	s.t.Helper()
	if p.status != 201 {
		return false
	}
	return s.ask("POST", fmt.Sprintf("/api/v1/proposals/%v/accept%s", p.body["id"], agreed(p)), token, "").status == 200
}

func rulesAskASecret(t *testing.T, s *siege) {
	source := func(forbidden string) string {
		return "undersail: 1\nabout: {name: own, version: 1.0.0, title: Own}\ninputs: {word: {secret: true, " +
			"rules: {forbid: [" + forbidden + "]}}}\nresources: {copy: {type: secret, want: {value: =inputs.word}}}\n"
	}
	for _, path := range []string{"proposals", "checks", "drafts"} {
		answers := map[string]bool{}
		for _, forbidden := range []string{"kelp", "hemp"} {
			n := fields{
				"stack":   "own",
				"file":    "own.sail.yaml",
				"source":  source(forbidden),
				"account": "saltmere-lab",
				"region":  "north-fell",
				"inputs":  fields{"word": "secret:zealous-gate"},
			}
			if path == "checks" {
				n = fields{"form": "f-" + forbidden, "proposal": n}
			}
			raw, _ := json.Marshal(n)
			status, text := s.text(t, "POST", "/api/v1/"+path, s.mole, string(raw))
			answers[fmt.Sprint(status, strings.Contains(text, "breaks the rules"))] = true
		}
		if len(answers) > 1 {
			t.Errorf("%s: the answer depends on the secret: %v", path, answers)
		}
	}
}

const wordy = `undersail: 1
about: {name: wordy, version: 1.0.0, title: Wordy}
inputs: {word: {secret: true}}
resources: {copy: {type: secret, want: {value: =inputs.word}}}
`

func aGuessIsCompared(t *testing.T, s *siege) {
	s.carried("wordy", "saltmere-lab", wordy, fields{"secrets": fields{"word": gateWord}})
	seen := map[string]bool{}
	for _, guess := range []string{"another-word-4711", gateWord} {
		p := s.propose(s.mole, "wordy", "saltmere-lab", wordy, fields{"secrets": fields{"word": guess}})
		seen[fmt.Sprint(p.status, p.body["state"])] = true
	}
	if len(seen) != 1 {
		t.Errorf("a right guess is answered otherwise than a wrong one: %v", seen)
	}
}

func aCheckSignsInWithAnothersKey(t *testing.T, s *siege) {
	for what, check := range map[string]string{
		"the check": "{ssh: {host: 127.64.9.9, user: admin, key: =inputs.k, command: hostname, answer: x}, " +
			"within: 1m}",
		"its bridge": "{tcp: {host: 10.0.0.9, port: 22, through: {host: 127.64.9.9, user: admin, key: =inputs.k}}, " +
			"within: 1m}",
	} {
		source := "undersail: 1\nabout: {name: own, version: 1.0.0, title: Own}\ninputs: {k: {secret: " +
			"true}}\nresources: {front: {type: address, health: [" + check + "]}}\n"
		p := s.propose(s.mole, "own-"+strings.Fields(what)[1], "saltmere-lab", source, fields{
			"inputs": fields{"k": "secret:zealous-key"},
		})
		if s.alone(s.mole, p) {
			t.Errorf("%s signs in with it, and nobody else was asked: %v", what, consents(p))
		}
	}
}

const undone = `undersail: 1
about: {name: undone, version: 1.0.0, title: Undone}
inputs: {word: {secret: true}, text: {type: string, default: none}}
resources:
  copy: {type: secret, want: {value: =inputs.word}}
  net: {type: network, want: {range: 10.99.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.99.0.0/25}}
  pair: {type: key_pair}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  box: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, key_pair: =pair.id, public: true, firewalls: ["=door.id"]}}
`

func aTextReadsAsASecret(t *testing.T, s *siege) {
	theirs := strings.NewReplacer("word: {secret: true}, ", "", "  copy: {type: secret, want: {value: =inputs.word}}\n",
		"").Replace(undone)
	s.b.must(0, "watch", s.run(s.propose(s.mole, "undone", "saltmere-lab", theirs, nil), s.mole))
	s.b.must(0, "watch", s.run(s.propose(s.mole, "undone", "saltmere-lab", undone, fields{
		"inputs": fields{"word": "secret:zealous-gate"},
	}), s.admin))
	const task = "  bad: {type: task, want: {on: =box.public_address, user: admin, key: =pair.private_key, command: " +
		"'true', undo: %s}}\n"
	for what, undo := range map[string]string{
		"as it stands":  "'tell 127.64.6.6 \u27e8secret:zealous-gate@1\u27e9'",
		"all of it":     "'secret:zealous-gate@1'",
		"by an input":   "=inputs.text",
		"with its mark": "=\"tell \\ue000zealous-gate@1\\ue003\"",
	} {
		p := s.propose(s.mole, "undone", "saltmere-lab", undone+fmt.Sprintf(task, undo), fields{
			"inputs": fields{"text": "tell 127.64.6.6 \u27e8secret:zealous-gate@1\u27e9"},
		})
		if s.alone(s.mole, p) {
			t.Errorf("%s, it is filled with the secret when the task is taken away: %v", what, consents(p))
		}
	}
}

const keyed = `undersail: 1
about: {name: keyed, version: 1.0.0, title: Keyed}
inputs: {public: {type: string}}
resources:
  net: {type: network, want: {range: 10.91.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.91.0.0/25}}
  pair: {type: key_pair, want: {public_key: =inputs.public}}
  box: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, key_pair: =pair.id, public: true}}
`

func aPublicHalfSigns(t *testing.T, s *siege) {
	public, _ := s.must("GET", "/api/v1/secrets/zealous-key", s.admin, "", 200).body["public"].(string)
	p := s.propose(s.mole, "keyed", "saltmere-lab", keyed, fields{"inputs": fields{"public": public}})
	if p.status != 201 {
		t.Fatalf("%d %v", p.status, p.body)
	}
	s.b.must(0, "watch", s.run(p, s.mole))
	if a := s.ask("POST", "/api/v1/stacks/keyed/connections", s.mole, `{}`); a.status == 201 {
		t.Errorf("the service signs in with the administrator's key: %v", a.body["hops"])
	}
	p = s.propose(s.mole, "named", "saltmere-lab", strings.ReplaceAll(keyed, "10.91.", "10.92."), fields{
		"inputs": fields{"public": "key:zealous-key"},
	})
	if s.alone(s.mole, p) {
		t.Errorf("a key of somebody else is used by its name, and nobody was asked: %v", consents(p))
	}
}

const waiting = `undersail: 1
about: {name: waiting, version: 1.0.0, title: Waiting}
inputs:
  word: {secret: true, generate: true}
  to: {type: string, default: 127.64.9.9}
  size: {type: string, default: plain-1}
resources:
  net: {type: network, want: {range: 10.93.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.93.0.0/25}}
  peer: {type: instance, want: {size: =inputs.size, image: debian-12, subnet: =lan.id, user_data: {runcmd: [="echo " + inputs.to]}}}
  box:
    type: instance
    want: {size: plain-1, image: debian-12, subnet: =lan.id, user_data: {runcmd: [="tell " + inputs.to + " " + inputs.word + " " + peer.id]}}
`

func aWaitingTextGoesElsewhere(t *testing.T, s *siege) {
	s.carried("waiting", "saltmere-live", waiting, nil)
	p := s.propose(s.aldo, "waiting", "saltmere-live", waiting, fields{"inputs": fields{"to": "127.64.6.6"}})
	if s.alone(s.aldo, p) {
		t.Errorf("the secret goes to another place, and nobody was asked: %v", consents(p))
	}
}

func surroundingsAreShown(t *testing.T, s *siege) {
	source := strings.ReplaceAll(strings.ReplaceAll(waiting, "10.93.", "10.94."), "name: waiting", "name: shown")
	p := s.propose(s.admin, "shown", "saltmere-live",
		source+"    health: [{http: {url: =\"http://listener.saltmere.example/\" + inputs.word + \"/tail\"}, "+
			"within: 1m}]\n", nil)
	raw, _ := json.Marshal(p.body)
	for _, around := range []string{"http://listener.saltmere.example/", "/tail", "tell 127.64.9.9 "} {
		if !strings.Contains(string(raw), around) {
			t.Errorf("whoever accepts is not shown %q around the secret (%d)", around, p.status)
		}
	}
	if !slices.Contains(consents(p), "secret-use") {
		t.Errorf("the administrator is asked nothing: %v", consents(p))
	}
}

func aNewVersionSendsItOn(t *testing.T, s *siege) {
	keeper := s.person("keeper", "keeper")
	publish := func(source string) {
		raw, _ := json.Marshal(fields{"file": "site.sail.yaml", "source": source})
		if a := s.ask("POST", "/api/v1/templates", keeper, string(raw)); a.status != 201 {
			t.Fatalf("%d %v", a.status, a.body)
		}
	}
	const site = "undersail: 1\nabout: {name: word-site, version: 1.0.0, title: Words}\ninputs: {word: {secret: " +
		"true, generate: true}}\nresources:\n  copy: {type: secret, want: {value: =inputs.word}}\n"
	publish(site)
	p := s.must("POST", "/api/v1/proposals", s.admin,
		`{"stack":"words","template":"word-site","account":"saltmere-live","region":"north-fell"}`, 201)
	s.b.must(0, "watch", s.run(p, s.admin))
	publish(strings.Replace(strings.Replace(site, "1.0.0", "1.1.0", 1), "{type: secret, want: {value: =inputs.word}}",
		"{type: secret, want: {value: =inputs.word}, health: [{http: {url: =\"http://127.64.6.6/\" + inputs.word}, "+
			"within: 1m}]}", 1))
	p = s.must("POST", "/api/v1/proposals", s.admin, `{"stack":"words","template":"word-site"}`, 201)
	if !slices.Contains(consents(p), "secret-use") {
		t.Errorf("the secret goes on, and the administrator is asked for %v", consents(p))
	}
}

func aNarrowTokenActsByName(t *testing.T, s *siege) {
	made := func(about, role string) (value, id string) {
		a := s.must("POST", "/api/v1/tokens", s.admin, `{"about":"`+about+`","seconds":600,"roles":["`+role+`"]}`, 201)
		return a.body["value"].(string), fmt.Sprint(a.body["id"])
	}
	narrow, _ := made("narrow", "viewer@saltmere-lab")
	_, wide := made("wide", "admin")
	a := s.ask("POST", "/api/v1/reveal", narrow, `{"reference":"zealous-gate","reason":"to see it"}`)
	if a.status == 200 {
		t.Error("it reveals what its owner gave")
	}
	if a := s.ask("DELETE", "/api/v1/tokens/"+wide, narrow, ""); a.status < 400 {
		t.Error("it revokes a wider token of its owner")
	}
	if _, text := s.text(t, "GET", "/api/v1/tokens", narrow, ""); strings.Contains(text, `"wide"`) {
		t.Error("it lists the wider tokens of its owner")
	}
	s.must("POST", "/api/v1/secrets", s.admin, `{"name":"zealous-audited","kind":"secret"}`, 201)
	if _, text := s.text(t, "GET", "/api/v1/audit", narrow, ""); strings.Contains(text, "zealous-audited") {
		t.Error("it reads in the audit what its owner did elsewhere")
	}
	for path, body := range map[string]string{
		"/api/v1/session/password":     `{"password":"x","new_password":"` + goodPassword + `"}`,
		"/api/v1/users/admin/sign-out": "",
	} {
		if a := s.ask("POST", path, narrow, body); a.status < 400 {
			t.Errorf("%s is done with it", path)
		}
	}
}

func aFormerOperatorReveals(t *testing.T, s *siege) {
	former := s.person("former", "operator@saltmere-lab")
	p := s.propose(former, "formers", "saltmere-lab",
		strings.ReplaceAll(wordy, "{secret: true}", "{secret: true, generate: true}"), nil)
	s.b.must(0, "watch", s.run(p, former))
	ask := func() int {
		return s.ask("POST", "/api/v1/reveal", former, `{"stack":"formers","name":"word","reason":"to see it"}`).status
	}
	if status := ask(); status != 200 {
		t.Fatalf("while they operate: %d", status)
	}
	s.must("PATCH", "/api/v1/users/former", s.admin, `{"roles":["viewer@saltmere-lab"]}`, 200)
	if status := ask(); status == 200 {
		t.Error("whoever is an operator no longer reveals what was drawn for them")
	}
}

const later = `undersail: 1
about: {name: later, version: 1.0.0, title: Later}
inputs: {from: {type: string, format: cidr, later: true}}
resources:
  net: {type: network, want: {range: 10.95.0.0/24}}
  rules: {type: firewall, want: {network: =net.id, rules: [{from: =inputs.from, port: 22, about: administrators}]}}
`

func aLaterValueOpensAPort(t *testing.T, s *siege) {
	p := s.propose(s.mole, "later", "saltmere-lab", later, nil)
	id := s.run(p, s.mole)
	await.Until(t, "the run waits", func() bool {
		return s.ask("GET", "/api/v1/runs/"+id, s.mole, "").body["state"] == "parked"
	})
	if a := s.ask("POST", "/api/v1/stacks/later/given", s.mole, `{"inputs":{"from":"0.0.0.0/0"}}`); a.status < 400 {
		t.Errorf("the port is opened to the world: %d %v", a.status, a.body)
	}
	if run := s.ask("GET", "/api/v1/runs/"+id, s.mole, ""); run.body["state"] != "parked" {
		t.Errorf("the port is opened to the world, and nobody agreed: the run is %v", run.body["state"])
	}
	// In an account that asks for a second person, not even a narrow range is given alone.
	s.must("PATCH", "/api/v1/accounts/saltmere-lab", s.admin, `{"second_person":true}`, 200)
	defer s.must("PATCH", "/api/v1/accounts/saltmere-lab", s.admin, `{"second_person":false}`, 200)
	p = s.propose(s.mole, "later-two", "saltmere-lab", strings.ReplaceAll(later, "10.95.", "10.96."), nil)
	reviewer := s.person("reviewer-of-later", "reviewer")
	s.must("POST", fmt.Sprintf("/api/v1/proposals/%v/accept%s", p.body["id"], agreed(p)), reviewer, "", 200)
	id = fmt.Sprint(s.must("POST", fmt.Sprintf("/api/v1/proposals/%v/apply", p.body["id"]), s.mole, "", 200).body["id"])
	await.Until(t, "the second run waits", func() bool {
		return s.ask("GET", "/api/v1/runs/"+id, s.mole, "").body["state"] == "parked"
	})
	a := s.ask("POST", "/api/v1/stacks/later-two/given", s.mole, `{"inputs":{"from":"198.51.100.0/24"}}`)
	if a.status < 400 {
		t.Errorf("a value is given by one person alone: %d %v", a.status, a.body)
	}
	if run := s.ask("GET", "/api/v1/runs/"+id, s.mole, ""); run.body["state"] != "parked" {
		t.Errorf("a value is given by one person alone: the run is %v", run.body["state"])
	}
}

func aSecondPersonIsGoneAround(t *testing.T, s *siege) {
	other := s.person("other-operator", "operator@saltmere-lab")
	s.must("PATCH", "/api/v1/accounts/saltmere-lab", s.admin, `{"second_person":true}`, 200)
	defer s.must("PATCH", "/api/v1/accounts/saltmere-lab", s.admin, `{"second_person":false}`, 200)
	// What one shaped is not accepted by oneself because somebody else pressed the button.
	source := "undersail: 1\nabout: {name: lone, version: 1.0.0, title: Lone}\nresources: {front: {type: address}}\n"
	raw, _ := json.Marshal(fields{
		"stack":   "lone",
		"file":    "lone.sail.yaml",
		"source":  source,
		"account": "saltmere-lab",
		"region":  "north-fell",
	})
	draft := s.must("POST", "/api/v1/drafts", s.mole, string(raw), 201).body
	p := s.must("POST", fmt.Sprintf("/api/v1/drafts/%v/propose", draft["id"]), other, "", 201, "If-Match",
		fmt.Sprintf("\"%v\"", draft["revision"]))
	a := s.ask("POST", fmt.Sprintf("/api/v1/proposals/%v/accept%s", p.body["id"], agreed(p)), s.mole, "")
	if a.status == 200 {
		t.Error("whoever filled a draft in accepts what came of it")
	}
	// What fails and was to be undone is undone: that was agreed to with the proposal.
	source = "undersail: 1\nabout: {name: falls, version: 1.0.0, title: Falls}\nresources:\n  front: {type: " +
		"address}\n  back: {type: address, after: {front: healthy}, health: [{tells: {attribute: address, is: " +
		"nowhere}, within: 5s}]}\n"
	p = s.propose(s.mole, "falls", "saltmere-lab", source, nil)
	accept := fmt.Sprintf("/api/v1/proposals/%v/accept%s", p.body["id"], agreed(p))
	s.must("POST", accept, other, "", 200)
	a = s.ask("POST", fmt.Sprintf("/api/v1/proposals/%v/apply?on_failure=undo", p.body["id"]), s.mole, "")
	if a.status == 200 {
		t.Error("what becomes of a run that fails is said by its author alone")
	}
	p = s.propose(s.mole, "falls", "saltmere-lab", source, nil)
	s.must("POST", fmt.Sprintf("/api/v1/proposals/%v/accept%s&on_failure=undo", p.body["id"], agreed(p)), other, "",
		200)
	run := fmt.Sprint(s.must("POST", fmt.Sprintf("/api/v1/proposals/%v/apply?on_failure=undo", p.body["id"]), s.mole,
		"", 200).body["id"])
	await.Until(t, "the run is undone", func() bool {
		return s.ask("GET", "/api/v1/runs/"+run, s.mole, "").body["state"] == "undone"
	})
	// What is kept is not given to another stack by one person.
	s.must("PATCH", "/api/v1/accounts/saltmere-lab", s.admin, `{"second_person":false}`, 200)
	s.carried("keeps", "saltmere-lab",
		"undersail: 1\nabout: {name: keeps, version: 1.0.0, title: Keeps}\nresources: {data: {type: disk, "+
			"at_retire: keep, want: {size: 10GiB, type: solid, zone: north-fell-a, encrypted: true}}}\n", nil)
	p = s.must("POST", "/api/v1/stacks/keeps/retire", s.admin, "", 201)
	s.b.must(0, "watch", s.run(p, s.admin))
	s.must("PATCH", "/api/v1/accounts/saltmere-lab", s.admin, `{"second_person":true}`, 200)
	if a := s.ask("POST", "/api/v1/kept/move", s.mole, `{"name":"keeps/data","to":"moles/data"}`); a.status == 200 {
		t.Error("what is kept is moved by one person")
	}
}

func secretsStandInNoTag(t *testing.T, s *siege) {
	p := s.propose(s.admin, "tagged", "saltmere-live",
		"undersail: 1\nabout: {name: tagged, version: 1.0.0, title: Tagged}\ninputs: {word: {secret: true, "+
			"generate: true}}\nresources: {front: {type: address, want: {tags: {word: =inputs.word}}}}\n", nil)
	if p.status == 201 {
		t.Error("a secret may stand in a tag, in the clear")
	}
}

func aNameIsACommand(t *testing.T, s *siege) {
	const source = `undersail: 1
about: {name: shelled, version: 1.0.0, title: Shelled}
resources:
  net: {type: network, want: {range: 10.97.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.97.0.0/25}}
  rules: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22, about: administrators}]}}
  pair: {type: key_pair}
  box:
    type: instance
    want: {size: plain-1, image: debian-12, subnet: =lan.id, key_pair: =pair.id, public: true, firewalls: ["=rules.id"], user_data: {users: [{name: 'admin; touch sailed', sudo: none}]}}
    health: [{ssh: {host: =self.public_address, user: 'admin; touch sailed', key: =pair.private_key, command: hostname, answer: x}, within: 5m}]
`
	p := s.propose(s.admin, "shelled", "saltmere-lab", source, nil)
	if p.status != 201 {
		t.Fatalf("%d %v", p.status, p.body)
	}
	if p.status == 201 {
		s.run(p, s.admin)
		await.Until(t, "its machine is there", func() bool {
			return s.ask("POST", "/api/v1/stacks/shelled/connections", s.admin, `{}`).status == 201
		})
		line := s.b.run("connect", "shelled", "--print").out
		if strings.Contains(line, "; touch sailed") && !strings.Contains(line, `'admin; touch sailed`) {
			t.Errorf("connect --print writes %q", line)
		}
	}
}

func lineBreaksForgeRows(t *testing.T, s *siege) {
	s.ask("POST", "/api/v1/users", s.admin, `{"name":"pip","full_name":"Pip\nzoe  admin  active","roles":["viewer"]}`)
	s.ask("POST", "/api/v1/secrets", s.admin, `{"name":"lined","kind":"secret","about":"a\nforged-row  secret  1"}`)
	for _, command := range []string{"users", "secrets", "audit"} {
		for line := range strings.Lines(s.b.must(0, command).out) {
			if strings.HasPrefix(line, "zoe") || strings.HasPrefix(line, "forged-row") {
				t.Errorf("%s has a row that nobody is: %q", command, line)
			}
		}
	}
}

func metricsKeepAndTellNothing(t *testing.T, s *siege) {
	for _, method := range []string{"SAIL", "TACK", "JIBE"} {
		s.try(method, "/api/v1/me", "", "")
	}
	metrics := func(token string) (int, string) { return s.text(t, "GET", "/metrics", token, "") }
	if _, text := metrics(s.admin); strings.Contains(text, "SAIL") || strings.Contains(text, "TACK") {
		t.Error("an invented method stays as a label")
	}
	status, text := metrics(s.person("one-account", "viewer@saltmere-lab"))
	if status == 200 && strings.Contains(text, "saltmere-live") {
		t.Error("whoever sees one account is told of others")
	}
}

func boundsAreNotLost(t *testing.T, s *siege) {
	for round := range 40 {
		s.must("PATCH", "/api/v1/accounts/saltmere-live", s.admin, `{"second_person":false}`, 200)
		var both sync.WaitGroup
		both.Go(func() { s.try("PATCH", "/api/v1/accounts/saltmere-live", s.admin, `{"second_person":true}`) })
		both.Go(func() {
			s.try("PATCH", "/api/v1/accounts/saltmere-live", s.admin, fmt.Sprintf(`{"budget":%d}`, 5000+round))
		})
		both.Wait()
		a := s.must("GET", "/api/v1/accounts/saltmere-live", s.admin, "", 200).body
		if raw, _ := json.Marshal(a); !strings.Contains(string(raw), `"second_person":true`) {
			t.Fatalf("round %d: whoever set a budget turned the second person off", round)
		}
	}
	s.must("PATCH", "/api/v1/accounts/saltmere-live", s.admin, `{"second_person":false,"budget":-1}`, 200)
}

func answersAreOfTheirToken(t *testing.T, s *siege) {
	narrow := s.must("POST", "/api/v1/tokens", s.admin, `{"about":"n","seconds":600,"roles":["viewer@saltmere-lab"]}`,
		201).body["value"].(string)
	raw, _ := json.Marshal(fields{
		"stack":   "keyless",
		"file":    "own.sail.yaml",
		"source":  strings.ReplaceAll(wordy, "{secret: true}", "{secret: true, generate: true}"),
		"account": "saltmere-live",
		"region":  "north-fell",
	})
	s.must("POST", "/api/v1/proposals", s.admin, string(raw), 201, "Idempotency-Key", "one-and-the-same")
	a := s.ask("POST", "/api/v1/proposals", narrow, string(raw), "Idempotency-Key", "one-and-the-same")
	if a.status == 201 {
		t.Error("a token that sees nothing of the account is given the answer")
	}
}

func refusalsTellNothing(t *testing.T, s *siege) {
	s.carried("hidden", "saltmere-live", strings.ReplaceAll(wordy, "{secret: true}", "{secret: true, generate: true}"),
		nil)
	ask := func(reference string) string {
		status, text := s.text(t, "POST", "/api/v1/reveal", s.mole,
			`{"reference":"`+reference+`","reason":"to see it"}`)
		return fmt.Sprint(status, strings.ReplaceAll(text, reference, "X"))
	}
	there, not := ask("hidden/word@1"), ask("hidden/wort@1")
	if strings.ReplaceAll(there, "word", "wort") != not {
		t.Errorf("a secret of another account is told to be there:\n%s\n%s", there, not)
	}
	conn, err := pgx.Connect(t.Context(), postgrestest.AsAdmin(s.b.database))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if _, err := conn.Exec(t.Context(),
		"INSERT INTO audit (number, at, who, action, subject, reason, detail, hash) SELECT max(number) + 1, now(), "+
			"'ghost', 'reveal', 'x', '', '{}', 'none' FROM audit"); err != nil {
		t.Fatal(err)
	}
	s.must("POST", "/api/v1/secrets", s.admin, `{"name":"after-the-ghost","kind":"secret"}`, 201)
	a := s.must("GET", "/api/v1/audit/check", s.admin, "", 200)
	if a.body["sound"] != false || a.body["entries"] == nil {
		t.Errorf("a forged row is taken for one: %v", a.body)
	} else if raw, _ := json.Marshal(a.body); !strings.Contains(string(raw), "goes on") {
		t.Errorf("the check stops at a forged row, and what comes after is not looked at: %s", raw)
	}
	limits, err := os.ReadFile(filepath.Join("/proc", fmt.Sprint(s.b.cmd.Process.Pid), "limits"))
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(limits)) {
		if f := strings.Fields(line); strings.HasPrefix(line, "Max core file size") && (f[4] != "0" || f[5] != "0") {
			t.Errorf("the service may write its memory to a file: %s", line)
		}
	}
}
