package sealed

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"

	"undersail/internal/store"
)

func newBox(t *testing.T) (*Box, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "key")
	box, err := OpenBox(path)
	if err != nil {
		t.Fatal(err)
	}
	return box, path
}

func TestBox(t *testing.T) {
	t.Parallel()
	box, path := newBox(t)
	sealed, err := box.seal(forSecret("coast/password@1"), []byte("springtide"))
	if err != nil || strings.Contains(string(sealed), "springtide") || strings.Contains(string(sealed), "coast") {
		t.Fatal(err, "sealed text can be read")
	}
	again, err := OpenBox(path)
	if err != nil {
		t.Fatal(err)
	}
	if plain, err := again.open(forSecret("coast/password@1"), sealed); err != nil || string(plain) != "springtide" {
		t.Errorf("opened %q, %v", plain, err)
	}
	if _, err := again.open(forSecret("coast/password@2"), sealed); !errors.Is(err, ErrMoved) {
		t.Errorf("it opens at another place: %v", err)
	}
	other, _ := newBox(t)
	if _, err := other.open(forSecret("coast/password@1"), sealed); !errors.Is(err, ErrCannotOpen) {
		t.Errorf("another key opened it: %v", err)
	}
	for _, mode := range []os.FileMode{0o644, 0o640, 0o620, 0o604} { // its group is somebody else too
		if err := os.Chmod(path, mode); err != nil {
			t.Fatal(err)
		}
		if _, err := OpenBox(path); err == nil || !strings.Contains(err.Error(), "chmod 600") {
			t.Errorf("of mode %o: %v", mode, err)
		}
	}
	if _, err := ReadBox(path + "-none"); !errors.Is(err, ErrNoKey) {
		t.Errorf("no key: %v", err)
	}
}

func TestCredentialsOpenOnlyBesideTheirEndpoint(t *testing.T) {
	t.Parallel()
	box, _ := newBox(t)
	sealed, _ := box.seal(forAccount(store.Account{
		Name:     "saltmere-lab",
		Cloud:    "larch",
		Endpoint: "https://larch.example",
	}), []byte("{}"))
	for _, moved := range []string{forAccount(store.Account{
		Name:     "saltmere-lab",
		Cloud:    "larch",
		Endpoint: "https://elsewhere.example",
	}), forAccount(store.Account{Name: "saltmere-live", Cloud: "larch", Endpoint: "https://larch.example"}),
		forAccount(store.Account{Name: "saltmere-lab", Cloud: "sorrel", Endpoint: "https://larch.example"})} {
		if _, err := box.open(moved, sealed); !errors.Is(err, ErrMoved) {
			t.Errorf("%s: %v", moved, err)
		}
	}
}

// TestRenewingTheKey: a box that is open meanwhile, as of another replica, opens what is
// sealed with the new key.
func TestRenewingTheKey(t *testing.T) {
	t.Parallel()
	box, path := newBox(t)
	meanwhile, err := OpenBox(path)
	if err != nil {
		t.Fatal(err)
	}
	old, _ := box.seal("x", []byte("low"))
	first := box.Fingerprint()
	for range 2 { // interrupted and begun again: the same new key
		if err := box.Renew(); err != nil {
			t.Fatal(err)
		}
	}
	if len(box.Fingerprints()) != 2 || box.Fingerprint() == first {
		t.Fatalf("%v after %s", box.Fingerprints(), first)
	}
	sealed, _ := box.seal("x", []byte("high"))
	for _, b := range []*Box{box, meanwhile} {
		if plain, err := b.open("x", sealed); err != nil || string(plain) != "high" {
			t.Errorf("%q %v", plain, err)
		}
		if plain, err := b.open("x", old); err != nil || string(plain) != "low" {
			t.Errorf("%q %v", plain, err)
		}
	}
	if err := box.Forget(); err != nil {
		t.Fatal(err)
	}
	if _, err := box.open("x", old); !errors.Is(err, ErrCannotOpen) {
		t.Errorf("a forgotten key opens: %v", err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	copied := filepath.Join(t.TempDir(), "copy")
	if err := box.CopyKey(copied); err != nil {
		t.Fatal(err)
	}
	if err := box.CopyKey(copied); err == nil {
		t.Error("it writes over a file")
	}
	if b, err := ReadBox(copied); err != nil || b.Fingerprint() != box.Fingerprint() {
		t.Error(err)
	}
}

func TestWhatOlderProgramsSealedOpensUnboundOnly(t *testing.T) {
	t.Parallel()
	box, _ := newBox(t)
	var old bytes.Buffer
	w, err := age.Encrypt(&old, box.keys[0].Recipient())
	if err != nil {
		t.Fatal(err)
	}
	w.Write([]byte("neap"))
	w.Close()
	if _, err := box.open("x", old.Bytes()); !errors.Is(err, ErrMoved) {
		t.Errorf("%v", err)
	}
	if plain, err := box.openUnbound(old.Bytes()); err != nil || string(plain) != "neap" {
		t.Errorf("%q %v", plain, err)
	}
	bound, _ := box.seal("x", []byte("neap"))
	if _, err := box.openUnbound(bound); !errors.Is(err, ErrMoved) {
		t.Errorf("what is bound opens unbound: %v", err)
	}
}

// TestWhoForgetsLooksAtTheKeysAnew: another replica renewed the key since they were read, and what
// it sealed meanwhile is not lost.
func TestWhoForgetsLooksAtTheKeysAnew(t *testing.T) {
	t.Parallel()
	box, path := newBox(t)
	other, err := OpenBox(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := other.Renew(); err != nil {
		t.Fatal(err)
	}
	sealed, _ := other.seal("x", []byte("high"))
	if err := box.Forget(); err != nil {
		t.Fatal(err)
	}
	if plain, err := box.open("x", sealed); err != nil || string(plain) != "high" || len(box.Fingerprints()) != 1 {
		t.Errorf("%q %v of %v", plain, err, box.Fingerprints())
	}
}

func TestOneValueHasOneText(t *testing.T) {
	t.Parallel()
	for _, text := range []string{`{"b": 1, "a": [2]}`, ` {"a":[2],"b":1.0}`} {
		if got := Canonical([]byte(text)); got != `{"a":[2],"b":1}` {
			t.Errorf("%s is written as %s", text, got)
		}
	}
	if got := Canonical([]byte("{")); got != "{" {
		t.Errorf("what is no JSON is written as %s", got)
	}
}
