package sealed

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"filippo.io/age"
	"golang.org/x/crypto/ssh"

	"undersail/internal/access"
	"undersail/internal/core/secretrule"
	"undersail/internal/core/use"
	"undersail/internal/secret"
	"undersail/internal/store"
)

var errAway = errors.New("the store is away")

// memory keeps what is sealed. Its failing-th call fails, if that is not 0.
type memory struct {
	secrets        map[string]store.Secret
	accounts       []store.Account
	libraries      []store.Library
	settings       map[string][]byte
	calls, failing int
}

func (m *memory) away() error {
	if m.calls++; m.calls == m.failing {
		return errAway
	}
	return nil
}

func (m *memory) Secret(_ context.Context, reference string) (store.Secret, error) {
	x, known := m.secrets[reference]
	if err := m.away(); err != nil || known {
		return x, err
	}
	return x, store.ErrNotFound
}

func (m *memory) Secrets(_ context.Context, stackID string, besides ...string) (out []store.Secret, err error) {
	for _, reference := range m.sorted() {
		if x := m.secrets[reference]; x.StackID == stackID && stackID != "" || slices.Contains(besides, reference) {
			out = append(out, x)
		}
	}
	return out, m.away()
}

func (m *memory) sorted() (references []string) {
	for reference := range m.secrets {
		references = append(references, reference)
	}
	slices.Sort(references)
	return references
}

func (m *memory) SealedOtherwise(_ context.Context, fingerprint, after string) (out []store.Secret, err error) {
	for _, reference := range m.sorted() { // two at a time
		if x := m.secrets[reference]; reference > after && x.SealedWith != fingerprint && len(out) < 2 {
			out = append(out, x)
		}
	}
	return out, m.away()
}

func (m *memory) Reseal(_ context.Context, x store.Secret, sealed []byte, fingerprint string) error {
	if err := m.away(); err != nil {
		return err
	}
	x.Sealed, x.SealedWith = sealed, fingerprint
	m.secrets[x.Reference] = x
	return nil
}

func (m *memory) Accounts(context.Context) ([]store.Account, error) {
	return slices.Clone(m.accounts), m.away()
}

func (m *memory) ResealAccount(_ context.Context, a store.Account, sealed []byte, fingerprint string) error {
	if err := m.away(); err != nil {
		return err
	}
	at := slices.IndexFunc(m.accounts, func(x store.Account) bool { return x.Name == a.Name })
	m.accounts[at].Credentials, m.accounts[at].SealedWith = sealed, fingerprint
	return nil
}

func (m *memory) Libraries(context.Context) ([]store.Library, error) {
	return slices.Clone(m.libraries), m.away()
}

func (m *memory) ResealLibrary(_ context.Context, l store.Library, sealed []byte, fingerprint string) error {
	if err := m.away(); err != nil {
		return err
	}
	at := slices.IndexFunc(m.libraries, func(x store.Library) bool { return x.Name == l.Name })
	m.libraries[at].Credentials, m.libraries[at].SealedWith = sealed, fingerprint
	return nil
}

func (m *memory) Setting(_ context.Context, name string) ([]byte, error) {
	if err := m.away(); err != nil {
		return nil, err
	}
	if v, known := m.settings[name]; known {
		return v, nil
	}
	return nil, store.ErrNotFound
}

func (m *memory) FirstSetting(_ context.Context, name string, value []byte) ([]byte, error) {
	if err := m.away(); err != nil {
		return nil, err
	}
	if _, known := m.settings[name]; !known {
		m.settings[name] = value
	}
	return m.settings[name], nil
}

func (m *memory) PutSetting(_ context.Context, name string, value []byte) error {
	if err := m.away(); err != nil {
		return err
	}
	m.settings[name] = value
	return nil
}

var privateKey, publicKey, _ = secret.KeyPair("coast")

