package engine_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"undersail/internal/cloud"
	"undersail/internal/engine"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
	"undersail/sim"
	"undersail/sim/world"
)

// cut ends a replica at a chosen moment: from then on no query and no call of it
// gets through, as if its process had been killed. Moments are counted over the
// writes of runs and the calls to the cloud, before and after each.
type cut struct {
	at int // the moment to die at; 0 never

	mu      sync.Mutex
	moment  int
	dead    bool
	writing map[*pgx.Conn]bool
	died    chan struct{}
}

var errDead = errors.New("the replica is dead")

// pass counts a moment and reports whether the replica still lives.
func (c *cut) pass() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.dead {
		return false
	}
	c.moment++
	if c.moment == c.at {
		c.dead = true
		close(c.died)
	}
	return !c.dead
}

func (c *cut) alive() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return !c.dead
}

// RoundTrip lets a call through, or not, or hides its answer.
func (c *cut) RoundTrip(r *http.Request) (*http.Response, error) {
	if strings.HasPrefix(r.URL.Path, "/sign-in") {
		if !c.alive() {
			return nil, errDead
		}
		return http.DefaultTransport.RoundTrip(r)
	}
	if !c.pass() {
		return nil, errDead
	}
	res, err := http.DefaultTransport.RoundTrip(r)
	if !c.pass() {
		if err == nil {
			res.Body.Close()
		}
		return nil, errDead
	}
	return res, err
}

// TraceQueryStart gives a query of a dead replica a context that is over.
func (c *cut) TraceQueryStart(ctx context.Context, conn *pgx.Conn, data pgx.TraceQueryStartData) context.Context {
	live := c.alive()
	switch {
	case strings.HasPrefix(data.SQL, "UPDATE runs SET last_event"):
		c.mu.Lock()
		c.writing[conn] = true
		c.mu.Unlock()
	case data.SQL == "commit" && c.wrote(conn):
		live = c.pass()
	}
	if !live {
		over, cancel := context.WithCancel(ctx)
		cancel()
		return over
	}
	return ctx
}

// TraceQueryEnd counts the moment after the write of a run.
func (c *cut) TraceQueryEnd(_ context.Context, conn *pgx.Conn, data pgx.TraceQueryEndData) {
	if data.CommandTag.String() == "COMMIT" && c.wrote(conn) {
		c.mu.Lock()
		delete(c.writing, conn)
		c.mu.Unlock()
		c.pass()
	}
}

func (c *cut) wrote(conn *pgx.Conn) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.writing[conn]
}

const coast = `undersail: 1
about: {name: coast, version: 1.0.0, title: Coast}
inputs:
  range: {type: string, format: cidr}
  store: {type: string, format: amount, default: 20GiB}
  class: {type: string, default: solid}
  stores: {type: integer, default: 1}
  port: {type: integer, default: 80}
  owner: {type: string, default: ines}
calc:
  parts: '=carve(inputs.range, ["lan/26"])'
resources:
  net: {type: network, patience: 4h, want: {range: =inputs.range}}
  lan: {type: subnet, patience: 4h, want: {network: =net.id, range: =calc.parts.lan}}
  rules: {type: firewall, patience: 4h, want: {network: =net.id, tags: {owner: =inputs.owner}, rules: [{from: 127.0.0.0/8, port: =inputs.port}]}}
  data: {type: disk, patience: 4h, repeat: =inputs.stores, want: {size: =inputs.store, type: =inputs.class}}
`

const page = coast + `  site:
    type: instance
    patience: 4h
    want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, firewalls: [=rules.id], user_data: {packages: [nginx]}}
prove:
  - http: {url: '="http://" + site.public_address + "/"'}
    within: 1h
`

// matrix is one kind of run that is cut off at every moment of it.
type matrix struct {
	name     string
	template string
	first    map[string]any // inputs that the stack is made with; nil when the run makes it
	then     map[string]any // inputs that the run under test changes; nil retires
	undo     bool           // undoes the run that then made
	fickle   bool           // in a cloud where no creation is idempotent
	every    int            // of so many moments one is tried
	from     int            // the first is tried after so many
}

