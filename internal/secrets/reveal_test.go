package secrets_test

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/ssh"

	"undersail/internal/audit"
	"undersail/internal/core/lang"
	"undersail/internal/core/secretrule"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/postgres/postgrestest"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/secrets"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
	"undersail/internal/store"
)

func TestASecretIsHandedToThoseWhoMayHaveItAndTheAuditKeepsIt(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Await(s, r.ApplySource(s, "vault", servicetest.Vault, map[string]any{}))
	ask := func(u people.User, name, reason string) (string, error) {
		v, err := s.Secrets.Reveal(ctx, u, secrets.Asked{Stack: "vault", Name: name, Reason: reason})
		return v.Value, err
	}
	word, err := ask(r.Admin, "word", "first sign-in")
	if err != nil || len(word) < 20 {
		t.Fatalf("%q %v", word, err)
	}
	if again, err := s.Secrets.Reveal(ctx, r.Admin, secrets.Asked{
		Reference: "secret:vault/word@1",
		Reason:    "once more",
	}); err != nil || again.Value != word {
		t.Errorf("%q %v", again.Value, err)
	}
	for _, u := range []people.User{servicetest.Operator, servicetest.Viewer} {
		if v, err := ask(u, "word", "curiosity"); servicetest.Kind(err) != refusal.Forbidden || v != "" {
			t.Errorf("%s gets %q, %v", u.Name, v, err)
		}
	}
	if _, err := ask(r.Admin, "word", " "); servicetest.Kind(err) != refusal.Invalid {
		t.Errorf("without a reason: %v", err)
	}
	if _, err := ask(r.Admin, "wort", "a typo"); servicetest.Kind(err) != refusal.NotFound {
		t.Errorf("%v", err)
	}
	// Whoever gave one may read it, and nobody else who operates.
	if _, err := s.Secrets.Put(ctx, servicetest.Operator, secrets.NewNamed{
		Name:  "gate",
		Kind:  "secret",
		Value: "kelp-and-shingle-9",
	}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if v, err := s.Secrets.Reveal(ctx, servicetest.Operator, secrets.Asked{
		Reference: "gate",
		Reason:    "own one",
	}); err != nil || v.Value != "kelp-and-shingle-9" {
		t.Errorf("%q %v", v.Value, err)
	}
	if _, err := s.Secrets.Reveal(ctx, people.User{Name: "ulf", Roles: []string{"operator"}}, secrets.Asked{
		Reference: "gate",
		Reason:    "not mine",
	}); servicetest.Kind(err) != refusal.Forbidden {
		t.Errorf("%v", err)
	}
	entries, err := s.Journal.List(ctx, r.Admin, store.AuditQuery{Action: "reveal"})
	if err != nil || len(entries) != 6 {
		t.Fatalf("%d entries, %v", len(entries), err)
	}
	refused := 0
	for _, e := range entries {
		if e.Detail["refused"] == true {
			refused++
		}
		if e.Reason == "" || strings.Contains(e.Reason, word) {
			t.Errorf("%+v", e)
		}
	}
	if refused != 3 {
		t.Errorf("%d of them refused, want 3", refused)
	}
	mine, err := s.Journal.List(ctx, servicetest.Operator, store.AuditQuery{})
	if err != nil || slices.ContainsFunc(mine, func(e audit.Entry) bool { return e.Who != "tomas" }) {
		t.Errorf("an operator reads what others did: %v %v", mine, err)
	}
}

// TestTheAuditOnlyGrowsAndShowsTampering: as the database's own user, past the triggers.
func TestTheAuditOnlyGrowsAndShowsTampering(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Still(engine.Config{}, nil)
	ctx := context.Background()
	for _, name := range []string{"one", "two", "three"} {
		if _, err := s.Secrets.Put(ctx, r.Admin, secrets.NewNamed{Name: name, Kind: "secret"}); err != nil {
			t.Fatal(err)
		}
	}
	check := func(head string) audit.Chain {
		t.Helper()
		c, err := s.Journal.Check(ctx, r.Admin, head)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	first := check("")
	if !first.Sound || first.Entries < 4 {
		t.Fatalf("%+v", first)
	}
	ours, err := pgx.Connect(ctx, r.DatabaseURL)
	if err != nil {
		t.Fatal(err)
	}
	defer ours.Close(ctx)
	conn, err := pgx.Connect(ctx, postgrestest.AsAdmin(r.DatabaseURL))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	for _, sql := range []string{"DELETE FROM audit WHERE number = 2",
		"UPDATE audit SET who = 'nobody' WHERE number = 2", "TRUNCATE audit"} {
		if _, err := ours.Exec(ctx, sql); err == nil || !strings.Contains(err.Error(), "permission denied") {
			t.Errorf("the service's role: %s: %v", sql, err)
		}
		if _, err := conn.Exec(ctx, sql); err == nil || !strings.Contains(err.Error(), "the audit only grows") {
			t.Errorf("%s: %v", sql, err)
		}
	}
	past := func(sql string) {
		t.Helper()
		servicetest.Query(t, r, "SET session_replication_role = replica; "+sql)
	}
	for _, c := range []struct{ sql, back, fault string }{
		{"UPDATE audit SET who = 'nobody' WHERE number = 2", "UPDATE audit SET who = 'ines' WHERE number = 2",
			"entry 2"},
		{"UPDATE audit SET detail = '{\"kind\": \"other\"}' WHERE number = 3", "", "entry 3"},
	} {
		past(c.sql)
		if got := check(""); got.Sound || !strings.Contains(got.Fault, c.fault) {
			t.Errorf("%s: %+v", c.sql, got)
		}
		if c.back != "" {
			past(c.back)
		}
	}
	past("DELETE FROM audit WHERE number = 3")
	if got := check(""); got.Sound || !strings.Contains(got.Fault, "entry 3: it is missing") {
		t.Errorf("%+v", got)
	}
	// Cutting off the end leaves a sound beginning: the head that somebody kept shows it.
	past("DELETE FROM audit WHERE number >= 3")
	if got := check(""); !got.Sound {
		t.Errorf("%+v", got)
	}
	if got := check(first.Head); got.Sound || !strings.Contains(got.Fault, "cut off") {
		t.Errorf("%+v", got)
	}
}

// TestCredentialsDoNotFollowAChangedEndpoint: whoever can write to the database points an
// account at a server of theirs, and copies rows; the secret goes nowhere.
func TestCredentialsDoNotFollowAChangedEndpoint(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Still(engine.Config{}, nil)
	ctx := context.Background()
	servicetest.Query(t, r, "INSERT INTO accounts (name, cloud, endpoint, credentials, clock_rate, guest_range, "+
		"regions) SELECT 'copied', cloud, endpoint, credentials, clock_rate, guest_range, regions FROM accounts "+
		"WHERE name = 'saltmere-lab'")
	servicetest.Query(t, r, "UPDATE accounts SET endpoint = 'http://127.0.0.1:1' WHERE name = 'saltmere-lab'")
	for _, name := range []string{"saltmere-lab", "copied"} {
		d, err := s.Accounts.Test(ctx, r.Admin, name)
		if err != nil || !strings.Contains(d.Problem, "somebody changed the record") {
			t.Errorf("%s: %+v %v", name, d, err)
		}
	}
	r.Renew(s)
	if d, err := s.Accounts.Test(ctx, r.Admin, "saltmere-lab"); err != nil || d.Problem != "" {
		t.Errorf("after renewing: %s %v", d.Problem, err)
	}
	if _, err := s.Secrets.Put(ctx, r.Admin, secrets.NewNamed{Name: "gate", Kind: "secret"}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Secrets.Put(ctx, servicetest.Operator, secrets.NewNamed{Name: "own", Kind: "secret"}); err != nil {
		t.Fatal(err)
	}
	servicetest.Query(t, r, "UPDATE secrets SET sealed = (SELECT sealed FROM secrets WHERE reference = 'gate@1') "+
		"WHERE reference = 'own@1'")
	v, err := s.Secrets.Reveal(ctx, servicetest.Operator, secrets.Asked{Reference: "own", Reason: "a copied row"})
	if !errors.Is(err, sealed.ErrMoved) {
		t.Errorf("%q %v", v.Value, err)
	}
}

func TestAnotherKeyOrNoneIsRefusedAtTheStart(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	r.Still(engine.Config{}, nil)
	st, err := store.Open(context.Background(), r.DatabaseURL)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	box, err := sealed.OpenBox(filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	stranger, err := service.New(st, box, slog.New(slog.DiscardHandler), engine.Config{})
	if err != nil {
		t.Fatal(err)
	}
	err = stranger.OpenSealed(context.Background())
	if servicetest.Kind(err) != refusal.Conflict || !strings.Contains(err.Error(), "was sealed with the key") {
		t.Error(err)
	}
}

// TestRotatingTheSealingKeyMayBeInterrupted: between any two values, with a replica that
// works on meanwhile.
func TestRotatingTheSealingKeyMayBeInterrupted(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Still(engine.Config{}, nil)
	ctx := context.Background()
	for _, name := range []string{"one", "two", "three"} {
		_, err := s.Secrets.Put(ctx, r.Admin, secrets.NewNamed{
			Name:  name,
			Kind:  "secret",
			Value: "kelp-and-shingle-" + name,
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	all := func(when string) {
		t.Helper()
		for _, name := range []string{"one", "two", "three"} {
			v, err := s.Secrets.Reveal(ctx, r.Admin, secrets.Asked{Reference: name, Reason: "rotation"})
			if err != nil || v.Value != "kelp-and-shingle-"+name {
				t.Errorf("%s: %s is %q, %v", when, name, v.Value, err)
			}
		}
		if d, err := s.Accounts.Test(ctx, r.Admin, "saltmere-lab"); err != nil || d.Problem != "" {
			t.Errorf("%s: the account: %s %v", when, d.Problem, err)
		}
	}
	box, err := sealed.ReadBox(r.KeyFile)
	if err != nil {
		t.Fatal(err)
	}
	old := box.Fingerprint()
	if err := box.Renew(); err != nil {
		t.Fatal(err)
	}
	all("with both keys, before anything is sealed anew")
	// One value is sealed anew, then the rotation dies.
	if n, err := s.Secrets.Reseal(ctx, 1); err != nil || n != 1 {
		t.Fatal(n, err)
	}
	all("half way")
	if _, err := s.Secrets.Reseal(ctx, 0); err != nil {
		t.Fatal(err)
	}
	if err := box.Forget(); err != nil {
		t.Fatal(err)
	}
	all("with the new key alone")
	if data, err := os.ReadFile(r.KeyFile); err != nil || strings.Count(string(data), "\n") != 1 ||
		box.Fingerprint() == old {
		t.Errorf("the key file has %d keys, %v", strings.Count(string(data), "\n"), err)
	}
	if c, err := s.Journal.Check(ctx, r.Admin, ""); err != nil || !c.Sound {
		t.Errorf("the audit after a rotation: %+v %v", c, err)
	}
	st, err := store.Open(ctx, r.DatabaseURL)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	again, err := service.New(st, box, slog.New(slog.DiscardHandler), engine.Config{})
	if err != nil {
		t.Fatal(err)
	}
	if err := again.OpenSealed(ctx); err != nil {
		t.Errorf("a replica that starts then: %v", err)
	}
}

// TestWhereSecretsOfBeforeBelongIsToldOnce: at the first start of this version.
func TestWhereSecretsOfBeforeBelongIsToldOnce(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Still(engine.Config{}, nil)
	ctx := context.Background()
	for name, account := range map[string]string{"gate": "saltmere-lab", "tower": ""} {
		_, err := s.Secrets.Put(ctx, r.Admin, secrets.NewNamed{Name: name, Kind: "secret", Account: account})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
	}
	servicetest.Query(t, r, "DELETE FROM settings WHERE name = 'secrets-placed'")
	for range 2 {
		if err := s.OpenSealed(ctx); err != nil {
			t.Fatal(err)
		}
	}
	list, err := s.Journal.List(ctx, r.Admin, store.AuditQuery{})
	told := 0
	for _, e := range list {
		if e.Action == "place secrets" {
			told++
			if e.Detail["gate"] != "saltmere-lab" || e.Detail["tower"] != "whoever administers the service" ||
				len(e.Detail) != 2 {
				t.Errorf("%v", e.Detail)
			}
		}
	}
	if err != nil || told != 1 {
		t.Errorf("told %d times: %v", told, err)
	}
}

// TestASecretIsNotUsedInANewWayWithoutWhoMayReadIt: an servicetest.Operator, who may not read a
// secret, tries every way to have it sent to where they can.
func TestASecretIsNotUsedInANewWayWithoutWhoMayReadIt(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Await(s, r.ApplySource(s, "vault", servicetest.Vault, map[string]any{}))
	propose := func(u people.User, change func(string) string, inputs map[string]any) proposing.Proposal {
		t.Helper()
		p, err := s.Proposing.Propose(ctx, u, proposing.NewProposal{
			Stack:  "vault",
			File:   "vault.sail.yaml",
			Source: servicetest.Patient(change(servicetest.Vault)),
			Inputs: inputs,
		})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		return p
	}
	asks := func(p proposing.Proposal) bool {
		for _, c := range p.Consents {
			if c.Name == "secret-use" {
				return true
			}
		}
		return false
	}
	replace := func(old, new string) func(string) string {
		return func(text string) string {
			if !strings.Contains(text, old) {
				t.Fatalf("the template has no %q", old)
			}
			return strings.Replace(text, old, new, 1)
		}
	}
	health := "user_data: {write_files: [{path: /etc/word, content: =\"word \" + inputs.word}]}}\n"
	for name, change := range map[string]func(string) string{
		"another text": replace(`"word " + inputs.word`, `"say " + inputs.word`),
		"another field": replace("outputs: {",
			"  other: {type: secret, want: {value: =inputs.word}}\noutputs: {"),
		"a command beside it": replace("[{path: /etc/word, content: =\"word \" + inputs.word}]}}",
			"[{path: /etc/word, content: =\"word \" + inputs.word}], runcmd: [send /etc/word]}}"),
		"the URL of a check": replace(health,
			health+"    health: [{http: {url: =\"http://\" + inputs.to + \"/\" + inputs.word}, within: 5m}]\n"),
		"another output": replace("outputs: {", "outputs: {more: {value: =\"w\" + inputs.word, about: M}, "),
		"what a machine answers": replace(health,
			health+"    health: [{ssh: {host: =self.private_address, user: admin, key: k, command: rev /etc/word, "+
				"answer: x, keep: '.*'}, within: 5m}]\n"),
	} {
		p := propose(servicetest.Operator, change, nil)
		if !asks(p) {
			t.Errorf("%s: it asks for nothing: %v", name, p.Consents)
			continue
		}
		var names []string
		for _, c := range p.Consents {
			names = append(names, c.Name)
		}
		_, err := s.Proposing.Accept(ctx, servicetest.Operator, p.ID, names, "")
		if servicetest.Kind(err) != refusal.Forbidden {
			t.Errorf("%s: the operator agrees alone: %v", name, err)
		}
		if got, err := s.Proposing.Show(ctx, p.ID); err != nil || got.State != "open" {
			t.Errorf("%s: it is %s, %v", name, got.State, err)
		}
		if name == "another text" {
			if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, names, ""); err != nil {
				t.Errorf("an administrator agrees: %v", err)
			}
		}
	}
	same := func(text string) string { return text }
	if p := propose(servicetest.Operator, same, map[string]any{"note": "b"}); asks(p) {
		t.Errorf("another note asks: %v", p.Consents)
	}
	// Another hand wrote the text, or it says something else: of everybody.
	for name, p := range map[string]proposing.Proposal{
		"one more of the same, by another hand": propose(servicetest.Operator, replace("repeat: 1", "repeat: 2"), nil),
		"another text of an administrator": propose(r.Admin,
			replace(`"word " + inputs.word`, `"say " + inputs.word`), nil),
	} {
		if !asks(p) {
			t.Errorf("%s asks for nothing: %v", name, p.Consents)
		}
	}
	if p := propose(r.Admin, replace("repeat: 1", "repeat: 2"), nil); asks(p) {
		t.Errorf("one more of the same, by the same hand: %v", p.Consents)
	}
	// A secret that stands for itself, in a new stack.
	if _, err := s.Secrets.Put(ctx, r.Admin, secrets.NewNamed{Name: "gate", Kind: "secret"}); err != nil {
		t.Fatal(err)
	}
	n := proposing.NewProposal{
		Stack:   "mine",
		File:    "vault.sail.yaml",
		Source:  strings.ReplaceAll(servicetest.Vault, "10.81.", "10.82."),
		Account: "saltmere-lab",
		Region:  "north-fell",
		Secrets: map[string]string{"word": "secret:gate"},
	}
	if p, err := s.Proposing.Propose(ctx, servicetest.Operator, n); err != nil || !asks(p) {
		t.Errorf("a secret of somebody else in a new stack: %v %v", p.Consents, err)
	}
	if _, err := s.Secrets.Put(ctx, servicetest.Operator, secrets.NewNamed{Name: "own", Kind: "secret"}); err != nil {
		t.Fatal(err)
	}
	n.Secrets = map[string]string{"word": "secret:own"}
	r.Person(servicetest.Operator.Name, servicetest.Operator.Roles...)
	p, err := s.Proposing.Propose(ctx, servicetest.Operator, n)
	if err != nil || !asks(p) {
		t.Fatalf("their own in a new stack: %v %v", p.Consents, err)
	}
	_, err = s.Proposing.Accept(ctx, servicetest.Operator, p.ID, nil, "")
	if servicetest.Kind(err) != refusal.Consent {
		t.Errorf("it is accepted without being agreed to: %v", err)
	}
	_, err = s.Proposing.Accept(ctx, servicetest.Operator, p.ID, []string{"secret-use=0123456789abcdef"}, "")
	if servicetest.Kind(err) != refusal.Stale {
		t.Errorf("it is agreed to as something else: %v", err)
	}
	digest := p.Consents[0].About[strings.LastIndexByte(p.Consents[0].About, '(')+1:]
	_, err = s.Proposing.Accept(ctx, servicetest.Operator, p.ID,
		[]string{"secret-use=" + strings.TrimSuffix(digest, ")")}, "")
	if err != nil {
		t.Errorf("they may not agree to a use of their own: %v", err)
	}
}

// TestWhatAnotherStackHandsOverBecomesNobodysOwn: an operator makes a stack that takes a
// secret of another one, with the consent of whoever may read it, and may not read it for
// that.
func TestWhatAnotherStackHandsOverBecomesNobodysOwn(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	_, _, err := s.Templates.Publish(ctx, r.Admin, lang.Bundle{File: "vault.sail.yaml", Source: servicetest.Vault})
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	r.Await(s, r.ApplySource(s, "vault", servicetest.Vault, map[string]any{}))
	taker := "undersail: 1\nabout: {name: taker, version: 1.0.0, title: Taker}\ninputs: {from: {picks: stack, of: " +
		"vault@^1}}\nresources:\n  copy: {type: secret, want: {value: =inputs.from.outputs.word}}\n"
	p, err := s.Proposing.Propose(ctx, servicetest.Operator, proposing.NewProposal{
		Stack:   "taker",
		File:    "taker.sail.yaml",
		Source:  taker,
		Account: "saltmere-lab",
		Region:  "north-fell",
		Inputs:  map[string]any{"from": "vault"},
	})
	if err != nil || len(p.Consents) != 1 || p.Consents[0].Name != "secret-use" {
		t.Fatalf("%v %v", p.Consents, err)
	}
	_, err = s.Proposing.Accept(ctx, servicetest.Operator, p.ID, []string{"secret-use"}, "")
	if servicetest.Kind(err) != refusal.Forbidden {
		t.Errorf("the operator agrees alone: %v", err)
	}
	if done := r.Await(s, r.Carry(s, p)); done.State != "done" {
		t.Fatal(done.Reason)
	}
	for _, asked := range []secrets.Asked{{Stack: "taker", Name: "from.outputs.word"},
		{Reference: "taker/from.outputs.word@1"}} {
		asked.Reason = "now it is mine"
		if v, err := s.Secrets.Reveal(ctx, servicetest.Operator, asked); servicetest.Kind(err) != refusal.Forbidden {
			t.Errorf("%+v is handed to them: %q %v", asked, v.Value, err)
		}
		if v, err := s.Secrets.Reveal(ctx, r.Admin, asked); err != nil || len(v.Value) < 20 {
			t.Errorf("%+v: %v", asked, err)
		}
	}
}

// TestConnectingSignsNothingButSigningIn: the key stays where it is.
func TestConnectingSignsNothingButSigningIn(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Await(s, r.Apply(s, "intake", "gauge-intake", map[string]any{
		"zones":         []any{"north-fell-a"},
		"admin_sources": []any{"127.0.0.0/8"},
	}))
	c, err := s.Stacks.Connect(ctx, servicetest.Operator, "intake", stacks.NewConnection{Resource: "worker[0]"})
	if err != nil || len(c.Hops) != 2 || c.Hops[0].Resource != "gateway" || c.Hops[1].At != "" {
		t.Fatalf("%+v %v", c, err)
	}
	if _, err := s.Stacks.Connect(ctx, servicetest.Viewer, "intake", stacks.NewConnection{
		Resource: "gateway",
	}); servicetest.Kind(err) != refusal.Forbidden {
		t.Errorf("a viewer connects: %v", err)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(c.Hops[0].PublicKey))
	if err != nil {
		t.Fatal(err)
	}
	request := func(user, service string) []byte {
		return ssh.Marshal(struct {
			Session   []byte
			Kind      byte
			User      string
			Service   string
			Method    string
			Signed    bool
			Algorithm string
			Key       []byte
		}{make([]byte, 32), 50, user, service, "publickey", true, key.Type(), key.Marshal()})
	}
	got, err := s.Stacks.SignConnection(ctx, servicetest.Operator, c.ID, stacks.ToSign{
		Hop:  0,
		Data: request("tide", "ssh-connection"),
	})
	if err != nil {
		t.Fatal(err)
	}
	err = key.Verify(request("tide", "ssh-connection"), &ssh.Signature{Format: got.Format, Blob: got.Blob})
	if err != nil {
		t.Errorf("the signature is none: %v", err)
	}
	some := make([]byte, 64)
	rand.Read(some)
	for name, data := range map[string][]byte{
		"another user":        request("root", "ssh-connection"),
		"another service":     request("tide", "ssh-userauth"),
		"a file":              []byte("SSHSIG" + base64.StdEncoding.EncodeToString(some)),
		"nothing":             nil,
		"more than a request": append(request("tide", "ssh-connection"), 1),
	} {
		got, err := s.Stacks.SignConnection(ctx, servicetest.Operator, c.ID, stacks.ToSign{Hop: 0, Data: data})
		if servicetest.Kind(err) != refusal.Forbidden || got.Blob != nil {
			t.Errorf("%s is signed: %v", name, err)
		}
	}
	for name, u := range map[string]people.User{
		"somebody else":    {Name: "ulf", Roles: []string{"operator"}},
		"an administrator": r.Admin,
	} {
		_, err := s.Stacks.SignConnection(ctx, u, c.ID, stacks.ToSign{Hop: 0, Data: request("tide", "ssh-connection")})
		if servicetest.Kind(err) != refusal.Forbidden {
			t.Errorf("%s uses the connection: %v", name, err)
		}
	}
	servicetest.Query(t, r, "UPDATE connections SET ends_at = now()")
	_, err = s.Stacks.SignConnection(ctx, servicetest.Operator, c.ID, stacks.ToSign{
		Hop:  0,
		Data: request("tide", "ssh-connection"),
	})
	if servicetest.Kind(err) != refusal.NotFound {
		t.Errorf("it is over, and signs: %v", err)
	}
}

func TestNamedSecretsHaveVersionsThatStacksMoveTo(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	put := func(n secrets.NewNamed) secrets.Named {
		t.Helper()
		got, err := s.Secrets.Put(ctx, r.Admin, n)
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		return got
	}
	put(secrets.NewNamed{Name: "gate", Kind: "secret"})
	n := proposing.NewProposal{
		Stack:   "vault",
		File:    "vault.sail.yaml",
		Source:  servicetest.Vault,
		Account: "saltmere-lab",
		Region:  "north-fell",
		Secrets: map[string]string{"word": "secret:gate"},
	}
	p, err := s.Proposing.Propose(ctx, r.Admin, n)
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if done := r.Await(s, r.Carry(s, p)); done.State != "done" {
		t.Fatal(done.Reason)
	}
	two := put(secrets.NewNamed{Name: "gate", Kind: "secret", Rotate: true})
	if two.Version != 2 || len(two.Versions) != 2 || len(two.Versions[0].Uses) != 0 || len(two.Versions[1].Uses) != 1 ||
		two.Versions[1].Uses[0] != (secrets.SecretUse{Stack: "vault", Input: "word"}) {
		t.Fatalf("%+v", two)
	}
	if p, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{Stack: "vault"}); err != nil ||
		p.State != proposing.Nothing {
		t.Errorf("without being asked the stack moves: %+v %v", p, err)
	}
	if err := s.Secrets.Remove(ctx, r.Admin, "gate"); servicetest.Kind(err) != refusal.Conflict {
		t.Errorf("a used one is removed: %v", err)
	}
	p, err = s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:  "vault",
		Inputs: map[string]any{"word": "secret:gate"},
	})
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	r.Await(s, r.Carry(s, p))
	if got, err := s.Secrets.Show(ctx, "gate"); err != nil || len(got.Versions[0].Uses) != 1 {
		t.Errorf("%+v %v", got, err)
	}
	for name, bad := range map[string]secrets.NewNamed{
		"a slash":           {Name: "a/b", Kind: "secret"},
		"a common word":     {Name: "x", Kind: "secret", Value: "Password2026!"},
		"its own name":      {Name: "harbourlight", Kind: "secret", Value: "harbourlight7"},
		"too short":         {Name: "x", Kind: "secret", Value: "k3lp"},
		"no kind":           {Name: "x", Kind: "secret", Rules: rules("vowel")},
		"a row":             {Name: "x", Kind: "secret", Value: "1234567890"},
		"no key":            {Name: "x", Kind: "key_pair", Public: "ssh-ed25519 nonsense"},
		"one that is there": {Name: "gate", Kind: "secret"},
	} {
		_, err := s.Secrets.Put(ctx, r.Admin, bad)
		if servicetest.Kind(err) != refusal.Invalid && servicetest.Kind(err) != refusal.Conflict {
			t.Errorf("%s: %v", name, err)
		} else if bad.Value != "" && strings.Contains(servicetest.Explain(err), bad.Value) {
			t.Errorf("%s: the secret is told: %v", name, err)
		}
	}
	_, err = s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "other",
		File:    "v.sail.yaml",
		Source:  servicetest.Vault,
		Account: "saltmere-lab",
		Region:  "north-fell",
		Secrets: map[string]string{"word": "secret:gat"},
	})
	if servicetest.Kind(err) != refusal.Findings ||
		!strings.Contains(servicetest.Explain(err), "there is no secret gat") {
		t.Errorf("%v", err)
	}
}

func rules(kinds ...string) *secretrule.Rules { return &secretrule.Rules{Kinds: kinds} }
