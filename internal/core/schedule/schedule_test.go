package schedule

import (
	"container/heap"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"
)

// world is a simulated cloud: it carries out actions and answers later, badly.
type world struct {
	t        *testing.T
	run      *Run
	steps    []Step
	rand     *rand.Rand
	now      time.Time
	events   eventHeap
	ready    []time.Time // when each resource is there
	called   []int       // times a call was carried out
	flying   int
	maxFlown int
	result   Result
	broken   map[int]bool
	trouble  float64
	limit    int
}

type timed struct {
	at time.Time
	e  Event
}
type eventHeap []timed

func (h eventHeap) Len() int           { return len(h) }
func (h eventHeap) Less(i, j int) bool { return h[i].at.Before(h[j].at) }
func (h eventHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *eventHeap) Push(x any)        { *h = append(*h, x.(timed)) }
func (h *eventHeap) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

func (w *world) later(d time.Duration, e Event) { heap.Push(&w.events, timed{w.now.Add(d), e}) }

func (w *world) handle(e Event) {
	for _, a := range w.run.Handle(e, w.now) {
		w.act(a)
	}
}

func (w *world) act(a Action) {
	switch a.Do {
	case Finish:
		w.result = a.Result
	case Call:
		w.mayStart(a.Step)
		w.flying++
		w.maxFlown = max(w.maxFlown, w.flying)
		took := time.Duration(20+w.rand.IntN(200)) * time.Millisecond
		switch x := w.rand.Float64(); {
		case w.broken[a.Step]:
			w.later(took, Event{Step: a.Step, Outcome: Broken, Reason: "quota"})
		case x < w.trouble/2:
			w.later(took, Event{Step: a.Step, Outcome: Retry, Reason: "503"})
		case x < w.trouble:
			w.later(took, Event{Step: a.Step, Outcome: Throttled, At: w.now.Add(took + time.Second)})
		default:
			w.called[a.Step]++
			w.ready[a.Step] = w.now.Add(took +
				time.Duration(float64(w.steps[a.Step].Expect)*(0.9+0.2*w.rand.Float64())))
			w.later(took, Event{Step: a.Step, Outcome: Accepted})
		}
	case Look:
		e := Event{Step: a.Step, Outcome: NotYet}
		switch {
		case w.run.Status(a.Step).Phase == Settling:
			if e.Outcome = Proved; w.rand.Float64() < 0.3 {
				e.Outcome = NotYet
			}
		case !w.now.Before(w.ready[a.Step]):
			e.Outcome = Made
		}
		w.later(time.Duration(5+w.rand.IntN(20))*time.Millisecond, e)
	case Skip, Fail:
	}
}

// mayStart checks the promise that nothing starts before what it needs is healthy.
func (w *world) mayStart(step int) {
	for _, n := range w.steps[step].Needs {
		p := w.run.Status(n.Step).Phase
		if p != Healthy && !(n.Made && p == Settling) {
			w.t.Fatalf("%s starts while %s is %s", w.steps[step].Name, w.steps[n.Step].Name, p)
		}
	}
}

// drive runs to the end, or until the number of events when it is not 0.
func (w *world) drive(most int) {
	w.handle(Event{})
	for n := 0; w.result == "" && (most == 0 || n < most); n++ {
		wake := w.run.Wake()
		if w.events.Len() > 0 && (wake.IsZero() || !wake.Before(w.events[0].at)) {
			next := heap.Pop(&w.events).(timed)
			w.now = next.at
			if next.e.Outcome == Accepted || next.e.Outcome == Retry || next.e.Outcome == Throttled ||
				next.e.Outcome == Broken {
				w.flying--
			}
			w.handle(next.e)
			continue
		}
		if wake.IsZero() {
			w.t.Fatal("nothing is under way and nothing will happen, and the run is not over")
		}
		if wake.After(w.now) {
			w.now = wake
		}
		w.handle(Event{})
		if n > 200_000 {
			w.t.Fatal("the run does not end")
		}
	}
}

func randomSteps(r *rand.Rand) []Step {
	steps := make([]Step, 1+r.IntN(25))
	for i := range steps {
		steps[i] = Step{Name: fmt.Sprint("r", i), Expect: time.Duration(1+r.IntN(20)) * time.Second}
		for range r.IntN(4) {
			if i > 0 {
				steps[i].Needs = append(steps[i].Needs, Need{Step: r.IntN(i), Made: r.IntN(5) == 0})
			}
		}
	}
	return steps
}

func newWorld(t *testing.T, seed uint64, trouble float64) *world {
	r := rand.New(rand.NewPCG(seed, 7))
	steps := randomSteps(r)
	w := &world{
		t:       t,
		steps:   steps,
		rand:    r,
		now:     time.Unix(1_700_000_000, 0),
		ready:   make([]time.Time, len(steps)),
		called:  make([]int, len(steps)),
		broken:  map[int]bool{},
		trouble: trouble,
		limit:   1 + r.IntN(6),
	}
	w.run = New(steps, nil, Limits{InFlight: w.limit}, r.Float64)
	return w
}