// full has two secrets of the stack coast, a named one, a key pair, and what opens an account
// and a library.
func full(t *testing.T) (*Sealed, *memory, *Box) {
	t.Helper()
	box, _ := newBox(t)
	m := &memory{secrets: map[string]store.Secret{}, settings: map[string][]byte{}}
	s := New(box, m)
	coast := "1"
	for reference, value := range map[string]string{
		"coast/word@1": "springtide",
		"coast/pair@1": privateKey,
		"gate@1":       "slack water",
		"gate@2":       "ebb and flow",
		"tower@1":      privateKey,
	} {
		x := store.Secret{Reference: reference, Kind: "secret", Account: "saltmere-lab", GivenBy: "oda"}
		if value == privateKey {
			x.Kind = "private_key"
		}
		if strings.HasPrefix(reference, "coast") {
			x.StackID = coast
		}
		if err := s.Secret(&x, value); err != nil || x.SealedWith != box.Fingerprint() {
			t.Fatal(err)
		}
		m.secrets[reference] = x
	}
	m.accounts = []store.Account{{Name: "saltmere-lab", Cloud: "larch", Endpoint: "https://larch.example"},
		{Name: "open"}}
	if err := s.Account(&m.accounts[0], map[string]string{"client": "x"}); err != nil {
		t.Fatal(err)
	}
	m.libraries = []store.Library{{Name: "tide", Place: "https://git.example/tide"}, {Name: "open"}}
	if err := s.Library(&m.libraries[0], map[string]string{"token": "y"}); err != nil {
		t.Fatal(err)
	}
	if err := s.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	return s, m, box
}

var (
	admin    = access.Actor{Person: "ines", Grants: access.Grants{{Name: "admin"}}}
	giver    = access.Actor{Person: "oda", Grants: access.Grants{{Name: "operator"}}}
	stranger = access.Actor{Person: "ulf", Grants: access.Grants{{Name: "operator"}}}
)

func TestAPermitOpensWhatItWasMadeFor(t *testing.T) {
	t.Parallel()
	s, m, _ := full(t)
	ctx := t.Context()
	word, gate := m.secrets["coast/word@1"], m.secrets["gate@1"]
	_, err := s.Open(ctx, Permit{}, word)
	if err == nil || !strings.Contains(err.Error(), "coast/word@1 is opened without a permit") {
		t.Error(err)
	}
	p, refused := s.MayReveal(giver, word)
	if plain, err := s.Open(ctx, p, word); refused != nil || err != nil || plain.Expose() != "springtide" {
		t.Error(refused, err)
	} else if fmt.Sprint(plain) != "secret:coast/word@1" || fmt.Sprintf("%#v", plain) != "secret:coast/word@1" {
		t.Error("a value is printed")
	} else if raw, err := json.Marshal(plain); err != nil || string(raw) != `"secret:coast/word@1"` {
		t.Error("a value is written:", string(raw), err)
	}
	if _, err := s.Open(ctx, p, gate); err == nil {
		t.Error("a permit for one opens another")
	}
	for _, rows := range [][]store.Secret{{word}, {gate, word}} {
		p, refused := s.MayReveal(stranger, rows...)
		if refused == nil || refused.Reference != rows[0].Reference {
			t.Error("a stranger is refused", refused)
		}
		if _, err := s.Open(ctx, p, rows[0]); err == nil {
			t.Error("a refusal opens")
		}
	}
	foreign := gate
	foreign.Account, foreign.GivenBy = "saltmere-live", "ines"
	p, refused = s.MayReveal(access.Actor{Person: "x", Grants: access.Grants{{Name: "admin", Account: "saltmere-lab"}}},
		word, foreign)
	if _, err := s.Open(ctx, p, word); err == nil || refused == nil || refused.Account != "saltmere-live" {
		t.Error("of several one was refused, and another opens", refused)
	}
	p, _ = s.MayReveal(admin, word, gate)
	reveal, err := s.Opened(ctx, p)
	if v, known := reveal("coast/word@1"); err != nil || v != "springtide" || !known {
		t.Error(v, err)
	}
	if v, known := reveal("gate@2"); known || v != "" {
		t.Error("it gives what it has no permit for")
	}
	delete(m.secrets, "gate@1")
	_, err = s.Opened(ctx, p)
	if !errors.Is(err, store.ErrNotFound) || !strings.Contains(err.Error(), "read secret gate@1") {
		t.Error(err)
	}
}

