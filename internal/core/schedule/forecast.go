package schedule

import (
	"slices"
	"time"

	"undersail/internal/core/graph"
)

// Forecast is when the run is expected to end and which step decides that now.
// Step is -1 when nothing is left.
func (r *Run) Forecast(now time.Time) (end time.Time, step int) {
	return Forecast(r.steps, r.status, now)
}

// Forecast computes the expected end from the remaining critical path: what is
// under way counts with what is left of its expected time.
func Forecast(steps []Step, status []Status, now time.Time) (end time.Time, step int) {
	g, weight := remaining(steps, status, now)
	total := 0.0
	step = -1
	for _, i := range g.CriticalPath(weight) {
		total += weight[i]
		if step < 0 && !status[i].Phase.Over() {
			step = i
		}
	}
	return now.Add(time.Duration(total * float64(time.Second))), step
}

// Chain lists the steps on the remaining critical path, first step first.
func Chain(steps []Step, status []Status, now time.Time) []int {
	g, weight := remaining(steps, status, now)
	var out []int
	for _, i := range g.CriticalPath(weight) {
		if !status[i].Phase.Over() {
			out = append(out, i)
		}
	}
	return out
}

// Past is when a step began, made what it makes, and ended; zero times are not known.
type Past struct{ Began, Made, Ended time.Time }

// Decided lists the steps that decided when a run that is over ended, first step first: from the one
// that ended last back, each time, to that which came last of what it waited for.
func Decided(steps []Step, past []Past) []int {
	last := -1
	for i, p := range past {
		if !p.Began.IsZero() && !p.Ended.IsZero() && (last < 0 || p.Ended.After(past[last].Ended)) {
			last = i
		}
	}
	var out []int
	for i := last; i >= 0 && len(out) <= len(steps); {
		out = append(out, i)
		next, latest := -1, time.Time{}
		for _, n := range steps[i].Needs {
			there := past[n.Step].Ended
			if n.Made && !past[n.Step].Made.IsZero() {
				there = past[n.Step].Made
			}
			if !there.IsZero() && !past[n.Step].Began.IsZero() && there.After(latest) {
				next, latest = n.Step, there
			}
		}
		i = next
	}
	slices.Reverse(out)
	return out
}

// remaining weighs each step with what is left of it, in seconds.
func remaining(steps []Step, status []Status, now time.Time) (graph.Graph, []float64) {
	g := graph.Graph{Needs: make([][]int, len(steps))}
	weight := make([]float64, len(steps))
	for i, s := range steps {
		for _, n := range s.Needs {
			g.Needs[i] = append(g.Needs[i], n.Step)
		}
		switch status[i].Phase {
		case Waiting:
			weight[i] = s.Expect.Seconds()
		case Working, Settling:
			weight[i] = max(0, (s.Expect - now.Sub(status[i].Began)).Seconds())
		case Healthy, Failed, Skipped: // over
		}
	}
	return g, weight
}
