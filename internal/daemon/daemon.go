// Package daemon runs the service: it starts a database of its own unless one is
// named, opens the store, starts the engine and serves API and console until it
// is told to stop.
package daemon

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"undersail/internal/api"
	"undersail/internal/engine"
	"undersail/internal/postgres"
	"undersail/internal/reach"
	"undersail/internal/secret"
	"undersail/internal/service"
	"undersail/internal/store"
)

// Config is how the service runs.
type Config struct {
	// Dir holds the sealing key, the first password and, unless DatabaseURL
	// names another, the database.
	Dir         string
	Listen      string // host:port; port 0 takes a free one
	DatabaseURL string
	// KeyFile is where the sealing key is; in Dir when empty. Replicas of one
	// database need the same key.
	KeyFile string
	Console fs.FS // the built console, or nil
	// Reach are private addresses that clouds, machines and libraries may have, each as
	// ADDRESS, ADDRESS:PORT or RANGE. Public ones need none.
	Reach []string
	// LocalLibraries are folders that libraries may be read from.
	LocalLibraries []string
	Log            *slog.Logger
	Engine         engine.Config
}

// Daemon is a running service.
type Daemon struct {
	URL     string
	Service *service.Service
	// FirstPassword is that of the user admin, only when it was made just now.
	FirstPassword string

	store    *store.Store
	reach    *reach.Policy
	database *postgres.Server
	server   *http.Server
	cancel   context.CancelFunc
}

// Start brings everything up and returns once the service answers.
func Start(ctx context.Context, c Config) (_ *Daemon, err error) {
	if err := os.MkdirAll(c.Dir, 0o711); err != nil {
		return nil, fmt.Errorf("make the service's directory: %w", err)
	}
	d := &Daemon{}
	defer func() {
		if err != nil {
			d.Close()
		}
	}()
	if c.DatabaseURL == "" {
		if d.database, err = postgres.Start(ctx, filepath.Join(c.Dir, "database")); err != nil {
			return nil, err
		}
		c.DatabaseURL = d.database.URL
	}
	if c.KeyFile == "" {
		c.KeyFile = filepath.Join(c.Dir, "sealing.key")
	}
	if d.store, err = store.Open(ctx, c.DatabaseURL); err != nil {
		return nil, err
	}
	box, err := keyOf(ctx, d.store, c.KeyFile)
	if err != nil {
		return nil, err
	}
	if c.Engine.Reach, err = reach.NewPolicy(c.Reach...); err != nil {
		return nil, fmt.Errorf("what may be reached: %w", err)
	}
	d.reach = c.Engine.Reach
	if at, err := url.Parse(c.DatabaseURL); err == nil {
		d.reach.Ours(at.Host)
	}
	if d.Service, err = service.New(d.store, box, c.Log, c.Engine); err != nil {
		return nil, err
	}
	if err := d.Service.OpenSealed(ctx); err != nil {
		return nil, err
	}
	d.Service.OpenFolders(c.LocalLibraries...)
	if err := d.firstUser(ctx); err != nil {
		return nil, err
	}
	var background context.Context
	background, d.cancel = context.WithCancel(context.WithoutCancel(ctx))
	if d.database != nil {
		go d.database.Keep(background, func(what string, err error) { c.Log.Error(what, "error", err) })
	}
	if err := d.Service.Engine().Start(background); err != nil {
		return nil, err
	}
	return d, d.listen(background, c)
}

// keyOf opens the key file. Only a database that nothing was sealed in gets a new key:
// beside any other one that is missing is a mistake, and a new one would open nothing.
func keyOf(ctx context.Context, st *store.Store, file string) (*secret.Box, error) {
	with, err := st.Setting(ctx, store.SealedWith)
	if errors.Is(err, store.ErrNotFound) {
		with = []byte("of an earlier version")
		if there, err := st.AnythingSealed(ctx); err != nil || !there {
			return secret.OpenBox(file)
		}
	} else if err != nil {
		return nil, err
	}
	box, err := secret.ReadBox(file)
	if errors.Is(err, secret.ErrNoKey) {
		return nil, fmt.Errorf("%w, and the database was sealed with the key %s; put its key file there, or name it with --key-file", err, with)
	}
	return box, err
}

// firstUser makes the user admin in an empty database.
func (d *Daemon) firstUser(ctx context.Context) error {
	_, err := d.store.UserByName(ctx, "admin")
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	raw := make([]byte, 9)
	rand.Read(raw)
	d.FirstPassword = hex.EncodeToString(raw)
	return d.Service.PutUser(ctx, "admin", "Administrator", "admin", d.FirstPassword)
}

func (d *Daemon) listen(ctx context.Context, c Config) error {
	h, err := api.New(ctx, d.Service, c.Console, c.Log)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w; choose another address with --listen", c.Listen, err)
	}
	d.URL = "http://" + l.Addr().String()
	d.reach.Ours(l.Addr().String())
	d.server = &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return ctx }, ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)}
	go d.server.Serve(l)
	return nil
}

// Close lets calls in flight return, gives up the claims, and stops what was
// started.
func (d *Daemon) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var errs []error
	if d.Service != nil && d.cancel != nil {
		errs = append(errs, d.Service.Engine().Stop(ctx))
	}
	if d.cancel != nil {
		d.cancel() // ends the streams
	}
	if d.server != nil {
		brief, done := context.WithTimeout(ctx, 2*time.Second)
		if d.server.Shutdown(brief) != nil {
			d.server.Close()
		}
		done()
	}
	if d.store != nil {
		d.store.Close()
	}
	if d.database != nil {
		errs = append(errs, d.database.Stop())
	}
	return errors.Join(errs...)
}
