package secret

import (
	"testing"
)

func TestPasswords(t *testing.T) {
	t.Parallel()
	hash := HashPassword("low water")
	if !CheckPassword(hash, "low water") || CheckPassword(hash, "high water") || CheckPassword("", "low water") ||
		CheckPassword("", "") {
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
