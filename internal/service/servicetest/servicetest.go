// Package servicetest gives tests a simulated cloud, a database of their own and
// as many services with engines on it as they start, all in one process.
package servicetest

import (
	"bytes"
	"context"
	"encoding/json"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undersail/examples"
	"undersail/internal/engine"
	"undersail/internal/postgres/postgrestest"
	"undersail/internal/secret"
	"undersail/internal/service"
	"undersail/internal/store"
	"undersail/sim"
	"undersail/sim/world"
)

// Main runs the tests of a package with a database server.
func Main(m *testing.M) {
	postgrestest.Main(m, func(url string) error {
		s, err := store.Open(context.Background(), url)
		if err == nil {
			s.Close()
		}
		return err
	})
}

// Rig is a cloud, a database, and as many engines on it as a test starts.
type Rig struct {
	t     *testing.T
	cloud *sim.Running
	url   string
	box   *secret.Box
	Admin service.User
}

// New starts a cloud with the account saltmere-lab; pace is in cloud seconds to a
// real one.
func New(t *testing.T, pace float64) *Rig {
	t.Helper()
	dir := t.TempDir()
	cloud, err := sim.Start(sim.Config{Dir: dir, Accounts: []string{"saltmere-lab"}, Pace: pace, Seed: 3})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cloud.Close() })
	box, err := secret.OpenBox(filepath.Join(dir, "key"))
	if err != nil {
		t.Fatal(err)
	}
	return &Rig{t: t, cloud: cloud, url: postgrestest.Database(t), box: box, Admin: service.User{Name: "ines", Role: "admin"}}
}

// Replica starts a service with an engine; quit ends it, orderly or not.
func (r *Rig) Replica(claim time.Duration) (s *service.Service, quit func()) {
	r.t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	st, err := store.Open(ctx, r.url)
	if err != nil {
		r.t.Fatal(err)
	}
	s, err = service.New(st, r.box, logTo(), engine.Config{ClaimLife: claim})
	if err != nil {
		r.t.Fatal(err)
	}
	if err := s.Engine().Start(ctx); err != nil {
		r.t.Fatal(err)
	}
	a := r.cloud.Accounts[0]
	if _, err := s.AddAccount(ctx, r.Admin, service.NewAccount{Name: a.Name, Cloud: "larch", Endpoint: r.cloud.Place.Larch, ClientID: a.ClientID, ClientSecret: a.ClientSecret}); err != nil {
		r.t.Fatal(err)
	}
	done := false
	quit = func() {
		if !done {
			done = true
			stopping, end := context.WithTimeout(context.Background(), 20*time.Second)
			defer end()
			s.Engine().Stop(stopping)
			cancel()
			st.Close()
		}
	}
	r.t.Cleanup(quit)
	return s, quit
}

// Fault plans a fault of the cloud.
func (r *Rig) Fault(f world.Fault) {
	r.t.Helper()
	raw, _ := json.Marshal(f)
	res, err := http.Post(r.cloud.Place.Admin+"/faults", "application/json", bytes.NewReader(raw))
	if err != nil || res.StatusCode != http.StatusCreated {
		r.t.Fatal(err, res)
	}
	res.Body.Close()
}

// Ledger tells what is true in the cloud.
func (r *Rig) Ledger() world.Ledger {
	r.t.Helper()
	res, err := http.Get(r.cloud.Place.Admin + "/ledger")
	if err != nil {
		r.t.Fatal(err)
	}
	defer res.Body.Close()
	var l world.Ledger
	if err := json.NewDecoder(res.Body).Decode(&l); err != nil {
		r.t.Fatal(err)
	}
	return l
}

// Apply proposes an example, accepts it and starts its run.
func (r *Rig) Apply(s *service.Service, stack, example string, inputs map[string]any) int64 {
	r.t.Helper()
	ctx := context.Background()
	source, err := fs.ReadFile(examples.Files, example+".sail.yaml")
	if err != nil {
		r.t.Fatal(err)
	}
	p, err := s.Propose(ctx, r.Admin, service.NewProposal{Stack: stack, File: example, Source: string(source), Account: "saltmere-lab", Region: "north-fell", Inputs: inputs})
	if err != nil {
		r.t.Fatal(err)
	}
	if _, err := s.Accept(ctx, r.Admin, p.ID); err != nil {
		r.t.Fatal(err)
	}
	run, err := s.Apply(ctx, r.Admin, p.ID, "")
	if err != nil {
		r.t.Fatal(err)
	}
	return run.ID
}

// Await waits for the end of a run.
func (r *Rig) Await(s *service.Service, id int64) service.Run {
	r.t.Helper()
	for deadline := time.Now().Add(60 * time.Second); time.Now().Before(deadline); time.Sleep(25 * time.Millisecond) {
		run, err := s.Run(context.Background(), id)
		if err != nil {
			r.t.Fatal(err)
		}
		if run.EndedAt != nil {
			return run
		}
	}
	r.t.Fatalf("run %d does not end", id)
	return service.Run{}
}

// Events gives the texts of a run's events, after checking that their numbers
// have no gaps.
func (r *Rig) Events(s *service.Service, id int64) string {
	r.t.Helper()
	list, err := s.Events(context.Background(), id, 0, 1000)
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