func TestNobodyIsToldOfWhatTheyMayNotRead(t *testing.T) {
	t.Parallel()
	s, m, _ := full(t)
	ctx := t.Context()
	long := secretrule.Rules{Length: 40}
	broken, looked, err := s.Breaks(ctx, stranger, m.secrets["gate@1"], long)
	if broken != nil || looked || err != nil {
		t.Error(broken, looked, err)
	}
	broken, looked, err = s.Breaks(ctx, giver, m.secrets["gate@1"], long)
	if len(broken) == 0 || !looked || err != nil {
		t.Error(broken, looked, err)
	}
	moved := m.secrets["gate@1"]
	moved.Reference = "gate@2"
	if _, looked, err := s.Breaks(ctx, giver, moved, long); looked || !errors.Is(err, ErrMoved) {
		t.Error(looked, err)
	}
	for who, want := range map[*access.Actor]bool{&giver: true, &stranger: false} {
		if is, err := s.Is(ctx, *who, "gate@1", "slack water"); is != want || err != nil {
			t.Error(who.Person, is, err)
		}
		if is, err := s.Is(ctx, *who, "gate@1", "slack"); is || err != nil {
			t.Error(who.Person, is, err)
		}
	}
	m.secrets["gate@2"] = moved // as it stands in the row of another
	if is, err := s.Is(ctx, giver, "gate@2", "slack water"); is || !errors.Is(err, ErrMoved) {
		t.Error(is, err)
	}
}

func TestAnAgreementOpensItsUsesAlone(t *testing.T) {
	t.Parallel()
	s, _, _ := full(t)
	of := func(digest string, secrets ...string) use.Use { return use.Use{Digest: digest, Secrets: secrets} }
	a, b, c := of("a", "coast/word@1"), of("b", "coast/word@1", "gate@1"), of("c", "gate@2")
	agreed := Agreed([]use.Use{a}, []use.Use{b})
	if p, beyond := agreed.Permit([]use.Use{a, c}); len(beyond) != 1 || beyond[0].Digest != "c" || len(p.opens) > 0 {
		t.Error("it opens what goes with something that nobody agreed to", beyond)
	}
	p, beyond := agreed.Permit([]use.Use{b})
	if len(beyond) > 0 || !p.opens["gate@1"] || !p.opens["coast/word@1"] || len(p.opens) != 2 {
		t.Error(p, beyond)
	}
	more := Agreed([]use.Use{a}).With(Agreed([]use.Use{c}))
	if beyond := more.Beyond([]use.Use{a, b, c}); len(beyond) != 1 || beyond[0].Digest != "b" {
		t.Error(beyond)
	}
	for _, whole := range []Agreement{AsRecorded(), AsRecorded().With(Agreed()), Agreed().With(AsRecorded())} {
		if _, beyond := whole.Permit([]use.Use{a, b, c}); len(beyond) > 0 {
			t.Error("what is recorded counts as agreed", beyond)
		}
	}
	r, err := s.ForRun(t.Context(), "1", []string{"gate@1"}, agreed)
	if err != nil {
		t.Fatal(err)
	}
	reveal, beyond := r.Opens([]use.Use{a})
	if v, ok := reveal("coast/word@1"); v != "springtide" || !ok || len(beyond) > 0 {
		t.Error(v, ok, beyond)
	}
	if _, ok := reveal("gate@1"); ok {
		t.Error("a use opens a secret that it does not name")
	}
	if reveal, beyond = r.Opens([]use.Use{a, c}); len(beyond) != 1 {
		t.Error(beyond)
	}
	if _, ok := reveal("coast/word@1"); ok {
		t.Error("it opens though something is beyond")
	}
	text := r.Scrubber().Text("the springtide of slack water")
	if strings.Contains(text, "springtide") || strings.Contains(text, "slack water") {
		t.Error(text)
	}
	if v, ok := r.Recorded("gate@1"); v != "slack water" || !ok {
		t.Error(v, ok)
	}
	if _, ok := r.Recorded("gate@2"); ok {
		t.Error("a run has what is not its own")
	}
	foreign := r.Foreign(map[string][]string{
		"own":   {"coast/word@1", "gate@1"},
		"other": {"coast/word@1", "gate@2"},
		"none":  nil,
	})
	if !foreign["other"] || len(foreign) != 1 {
		t.Errorf("machines with what the run does not have: %v", foreign)
	}
	if public, err := r.PublicHalf("coast/pair@1", "coast"); err != nil || public != publicKey {
		t.Error(public, err)
	}
	_, err = r.PublicHalf("coast/word@1", "")
	if err == nil || !strings.Contains(err.Error(), "key coast/word@1 cannot be read") {
		t.Error(err)
	}
}

