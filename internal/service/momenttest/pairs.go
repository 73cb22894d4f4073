package momenttest

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"time"

	"undersail/internal/core/lang"
	"undersail/internal/engine"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
)

// Bench is a cloud, a database and a service on which pairs meet, one after the other.
type Bench struct {
	rig   *servicetest.Rig
	s     *service.Service
	store *store.Store
	next  int
}

// NewBench starts one.
func NewBench(t servicetest.T) *Bench {
	r := servicetest.Roomy(t, 6000)
	s, _ := r.Start(engine.Config{CallRate: 100_000, Transport: gatedCloud{&http.Transport{MaxIdleConnsPerHost: 64}}},
		nil, store.Watched(func(ctx context.Context, query store.Heard) context.Context {
			pass(ctx, query.SQL, query.Backend)
			return ctx
		}))
	st, err := store.Attach(context.Background(), r.DatabaseURL)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	_, _, err = s.Templates.Publish(context.Background(), r.Admin, lang.Bundle{
		File:   "quay.sail.yaml",
		Source: source(healthy, "a"),
	})
	if err != nil {
		t.Fatal(err)
	}
	return &Bench{rig: r, s: s, store: st}
}

// Pair is two deeds of which the first is held while the second is done.
type Pair struct{ First, Second string }

// Pairs lists all of them, each in both orders.
func Pairs() (out []Pair) {
	for _, a := range deeds {
		for _, b := range deeds {
			out = append(out, Pair{a.name, b.name})
		}
	}
	return out
}

// Meeting is one interleaving: the first is held at a point while the second is done.
type Meeting struct {
	Pair
	Point   int
	At      string // what the first was about to do
	Blocked bool   // the second waited for the first
	// Ended says that the first was over before the point: it has only so many Points.
	Ended  bool
	Points int
	// Told is what each was told; empty is that it was done.
	Told  [2]string
	Wrong []string
}

func (m Meeting) String() string {
	return fmt.Sprintf("%s, held at point %d (%s), and %s; told %q: %v", m.First, m.Point, m.At, m.Second, m.Told,
		m.Wrong)
}

func named(name string) deed {
	for _, d := range append(deeds, losing) {
		if d.name == name {
			return d
		}
	}
	panic("there is no deed " + name)
}

// Meet lets a pair meet at a point of the first, from 1 on.
func (b *Bench) Meet(p Pair, point int) Meeting { return b.meet(p, newGate(point, "")) }

// MeetAt lets a pair meet where the first makes a query, or a call to the cloud, that begins so.
func (b *Bench) MeetAt(p Pair, query string) Meeting { return b.meet(p, newGate(0, query)) }

func (b *Bench) meet(p Pair, g *gate) (m Meeting) {
	first, second := named(p.First), named(p.Second)
	b.next++
	w := &world{rig: b.rig, s: b.s, store: b.store, n: b.next, state: meets(first, second)}
	w.build(first, second)
	m = Meeting{Pair: p, Point: g.stop}
	var errs [2]error
	over := make(chan struct{})
	go func() {
		defer close(over)
		errs[0] = first.do(g.of(context.Background()), w)
	}()
	select {
	case <-over:
		m.Ended, m.Points = true, g.points
	case <-g.reached:
		m.At, _, _ = strings.Cut(g.at, "\n")
		done := make(chan struct{})
		go func() {
			defer close(done)
			errs[1] = second.do(context.Background(), w)
		}()
		m.Blocked = b.untilBlocked(g.by(), done)
		close(g.goOn)
		var both sync.WaitGroup
		both.Go(func() { <-over })
		both.Go(func() { <-done })
		both.Wait()
	}
	w.settle()
	for i, err := range errs {
		if err != nil {
			m.Told[i] = err.Error()
		}
	}
	m.Wrong = w.wrong(errs[0], errs[1])
	w.clear()
	return m
}

