package daemon

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"

	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/postgres"
	"undersail/internal/sealed"
	"undersail/internal/service"
	"undersail/internal/store"
)

// Place is where a service keeps its things, as in [Config].
type Place struct{ Dir, DatabaseURL, MigrateURL, KeyFile string }

func (p Place) keyFile() string {
	if p.KeyFile != "" {
		return p.KeyFile
	}
	return filepath.Join(p.Dir, "sealing.key")
}

// database gives the URL of the database, and that of the role that owns its tables; the
// service may run meanwhile. A server of our own that does not run is started until release.
func (p Place) database(ctx context.Context) (url, owner string, release func() error, err error) {
	if p.DatabaseURL != "" {
		return p.DatabaseURL, cmp.Or(p.MigrateURL, p.DatabaseURL), func() error { return nil }, nil
	}
	if err := os.MkdirAll(p.Dir, 0o711); err != nil {
		return "", "", nil, err
	}
	s, err := postgres.Start(ctx, filepath.Join(p.Dir, "database"))
	if err != nil {
		return "", "", nil, fmt.Errorf("starting the database: %w", err)
	}
	return s.URL, s.OwnerURL, s.Release, nil
}

// open opens a service that is not started: it serves nothing and takes no runs.
func (p Place) open(ctx context.Context) (s *service.Service, box *sealed.Box, end func() error, err error) {
	if _, err := os.Stat(p.Dir); p.DatabaseURL == "" && err != nil {
		return nil, nil, nil, fmt.Errorf("there is no service in %s; name its directory with --dir", p.Dir)
	}
	url, owner, release, err := p.database(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	st, err := store.OpenAs(ctx, url, owner)
	if err != nil {
		return nil, nil, nil, errors.Join(err, release())
	}
	end = func() error { st.Close(); return release() }
	if box, err = sealed.ReadBox(p.keyFile()); err == nil {
		if s, err = service.New(st, box, slog.New(slog.DiscardHandler), engine.Config{}); err == nil {
			err = s.OpenSealed(ctx)
		}
	}
	if err != nil {
		return nil, nil, nil, errors.Join(err, end())
	}
	return s, box, end, nil
}

// Backup writes the database to a new file, as it is at one moment, and where keyTo names
// one the sealing key to another. Kept apart, neither tells a secret.
func Backup(ctx context.Context, p Place, to, keyTo string) (err error) {
	if _, err := os.Stat(p.Dir); p.DatabaseURL == "" && err != nil {
		return fmt.Errorf("there is no service in %s; name its directory with --dir", p.Dir)
	}
	url, _, release, err := p.database(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, release()) }()
	box, err := sealed.ReadBox(p.keyFile())
	if err != nil {
		return fmt.Errorf("reading the key file: %w", err)
	}
	if err := belongs(ctx, url, box); err != nil { // a backup whose key is another one is none
		return err
	}
	f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	err = postgres.Dump(ctx, url, f)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(to)
		return err
	}
	if keyTo != "" {
		return box.CopyKey(keyTo)
	}
	return nil
}

// belongs says that a key is not the one that a database was sealed with.
func belongs(ctx context.Context, url string, box *sealed.Box) error {
	st, err := store.Attach(ctx, url)
	if err != nil {
		return fmt.Errorf("asking the database who it is: %w", err)
	}
	defer st.Close()
	with, err := st.Setting(ctx, store.SealedWith)
	if err != nil {
		return fmt.Errorf("read with which key the database was sealed: %w", err)
	}
	if !slices.Contains(box.Fingerprints(), string(with)) {
		return fmt.Errorf("the database was sealed with the key %s, and this key is %s", with, box.Fingerprint())
	}
	return nil
}

// Restored is what a restored service has.
type Restored struct {
	Accounts int    `json:"accounts"`
	Stacks   int    `json:"stacks"`
	Sealed   int    `json:"sealed"`
	Audit    string `json:"audit"` // its head
}

// Restore fills a new service from a backup and its key, and opens every sealed value
// once, so that nobody learns later that the key was another one.
func Restore(ctx context.Context, p Place, from, key string) (out Restored, err error) {
	if _, err := os.Stat(p.keyFile()); err == nil {
		return out, fmt.Errorf("there is a key at %s already; restore into a new directory", p.keyFile())
	}
	box, err := sealed.ReadBox(key)
	if err != nil {
		return out, fmt.Errorf("reading the key file: %w", err)
	}
	f, err := os.Open(from)
	if err != nil {
		return out, fmt.Errorf("read the backup: %w", err)
	}
	defer f.Close()
	if head := make([]byte, 5); readFull(f, head) != nil || string(head) != "PGDMP" {
		return out, fmt.Errorf("%s is no backup", from)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return out, fmt.Errorf("reading the backup: %w", err)
	}
	url, owner, release, err := p.database(ctx)
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, release()) }()
	if err := postgres.Load(ctx, owner, f); err != nil {
		return out, fmt.Errorf("filling the database from the backup: %w", err)
	}
	if err := store.Migrate(ctx, url, owner); err != nil { // so that the service's role may read it
		return out, fmt.Errorf("bringing the backup to this version: %w", err)
	}
	if err := belongs(ctx, url, box); err != nil {
		return out, fmt.Errorf("%w; the database is restored: put the right key at %s, and start the service", err,
			p.keyFile())
	}
	if err := box.CopyKey(p.keyFile()); err != nil {
		return out, fmt.Errorf("copying the key file: %w", err)
	}
	s, _, end, err := p.open(ctx)
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, end()) }()
	if out.Accounts, out.Stacks, out.Sealed, err = s.Secrets.TrySealed(ctx); err != nil {
		return out, fmt.Errorf("opening what the backup has sealed: %w", err)
	}
	checked, err := s.Journal.Check(ctx, people.Host(), "")
	if out.Audit = checked.Head; err == nil && !checked.Sound {
		err = fmt.Errorf("the audit was changed: %s", checked.Fault)
	}
	return out, err
}

func readFull(r io.Reader, b []byte) error {
	_, err := io.ReadFull(r, b)
	return err
}

// RotateKey puts a new sealing key in the place of the one that is there and seals
// everything with it. Interrupted, it is called again. Services that run meanwhile read
// the key file again when they meet what they cannot open.
func RotateKey(ctx context.Context, p Place) (sealed int, fingerprint string, err error) {
	s, box, end, err := p.open(ctx)
	if err != nil {
		return 0, "", err
	}
	defer func() { err = errors.Join(err, end()) }()
	if err := box.Renew(); err != nil {
		return 0, "", fmt.Errorf("drawing a new key: %w", err)
	}
	if sealed, err = s.Secrets.Reseal(ctx, 0); err != nil {
		return sealed, "", fmt.Errorf("sealing anew was interrupted, and goes on when it is called again: %w", err)
	}
	// What was sealed with the old key while this went on is sealed anew too.
	more, err := s.Secrets.Reseal(ctx, 0)
	if err != nil {
		return sealed, "", fmt.Errorf("sealing anew: %w", err)
	}
	return sealed + more - 1, box.Fingerprint(), box.Forget()
}

// AdminLink gives a link for an administrator; url is where people reach the service.
func AdminLink(ctx context.Context, p Place, url, name string) (i people.Invitation, err error) {
	s, _, end, err := p.open(ctx)
	if err != nil {
		return i, err
	}
	defer func() { err = errors.Join(err, end()) }()
	s.People.SignInBy(people.Signing{URL: url})
	return s.People.AdminLink(ctx, name)
}
