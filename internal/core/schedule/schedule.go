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

// Run is the state of one run.
type Run struct {
	steps    []Step
	status   []Status
	limits   Limits
	left     []float64 // remaining longest path, in seconds
	users    [][]user
	missing  []int // needs that are not met yet
	until    time.Time
	stopping bool
	halted   bool
	finished bool
	jitter   func() float64

	ready   pile // steps that may call now, by remaining path
	retries pile // steps that call again later, by time
	due     pile // steps that look again later, by time
	expires pile // deadlines, by time
	gone    []int
	calls   int
	looks   int
	over    int
	busy    int // steps that were begun and are not over
	asked   int // steps that wait for a person's answer
	broke   bool
}

// user is a step that needs another; Made says that existence is enough.
type user struct {
	step int
	made bool
}

// New makes a run. Status resumes one; nil begins afresh. Jitter gives numbers
// in [0, 1) that spread retries; nil means none.
func New(steps []Step, status []Status, limits Limits, jitter func() float64) *Run {
	r := &Run{steps: steps, limits: limits, jitter: jitter, status: slices.Clone(status)}
	r.limits.InFlight = max(1, r.limits.InFlight)
	r.limits.Looks = cmp.Or(r.limits.Looks, 4*r.limits.InFlight)
	r.limits.MinLook = cmp.Or(r.limits.MinLook, 100*time.Millisecond)
	r.limits.MaxLook = cmp.Or(r.limits.MaxLook, time.Minute)
	if r.jitter == nil {
		r.jitter = func() float64 { return 0 }
	}
	if status == nil {
		r.status = make([]Status, len(steps))
		for i := range r.status {
			r.status[i].Phase = Waiting
		}
	}
	g := graph.Graph{Needs: make([][]int, len(steps))}
	weight := make([]float64, len(steps))
	r.users, r.missing = make([][]user, len(steps)), make([]int, len(steps))
	for i, s := range steps {
		weight[i] = s.Expect.Seconds()
		for _, n := range s.Needs {
			g.Needs[i] = append(g.Needs[i], n.Step)
			r.users[n.Step] = append(r.users[n.Step], user{i, n.Made})
			if !n.met(r.status[n.Step].Phase) {
				r.missing[i]++
			}
		}
	}
	r.left = g.Remaining(weight)
	for i := range r.status {
		r.resume(i)
	}
	return r
}

func (n Need) met(p Phase) bool { return p == Healthy || n.Made && p == Settling }

// resume puts a step where it belongs.
func (r *Run) resume(i int) {
	s := &r.status[i]
	switch {
	case s.Phase.Over():
		r.over++
		if s.Phase != Healthy {
			r.broke = true
			r.gone = append(r.gone, i)
		}
	case s.Phase == Waiting:
		if r.missing[i] == 0 {
			r.ready.push(i, r.rank(i))
		}
	default:
		r.busy++
		r.wait(i, s.next)
		r.deadline(i)
	}
}

// wait lets a step act again at a moment.
func (r *Run) wait(i int, at time.Time) {
	s := &r.status[i]
	if s.next = at; s.Phase == Working && !s.Called {
		r.retries.push(i, order(at))
	} else {
		r.due.push(i, order(at))
	}
}

func (r *Run) deadline(i int) {
	if p := r.steps[i].Patience; p > 0 {
		r.expires.push(i, order(r.status[i].Began.Add(p)))
	}
}