// byWhoIsHeld says that somebody waits for a lock of a session of the deed that is held, which has
// done nothing for a while: by then it may be another's, and what engines have of each other
// for a moment is none.
const byWhoIsHeld = `SELECT EXISTS (SELECT FROM pg_stat_activity waits,
		unnest(pg_blocking_pids(waits.pid)) AS by JOIN pg_stat_activity held ON held.pid = by
	WHERE waits.datname = current_database() AND waits.wait_event_type = 'Lock'
		AND held.pid = ANY($1) AND held.state LIKE 'idle%'
		AND held.state_change < clock_timestamp() - interval '300 milliseconds')`

// untilBlocked waits until something is done, or waits for a lock of the deed that is held.
func (b *Bench) untilBlocked(by []int32, done chan struct{}) bool {
	for {
		select {
		case <-done:
			return false
		case <-time.After(5 * time.Millisecond):
		}
		var blocked bool
		if err := b.store.Pool.QueryRow(context.Background(), byWhoIsHeld, by).Scan(&blocked); err == nil && blocked {
			return true
		}
	}
}

// Count is how often the meetings of one first deed were gone through.
type Count struct{ Meetings, Blocked, Refused, Wrong int }

// worn is how many meetings a bench takes before the next one is another: each leaves stacks and
// runs behind, and looks at all of them grow slow.
const worn = 120

// turn is a bench that is renewed when it is worn.
type turn struct {
	bench *Bench
	end   func()
}

func (t *turn) next() *Bench {
	if t.bench == nil || t.bench.next >= worn {
		t.over()
		h := &servicetest.Harness{}
		t.bench, t.end = NewBench(h), h.End
	}
	return t.bench
}

func (t *turn) over() {
	if t.end != nil {
		t.end()
	}
}

// Explore lets pairs meet, several at a time, each on a bench of its own: all of them at every
// point, or, where most is not 0, so many by a seed. Tell hears of every meeting. It gives the
// counts by the first deed.
func Explore(at int, pairs []Pair, seed uint64, most int, tell func(Meeting)) map[string]Count {
	counts := map[string]Count{}
	var mu sync.Mutex
	note := func(m Meeting) {
		if m.Ended && len(m.Wrong) == 0 {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		c := counts[m.First]
		c.Meetings++
		if m.Blocked {
			c.Blocked++
		}
		if m.Told[0] != "" || m.Told[1] != "" {
			c.Refused++
		}
		if len(m.Wrong) > 0 {
			c.Wrong++
		}
		counts[m.First] = c
		tell(m)
	}
	var workers sync.WaitGroup
	if most > 0 {
		for i := range at {
			workers.Go(func() { sample(pairs, rand.New(rand.NewPCG(seed, uint64(i))), most/at, note) })
		}
		workers.Wait()
		return counts
	}
	next := make(chan Pair)
	for range at {
		workers.Go(func() {
			var on turn
			defer on.over()
			for p := range next {
				for point := 1; ; point++ {
					m := on.next().Meet(p, point)
					note(m)
					if m.Ended {
						break
					}
				}
			}
		})
	}
	for _, p := range pairs {
		next <- p
	}
	close(next)
	workers.Wait()
	return counts
}

// sample lets pairs meet at random points.
func sample(pairs []Pair, random *rand.Rand, most int, note func(Meeting)) {
	var on turn
	defer on.over()
	points := map[string]int{}
	for n := 0; n < most; {
		p := pairs[random.IntN(len(pairs))]
		known := points[p.First]
		if known == 0 {
			known = 40
		}
		m := on.next().Meet(p, 1+random.IntN(known))
		note(m)
		if m.Ended {
			points[p.First] = max(1, m.Points)
			continue
		}
		n++
	}
}

var numbers = regexp.MustCompile(`(-|run |proposal )[0-9]+`)

// Plain writes what somebody was told without the numbers of stacks, runs and proposals.
func Plain(told string) string {
	return numbers.ReplaceAllStringFunc(told, func(text string) string {
		switch text[0] {
		case 'r':
			return "run R"
		case 'p':
			return "proposal P"
		}
		return "-N"
	})
}
