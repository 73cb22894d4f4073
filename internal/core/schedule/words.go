package schedule

import (
	"math"
	"time"
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
	// Patience bounds the whole step, retries and settling together, but for
	// the time that Event.Waited tells of. Zero means no bound.
	Patience time.Duration
}

// Limits bound what goes on at once.
type Limits struct {
	InFlight int           // calls at a time; 1 at least
	Looks    int           // looks at a time; four times InFlight when 0
	MinLook  time.Duration // shortest time between two looks at one step
	MaxLook  time.Duration // longest
	Rate     float64       // seconds of the account's clock in a real one, for what is said; 1 when 0
}

// words tells a span of real time on the account's clock, with the real time in
// brackets where that clock runs at another rate.
func (l Limits) words(real time.Duration) string {
	told := real.Round(time.Millisecond).String()
	if l.Rate == 0 || math.Abs(l.Rate-1) < 1e-9 {
		return told
	}
	return time.Duration(float64(real)*l.Rate).Round(time.Second).String() + " (" + told + " real)"
}

// Outcome is what an action came to.
type Outcome string

// The outcomes of calls and looks.
const (
	Accepted  Outcome = "accepted"  // the last call was taken; look for when it is made
	More      Outcome = "more"      // a call was taken and the step needs another one
	NotYet    Outcome = "not yet"   // looked, and it is still on its way
	Made      Outcome = "made"      // it exists; its checks begin
	Proved    Outcome = "proved"    // every check passed
	Retry     Outcome = "retry"     // a passing fault: try again
	Throttled Outcome = "throttled" // the account must wait until Event.At
	Broken    Outcome = "broken"    // it will never succeed
	Halted    Outcome = "halted"    // nothing goes on before a person acts; the step stays as it is
	Asked     Outcome = "asked"     // this step needs a person's answer; it waits again, and the others go on
)

// Event is something that happened. The zero Event is a tick of time.
type Event struct {
	Step    int
	Outcome Outcome
	// At is when to look or call again (NotYet, Accepted, More; zero leaves it to
	// the scheduler) or when the account may call again (Throttled).
	At     time.Time
	Reason string
	// Waited is time that the action spent in waiting for the account's limit; it
	// counts against no patience.
	Waited time.Duration
	// Notice says that the cloud told of a change of the step's resource by itself:
	// the next look is due now.
	Notice bool
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
	Parked  Result = "parked"
	Asking  Result = "asking" // nothing else can go on before a person answers
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
	// Called says that the last call was accepted; a working step without it goes
	// on with calls.
	Called bool
	// Began is when the step began, later by all the time that counts against no
	// patience.
	Began  time.Time
	MadeAt time.Time
	Reason string
	acting bool // a call or look is on its way
	// calling says which of the two it is.
	calling bool
	next    time.Time
	looks   int
	tries   int
}
