// Package secret makes key pairs, hashes passwords and tokens, and takes secrets out of
// texts. It keeps nothing; what is sealed is with package sealed.
package secret

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
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
	return string(pem.EncodeToMemory(block)), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) + " " +
		comment, nil
}

// Public derives the public half of a private key.
func Public(private, comment string) (string, error) {
	signer, err := ssh.ParsePrivateKey([]byte(private))
	if err != nil {
		return "", fmt.Errorf("read private key: %w", err)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))) + " " + comment, nil
}

// argon are the parameters of argon2id (RFC 9106): one lane of 46 MiB in one pass, which
// the OWASP Password Storage Cheat Sheet gives as equal to less memory and more passes. One
// lane takes one processor, and leaves the others to those who are signed in.
type argon struct {
	memory, time uint32 // memory in KiB
	lanes        uint8
}

var usual = argon{memory: 46 << 10, time: 1, lanes: 1}

const argonKey = 32

// HashPassword gives salt and hash by argon2id as one text.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	return usual.hash(password, salt)
}

func (a argon) hash(password string, salt []byte) string {
	key := argon2.IDKey([]byte(password), salt, a.time, a.memory, a.lanes, argonKey)
	e := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", a.memory, a.time, a.lanes, e.EncodeToString(salt),
		e.EncodeToString(key))
}

// CheckPassword compares in constant time, by the parameters that stand in the hash. An
// empty hash takes as long as any and never matches, so that nobody learns which users there
// are.
func CheckPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	a, salt := usual, make([]byte, 16)
	if len(parts) == 6 {
		var told argon
		s, err := base64.RawStdEncoding.DecodeString(parts[4])
		n, _ := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &told.memory, &told.time, &told.lanes)
		if err == nil && n == 3 && told.memory <= 1<<20 && told.time > 0 && told.time <= 16 && told.lanes > 0 {
			a, salt = told, s
		}
	}
	return subtle.ConstantTimeCompare([]byte(a.hash(password, salt)), []byte(hash)) == 1
}

// IsOutdated reports whether a hash was made with other parameters than those of today.
func IsOutdated(hash string) bool {
	return !strings.HasPrefix(hash,
		fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$", usual.memory, usual.time, usual.lanes))
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

// ReplaceFile writes a file for its owner only, whole or not at all.
func ReplaceFile(path, text string) error {
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*") // 0600
	if err != nil {
		return fmt.Errorf("replacing %s: %w", path, err)
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString(text)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
