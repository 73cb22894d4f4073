package stacks

import (
	"context"
	"fmt"
	"slices"
	"time"

	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Run is one execution as people see it.
type Run struct {
	ID         int64      `json:"id"`
	Stack      string     `json:"stack"`
	ProposalID int64      `json:"proposal"`
	Kind       string     `json:"kind"`
	State      string     `json:"state"`
	Reason     string     `json:"reason,omitempty"`
	StartedBy  string     `json:"started_by"`
	CreatedAt  time.Time  `json:"created_at"`
	StartedAt  *time.Time `json:"started_at,omitempty"`
	EndedAt    *time.Time `json:"ended_at,omitempty"`
	LastEvent  int64      `json:"last_event"`
	// Total and Finished count steps; Decides is the resource that decides the
	// expected end now.
	Total       int        `json:"total"`
	Finished    int        `json:"finished"`
	ExpectedEnd *time.Time `json:"expected_end,omitempty"`
	Decides     string     `json:"decides,omitempty"`
	// Next is the command that goes on from here, when something is missing.
	Next string `json:"next,omitempty"`
	// Awaits are the inputs that the run can be given now.
	Awaits []Awaited `json:"awaits,omitempty"`
	// ParkedFor is what a parked run waits for: credentials, consent, input or agreement.
	ParkedFor string `json:"parked_for,omitempty"`
	// Asks is the proposal that it goes on with once that is accepted.
	Asks int64 `json:"asks,omitempty"`
	// OnFailure is keep or undo; Undoes is the run that this one undoes.
	OnFailure string `json:"on_failure,omitempty"`
	// Rate is how many seconds of the account's clock pass in a real one: times and
	// durations are real ones.
	Rate   float64 `json:"rate"`
	Undoes *int64  `json:"undoes,omitempty"`
	Hour   float64 `json:"hour"`
	Money  string  `json:"currency"`
	Steps  []Step  `json:"steps,omitempty"`
	// UnderWayS is how long it was worked on, in seconds until now; WaitedS how long it waited for
	// people. What lay idle between two attempts is neither.
	UnderWayS float64 `json:"under_way_seconds"`
	WaitedS   float64 `json:"waited_seconds"`
	// Attempts are told of one run, oldest first.
	Attempts []Attempt `json:"attempts,omitempty"`
}

// Attempt is one of a run. Steps are those that a later attempt tried again, as it left them.
type Attempt struct {
	Number    int        `json:"number"`
	By        string     `json:"by"`
	BeganAt   *time.Time `json:"began_at,omitempty"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	State     string     `json:"state,omitempty"` // in which it ended
	Reason    string     `json:"reason,omitempty"`
	UnderWayS float64    `json:"under_way_seconds"`
	WaitedS   float64    `json:"waited_seconds"`
	Steps     []Step     `json:"steps"`
}

// Step is one change of a run as people see it. State is the step's, or removing
// and removed for a removal.
type Step struct {
	Number   int        `json:"number"`
	Resource string     `json:"resource"`
	Type     string     `json:"type"`
	Change   string     `json:"change"`
	State    string     `json:"state"`
	Reason   string     `json:"reason,omitempty"`
	Needs    []int      `json:"needs"`
	ExpectS  float64    `json:"expect_seconds"`
	BeganAt  *time.Time `json:"began_at,omitempty"`
	MadeAt   *time.Time `json:"made_at,omitempty"`
	EndedAt  *time.Time `json:"ended_at,omitempty"`
	// WaitedS is how long of that it waited, for people or for a service that was away.
	WaitedS  float64 `json:"waited_seconds,omitempty"`
	Critical bool    `json:"critical"`
}

// Run finds a run with its steps and its expected end.
func (s *Stacks) Run(ctx context.Context, id int64) (Run, error) {
	r, err := s.store.Run(ctx, id)
	if err != nil {
		return Run{}, refusal.Missing(err, "run", fmt.Sprint(id), "list them with: undersail runs")
	}
	steps, err := s.store.Steps(ctx, id)
	if err != nil {
		return Run{}, fmt.Errorf("reading the steps of run %d: %w", id, err)
	}
	_, d, err := s.Document(ctx, r.ProposalID)
	if err != nil {
		return Run{}, err
	}
	out := runOf(r)
	out.Hour, out.Money = d.Cost.Hour, d.Cost.Currency
	out.Awaits = AwaitedBy(r, d)
	if MayBeGiven(r) {
		open, err := s.store.Gifts(ctx, r.ID)
		if err != nil {
			return out, fmt.Errorf("reading the values given to run %d: %w", r.ID, err)
		}
		if len(open) > 0 {
			out.Asks = open[0]
		}
	}
	critical := out.forecast(steps, s.engine.Now())
	for i, st := range steps {
		out.Steps = append(out.Steps, stepOf(st, critical[i]))
	}
	out.Attempts, err = s.attempts(ctx, id, steps)
	return out, err
}

// attempts tells each attempt of a run, with the steps that a later one tried again.
func (s *Stacks) attempts(ctx context.Context, id int64, steps []store.Step) ([]Attempt, error) {
	list, err := s.store.Attempts(ctx, id)
	if err != nil {
		return nil, fmt.Errorf("reading the attempts of run %d: %w", id, err)
	}
	tried, err := s.store.TriedSteps(ctx, id)
	if err != nil {
		return nil, fmt.Errorf("reading the steps tried by run %d: %w", id, err)
	}
	out := make([]Attempt, len(list))
	for i, a := range list {
		out[i] = Attempt{
			Number:    a.Number,
			By:        a.By,
			BeganAt:   a.BeganAt,
			EndedAt:   a.EndedAt,
			State:     a.State,
			Reason:    a.Reason,
			UnderWayS: a.UnderWay,
			WaitedS:   a.WaitedFor,
			Steps:     []Step{},
		}
		for _, t := range tried {
			at := slices.IndexFunc(steps, func(st store.Step) bool { return st.Number == t.Number })
			if t.Attempt != a.Number || at < 0 {
				continue
			}
			st := steps[at]
			st.State, st.Reason, st.IntentAt, st.MadeAt, st.EndedAt = t.State, t.Reason, t.IntentAt, t.MadeAt, t.EndedAt
			out[i].Steps = append(out[i].Steps, stepOf(st, false))
		}
	}
	return out, nil
}

// RunRow finds a run as lists tell it, without its steps.
func (s *Stacks) RunRow(ctx context.Context, id int64) (Run, error) {
	r, err := s.store.Run(ctx, id)
	if err != nil {
		return Run{}, refusal.Missing(err, "run", fmt.Sprint(id), "list them with: undersail runs")
	}
	return runOf(r), nil
}

// Runs lists runs, newest first, without their steps.
func (s *Stacks) Runs(ctx context.Context, stack string, before int64, most int) ([]Run, error) {
	list, err := s.store.Runs(ctx, stack, before, most)
	if err != nil {
		return nil, fmt.Errorf("reading the runs of stack %s: %w", stack, err)
	}
	out := make([]Run, len(list))
	for i, r := range list {
		out[i] = runOf(r)
	}
	return out, nil
}

func runOf(r store.Run) Run {
	out := Run{
		ID:         r.ID,
		Stack:      r.Stack,
		ProposalID: r.ProposalID,
		Kind:       r.Kind,
		State:      r.State,
		Reason:     r.Reason,
		ParkedFor:  r.ParkedFor,
		StartedBy:  r.StartedBy,
		OnFailure:  r.OnFailure,
		Undoes:     r.Undoes,
		CreatedAt:  r.CreatedAt,
		StartedAt:  r.StartedAt,
		EndedAt:    r.EndedAt,
		LastEvent:  r.LastEvent,
		Total:      r.Total,
		Finished:   r.Finished,
		Rate:       r.Rate,
		UnderWayS:  r.UnderWay,
		WaitedS:    r.WaitedFor,
	}
	if r.EndedAt == nil {
		out.ExpectedEnd, out.Decides = r.ExpectedEnd, r.Decides
	}
	if r.State == state.Failed || r.State == state.Stopped {
		out.Next = "undersail continue " + r.Stack
		switch r.Kind {
		case state.KindRetire:
			out.Next = "undersail retire " + r.Stack + " --yes"
		case state.KindUndo:
			out.Next = fmt.Sprintf("undersail undo %d", *r.Undoes)
		case state.KindDiscard:
			out.Next = "undersail kept"
		}
	}
	return out
}

// forecast fills in the expected end and marks the steps on the path to it.
func (r *Run) forecast(steps []store.Step, now time.Time) map[int]bool {
	critical := map[int]bool{}
	plan, status := engine.ScheduleOf(steps)
	if r.EndedAt == nil {
		end, decides := schedule.Forecast(plan, status, now)
		r.ExpectedEnd = &end
		if decides >= 0 {
			r.Decides = steps[decides].Resource
		}
	}
	chain := schedule.Chain(plan, status, now)
	if r.EndedAt != nil { // what decided it is told for good
		if chain = schedule.Decided(plan, pastOf(steps)); len(chain) > 0 {
			r.Decides = steps[chain[len(chain)-1]].Resource
		}
	}
	for _, i := range chain {
		critical[i] = true
	}
	return critical
}

func pastOf(steps []store.Step) []schedule.Past {
	out := make([]schedule.Past, len(steps))
	at := func(t *time.Time) time.Time {
		if t == nil {
			return time.Time{}
		}
		return *t
	}
	for i, st := range steps {
		out[i] = schedule.Past{Began: at(st.IntentAt), Made: at(st.MadeAt), Ended: at(st.EndedAt)}
	}
	return out
}

func stepOf(st store.Step, critical bool) Step {
	out := Step{
		Number:   st.Number,
		Resource: st.Resource,
		Type:     st.Type,
		Change:   st.Action,
		State:    st.State,
		Reason:   st.Reason,
		Needs:    []int{},
		ExpectS:  float64(st.ExpectMS) / 1000,
		BeganAt:  st.IntentAt,
		MadeAt:   st.MadeAt,
		EndedAt:  st.EndedAt,
		WaitedS:  float64(st.WaitedMS) / 1000,
		Critical: critical,
	}
	for _, n := range st.Needs {
		out.Needs = append(out.Needs, n.Step)
	}
	if st.Action == engine.ActionRemove {
		switch st.State {
		case string(schedule.Working):
			out.State = state.Removing
		case string(schedule.Healthy):
			out.State = state.Removed
		}
	}
	return out
}

// Revocation is what f of [Service.Wake] is called with when tokens ended, or what somebody
// may do has changed.
const Revocation = store.Revocation
