// Package schedule is the pure scheduler of runs: what happened and what time
// it is go in, what to do next comes out. It calls nothing, reads no clock and
// draws no random numbers, so order, limits, retries and takeover are tested by
// simulating runs.
//
// A [Run] is driven by one goroutine: Handle an event, carry out the actions,
// report what came of them as further events, and call Handle with Tick when
// the time of Wake has come.
package schedule

import (
	"cmp"
	"slices"
	"time"

	"undersail/internal/core/graph"
)

// Phase is how far a step is.
type Phase string

// The phases of a step.
const (
	Waiting  Phase = "waiting"
	Working  Phase = "working"
	Settling Phase = "settling"
	Healthy  Phase = "healthy"
	Failed   Phase = "failed"
	Skipped  Phase = "skipped"
)

// Over reports whether the step will not move any more.
func (p Phase) Over() bool { return p == Healthy || p == Failed || p == Skipped }

// Need is a step that must come first. Made says that existence is enough.
type Need struct {
	Step int
	Made bool
}

// Step is one change to carry out.
type Step struct {
	Name  string
	Needs []Need
	// Expect is how long it usually takes from the first call until healthy.
	Expect time.Duration
	// Patience bounds the whole step, retries and settling together. Zero
	// means no bound.
	Patience time.Duration
}

// Limits bound what goes on at once.
type Limits struct {
	InFlight int           // calls at a time; 1 at least
	MinLook  time.Duration // shortest time between two looks at one step
	MaxLook  time.Duration // longest
}

// Outcome is what an action came to.
type Outcome string

// The outcomes of calls and looks.
const (
	Accepted  Outcome = "accepted"  // the call was taken; look for when it is made
	NotYet    Outcome = "not yet"   // looked, and it is still on its way
	Made      Outcome = "made"      // it exists; its checks begin
	Proved    Outcome = "proved"    // every check passed
	Retry     Outcome = "retry"     // a passing fault: try again
	Throttled Outcome = "throttled" // the account must wait until Event.At
	Broken    Outcome = "broken"    // it will never succeed
)

// Event is something that happened. The zero Event is a tick of time.
type Event struct {
	Step    int
	Outcome Outcome
	// At is when to look again (NotYet, Accepted; zero leaves it to the
	// scheduler) or when the account may call again (Throttled).
	At     time.Time
	Reason string
	// Stop asks the run to end once the calls in flight have returned.
	Stop bool
}

// Do is what an action asks for.
type Do string

// The actions.
const (
	Call   Do = "call"
	Look   Do = "look"
	Skip   Do = "skip"
	Fail   Do = "fail" // the step's patience is over
	Finish Do = "finish"
)

// Result is how a run ended.
type Result string

// The results of a run.
const (
	Done    Result = "done"
	Stopped Result = "stopped"
	Broke   Result = "failed"
)

// Action is something to do now.
type Action struct {
	Do     Do
	Step   int
	Reason string
	Result Result // of Finish
}

// Status is the state of one step, also what a run is resumed from.
type Status struct {
	Phase Phase
	// Called says that the call was accepted; a working step without it has an
	// outcome that nobody knows, and is called again under the same token.
	Called  bool
	Began   time.Time
	MadeAt  time.Time
	Reason  string
	looking bool
	calling bool
	next    time.Time
	looks   int
	tries   int
}

// Run is the state of one run.
type Run struct {
	steps    []Step
	status   []Status
	limits   Limits
	left     []float64 // remaining longest path, in seconds
	users    [][]int
	until    time.Time // the account is throttled until then
	stopping bool
	finished bool
	jitter   func() float64
}