func TestSealsHoldWhatStandsBesideThem(t *testing.T) {
	t.Parallel()
	s, m, box := full(t)
	seal := s.SealOf("acceptance", "12", "3")
	again := New(box, m)
	if err := again.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	if len(s.key) != 32 || !again.Holds(seal, "acceptance", "12", "3") {
		t.Error("another replica has another key")
	}
	for what, holds := range map[string]bool{
		"other parts":     s.Holds(seal, "acceptance", "1", "23"),
		"more parts":      s.Holds(seal, "acceptance", "12", "3", ""),
		"another purpose": s.Holds(seal, "giving", "12", "3"),
		"no purpose":      s.Holds(seal, "", "12", "3"),
		"no seal":         s.Holds(nil, "acceptance", "12", "3"),
		"cut":             s.Holds(seal[:31], "acceptance", "12", "3"),
	} {
		if holds {
			t.Error("it holds for", what)
		}
	}
	if bytes.Equal(s.SealOf("", "a"), s.SealOf("0", "a")) || bytes.Equal(s.SealOf(""), s.SealOf("x")) {
		t.Error("purposes are alike")
	}
	if s.Keyed("request", "a") == s.Keyed("request", "b") || s.Keyed("request", "a") == s.Keyed("other", "a") ||
		s.Keyed("request", "a") != again.Keyed("request", "a") || len(s.Keyed("", "")) != 64 {
		t.Error("what is kept of a text tells others apart")
	}
	stranger, _ := newBox(t)
	err := New(stranger, m).Begin(t.Context())
	if !errors.Is(err, ErrCannotOpen) || !strings.Contains(err.Error(), "the key of the audit") {
		t.Error(err)
	}
}

func TestKeysSignAndStayHere(t *testing.T) {
	t.Parallel()
	s, m, _ := full(t)
	ctx := t.Context()
	signer, err := s.Signer(ctx, s.ForPeople(m.secrets["tower@1"]), "tower@1")
	if err != nil {
		t.Fatal(err)
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(publicKey))
	if err != nil || !bytes.Equal(signer.PublicKey().Marshal(), public.Marshal()) {
		t.Error("it signs with another key", err)
	}
	_, err = s.Signer(ctx, s.ForPeople(m.secrets["gate@1"]), "gate@1")
	if err == nil || !strings.Contains(err.Error(), "without a permit") {
		t.Error("what is no key signs people in:", err)
	}
	if _, err := s.Signer(ctx, s.ForPeople(m.secrets["tower@1"]), "coast/pair@1"); err == nil {
		t.Error("a permit for one key signs with another")
	}
	if _, err := s.Signer(ctx, s.ForPeople(m.secrets["tower@1"]), "none@1"); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	p, _ := s.MayReveal(admin, m.secrets["gate@1"])
	_, err = s.Signer(ctx, p, "gate@1")
	if err == nil || !strings.Contains(err.Error(), "key gate@1 cannot be read") ||
		strings.Contains(err.Error(), "slack") {
		t.Error(err)
	}
}

