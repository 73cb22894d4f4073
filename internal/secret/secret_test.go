package secret

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestBox(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "key")
	box, err := OpenBox(path)
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := box.Seal([]byte("springtide"))
	if err != nil || strings.Contains(string(sealed), "springtide") {
		t.Fatal(err, "sealed text can be read")
	}
	again, err := OpenBox(path)
	if err != nil {
		t.Fatal(err)
	}
	if plain, err := again.Open(sealed); err != nil || string(plain) != "springtide" {
		t.Errorf("opened %q, %v", plain, err)
	}
	other, _ := OpenBox(filepath.Join(t.TempDir(), "key"))
	if _, err := other.Open(sealed); err == nil {
		t.Error("another key opened it")
	}
	os.Chmod(path, 0o644)
	if _, err := OpenBox(path); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a key that others can read: %v", err)
	}
}

func TestPasswords(t *testing.T) {
	t.Parallel()
	hash := HashPassword("low water")
	if !CheckPassword(hash, "low water") || CheckPassword(hash, "high water") || CheckPassword("", "low water") || CheckPassword("", "") {
		t.Error("a password is judged wrongly")
	}
}

func TestKeyPair(t *testing.T) {
	t.Parallel()
	private, public, err := KeyPair("intake")
	if err != nil {
		t.Fatal(err)
	}
	if derived, err := Public(private, "intake"); err != nil || derived != public {
		t.Errorf("derived %q from the private half, want %q (%v)", derived, public, err)
	}
}

func TestScrubFindsEncodings(t *testing.T) {
	t.Parallel()
	value := "pä ss/word"
	text := "plain " + value + " base64 " + base64.StdEncoding.EncodeToString([]byte(value)) + " query p%C3%A4+ss%2Fword hex 70c3a42073732f776f7264"
	got := Scrub(text, map[string]string{"s/p@1": value})
	if got != "plain secret:s/p@1 base64 secret:s/p@1 query secret:s/p@1 hex secret:s/p@1" {
		t.Error(got)
	}
}