// New makes a run. Status resumes one; nil begins afresh. Jitter gives numbers
// in [0, 1) that spread retries; nil means none.
func New(steps []Step, status []Status, limits Limits, jitter func() float64) *Run {
	r := &Run{steps: steps, limits: limits, jitter: jitter}
	r.limits.InFlight = max(1, r.limits.InFlight)
	r.limits.MinLook = cmp.Or(r.limits.MinLook, 100*time.Millisecond)
	r.limits.MaxLook = cmp.Or(r.limits.MaxLook, time.Minute)
	if r.jitter == nil {
		r.jitter = func() float64 { return 0 }
	}
	g := graph.Graph{Needs: make([][]int, len(steps))}
	weight := make([]float64, len(steps))
	for i, s := range steps {
		weight[i] = s.Expect.Seconds()
		for _, n := range s.Needs {
			g.Needs[i] = append(g.Needs[i], n.Step)
		}
	}
	r.left, r.users = g.Remaining(weight), g.Users()
	r.status = slices.Clone(status)
	if status == nil {
		r.status = make([]Status, len(steps))
		for i := range r.status {
			r.status[i].Phase = Waiting
		}
	}
	return r
}

// Status returns the state of a step.
func (r *Run) Status(step int) Status { return r.status[step] }

// Handle takes an event into account and returns what to do now. The events of
// an action may come in any order; after Finish nothing follows.
func (r *Run) Handle(e Event, now time.Time) []Action {
	if r.finished {
		return nil
	}
	r.stopping = r.stopping || e.Stop
	if e.Outcome != "" {
		r.outcome(e, now)
	}
	var actions []Action
	actions = r.expire(actions, now)
	actions = r.skip(actions)
	if !r.stopping {
		actions = r.begin(actions, now)
		actions = r.look(actions, now)
	}
	return r.finish(actions)
}

func (r *Run) outcome(e Event, now time.Time) {
	s := &r.status[e.Step]
	s.looking, s.calling = false, false
	if s.Phase.Over() {
		return
	}
	switch e.Outcome {
	case Accepted:
		s.Called, s.tries = true, 0
		s.next = r.firstLook(e, s.Began, now)
	case NotYet:
		s.tries = 0
		s.next = r.nextLook(e.Step, e.At, now)
	case Made:
		s.Phase, s.MadeAt, s.looks, s.tries = Settling, now, 0, 0
		s.next = now
	case Proved:
		s.Phase = Healthy
	case Throttled:
		r.until = later(r.until, e.At)
		s.next = r.until
	case Retry:
		s.tries++
		s.Reason = e.Reason
		s.next = now.Add(r.backoff(s.tries))
	case Broken:
		s.Phase, s.Reason = Failed, e.Reason
	}
}

// firstLook waits until shortly before the expected moment, or for the cloud's
// own hint if that is earlier.
func (r *Run) firstLook(e Event, began, now time.Time) time.Time {
	at := now.Add(r.limits.MinLook)
	if expected := began.Add(r.steps[e.Step].Expect * 9 / 10); expected.After(at) {
		at = expected
	}
	if !e.At.IsZero() && e.At.Before(at) {
		at = later(e.At, now.Add(r.limits.MinLook))
	}
	return at
}

// nextLook comes closer around the expected moment and backs off when overdue:
// a thirtieth of what is expected, or a tenth of what it is late.
func (r *Run) nextLook(step int, hint, now time.Time) time.Time {
	s := &r.status[step]
	s.looks++
	gap := r.steps[step].Expect / 30
	if late := now.Sub(s.Began) - r.steps[step].Expect; s.Phase == Working && late/10 > gap {
		gap = late / 10
	}
	gap = min(max(gap, r.limits.MinLook), r.limits.MaxLook)
	at := now.Add(gap)
	if !hint.IsZero() && s.Phase == Settling {
		at = later(hint, now.Add(r.limits.MinLook))
	}
	return at
}

// backoff doubles from a fifth of a second to 30 seconds, spread by up to half.
func (r *Run) backoff(tries int) time.Duration {
	d := min(30*time.Second, 200*time.Millisecond<<min(tries-1, 10))
	return d - time.Duration(r.jitter()*float64(d)/2)
}

func (r *Run) expire(actions []Action, now time.Time) []Action {
	for i := range r.status {
		s, p := &r.status[i], r.steps[i].Patience
		busy := s.Phase == Working || s.Phase == Settling
		if busy && p > 0 && !s.calling && !s.looking && now.Sub(s.Began) > p {
			reason := "it took longer than its patience of " + p.Round(time.Millisecond).String()
			if s.Reason != "" {
				reason += "; the last answer was: " + s.Reason
			}
			s.Phase, s.Reason = Failed, reason
			actions = append(actions, Action{Do: Fail, Step: i, Reason: reason})
		}
	}
	return actions
}

