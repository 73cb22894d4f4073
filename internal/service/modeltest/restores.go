package modeltest

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
	"undersail/internal/store"
	"undersail/sim/world"
)

// Restore is a stack that is changed at random while a backup is taken, changed on, and then
// gone on with from that backup.
type Restore struct {
	*Sequence
	// Middle says that the backup was taken in the middle of a run, Told how much was told to
	// be otherwise than the records say, Found how much was listed as recorded nowhere.
	Middle      bool
	Told, Found int
	// Stepwise says that its template could only be applied in two steps, which was told.
	Stepwise bool
}

// write does something once, just before one of the writes of engines.
type write struct {
	mu   sync.Mutex
	left int
	do   func()
}

// in lets it be done before the nth write from now on; 0 is never.
func (w *write) in(n int, do func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.left, w.do = n, do
}

// hear counts the writes.
func (w *write) hear(ctx context.Context, query store.Heard) context.Context {
	if !strings.HasPrefix(query.SQL, "UPDATE runs SET last_event") {
		return ctx
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.left--; w.left == 0 {
		w.do()
	}
	return ctx
}

// Restored takes a stack through such a life, by a seed, and gives what came apart: something
// removed unasked, made twice, or told by nobody.
func Restored(t servicetest.T, seed uint64) (x *Restore, wrong []string) {
	random := rand.New(rand.NewPCG(seed, 24))
	r := servicetest.Roomy(t, 2400)
	deeds, err := engine.OpenDeeds(filepath.Join(t.TempDir(), "deeds.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { deeds.Close() })
	config := engine.Config{CallRate: 100_000, Deeds: deeds}
	at := &write{}
	s, quit := r.Start(config, nil, store.Watched(at.hear))
	x = &Restore{Sequence: NewSequence(r, s, seed, int(seed%200))}
	x.Faulty, x.ways = false, nil
	q := x.Sequence
	q.now.first()
	if _, err := q.apply(); err != nil {
		return x, []string{err.Error()}
	}
	// Two to four changes, with the backup at some moment of the first.
	var dump []byte
	for n := range 2 + random.IntN(3) {
		before := q.now.clone()
		for range 1 + random.IntN(3) {
			if what := q.now.edit(); what != "" {
				q.say("%d: %s", n, what)
			}
		}
		if n == 0 {
			at.in(1+random.IntN(60), func() { dump = r.Backup() })
		}
		refused, err := q.apply()
		if at.in(0, nil); dump == nil { // the change had fewer writes
			dump = r.Backup()
		}
		if err != nil {
			return x, []string{err.Error()}
		}
		if refused {
			q.now = before
			q.now.random = q.random
		}
		for _, d := range q.now.list {
			d.was = ""
		}
	}
	quit()
	r.Restore(dump)
	s, end := r.Still(config, nil)
	st, err := store.Attach(context.Background(), r.DatabaseURL)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	x.service, x.allows = s, []string{"in-use"} // by what was found
	return x, x.goOn(t, s, st, deeds, end)
}

// goOn puts the service in charge of the restored database, and lives on.
func (x *Restore) goOn(t servicetest.T, s *service.Service, st *store.Store, deeds *engine.Deeds,
	end func()) (wrong []string) {
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(func() {
		stopping, done := context.WithTimeout(context.Background(), 20*time.Second)
		defer done()
		s.Engine.Stop(stopping)
		cancel()
		end()
	})
	differ := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	err := st.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM runs WHERE ended_at IS NULL)").Scan(&x.Middle)
	if err != nil {
		t.Fatal(err)
	}
	alive, _ := x.mine()
	x.say("restored; in the middle of a run: %t; %d alive", x.Middle, len(alive))
	done, err := deeds.All()
	if err == nil {
		err = s.Stacks.BeQuiet(ctx, stacks.Quiet{Why: "restored"})
	}
	if err != nil {
		t.Fatal(err)
	}
	s.Stacks.LookAtAll(ctx, done)
	found := s.Stacks.Quiet(ctx)
	x.Told = len(found.Differs)
	for _, d := range found.Differs {
		x.say("   told: %s %s %s: %s, by %s", d.How, d.Resource, d.ID, d.What, d.By)
		if d.How == "unrecorded" {
			x.Found++
		}
	}
	told := x.known(ctx, t, st)
	for _, l := range alive {
		if !told[l.Name] && !slices.ContainsFunc(found.Differs, func(d stacks.Differs) bool { return d.ID == l.ID }) {
			differ("%s (%s) is there, and nobody is told of it", l.Tags["undersail-resource"], l.Name)
		}
	}
	if len(wrong) > 0 {
		return wrong
	}
	s.Stacks.TakeCharge(ctx)
	if err = s.Engine.Start(ctx); err != nil {
		t.Fatal(err)
	}
	x.settle(ctx, t, st)
	now, _ := x.mine()
	for _, l := range alive {
		there := slices.ContainsFunc(now, func(n world.LedgerResource) bool { return n.Name == l.Name })
		if !there && !x.agreedToRemove(ctx, t, st, l.Name) {
			differ("%s (%s) was removed, and nobody agreed to that", l.Tags["undersail-resource"], l.Name)
		}
	}
	wrong = append(wrong, x.once(ctx, t, st, "in charge")...)
	if len(wrong) > 0 {
		return wrong
	}
	for _, when := range []string{"proposed as it was", "changed"} {
		before := x.now.clone()
		if when == "changed" {
			x.say("%s", x.now.edit())
		}
		refused, err := x.apply()
		if refused && err == nil && when != "changed" { // by what was found: that goes first
			if err := x.discardFound(ctx); err != nil {
				return append(wrong, "removing what was found: "+servicetest.Explain(err))
			}
			refused, err = x.apply()
		}
		if refused && err == nil && x.noOrder != "" {
			refused, err = x.inTwoSteps()
		}
		if refused {
			x.now = before
			x.now.random = x.random
		}
		if err != nil {
			return append(wrong, when+": "+err.Error())
		}
		x.say("   %s: refused %t", when, refused)
		wrong = append(wrong, x.once(ctx, t, st, when)...)
	}
	if len(wrong) > 0 {
		return wrong
	}
	if err := x.discardFound(ctx); err != nil {
		return []string{"removing what was found: " + servicetest.Explain(err)}
	}
	return x.retire()
}

// inTwoSteps does what a refusal without an order asks for: first without what there is no order
// for, then with it. A template that the records do not know any more may have said `was`.
func (x *Restore) inTwoSteps() (refused bool, err error) {
	whole := x.now.clone()
	for range 4 {
		name, _, _ := strings.Cut(x.noOrder, "[")
		if name == "" || x.now.find(name) == nil {
			break
		}
		x.say("   in two steps: without %s first", name)
		x.now.drop(name)
		if refused, err = x.apply(); err != nil {
			return refused, err
		}
	}
	x.Stepwise = true
	x.now = whole
	x.now.random = x.random
	return x.apply()
}

// discardFound removes what was found and belongs to nothing, what uses others first.
func (x *Restore) discardFound(ctx context.Context) (last error) {
	for range 12 {
		list, err := x.service.Proposing.Kept(ctx)
		if err != nil {
			return err
		}
		left := 0
		for _, k := range list {
			if k.FoundAt == nil {
				continue
			}
			left++
			p, err := x.service.Proposing.Discard(ctx, x.rig.Admin, k.ID)
			if err == nil {
				_, err = x.carry(p)
			}
			if err != nil {
				last = err
			}
		}
		if left == 0 {
			return nil
		}
	}
	return last
}

// known are the tokens of what is recorded and of what is listed as kept or found.
func (x *Restore) known(ctx context.Context, t servicetest.T, st *store.Store) map[string]bool {
	rows, err := st.Pool.Query(ctx,
		"SELECT token FROM resources UNION ALL SELECT token FROM kept UNION ALL SELECT token FROM steps WHERE "+
			"intent_at IS NOT NULL AND action <> 'remove'")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	out := map[string]bool{}
	for rows.Next() {
		var token string
		if err := rows.Scan(&token); err != nil {
			t.Fatal(err)
		}
		out[token] = true
	}
	return out
}

func (x *Restore) agreedToRemove(ctx context.Context, t servicetest.T, st *store.Store, token string) (agreed bool) {
	err := st.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM steps WHERE token = $1 AND action = 'remove')",
		token).Scan(&agreed)
	if err != nil {
		t.Fatal(err)
	}
	return agreed
}