func TestWhatIsHandedOverStaysClosed(t *testing.T) {
	t.Parallel()
	s, m, _ := full(t)
	ctx := t.Context()
	failed := errors.New("it cannot be computed")
	over, err := s.HandOver(ctx, "1", []string{"gate@1"},
		func(reveal func(string) (string, bool)) (map[string]string, error) {
			word, knows := reveal("coast/word@1")
			gate, besides := reveal("gate@1")
			_, other := reveal("gate@2")
			if !knows || !besides || other {
				t.Error(knows, besides, other)
			}
			return map[string]string{"both": word + " " + gate}, failed
		})
	if !errors.Is(err, failed) || over["both"].Expose() != "springtide slack water" ||
		over["both"].String() != "secret:both" {
		t.Error(over, err)
	}
	x := store.Secret{Reference: "taker/both@1"}
	if err := s.Copy(&x, over["both"]); err != nil {
		t.Fatal(err)
	}
	m.secrets[x.Reference] = x
	for reference, want := range map[string]bool{"taker/both@1": true, "gate@1": false} {
		if same, err := s.Same(ctx, reference, over["both"]); same != want || err != nil {
			t.Error(reference, same, err)
		}
	}
	if _, err := s.Same(ctx, "none@1", over["both"]); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	scrubber, err := s.Scrubber(ctx, "1", "gate@2")
	text := scrubber.Text("springtide, ebb and flow, slack water")
	if err != nil || text == "" || strings.Contains(text, "springtide") || strings.Contains(text, "ebb and flow") ||
		!strings.Contains(text, "slack water") {
		t.Error(text, err)
	}
	if err := s.TrySecret(x); err != nil {
		t.Error(err)
	}
	x.Reference = "taker/both@2"
	if err := s.TrySecret(x); !errors.Is(err, ErrMoved) || !strings.Contains(err.Error(), "secret taker/both@2") {
		t.Error(err)
	}
	m.secrets["coast/word@1"] = store.Secret{
		Reference: "coast/word@1",
		StackID:   m.secrets["coast/word@1"].StackID,
		Sealed:    x.Sealed,
	}
	if _, err := s.ForRun(ctx, "1", nil, Agreed()); !errors.Is(err, ErrMoved) {
		t.Error("a run takes what was moved:", err)
	}
	if _, err := s.Scrubber(ctx, "1"); !errors.Is(err, ErrMoved) {
		t.Error(err)
	}
	if _, err := s.HandOver(ctx, "1", nil, nil); !errors.Is(err, ErrMoved) {
		t.Error(err)
	}
}