// TestKillMatrix cuts runs of every kind off at every write and every call, before
// and after it, lets another owner take over, and compares what the cloud has with
// what is recorded and what was wanted.
func TestKillMatrix(t *testing.T) {
	t.Parallel()
	of := 3 // so many moments one is tried; another of them in each kind of run
	if os.Getenv("UNDERSAIL_HARD") != "" {
		of = 1
	}
	for kind, m := range []matrix{
		{name: "create", template: coast, then: map[string]any{}, every: 1},
		{
			name:     "create in a cloud that makes everything anew",
			template: coast,
			then:     map[string]any{},
			fickle:   true,
			every:    1,
		},
		{
			name:     "alter",
			template: coast,
			first:    map[string]any{},
			then:     map[string]any{"store": "40GiB", "port": 443, "owner": "tam"},
			every:    1,
		},
		{
			name:     "rebuild",
			template: coast,
			first:    map[string]any{},
			then:     map[string]any{"class": "solid-plus"},
			every:    1,
		},
		{
			name:     "rebuild and keep",
			template: strings.Replace(coast, "data: {type: disk,", "data: {type: disk, at_retire: keep,", 1),
			first:    map[string]any{},
			then:     map[string]any{"class": "solid-plus"},
			every:    3,
		},
		{
			name:     "rebuild, the new one first",
			template: strings.Replace(coast, "data: {type: disk,", "data: {type: disk, rebuild: new_first,", 1),
			first:    map[string]any{},
			then:     map[string]any{"class": "solid-plus"},
			every:    3,
		},
		{
			name:     "remove",
			template: coast,
			first:    map[string]any{"stores": 3},
			then:     map[string]any{"stores": 1},
			every:    1,
		},
		{name: "prove, every other moment", template: page, then: map[string]any{}, every: 2},
		{name: "prove, the moments between", template: page, then: map[string]any{}, every: 2, from: 1},
		{
			name:     "undo",
			template: coast,
			first:    map[string]any{},
			then:     map[string]any{"stores": 2, "port": 443, "owner": "tam"},
			undo:     true,
			every:    1,
		},
		{name: "retire", template: coast, first: map[string]any{}, every: 1},
	} {
		t.Run(m.name, func(t *testing.T) {
			t.Parallel()
			r := servicetest.NewWith(t, sim.Config{
				Pace:   500,
				Rate:   100_000,
				Quotas: map[string]int64{"networks": 1000, "disk_gib": 1_000_000, "vcpus": 1000, "addresses": 240},
			})
			author, end := r.Still(engine.Config{CallRate: 100_000}, nil)
			t.Cleanup(end)
			moments, hits := m.run(t, r, author, 0, 0), 0
			from, every := m.from+m.every*(kind%of), m.every*of
			for at := 1 + from; at <= moments; at += every {
				if m.run(t, r, author, at, at) >= at {
					hits++
				}
				if t.Failed() {
					t.Fatalf("cut off at moment %d of %d", at, moments)
				}
			}
			t.Logf("%s: %d of %d moments were hit, 0 differences", m.name, hits, moments)
			if hits < (moments-from)/every*3/4 {
				t.Errorf("only %d of %d moments were hit", hits, moments)
			}
		})
	}
}

