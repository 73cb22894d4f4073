// Package servicetest gives tests a simulated cloud, a database of their own and
// as many services with engines on it as they start, all in one process.
package servicetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undersail/examples"
	"undersail/internal/accounts"
	"undersail/internal/await"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/postgres"
	"undersail/internal/postgres/postgrestest"
	"undersail/internal/proposing"
	"undersail/internal/reach"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/service"
	"undersail/internal/stacks"
	"undersail/internal/store"
	"undersail/sim"
	"undersail/sim/larch"
)

// T is what this package needs of a test; programs that measure have their own.
type T interface {
	Helper()
	Fatal(args ...any)
	Fatalf(format string, args ...any)
	TempDir() string
	Cleanup(func())
}

// Main runs the tests of a package with a database server.
func Main(m *testing.M) { postgrestest.Main(m, Prepare) }

// Prepare brings a database up to date.
func Prepare(url, owner string) error { return store.Migrate(context.Background(), url, owner) }

// Rig is a cloud, a database, and as many engines on it as a test starts.
type Rig struct {
	t     T
	cloud *sim.Running
	box   *sealed.Box
	// DatabaseURL and KeyFile let real processes share what the rig has.
	DatabaseURL, KeyFile string
	Admin                people.User
}

// New starts a cloud with the account saltmere-lab; pace is in cloud seconds to a
// real one.
func New(t T, pace float64) *Rig {
	t.Helper()
	return NewWith(t, sim.Config{Pace: pace})
}

// Roomy starts a cloud that takes more than any stack of a test wants, so that only what is
// random decides what comes of it.
func Roomy(t T, pace float64) *Rig {
	t.Helper()
	return NewWith(t, sim.Config{
		Pace:   pace,
		Rate:   100_000,
		Quotas: map[string]int64{"networks": 1000, "disk_gib": 1_000_000, "vcpus": 10_000, "addresses": 240},
	})
}

// NewWith starts a cloud that is configured otherwise.
func NewWith(t T, c sim.Config) *Rig {
	t.Helper()
	dir := t.TempDir()
	c.Dir, c.Seed = dir, 3
	if c.Accounts == nil {
		c.Accounts = []string{"saltmere-lab"}
	}
	cloud, err := sim.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cloud.Close() })
	box, err := sealed.OpenBox(filepath.Join(dir, "key"))
	if err != nil {
		t.Fatal(err)
	}
	return &Rig{
		t:           t,
		cloud:       cloud,
		DatabaseURL: postgrestest.Database(t),
		KeyFile:     filepath.Join(dir, "key"),
		box:         box,
		Admin:       people.User{Name: "ines", Roles: []string{"admin"}},
	}
}

// Replica starts a service with an engine; quit ends it, orderly or not.
func (r *Rig) Replica(claim time.Duration) (s *service.Service, quit func()) {
	r.t.Helper()
	return r.Start(engine.Config{ClaimLife: claim}, r.box)
}

// Stranger starts a service whose key cannot open what the others sealed.
func (r *Rig) Stranger(claim time.Duration) (s *service.Service, quit func()) {
	r.t.Helper()
	box, err := sealed.OpenBox(filepath.Join(r.t.TempDir(), "key"))
	if err != nil {
		r.t.Fatal(err)
	}
	return r.Start(engine.Config{ClaimLife: claim}, box)
}

// Start starts a service with an engine that is configured otherwise. Options
// change how it connects to the database.
func (r *Rig) Start(c engine.Config, box *sealed.Box, options ...store.Option) (s *service.Service, quit func()) {
	r.t.Helper()
	s, end := r.Still(c, box, options...)
	ctx, cancel := context.WithCancel(context.Background())
	if err := s.Engine.Start(ctx); err != nil {
		r.t.Fatal(err)
	}
	done := false
	quit = func() {
		if !done {
			done = true
			stopping, stop := context.WithTimeout(context.Background(), 20*time.Second)
			defer stop()
			s.Engine.Stop(stopping)
			cancel()
			end()
		}
	}
	r.t.Cleanup(quit)
	return s, quit
}