func TestThousandsOfRunsKeepTheirPromises(t *testing.T) {
	t.Parallel()
	for seed := range uint64(3000) {
		w := newWorld(t, seed, 0.3)
		for i := range w.steps {
			w.broken[i] = w.rand.IntN(40) == 0
		}
		w.drive(0)
		if w.maxFlown > w.limit {
			t.Fatalf("seed %d: %d calls in flight, allowed are %d", seed, w.maxFlown, w.limit)
		}
		want := Done
		for i, s := range w.steps {
			st := w.run.Status(i)
			hurt := w.broken[i]
			for _, n := range s.Needs {
				if p := w.run.Status(n.Step).Phase; p == Failed || p == Skipped {
					hurt = true
				}
			}
			if hurt {
				want = Broke
			}
			if hurt == (st.Phase == Healthy) || !st.Phase.Over() {
				t.Fatalf("seed %d: %s ended %s", seed, s.Name, st.Phase)
			}
			if w.called[i] > 1 {
				t.Fatalf("seed %d: %s was called %d times", seed, s.Name, w.called[i])
			}
		}
		if w.result != want {
			t.Fatalf("seed %d: the run ended %s, want %s", seed, w.result, want)
		}
	}
}

func TestARunThatIsTakenOverGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	for seed := range uint64(800) {
		w := newWorld(t, seed, 0.2)
		w.drive(1 + w.rand.IntN(60))
		if w.result != "" {
			continue
		}
		// The owner dies: only what was recorded is left. A call in flight was
		// carried out or not; the next owner does not know.
		status := make([]Status, len(w.steps))
		for i := range w.steps {
			s := w.run.Status(i)
			status[i] = Status{Phase: s.Phase, Called: s.Called, Began: s.Began, MadeAt: s.MadeAt, Reason: s.Reason}
			if s.Phase == Working && !s.Called {
				w.called[i] = 0 // found by its token, or called again under it
			}
		}
		w.events, w.flying = nil, 0
		w.run = New(w.steps, status, Limits{InFlight: w.limit}, w.rand.Float64)
		w.drive(0)
		if w.result != Done {
			t.Fatalf("seed %d: ended %s", seed, w.result)
		}
		for i, n := range w.called {
			if n > 1 {
				t.Fatalf("seed %d: %s was called %d times", seed, w.steps[i].Name, n)
			}
		}
	}
}

func TestStopLetsCallsReturnAndStartsNothing(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		w := newWorld(t, seed, 0)
		w.drive(5)
		if w.result != "" {
			continue
		}
		before := 0
		for _, n := range w.called {
			before += n
		}
		w.handle(Event{Stop: true})
		for w.events.Len() > 0 && w.result == "" {
			next := heap.Pop(&w.events).(timed)
			w.now = next.at
			w.handle(next.e)
		}
		after := 0
		for _, n := range w.called {
			after += n
		}
		if after != before || w.result != Stopped && w.result != Done {
			t.Fatalf("seed %d: %d calls after the stop, result %q", seed, after-before, w.result)
		}
	}
}

func TestLongestPathGoesFirst(t *testing.T) {
	t.Parallel()
	steps := []Step{
		{Name: "short", Expect: time.Second},
		{Name: "long", Expect: time.Second},
		{Name: "after long", Expect: time.Minute, Needs: []Need{{Step: 1}}},
	}
	r := New(steps, nil, Limits{InFlight: 1}, nil)
	actions := r.Handle(Event{}, time.Unix(0, 0))
	if len(actions) != 1 || steps[actions[0].Step].Name != "long" {
		t.Errorf("first came %v, want the step on the longest path", actions)
	}
}

func TestPatienceEndsAStep(t *testing.T) {
	t.Parallel()
	now := time.Unix(0, 0)
	r := New([]Step{{Name: "slow", Expect: time.Second, Patience: 10 * time.Second}}, nil, Limits{}, nil)
	r.Handle(Event{}, now)
	r.Handle(Event{Outcome: Retry, Reason: "503"}, now)
	if r.Wake().IsZero() {
		t.Fatal("nobody would wake the run")
	}
	actions := r.Handle(Event{}, now.Add(11*time.Second))
	if len(actions) != 2 || actions[0].Do != Fail || actions[1].Result != Broke {
		t.Errorf("after its patience: %v", actions)
	}
}

