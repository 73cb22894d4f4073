// Package daemon runs the service: it starts a database of its own unless one is
// named, opens the store, starts the engine and serves API and console until it
// is told to stop.
package daemon

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"undersail/internal/access"
	"undersail/internal/engine"
	"undersail/internal/openid"
	"undersail/internal/people"
	"undersail/internal/postgres"
	"undersail/internal/reach"
	"undersail/internal/sealed"
	"undersail/internal/service"
	"undersail/internal/store"
)

// Config is how the service runs.
type Config struct {
	// Dir holds the sealing key and, unless DatabaseURL names another, the database.
	Dir         string
	DatabaseURL string
	// MigrateURL is the same database for the role that owns its tables; DatabaseURL's role
	// then only reads and writes them. Empty, DatabaseURL does both.
	MigrateURL string
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
	Serving
	// SessionLife is how long a session lasts, SessionIdle how long it may go unused; zero
	// is what is usual.
	SessionLife, SessionIdle time.Duration
	// OpenIDEvery is how long a sign-in by OpenID Connect counts until the provider is asked anew.
	OpenIDEvery time.Duration
	// OpenID names a provider that people may sign in by, if it has an issuer; Groups are the
	// roles of its groups.
	OpenID openid.Config
	Groups map[string][]string
	// InCharge says that this service goes on with its database, although that may be a copy, or
	// behind.
	InCharge bool
	// Pipelines may sign in with tokens of their own providers.
	Pipelines []openid.Pipeline
}

// Daemon is a running service.
type Daemon struct {
	URL     string
	Service *service.Service
	// MetricsURL is that of the listener for metrics alone.
	MetricsURL string

	store     *store.Store // for requests
	runs      *store.Store // for the engine: neither takes the connections of the other
	reach     *reach.Policy
	pipelines *openid.Pipelines
	database  *postgres.Server
	server    *http.Server
	closing   []func() error
	cancel    context.CancelFunc
}

// Start brings everything up and returns once the service answers.
func Start(ctx context.Context, c Config) (_ *Daemon, err error) {
	if err := os.MkdirAll(c.Dir, 0o711); err != nil {
		return nil, fmt.Errorf("make the service's directory: %w", err)
	}
	d := &Daemon{}
	if d.pipelines, err = pipelinesOf(c.Pipelines); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			d.Close()
		}
	}()
	if c.DatabaseURL == "" {
		if d.database, err = postgres.Start(ctx, filepath.Join(c.Dir, "database")); err != nil {
			return nil, fmt.Errorf("starting the database: %w", err)
		}
		c.DatabaseURL, c.MigrateURL = d.database.URL, d.database.OwnerURL
	}
	if c.KeyFile == "" {
		c.KeyFile = filepath.Join(c.Dir, "sealing.key")
	}
	if d.store, err = store.OpenAs(ctx, c.DatabaseURL, c.MigrateURL, store.Connections(14),
		store.Logged(c.Log)); err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	if d.runs, err = store.Open(ctx, c.DatabaseURL, store.Connections(20)); err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	c.Engine.Store = d.runs
	if c.Engine.Deeds, err = engine.OpenDeeds(filepath.Join(c.Dir, "deeds.jsonl")); err != nil {
		return nil, fmt.Errorf("opening the list of what was done in clouds: %w", err)
	}
	d.closing = append(d.closing, c.Engine.Deeds.Close)
	if super, err := d.store.ByASuperuser(ctx); err == nil && super {
		c.Log.Warn("the role of --database-url is a superuser of its server: give the service one that is not; see " +
			"undersail migrate --help")
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
		return nil, fmt.Errorf("starting the service: %w", err)
	}
	if err := d.Service.OpenSealed(ctx); err != nil {
		return nil, fmt.Errorf("opening what is sealed: %w", err)
	}
	d.Service.Templates.OpenFolders(c.LocalLibraries...)
	var background context.Context
	background, d.cancel = context.WithCancel(context.WithoutCancel(ctx))
	if d.database != nil {
		go d.database.Supervise(background, func(what string, err error) { c.Log.Error(what, "error", err) })
	}
	if err := d.begin(ctx, background, c); err != nil {
		return nil, fmt.Errorf("taking charge: %w", err)
	}
	return d, d.listen(background, c)
}

// signing tells the service how people sign in. Where they come back to from a provider is
// known only once it listens.
func (d *Daemon) signing(c Config) error {
	how := people.Signing{
		URL:       d.URL,
		Pipelines: d.pipelines,
		Life:      c.SessionLife,
		Idle:      c.SessionIdle,
		AskEvery:  c.OpenIDEvery,
		Groups:    map[string][]string{},
	}
	for group, texts := range c.Groups {
		g, err := access.ParseGrants(texts)
		if err != nil {
			return fmt.Errorf("roles of the group %s: %w", group, err)
		}
		how.Groups[group] = g.Strings()
	}
	if c.OpenID.Issuer != "" {
		c.OpenID.Return = d.URL + "/sign-in/openid/back"
		var err error
		if how.OpenID, err = openid.New(c.OpenID); err != nil {
			return fmt.Errorf("reading how people sign in: %w", err)
		}
	}
	d.Service.People.SignInBy(how)
	return nil
}

// pipelinesOf checks who else than people may sign in; nil are none.
func pipelinesOf(list []openid.Pipeline) (*openid.Pipelines, error) {
	for _, p := range list {
		g, err := access.ParseGrants(p.Roles)
		if err == nil && g.May(access.Administer, "") {
			err = errors.New("no pipeline administers the whole service; give it roles in accounts")
		}
		if err != nil {
			return nil, fmt.Errorf("roles of the pipeline %s: %w", p.Name, err)
		}
	}
	if len(list) == 0 {
		return nil, nil
	}
	return openid.NewPipelines(list)
}

// keyOf opens the key file. Only a database that nothing was sealed in gets a new key:
// beside any other one that is missing is a mistake, and a new one would open nothing.
func keyOf(ctx context.Context, st *store.Store, file string) (*sealed.Box, error) {
	with, err := st.Setting(ctx, store.SealedWith)
	if errors.Is(err, store.ErrNotFound) {
		with = []byte("of an earlier version")
		if there, err := st.AnythingSealed(ctx); err != nil || !there {
			return sealed.OpenBox(file)
		}
	} else if err != nil {
		return nil, err
	}
	box, err := sealed.ReadBox(file)
	if errors.Is(err, sealed.ErrNoKey) {
		return nil, fmt.Errorf("%w, and the database was sealed with the key %s; put its key file there, or name it "+
			"with --key-file", err, with)
	}
	return box, err
}

// Close lets calls in flight return, gives up the claims, and stops what was
// started.
func (d *Daemon) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var errs []error
	if d.Service != nil && d.cancel != nil {
		errs = append(errs, d.Service.Engine.Stop(ctx))
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
	for _, end := range d.closing {
		_ = end() // those that serve are closed already
	}
	for _, st := range []*store.Store{d.store, d.runs} {
		if st != nil {
			st.Close()
		}
	}
	if d.database != nil {
		errs = append(errs, d.database.Stop())
	}
	return errors.Join(errs...)
}