// Still gives a service whose engine is not started: it proposes and accepts, and
// takes no runs. Its account is the rig's, added by the first that can seal it.
func (r *Rig) Still(c engine.Config, box *sealed.Box, options ...store.Option) (s *service.Service, end func()) {
	r.t.Helper()
	ctx := context.Background()
	if box == nil {
		box = r.box
	}
	st, err := store.Open(ctx, r.DatabaseURL, options...)
	if err != nil {
		r.t.Fatal(err)
	}
	if c.Reach == nil {
		if c.Reach, err = reach.NewPolicy("127.0.0.0/8"); err != nil { // where its clouds and machines are
			r.t.Fatal(err)
		}
	}
	if s, err = service.New(st, box, logTo(), c); err != nil {
		r.t.Fatal(err)
	}
	if box == r.box {
		if err := s.OpenSealed(ctx); err != nil {
			r.t.Fatal(err)
		}
	}
	st.AddUser(ctx, store.User{Name: r.Admin.Name, Roles: r.Admin.Roles}) // another replica may have
	if have, err := s.Accounts.List(ctx); err != nil || len(have) < len(r.cloud.Accounts) {
		for _, a := range r.cloud.Accounts {
			if _, err := s.Accounts.Add(ctx, r.Admin, r.credentials(a)); err != nil {
				r.t.Fatal(err)
			}
		}
	}
	return s, st.Close
}

// Backup gives everything that is in the database at one moment.
func (r *Rig) Backup() []byte {
	r.t.Helper()
	var dump bytes.Buffer
	if err := postgres.Dump(context.Background(), r.DatabaseURL, &dump); err != nil {
		r.t.Fatal(err)
	}
	return dump.Bytes()
}

// Restore puts a backup into a database of its own, on which services are started from now on.
func (r *Rig) Restore(dump []byte) {
	r.t.Helper()
	url, owner := postgrestest.Empty(r.t)
	err := postgres.Load(context.Background(), owner, bytes.NewReader(dump))
	if err == nil {
		err = Prepare(url, owner)
	}
	if err != nil {
		r.t.Fatal(err)
	}
	r.DatabaseURL = url
}

// Person is somebody of a name with roles, known to the service.
func (r *Rig) Person(name string, roles ...string) people.User {
	r.t.Helper()
	st, err := store.Attach(context.Background(), r.DatabaseURL)
	if err != nil {
		r.t.Fatal(err)
	}
	defer st.Close()
	_, err = st.AddUser(context.Background(), store.User{Name: name, Roles: roles})
	if err != nil && !errors.Is(err, store.ErrConflict) {
		r.t.Fatal(err)
	}
	return people.User{Name: name, Roles: roles}
}

func (r *Rig) credentials(a larch.Account) accounts.NewAccount {
	return accounts.NewAccount{
		Name:        a.Name,
		Cloud:       "larch",
		Endpoint:    r.cloud.Place.Larch,
		Credentials: map[string]string{"client_id": a.ClientID, "client_secret": a.ClientSecret},
	}
}

// Renew gives the first account its credentials anew.
func (r *Rig) Renew(s *service.Service) {
	r.t.Helper()
	if _, err := s.Accounts.Add(context.Background(), r.Admin, r.credentials(r.cloud.Accounts[0])); err != nil {
		r.t.Fatal(err)
	}
}

// Apply proposes an example, accepts it and starts its run.
func (r *Rig) Apply(s *service.Service, stack, example string, inputs map[string]any) int64 {
	r.t.Helper()
	source, err := fs.ReadFile(examples.Files, example+".sail.yaml")
	if err != nil {
		r.t.Fatal(err)
	}
	return r.ApplySource(s, stack, string(source), inputs)
}