func TestANoticeMovesTheNextLook(t *testing.T) {
	t.Parallel()
	now := time.Unix(0, 0)
	r := New([]Step{{Name: "slow", Expect: time.Hour}}, nil, Limits{}, nil)
	r.Handle(Event{}, now)
	if early := r.Handle(Event{Notice: true}, now); len(early) != 0 {
		t.Errorf("a notice before the call has returned gives %v", early)
	}
	r.Handle(Event{Outcome: Accepted}, now)
	if at := r.Wake(); at.Sub(now) < 50*time.Minute {
		t.Fatalf("the first look is due at %s", at.Sub(now))
	}
	if a := r.Handle(Event{Notice: true}, now.Add(time.Minute)); len(a) != 1 || a[0].Do != Look {
		t.Errorf("a notice gives %v", a)
	}
	if a := r.Handle(Event{Notice: true}, now.Add(time.Minute)); len(a) != 0 {
		t.Errorf("a notice while somebody looks gives %v", a)
	}
}

func TestWaitingForTheLimitCountsAgainstNoPatience(t *testing.T) {
	t.Parallel()
	now := time.Unix(0, 0)
	r := New([]Step{{Name: "slow", Expect: time.Second, Patience: 10 * time.Second}}, nil, Limits{}, nil)
	r.Handle(Event{}, now)
	now = now.Add(60 * time.Second)
	if a := r.Handle(Event{Outcome: Accepted, Waited: 59 * time.Second}, now); len(a) != 0 && a[0].Do == Fail {
		t.Fatalf("a minute of waiting for the limit gave %v", a)
	}
	if a := r.Handle(Event{}, now.Add(8*time.Second)); len(a) != 1 || a[0].Do != Look {
		t.Errorf("within its patience: %v", a)
	}
	r.Handle(Event{Outcome: NotYet}, now.Add(8*time.Second))
	if a := r.Handle(Event{}, now.Add(10*time.Second)); len(a) == 0 || a[0].Do != Fail {
		t.Errorf("after its patience: %v", a)
	}
}

func TestHaltedStepsParkTheRunAsTheyAre(t *testing.T) {
	t.Parallel()
	now := time.Unix(0, 0)
	r := New([]Step{{Name: "a", Expect: time.Second}, {Name: "b", Expect: time.Second}}, nil, Limits{InFlight: 2}, nil)
	if a := r.Handle(Event{}, now); len(a) != 2 {
		t.Fatal(a)
	}
	if a := r.Handle(Event{Step: 0, Outcome: Halted, Reason: "sign-in"}, now); len(a) != 0 {
		t.Errorf("with a call in flight: %v", a)
	}
	a := r.Handle(Event{Step: 1, Outcome: Accepted}, now)
	if len(a) != 1 || a[0].Result != Parked || r.Status(0).Phase != Working || r.Status(1).Called != true {
		t.Errorf("parked with %v; steps are %s and %s", a, r.Status(0).Phase, r.Status(1).Phase)
	}
}

// TestAskedStepsWaitAndTheOthersGoOn ends a run that asks a person only when nothing else
// can go on, and as failed when something did.
func TestAskedStepsWaitAndTheOthersGoOn(t *testing.T) {
	t.Parallel()
	now := time.Unix(0, 0)
	steps := []Step{
		{Name: "a", Expect: time.Second, Patience: time.Second},
		{Name: "b", Expect: time.Second},
		{Name: "c", Needs: []Need{{Step: 1}}},
		{Name: "d", Needs: []Need{{Step: 0}}},
	}
	for _, c := range []struct {
		last Outcome
		want Result
	}{{Proved, Asking}, {Broken, Broke}} {
		r := New(steps, nil, Limits{InFlight: 4}, nil)
		if a := r.Handle(Event{}, now); len(a) != 2 {
			t.Fatal(a)
		}
		if a := r.Handle(Event{Step: 0, Outcome: Asked, Reason: "serial"}, now); len(a) != 0 {
			t.Errorf("with a call in flight: %v", a)
		}
		r.Handle(Event{Step: 1, Outcome: Made}, now)
		late := now.Add(time.Hour) // who waits for an answer has no patience to lose
		if a := r.Handle(Event{Step: 1, Outcome: Proved}, late); len(a) != 1 || a[0].Do != Call || a[0].Step != 2 {
			t.Fatalf("what needs no answer does not go on: %v", a)
		}
		a := r.Handle(Event{Step: 2, Outcome: c.last}, late)
		if len(a) != 1 || a[0].Result != c.want || r.Status(0).Phase != Waiting || r.Status(3).Phase != Waiting {
			t.Errorf("after %s: %v; the step that asked is %s", c.last, a, r.Status(0).Phase)
		}
		// Whoever goes on later asks again.
		if r = New(steps, []Status{r.Status(0), r.Status(1), r.Status(2), r.Status(3)}, Limits{},
			nil); c.last == Proved {
			if a := r.Handle(Event{}, late); len(a) != 1 || a[0].Do != Call || a[0].Step != 0 {
				t.Errorf("resumed: %v", a)
			}
		}
	}
}