// run makes one stack of its own, cuts the run under test off at a moment, lets
// another owner finish it, and gives the number of moments that passed.
func (m matrix) run(t *testing.T, r *servicetest.Rig, author *service.Service, number, at int) int {
	t.Helper()
	ctx := context.Background()
	stack := fmt.Sprintf("coast-%d", number)
	inputs := map[string]any{"range": fmt.Sprintf("10.%d.%d.0/24", number/250, number%250)}
	with := func(more map[string]any) map[string]any {
		all := map[string]any{}
		for _, list := range []map[string]any{inputs, more} {
			for k, v := range list {
				all[k] = v
			}
		}
		return all
	}
	engineOf := func(s *service.Service) *engine.Engine {
		t.Helper()
		if !m.fickle {
			return s.Engine
		}
		return fickleEngine(t, s)
	}
	finish := func(id, number int64) {
		t.Helper()
		if err := engineOf(author).CarryOut(ctx, id, number); err != nil {
			t.Fatalf("run %d: %v", id, err)
		}
	}
	if m.first != nil {
		finish(r.ApplySource(author, stack, m.template, with(m.first)), 1)
	}
	var id int64
	switch {
	case m.undo:
		changed := r.ApplySource(author, stack, m.template, with(m.then))
		finish(changed, 1)
		p, err := author.Proposing.Undo(ctx, r.Admin, changed)
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		id = r.Carry(author, p)
	case m.then == nil:
		p, err := author.Proposing.Retire(ctx, r.Admin, stack)
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		id = r.Carry(author, p)
	default:
		id = r.ApplySource(author, stack, m.template, with(m.then))
	}
	c := &cut{at: at, writing: map[*pgx.Conn]bool{}, died: make(chan struct{})}
	victim, end := r.Still(engine.Config{Transport: c, CallRate: 100_000}, nil,
		func(p *store.Opening) { p.ConnConfig.Tracer = c })
	c.mu.Lock()
	c.moment = 0 // what it took to start does not count
	c.mu.Unlock()
	ended, carrier := make(chan error, 1), engineOf(victim)
	go func() { ended <- carrier.CarryOut(ctx, id, 1) }()
	select {
	case <-c.died:
		carrier.Abandon() // its goroutines; nothing of it gets through any more
	case err := <-ended:
		if err != nil && c.alive() {
			t.Fatalf("run %d was not cut off and ended with %v", id, err)
		}
	}
	go end()
	if run, err := author.Stacks.Run(ctx, id); err != nil || run.EndedAt == nil {
		next, err := author.Engine.Takeover(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		finish(id, next)
	}
	m.compare(t, r, author, stack, id, with)
	return c.moment
}

// compare holds the cloud, the records and the wish against each other.
func (m matrix) compare(t *testing.T, r *servicetest.Rig, s *service.Service, stack string, id int64,
	with func(map[string]any) map[string]any) {
	t.Helper()
	ctx := context.Background()
	run, err := s.Stacks.Run(ctx, id)
	if err != nil || run.State != "done" {
		t.Errorf("%s: run %d ended %s: %s (%v)\n%s", stack, id, run.State, run.Reason, err, r.Events(s, id))
		return
	}
	if strings.HasPrefix(m.name, "create") {
		made, ledger := map[string]int{}, r.Ledger()
		for _, x := range append(ledger.Alive, ledger.Gone...) {
			if x.Tags["undersail-stack"] == stack {
				made[x.Tags["undersail-resource"]]++
			}
		}
		for name, n := range made {
			if n != 1 {
				t.Errorf("%s: %s was made %d times", stack, name, n)
			}
		}
	}
	if m.fickle {
		if st, err := s.Stacks.Show(ctx, stack); err != nil || st.Total != 4 || st.Healthy != 4 {
			t.Errorf("%s: recorded are %d, healthy %d (%v)", stack, st.Total, st.Healthy, err)
		}
		return // the service asks the cloud in its own way
	}
	for _, difference := range r.Differences(s, stack, m.then == nil) {
		t.Error(difference)
	}
	if m.then == nil {
		return
	}
	wanted := m.then
	if m.undo {
		wanted = m.first
	}
	p := r.Propose(s, stack, m.template, with(wanted))
	if strings.Contains(p.Summary, "create") || strings.Contains(p.Summary, "alter") ||
		strings.Contains(p.Summary, "remove") || strings.Contains(p.Summary, "rebuild") {
		t.Errorf("%s: what was wanted is not what is there: %s %+v", stack, p.Summary, p.Changes)
	}
}

// fickle is a cloud where every creating call makes another thing: it names
// resources by itself and knows ours by a tag only.
type fickle struct{ cloud.Adapter }

var things atomic.Int64

const thing, markTag = "thing", "mark"

// inner is the resource that a reference means in the cloud beneath, or "".
func (f fickle) inner(ref cloud.Ref) cloud.Ref {
	out := cloud.Ref{Region: ref.Region, Type: ref.Type}
	if p := ref.Part(thing, ref.Token); p != nil {
		out.Token = p.ID
	}
	return out
}

func (f fickle) outer(l cloud.Live) cloud.Live {
	id := l.Token
	l.Token = l.Tags[markTag]
	l.Parts = []cloud.Part{{Kind: thing, Mark: l.Token, ID: id, Seen: true}}
	return l
}

func (f fickle) Step(ctx context.Context, t cloud.Task, intend func(cloud.Part) error) (cloud.Progress, error) {
	token, ref := t.Ref.Token, t.Ref
	if t.Action == cloud.Create {
		if p := ref.Part(thing, token); p != nil && p.Seen {
			live, _, err := f.Look(ctx, ref)
			return cloud.Progress{Live: live}, err
		}
		if err := intend(cloud.Part{Kind: thing, Mark: token}); err != nil {
			return cloud.Progress{}, err
		}
		t.Ref = cloud.Ref{Region: ref.Region, Type: ref.Type, Token: fmt.Sprintf("us-thing-%d", things.Add(1))}
		t.Tags = maps.Clone(t.Tags)
		t.Tags[markTag] = token
		p, err := f.Adapter.Step(ctx, t, func(cloud.Part) error { return nil })
		p.Live = f.outer(p.Live)
		return p, err
	}
	t.Ref = f.inner(ref)
	p, err := f.Adapter.Step(ctx, t, intend)
	p.Live.Ref = ref
	return p, err
}

func (f fickle) Look(ctx context.Context, ref cloud.Ref) (cloud.Live, cloud.Presence, error) {
	if inner := f.inner(ref); inner.Token != "" {
		live, there, err := f.Adapter.Look(ctx, inner)
		return f.outer(live), there, err
	}
	for live, err := range f.Adapter.Search(ctx, cloud.Query{
		Region: ref.Region,
		Type:   ref.Type,
		Tags:   map[string]string{markTag: ref.Token},
	}) {
		return f.outer(live), cloud.Present, err
	}
	return cloud.Live{Ref: ref}, cloud.Absent, nil
}

func (f fickle) Search(ctx context.Context, q cloud.Query) iter.Seq2[cloud.Live, error] {
	return func(yield func(cloud.Live, error) bool) {
		for live, err := range f.Adapter.Search(ctx, q) {
			if !yield(f.outer(live), err) {
				return
			}
		}
	}
}

// fickleEngine is the engine of a service whose clouds are all fickle.
func fickleEngine(t *testing.T, s *service.Service) *engine.Engine {
	t.Helper()
	c := s.Engine.Config
	bare := c.Adapter
	c.Adapter = func(ctx context.Context, account string) (cloud.Adapter, store.Account, error) {
		a, row, err := bare(ctx, account)
		return fickle{a}, row, err
	}
	e, err := engine.New(c)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// TestAPassingErrorOfALookDoesNotMakeTheOutcomeKnown: the answer to a creation is
// lost, and looking for it fails for a while; it must not be made again.
func TestAPassingErrorOfALookDoesNotMakeTheOutcomeKnown(t *testing.T) {
	t.Parallel()
	r := servicetest.NewWith(t, sim.Config{Pace: 600, Rate: 100_000})
	author, end := r.Still(engine.Config{CallRate: 100_000}, nil)
	t.Cleanup(end)
	e := fickleEngine(t, author)
	id := r.ApplySource(author, "coast", coast, map[string]any{"range": "10.3.0.0/24"})
	r.Fault(world.Fault{Kind: "lose-answer", Method: http.MethodPut, Count: 3})
	r.Fault(world.Fault{Kind: "server-error", Method: http.MethodGet, Count: 6})
	if err := e.CarryOut(context.Background(), id, 1); err != nil {
		t.Fatal(err)
	}
	made := map[string]int{}
	for _, x := range r.Ledger().Alive {
		made[x.Tags["undersail-resource"]]++
	}
	for name, n := range made {
		if n != 1 {
			t.Errorf("%s was made %d times", name, n)
		}
	}
	if run, _ := author.Stacks.Run(context.Background(), id); run.State != "done" || len(made) != 4 {
		t.Errorf("%s: %s; made %v", run.State, run.Reason, made)
	}
}