// ApplySource does the same with the text of a template.
func (r *Rig) ApplySource(s *service.Service, stack, source string, inputs map[string]any) int64 {
	r.t.Helper()
	return r.Carry(s, r.Propose(s, stack, source, inputs))
}

// Propose proposes the text of a template for a stack, with the patience of a test.
func (r *Rig) Propose(s *service.Service, stack, source string, inputs map[string]any) proposing.Proposal {
	r.t.Helper()
	p, err := s.Proposing.Propose(context.Background(), r.Admin, proposing.NewProposal{
		Stack:   stack,
		File:    "template.sail.yaml",
		Source:  Patient(source),
		Account: r.cloud.Accounts[0].Name,
		Region:  "north-fell",
		Inputs:  inputs,
	})
	if err != nil {
		r.t.Fatal(Explain(err))
	}
	return p
}

// Explain tells an error with the findings and diagnostics of it.
func Explain(err error) string {
	var e *refusal.Error
	if errors.As(err, &e) {
		return fmt.Sprintf("%v: %v %v", err, e.Findings, e.Diagnostics)
	}
	return err.Error()
}

// Carry accepts a proposal, with every consent that it asks for, and starts its run.
func (r *Rig) Carry(s *service.Service, p proposing.Proposal) int64 {
	r.t.Helper()
	ctx := context.Background()
	if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, All(p), ""); err != nil {
		r.t.Fatal(err)
	}
	run, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
	if err != nil {
		r.t.Fatal(Explain(err))
	}
	return run.ID
}

// All are the consents that a proposal asks for.
func All(p proposing.Proposal) (names []string) {
	for _, c := range p.Consents {
		names = append(names, c.Name)
	}
	return names
}

// Await waits for the end of a run, or until it is parked.
func (r *Rig) Await(s *service.Service, id int64) stacks.Run {
	r.t.Helper()
	var run stacks.Run
	await.Until(r.t, fmt.Sprintf("run %d ends", id), func() bool {
		list, err := s.Stacks.Runs(context.Background(), "", id+1, 1) // a row, without the document behind it
		if err != nil || len(list) == 0 {
			r.t.Fatal(err)
		}
		run = list[0]
		return run.EndedAt != nil || run.State == state.Parked
	})
	return run
}

// Until waits for words among the events of a run: it is woken by them, and catches up when a
// notice of them was lost.
func (r *Rig) Until(s *service.Service, id int64, words string) {
	r.t.Helper()
	ctx, end := context.WithTimeout(context.Background(), 90*time.Second)
	defer end()
	woken := make(chan struct{}, 1)
	go s.Stacks.Wake(ctx, func(string) {
		select {
		case woken <- struct{}{}:
		default:
		}
	})
	for !strings.Contains(r.Events(s, id), words) {
		select {
		case <-woken:
		case <-time.After(500 * time.Millisecond):
		}
		if ctx.Err() != nil {
			r.t.Fatalf("%q never happens:\n%s", words, r.Events(s, id))
		}
	}
}

// Events gives the texts of a run's events, after checking that their numbers
// have no gaps.
func (r *Rig) Events(s *service.Service, id int64) string {
	r.t.Helper()
	list, err := s.Stacks.Events(context.Background(), id, 0, 1000)
	if err != nil {
		r.t.Fatal(err)
	}
	var b strings.Builder
	for i, e := range list {
		if e.Number != int64(i+1) {
			r.t.Fatalf("event %d has number %d", i+1, e.Number)
		}
		b.WriteString(e.Text + "\n")
	}
	return b.String()
}

// logTo is where the services of the tests log: nowhere, unless UNDERSAIL_TEST_LOG
// is set.
func logTo() *slog.Logger {
	if os.Getenv("UNDERSAIL_TEST_LOG") == "" {
		return slog.New(slog.DiscardHandler)
	}
	return slog.New(slog.NewTextHandler(os.Stderr, nil))
}
