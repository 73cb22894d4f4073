package secret

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
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
	sealed, err := box.Seal(ForSecret("coast/password@1"), []byte("springtide"))
	if err != nil || strings.Contains(string(sealed), "springtide") || strings.Contains(string(sealed), "coast") {
		t.Fatal(err, "sealed text can be read")
	}
	again, err := OpenBox(path)
	if err != nil {
		t.Fatal(err)
	}
	if plain, err := again.Open(ForSecret("coast/password@1"), sealed); err != nil || string(plain) != "springtide" {
		t.Errorf("opened %q, %v", plain, err)
	}
	if _, err := again.Open(ForSecret("coast/password@2"), sealed); !errors.Is(err, ErrMoved) {
		t.Errorf("it opens at another place: %v", err)
	}
	other, _ := newBox(t)
	if _, err := other.Open(ForSecret("coast/password@1"), sealed); !errors.Is(err, ErrCannotOpen) {
		t.Errorf("another key opened it: %v", err)
	}
	os.Chmod(path, 0o644)
	if _, err := OpenBox(path); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a key that others can read: %v", err)
	}
	if _, err := ReadBox(path + "-none"); !errors.Is(err, ErrNoKey) {
		t.Errorf("no key: %v", err)
	}
}

func TestCredentialsOpenOnlyBesideTheirEndpoint(t *testing.T) {
	t.Parallel()
	box, _ := newBox(t)
	sealed, _ := box.Seal(ForAccount("saltmere-lab", "larch", "https://larch.example"), []byte("{}"))
	for _, moved := range []string{ForAccount("saltmere-lab", "larch", "https://elsewhere.example"), ForAccount("saltmere-live", "larch", "https://larch.example"), ForAccount("saltmere-lab", "sorrel", "https://larch.example")} {
		if _, err := box.Open(moved, sealed); !errors.Is(err, ErrMoved) {
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
	old, _ := box.Seal("x", []byte("low"))
	first := box.Fingerprint()
	for range 2 { // interrupted and begun again: the same new key
		if err := box.Renew(); err != nil {
			t.Fatal(err)
		}
	}
	if len(box.Fingerprints()) != 2 || box.Fingerprint() == first {
		t.Fatalf("%v after %s", box.Fingerprints(), first)
	}
	sealed, _ := box.Seal("x", []byte("high"))
	for _, b := range []*Box{box, meanwhile} {
		if plain, err := b.Open("x", sealed); err != nil || string(plain) != "high" {
			t.Errorf("%q %v", plain, err)
		}
		if plain, err := b.Open("x", old); err != nil || string(plain) != "low" {
			t.Errorf("%q %v", plain, err)
		}
	}
	if err := box.Forget(); err != nil {
		t.Fatal(err)
	}
	if _, err := box.Open("x", old); !errors.Is(err, ErrCannotOpen) {
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
	if _, err := box.Open("x", old.Bytes()); !errors.Is(err, ErrMoved) {
		t.Errorf("%v", err)
	}
	if plain, err := box.OpenUnbound(old.Bytes()); err != nil || string(plain) != "neap" {
		t.Errorf("%q %v", plain, err)
	}
	bound, _ := box.Seal("x", []byte("neap"))
	if _, err := box.OpenUnbound(bound); !errors.Is(err, ErrMoved) {
		t.Errorf("what is bound opens unbound: %v", err)
	}
}