// settle waits until no run is under way.
func (x *Restore) settle(ctx context.Context, t servicetest.T, st *store.Store) {
	for deadline := time.Now().Add(4 * time.Minute); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		var busy bool
		err := st.Pool.QueryRow(ctx,
			"SELECT EXISTS (SELECT FROM runs WHERE state IN ('queued', 'underway', 'stopping', 'undoing'))").Scan(&busy)
		if err != nil {
			t.Fatal(err)
		}
		if !busy {
			return
		}
	}
	t.Fatal("a run does not end")
}

// once lists what is there twice without being told, and what is recorded nowhere.
func (x *Restore) once(ctx context.Context, t servicetest.T, st *store.Store, when string) (wrong []string) {
	alive, _ := x.mine()
	kept, err := x.service.Proposing.Kept(ctx)
	if err != nil {
		t.Fatal(err)
	}
	known, names := x.known(ctx, t, st), map[string]string{}
	for _, l := range alive {
		name := l.Tags["undersail-resource"]
		listed := slices.ContainsFunc(kept, func(k proposing.Kept) bool { return k.ID == l.ID })
		switch {
		case !known[l.Name]:
			wrong = append(wrong, fmt.Sprintf("%s: %s (%s) is recorded nowhere", when, name, l.Name))
		case listed:
		case names[name] != "":
			wrong = append(wrong, fmt.Sprintf("%s: %s is there twice: %s and %s", when, name, names[name], l.Name))
		default:
			names[name] = l.Name
		}
	}
	return wrong
}