func TestCredentialsAndSignInsOpenForWhatTheyWereSealed(t *testing.T) {
	t.Parallel()
	s, m, box := full(t)
	if fields, err := s.Credentials(m.accounts[0]); err != nil || fields["client"] != "x" ||
		m.accounts[0].SealedWith != box.Fingerprint() {
		t.Error(fields, err)
	}
	a := m.accounts[0]
	a.Endpoint = "https://elsewhere.example"
	if _, err := s.Credentials(a); !errors.Is(err, ErrMoved) ||
		!strings.Contains(err.Error(), "credentials of account saltmere-lab") {
		t.Error(err)
	}
	var err error
	if m.accounts[0].Credentials, err = box.seal(forAccount(m.accounts[0]), []byte("no JSON")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Credentials(m.accounts[0]); err == nil || !strings.Contains(err.Error(), "cannot be read") {
		t.Error(err)
	}
	var into map[string]string
	if err := s.OpenLibrary(m.libraries[0], &into); err != nil || into["token"] != "y" ||
		m.libraries[0].SealedWith != box.Fingerprint() {
		t.Error(into, err)
	}
	l := m.libraries[0]
	l.Place = "https://elsewhere.example"
	if err := s.OpenLibrary(l, &into); !errors.Is(err, ErrMoved) ||
		!strings.Contains(err.Error(), "credentials of library tide") {
		t.Error(err)
	}
	m.libraries[0].Credentials, _ = box.seal(forLibrary(m.libraries[0]), []byte("no JSON"))
	if err := s.OpenLibrary(m.libraries[0], &into); err == nil || !strings.Contains(err.Error(), "cannot be read") {
		t.Error(err)
	}
	if err := s.Library(&l, make(chan int)); err == nil {
		t.Error("what cannot be written is sealed")
	}
	raw, err := s.SignIn("one", []byte("state"))
	if plain, opened := s.OpenSignIn("one", raw); err != nil || opened != nil || string(plain) != "state" {
		t.Error(plain, err, opened)
	}
	if _, err := s.OpenSignIn("two", raw); !errors.Is(err, ErrMoved) {
		t.Error(err)
	}
	if has, known := s.Knows(box.Fingerprint()); has != box.Fingerprint() || !known {
		t.Error(has, known)
	}
	if has, known := s.Knows("another"); has != box.Fingerprint() || known {
		t.Error(has, known)
	}
}

func TestEverythingIsSealedAnew(t *testing.T) {
	t.Parallel()
	s, m, box := full(t)
	ctx := t.Context()
	if n, err := s.Anew(ctx, false, 0); n != 0 || err != nil {
		t.Error("what has the key is sealed again:", n, err)
	}
	before := box.Fingerprint()
	if err := box.Renew(); err != nil {
		t.Fatal(err)
	}
	left := func() (n int) {
		for _, x := range m.secrets {
			if x.SealedWith == before {
				n++
			}
		}
		for _, a := range m.accounts {
			if a.SealedWith == before {
				n++
			}
		}
		for _, l := range m.libraries {
			if l.SealedWith == before {
				n++
			}
		}
		return n
	}
	for want := range 7 { // one after the other, each its own call
		if got := left(); got != 7-want {
			t.Fatalf("%d of 7 are left after %d", got, want)
		}
		if n, err := s.Anew(ctx, false, 1); n != 1 || err != nil {
			t.Fatal(n, err)
		}
	}
	if n, err := s.Anew(ctx, false, 1); n != 0 || err != nil || left() != 0 {
		t.Error(n, err)
	}
	if m.settings[store.SealedWith] != nil {
		t.Error("it is noted before it is true")
	}
	if err := s.KeyAnew(ctx); err != nil || string(m.settings[store.SealedWith]) != box.Fingerprint() {
		t.Error(err)
	}
	if err := box.Forget(); err != nil {
		t.Fatal(err)
	}
	seal := s.SealOf("x", "y")
	if err := s.Begin(ctx); err != nil || !s.Holds(seal, "x", "y") {
		t.Error("the key of the audit became another:", err)
	}
	for reference, x := range m.secrets {
		if err := s.TrySecret(x); err != nil {
			t.Error(reference, err)
		}
	}
	fields, err := s.Credentials(m.accounts[0])
	if err != nil || fields["client"] != "x" || m.accounts[1].Credentials != nil {
		t.Error(fields, err)
	}
	var into map[string]string
	if err := s.OpenLibrary(m.libraries[0], &into); err != nil || into["token"] != "y" ||
		m.libraries[1].Credentials != nil {
		t.Error(into, err)
	}
	// What older programs sealed was bound to nothing; it is opened so only when that is asked.
	var old bytes.Buffer
	w, err := age.Encrypt(&old, box.keys[0].Recipient())
	if err != nil {
		t.Fatal(err)
	}
	w.Write([]byte("neap"))
	w.Close()
	m.secrets["older@1"] = store.Secret{Reference: "older@1", Sealed: old.Bytes()}
	if _, err := s.Anew(ctx, false, 0); !errors.Is(err, ErrMoved) {
		t.Error(err)
	}
	m.secrets["bound@1"] = store.Secret{Reference: "bound@1", Sealed: m.secrets["gate@1"].Sealed, SealedWith: "another"}
	if _, err := s.Anew(ctx, true, 0); !errors.Is(err, ErrMoved) {
		t.Error("what is bound to something else is opened:", err)
	}
	delete(m.secrets, "bound@1")
	if n, err := s.Anew(ctx, true, 0); n != 1 || err != nil {
		t.Error(n, err)
	}
	if err := s.TrySecret(m.secrets["older@1"]); err != nil {
		t.Error(err)
	}
	for _, what := range []func(){func() { m.accounts[0].SealedWith, m.accounts[0].Name = "", "moved" }, func() {
		m.accounts[0].SealedWith, m.libraries[0].SealedWith, m.libraries[0].Name = box.Fingerprint(), "", "moved"
	}} {
		what()
		if _, err := s.Anew(ctx, false, 0); !errors.Is(err, ErrMoved) {
			t.Error("what was moved is sealed for where it stands:", err)
		}
	}
}

// TestNothingIsDoneWhenTheStoreIsAway: whatever call of the store fails, that is what its
// caller is told.
func TestNothingIsDoneWhenTheStoreIsAway(t *testing.T) {
	t.Parallel()
	for name, do := range map[string]func(context.Context, *Sealed, *memory) error{
		"opened": func(ctx context.Context, s *Sealed, m *memory) error {
			p, _ := s.MayReveal(admin, m.secrets["gate@1"])
			_, err := s.Opened(ctx, p)
			return err
		},
		"is": func(ctx context.Context, s *Sealed, _ *memory) error {
			_, err := s.Is(ctx, admin, "gate@1", "x")
			return err
		},
		"same": func(ctx context.Context, s *Sealed, _ *memory) error {
			_, err := s.Same(ctx, "gate@1", Plain{})
			return err
		},
		"for a run": func(ctx context.Context, s *Sealed, _ *memory) error {
			_, err := s.ForRun(ctx, "1", nil, Agreed())
			return err
		},
		"scrubber": func(ctx context.Context, s *Sealed, _ *memory) error {
			_, err := s.Scrubber(ctx, "1")
			return err
		},
		"signer": func(ctx context.Context, s *Sealed, m *memory) error {
			_, err := s.Signer(ctx, s.ForPeople(m.secrets["tower@1"]), "tower@1")
			return err
		},
		"handing over": func(ctx context.Context, s *Sealed, _ *memory) error {
			_, err := s.HandOver(ctx, "1", nil,
				func(func(string) (string, bool)) (map[string]string, error) { return nil, nil })
			return err
		},
		"begin": func(ctx context.Context, s *Sealed, _ *memory) error { return s.Begin(ctx) },
		"anew": func(ctx context.Context, s *Sealed, _ *memory) error {
			if err := s.box.Renew(); err != nil {
				return err
			}
			_, err := s.Anew(ctx, false, 0)
			return err
		},
		"the key anew": func(ctx context.Context, s *Sealed, _ *memory) error { return s.KeyAnew(ctx) },
	} {
		failed := 0
		for n := 1; ; n++ {
			s, m, _ := full(t)
			m.calls, m.failing = 0, n
			err := do(t.Context(), s, m)
			if m.calls < n {
				if err != nil {
					t.Errorf("%s: %v", name, err)
				}
				break
			}
			if failed++; !errors.Is(err, errAway) {
				t.Errorf("%s: call %d failed, and it says %v", name, n, err)
			}
		}
		if failed == 0 {
			t.Errorf("%s asks the store nothing", name)
		}
	}
}

func TestKeyFilesThatAreNone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	box, err := OpenBox(filepath.Join(dir, "deeper", "still", "key"))
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := box.seal("x", []byte("y"))
	if err != nil {
		t.Fatal(err)
	}
	for text, words := range map[string]string{
		"":                      "is empty",
		"\n\n":                  "is empty",
		"AGE-SECRET-KEY-NONE\n": "is not a sealing key",
	} {
		path := filepath.Join(dir, "other")
		if err := secret.ReplaceFile(path, text); err != nil {
			t.Fatal(err)
		}
		if _, err := OpenBox(path); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v", text, err)
		}
		// A box that is open goes on with what it has.
		if err := secret.ReplaceFile(box.path, text); err != nil {
			t.Fatal(err)
		}
		if plain, err := box.open("x", sealed); err != nil || string(plain) != "y" {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := OpenBox(filepath.Join(dir, "other", "key")); err == nil {
		t.Error("a file is no folder")
	}
	err = box.CopyKey(filepath.Join(dir, "none", "copy"))
	if err == nil || !strings.Contains(err.Error(), "copy sealing key") {
		t.Error("it is copied to nowhere:", err)
	}
}