// skip gives up everything that depends on a step that failed.
func (r *Run) skip(actions []Action) []Action {
	for again := true; again; {
		again = false
		for i := range r.status {
			s := &r.status[i]
			if s.Phase != Waiting {
				continue
			}
			for _, n := range r.steps[i].Needs {
				if p := r.status[n.Step].Phase; p == Failed || p == Skipped {
					s.Phase, s.Reason = Skipped, r.steps[n.Step].Name+" "+string(p)
					actions = append(actions, Action{Do: Skip, Step: i, Reason: s.Reason})
					again = true
					break
				}
			}
		}
	}
	return actions
}

// begin starts what is ready, the longest remaining path first, and repeats
// calls whose time has come.
func (r *Run) begin(actions []Action, now time.Time) []Action {
	if now.Before(r.until) {
		return actions
	}
	flying := r.flying()
	var ready []int
	for i := range r.status {
		s := &r.status[i]
		switch {
		case s.calling:
		case s.Phase == Waiting && r.met(i), s.Phase == Working && !s.Called && !now.Before(s.next):
			ready = append(ready, i)
		}
	}
	slices.SortStableFunc(ready, func(a, b int) int { return cmp.Compare(r.left[b], r.left[a]) })
	for _, i := range ready {
		if flying >= r.limits.InFlight {
			break
		}
		s := &r.status[i]
		if s.Phase == Waiting {
			s.Phase, s.Began = Working, now
		}
		s.calling = true
		flying++
		actions = append(actions, Action{Do: Call, Step: i})
	}
	return actions
}

func (r *Run) flying() int {
	n := 0
	for i := range r.status {
		if r.status[i].calling {
			n++
		}
	}
	return n
}

func (r *Run) met(i int) bool {
	for _, n := range r.steps[i].Needs {
		p := r.status[n.Step].Phase
		if p != Healthy && !(n.Made && p == Settling) {
			return false
		}
	}
	return true
}

func (r *Run) look(actions []Action, now time.Time) []Action {
	for i := range r.status {
		s := &r.status[i]
		due := s.Phase == Settling || s.Phase == Working && s.Called
		if due && !s.looking && !now.Before(s.next) && !now.Before(r.until) {
			s.looking = true
			actions = append(actions, Action{Do: Look, Step: i})
		}
	}
	return actions
}

func (r *Run) finish(actions []Action) []Action {
	result := Done
	over := true
	for i := range r.status {
		s := &r.status[i]
		if s.calling || s.looking {
			return actions
		}
		over = over && s.Phase.Over()
		if s.Phase == Failed || s.Phase == Skipped {
			result = Broke
		}
	}
	if !over {
		if !r.stopping {
			return actions
		}
		result = Stopped
	}
	r.finished = true
	return append(actions, Action{Do: Finish, Result: result})
}

// Wake tells when Handle must be called again although nothing happened. It is
// the zero time while only events can move the run.
func (r *Run) Wake() time.Time {
	var at time.Time
	sooner := func(t time.Time) {
		if !t.IsZero() && (at.IsZero() || t.Before(at)) {
			at = t
		}
	}
	if r.finished || r.stopping {
		return at
	}
	full := r.flying() >= r.limits.InFlight // then a call's return wakes the run
	for i := range r.status {
		s := &r.status[i]
		if s.calling || s.looking {
			continue
		}
		switch {
		case s.Phase == Settling, s.Phase == Working && s.Called:
			sooner(later(s.next, r.until))
		case s.Phase == Working && !full:
			sooner(later(s.next, r.until))
		case s.Phase == Waiting && r.met(i) && !full:
			sooner(r.until)
		}
		if p := r.steps[i].Patience; p > 0 && (s.Phase == Working || s.Phase == Settling) {
			sooner(s.Began.Add(p + time.Millisecond))
		}
	}
	return at
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
