package sealed

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"filippo.io/age"

	"undersail/internal/secret"
	"undersail/internal/store"
)

// Box seals and opens with the key of a file. What it seals is bound to what it is for:
// a sealed value that somebody copies to another place does not open there. It is safe
// for concurrent use.
//
// While the key is being replaced the file holds two: the first seals, and both open.
// A box reads its file again when it meets a value that it cannot open.
type Box struct {
	path string

	mu   sync.Mutex
	keys []*age.X25519Identity
	file os.FileInfo // as it was read; a key file is replaced and never written over
}

// ErrNoKey says that there is no key file.
var ErrNoKey = errors.New("there is no sealing key")

// ErrCannotOpen says that a value was sealed with another key.
var ErrCannotOpen = errors.New("open sealed value (is the key file the right one?)")

// ErrMoved says that a value was sealed for something else than it stands at.
var ErrMoved = errors.New("a sealed value stands where it was not sealed for; it was moved or its row was changed")

// OpenBox reads the key file, making it on first use.
func OpenBox(path string) (*Box, error) {
	b, err := ReadBox(path)
	if !errors.Is(err, ErrNoKey) {
		return b, err
	}
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, fmt.Errorf("make sealing key: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("opening the key file %s: %w", path, err)
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, os.ErrExist) {
		return ReadBox(path) // another replica made it at this moment
	}
	if err != nil {
		return nil, fmt.Errorf("make sealing key: %w", err)
	}
	_, err = f.WriteString(key.String() + "\n")
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, fmt.Errorf("make sealing key: %w", err)
	}
	return ReadBox(path)
}

// ReadBox reads a key file that is there. It must be readable by its owner only.
func ReadBox(path string) (*Box, error) {
	b := &Box{path: path}
	return b, b.read()
}

func (b *Box) read() error {
	info, err := os.Stat(b.path)
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%w at %s", ErrNoKey, b.path)
	}
	if err != nil {
		return fmt.Errorf("read sealing key: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("the sealing key %s can be read by others; run: chmod 600 %s", b.path, b.path)
	}
	data, err := os.ReadFile(b.path)
	if err != nil {
		return fmt.Errorf("read sealing key: %w", err)
	}
	var keys []*age.X25519Identity
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		key, err := age.ParseX25519Identity(line)
		if err != nil {
			return fmt.Errorf("%s is not a sealing key: %w", b.path, err)
		}
		keys = append(keys, key)
	}
	if len(keys) == 0 {
		return fmt.Errorf("%s is empty, and no sealing key", b.path)
	}
	b.keys, b.file = keys, info
	return nil
}

// current gives the keys, after reading the file again if it was changed.
func (b *Box) current(again bool) []*age.X25519Identity {
	b.mu.Lock()
	defer b.mu.Unlock()
	if again {
		info, err := os.Stat(b.path)
		if err == nil && !(os.SameFile(info, b.file) && info.ModTime().Equal(b.file.ModTime())) {
			_ = b.read() // what cannot be read now changes nothing
		}
	}
	return b.keys
}

// Fingerprint tells keys apart: that of the key that seals.
func (b *Box) Fingerprint() string { return b.Fingerprints()[0] }

// Fingerprints are those of all keys that open, the one that seals first.
func (b *Box) Fingerprints() []string {
	var out []string
	for _, key := range b.current(true) {
		sum := sha256.Sum256([]byte(key.Recipient().String()))
		out = append(out, hex.EncodeToString(sum[:8]))
	}
	return out
}

// Renew puts a new key before the one that seals now, which goes on to open. Where a
// renewal was begun already it goes on with that.
func (b *Box) Renew() error {
	if len(b.current(true)) > 1 {
		return nil
	}
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return fmt.Errorf("make sealing key: %w", err)
	}
	return b.write(append([]*age.X25519Identity{key}, b.current(false)...))
}

// Forget leaves only the key that seals. Call it when nothing is sealed with another.
func (b *Box) Forget() error { return b.write(b.current(true)[:1]) }

// write replaces the key file as a whole.
func (b *Box) write(keys []*age.X25519Identity) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	var text strings.Builder
	for _, key := range keys {
		text.WriteString(key.String() + "\n")
	}
	if err := secret.ReplaceFile(b.path, text.String()); err != nil {
		return fmt.Errorf("write sealing key: %w", err)
	}
	return b.read()
}

// CopyKey writes the key to another file, which must not be there yet.
func (b *Box) CopyKey(path string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("copy sealing key: %w", err)
	}
	for _, key := range b.current(true) {
		fmt.Fprintln(f, key.String())
	}
	return errors.Join(f.Sync(), f.Close())
}

// bound begins every value that is bound to what it is for.
const bound = "undersail sealed 1\x00"

// seal encrypts a value for one thing, such as "secret coast/password@1".
func (b *Box) seal(purpose string, plain []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, b.current(true)[0].Recipient())
	if err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	if _, err := w.Write(append([]byte(bound+purpose+"\x00"), plain...)); err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	if err := w.Close(); err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	return out.Bytes(), nil
}

// open decrypts what seal made for the same thing with the same key.
func (b *Box) open(purpose string, sealed []byte) ([]byte, error) {
	plain, err := b.decrypted(sealed)
	if err != nil {
		return nil, err
	}
	value, ok := bytes.CutPrefix(plain, []byte(bound+purpose+"\x00"))
	if !ok {
		return nil, fmt.Errorf("%s: %w", purpose, ErrMoved)
	}
	return value, nil
}

// openUnbound decrypts what older programs sealed, which was bound to nothing.
func (b *Box) openUnbound(sealed []byte) ([]byte, error) {
	plain, err := b.decrypted(sealed)
	if err == nil && bytes.HasPrefix(plain, []byte(bound)) {
		return nil, ErrMoved
	}
	return plain, err
}

func (b *Box) decrypted(sealed []byte) ([]byte, error) {
	plain, err := decrypt(sealed, b.current(false))
	if err != nil {
		plain, err = decrypt(sealed, b.current(true)) // the key may have been replaced
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCannotOpen, err)
	}
	return plain, nil
}

func decrypt(sealed []byte, keys []*age.X25519Identity) ([]byte, error) {
	identities := make([]age.Identity, len(keys))
	for i, key := range keys {
		identities[i] = key
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), identities...)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// What values are sealed for.
func forSecret(reference string) string { return "secret " + reference }

// forAccount has the cloud and the endpoint that credentials are shown to in it.
func forAccount(a store.Account) string {
	return fmt.Sprintf("account %q of %q at %q", a.Name, a.Cloud, a.Endpoint)
}

// forLibrary has where a library lies in it.
func forLibrary(l store.Library) string { return fmt.Sprintf("library %q at %q", l.Name, l.Place) }

func forSignIn(handle string) string { return "sign-in " + handle }

const forAudit = "the key of the audit"
