package postgres

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
)

// verifier is what the server keeps of a password of ours, as SCRAM-SHA-256 has it (RFC 5802,
// RFC 7677). One iteration does: the password is 144 random bits, which nobody guesses, and more
// would only make every connection wait.
func verifier(password string) (string, error) {
	salt := make([]byte, 16)
	rand.Read(salt)
	salted, err := pbkdf2.Key(sha256.New, password, salt, 1, sha256.Size)
	if err != nil {
		return "", fmt.Errorf("keep a password of the database: %w", err)
	}
	stored := sha256.Sum256(keyed(salted, "Client Key"))
	text := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$1:%s$%s:%s", text(salt), text(stored[:]), text(keyed(salted, "Server Key"))), nil
}

func keyed(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}