// order gives moments the order of time; the zero time comes first.
func order(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

// rank puts the longest remaining path first.
func (r *Run) rank(i int) int64 { return -int64(r.left[i] * 1e6) }

// Status returns the state of a step.
func (r *Run) Status(step int) Status { return r.status[step] }

// Handle takes an event into account and returns what to do now. The events of
// an action may come in any order; after Finish nothing follows. The work of an
// event does not depend on the number of steps, but for the logarithm.
func (r *Run) Handle(e Event, now time.Time) []Action {
	if r.finished {
		return nil
	}
	r.stopping = r.stopping || e.Stop
	if e.Outcome != "" {
		r.outcome(e, now)
	}
	if e.Notice {
		r.notice(e.Step, now)
	}
	actions := r.expire(nil, now)
	actions = r.skip(actions)
	if !r.stopping && !r.halted {
		actions = r.act(actions, now)
	}
	return r.finish(actions)
}

// notice lets a step that is looked at be looked at now.
func (r *Run) notice(i int, now time.Time) {
	s := &r.status[i]
	if !s.acting && (s.Phase == Settling || s.Phase == Working && s.Called) {
		r.wait(i, now)
	}
}

func (r *Run) outcome(e Event, now time.Time) {
	s := &r.status[e.Step]
	if s.acting {
		if s.acting = false; s.calling {
			r.calls--
		} else {
			r.looks--
		}
	}
	if s.Phase.Over() {
		return
	}
	s.Began = s.Began.Add(e.Waited)
	if !s.MadeAt.IsZero() {
		s.MadeAt = s.MadeAt.Add(e.Waited)
	}
	if p := r.steps[e.Step].Patience; e.Waited > 0 || now.Sub(s.Began) > p {
		r.deadline(e.Step)
	}
	switch e.Outcome {
	case Accepted:
		s.Called, s.tries = true, 0
		r.wait(e.Step, r.firstLook(e, s.Began, now))
	case More:
		s.tries = 0
		r.wait(e.Step, later(e.At, now))
	case NotYet:
		s.tries = 0
		r.wait(e.Step, r.nextLook(e.Step, e.At, now))
	case Made:
		s.MadeAt, s.looks, s.tries = now, 0, 0
		r.move(e.Step, Settling)
		r.wait(e.Step, now)
	case Proved:
		r.move(e.Step, Healthy)
	case Throttled:
		r.until = later(r.until, e.At)
		r.wait(e.Step, r.until)
	case Retry:
		s.tries++
		s.Reason = e.Reason
		r.wait(e.Step, later(e.At, now.Add(r.backoff(s.tries))))
	case Broken:
		s.Reason = e.Reason
		r.move(e.Step, Failed)
	case Halted:
		s.Reason = e.Reason
		r.halted = true
	case Asked:
		s.Phase, s.Reason = Waiting, e.Reason
		r.busy--
		r.asked++
	}
}

// move changes the phase of a step and tells those that need it.
func (r *Run) move(i int, to Phase) {
	from := r.status[i].Phase
	r.status[i].Phase = to
	if to.Over() {
		if r.over++; from != Waiting {
			r.busy--
		}
	}
	if to == Failed || to == Skipped {
		r.broke = true
		r.gone = append(r.gone, i)
		return
	}
	for _, u := range r.users[i] {
		n := Need{i, u.made}
		if n.met(to) && !n.met(from) {
			if r.missing[u.step]--; r.missing[u.step] == 0 && r.status[u.step].Phase == Waiting {
				r.ready.push(u.step, r.rank(u.step))
			}
		}
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

// expire fails the steps whose patience is over. While a call or look is on its
// way a step does not expire: its outcome sets the deadline anew.
func (r *Run) expire(actions []Action, now time.Time) []Action {
	for r.expires.len() > 0 {
		i, at := r.expires.top()
		if at >= order(now) {
			return actions
		}
		r.expires.pop()
		s, p := &r.status[i], r.steps[i].Patience
		busy := s.Phase == Working || s.Phase == Settling
		if !busy || s.acting || now.Sub(s.Began) <= p {
			continue
		}
		reason := "it took longer than its patience of " + r.limits.words(p)
		if s.Reason != "" {
			reason += "; the last answer was: " + s.Reason
		}
		s.Reason = reason
		r.move(i, Failed)
		actions = append(actions, Action{Do: Fail, Step: i, Reason: reason})
	}
	return actions
}

// skip gives up everything that depends on a step that failed.
func (r *Run) skip(actions []Action) []Action {
	for len(r.gone) > 0 {
		gone := r.gone[0]
		r.gone = r.gone[1:]
		for _, u := range r.users[gone] {
			if s := &r.status[u.step]; s.Phase == Waiting {
				s.Reason = r.steps[gone].Name + " " + string(r.status[gone].Phase)
				r.move(u.step, Skipped)
				actions = append(actions, Action{Do: Skip, Step: u.step, Reason: s.Reason})
			}
		}
	}
	return actions
}

// act starts what is ready, the longest remaining path first, and looks at what
// is due, within the limits.
func (r *Run) act(actions []Action, now time.Time) []Action {
	if now.Before(r.until) {
		return actions
	}
	for r.retries.len() > 0 {
		i, at := r.retries.top()
		if at > order(now) {
			break
		}
		r.retries.pop()
		if s := &r.status[i]; s.Phase == Working && !s.Called && !s.acting && order(s.next) == at {
			r.ready.push(i, r.rank(i))
		}
	}
	for r.due.len() > 0 && r.looks < r.limits.Looks {
		i, at := r.due.top()
		if at > order(now) {
			break
		}
		r.due.pop()
		s := &r.status[i]
		if s.Phase == Settling || s.Phase == Working && s.Called {
			if !s.acting && order(s.next) == at { // else it has moved on since
				s.acting, s.calling = true, false
				r.looks++
				actions = append(actions, Action{Do: Look, Step: i})
			}
		}
	}
	for r.ready.len() > 0 && r.calls < r.limits.InFlight {
		i, _ := r.ready.top()
		r.ready.pop()
		s := &r.status[i]
		if s.Phase == Waiting {
			s.Phase, s.Began = Working, now
			r.busy++
			r.deadline(i)
		} else if s.Phase != Working || s.Called || s.acting {
			continue
		}
		s.acting, s.calling = true, true
		r.calls++
		actions = append(actions, Action{Do: Call, Step: i})
	}
	return actions
}

func (r *Run) finish(actions []Action) []Action {
	if r.calls+r.looks > 0 {
		return actions
	}
	result := Done
	switch {
	case r.over == len(r.steps) && r.broke:
		result = Broke
	case r.over == len(r.steps):
	case r.stopping:
		result = Stopped
	case r.halted:
		result = Parked
	case r.asked > 0 && r.busy == 0 && r.ready.len() == 0 && r.broke:
		result = Broke
	case r.asked > 0 && r.busy == 0 && r.ready.len() == 0:
		result = Asking
	default:
		return actions
	}
	r.finished = true
	return append(actions, Action{Do: Finish, Result: result})
}

// Wake tells when Handle must be called again although nothing happened. It is
// the zero time while only events can move the run.
func (r *Run) Wake() time.Time {
	if r.finished || r.stopping || r.halted {
		return time.Time{}
	}
	var at int64
	sooner := func(t int64) {
		if at == 0 || t < at {
			at = t
		}
	}
	if r.retries.len() > 0 {
		_, next := r.retries.top()
		sooner(max(next, order(r.until)))
	}
	if r.due.len() > 0 && r.looks < r.limits.Looks {
		_, next := r.due.top()
		sooner(max(next, order(r.until)))
	}
	if r.ready.len() > 0 && r.calls < r.limits.InFlight {
		sooner(order(r.until))
	}
	if r.expires.len() > 0 {
		_, next := r.expires.top()
		sooner(next + int64(time.Millisecond)) // just after
	}
	if at == 0 {
		return time.Time{}
	}
	return time.Unix(0, at)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
