// Package secret seals what must not be read from the database: secrets and
// the credentials of accounts. The key is a file that the database never sees.
// It also makes key pairs and hashes passwords and tokens.
package secret

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/ssh"
)

// Box seals and opens. It is safe for concurrent use.
type Box struct{ identity *age.X25519Identity }

// OpenBox reads the key file, making it on first use. The file must be readable
// by its owner only.
func OpenBox(path string) (*Box, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		identity, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, fmt.Errorf("make sealing key: %w", err)
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
		return &Box{identity}, os.WriteFile(path, []byte(identity.String()+"\n"), 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("read sealing key: %w", err)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the sealing key %s can be read by others; run: chmod 600 %s", path, path)
	}
	identity, err := age.ParseX25519Identity(strings.TrimSpace(string(data)))
	if err != nil {
		return nil, fmt.Errorf("%s is not a sealing key: %w", path, err)
	}
	return &Box{identity}, nil
}

// Seal encrypts.
func (b *Box) Seal(plain []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, b.identity.Recipient())
	if err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	if _, err := w.Write(plain); err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	if err := w.Close(); err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	return out.Bytes(), nil
}

// ErrCannotOpen says that a value was sealed with another key.
var ErrCannotOpen = errors.New("open sealed value (is the key file the right one?)")

// Open decrypts what Seal made with the same key.
func (b *Box) Open(sealed []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), b.identity)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannotOpen, err)
	}
	return io.ReadAll(r)
}

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

// Scrub takes secret values out of a text, also in the encodings in which they
// are likely to come back. Values under 4 characters are left: they would take
// half of every text with them.
func Scrub(text string, values map[string]string) string {
	for name, v := range values {
		if len(v) < 4 {
			continue
		}
		for _, form := range []string{v, strings.TrimSpace(v), base64.StdEncoding.EncodeToString([]byte(v)), url.QueryEscape(v), hex.EncodeToString([]byte(v))} {
			if strings.Contains(text, form) {
				text = strings.ReplaceAll(text, form, "secret:"+name)
			}
		}
	}
	return text
}
