// Package secret seals what must not be read from the database: secrets and
// the credentials of accounts. The key is a file that the database never sees.
// It also makes key pairs and hashes passwords and tokens.
package secret

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/ssh"
)

// KeyPair draws an ed25519 pair in OpenSSH form.
func KeyPair(comment string) (private, public string, err error) {
	pub, priv, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", "", err
	}
	block, err := ssh.MarshalPrivateKey(priv, comment)
	if err != nil {
		return "", "", err
	}
	key, err := ssh.NewPublicKey(pub)
	if err != nil {
		return "", "", err
	}
	return string(pem.EncodeToMemory(block)), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) + " " + comment, nil
}

// Public derives the public half of a private key.
func Public(private, comment string) (string, error) {
	signer, err := ssh.ParsePrivateKey([]byte(private))
	if err != nil {
		return "", fmt.Errorf("read private key: %w", err)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))) + " " + comment, nil
}

// argon2id parameters after RFC 9106, second recommendation.
const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 4
	argonKey     = 32
)

// HashPassword gives salt and hash by argon2id as one text.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	return encodeHash(salt, argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey))
}

func encodeHash(salt, key []byte) string {
	e := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemory, argonTime, argonThreads, e.EncodeToString(salt), e.EncodeToString(key))
}

// CheckPassword compares in constant time. An empty hash takes as long as any
// and never matches, so that nobody learns which users there are.
func CheckPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	salt := make([]byte, 16)
	if len(parts) == 6 {
		if s, err := base64.RawStdEncoding.DecodeString(parts[4]); err == nil {
			salt = s
		}
	}
	got := encodeHash(salt, argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey))
	return subtle.ConstantTimeCompare([]byte(got), []byte(hash)) == 1
}

// Token draws a bearer token. The prefix lets scanners find a leaked one.
func Token() string {
	raw := make([]byte, 24)
	rand.Read(raw)
	return "usk_" + hex.EncodeToString(raw)
}

// HashToken is what the database keeps of a token. Tokens are long and random,
// so a plain hash suffices.
func HashToken(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}
