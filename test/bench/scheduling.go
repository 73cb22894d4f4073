package main

import (
	"container/heap"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"undersail/internal/core/graph"
	"undersail/internal/core/schedule"
)

func timesOf(n int) time.Duration { return time.Duration(n) }

// A run in virtual time: the scheduler is the real one, the cloud takes as long as
// its durations say (lognormal, sigma 0.10 around what was learned), a call a
// tenth of a second and a look a twentieth.
type virtual struct {
	steps  []schedule.Step
	takes  []time.Duration
	rand   *rand.Rand
	now    time.Time
	events moments
	ready  []time.Time
	looks  int
	calls  []time.Time // of each step's first call
	proved []time.Time
}

const (
	callTakes = 100 * time.Millisecond
	lookTakes = 50 * time.Millisecond
)

type moment struct {
	at time.Time
	e  schedule.Event
}
type moments []moment

func (h moments) Len() int           { return len(h) }
func (h moments) Less(i, j int) bool { return h[i].at.Before(h[j].at) }
func (h moments) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *moments) Push(x any)        { *h = append(*h, x.(moment)) }
func (h *moments) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

func newVirtual(steps []schedule.Step, seed uint64) *virtual {
	v := &virtual{
		steps:  steps,
		rand:   rand.New(rand.NewPCG(seed, 11)),
		now:    time.Unix(1_700_000_000, 0),
		ready:  make([]time.Time, len(steps)),
		calls:  make([]time.Time, len(steps)),
		proved: make([]time.Time, len(steps)),
	}
	for _, s := range steps {
		v.takes = append(v.takes, time.Duration(float64(s.Expect)*math.Exp(0.1*v.rand.NormFloat64())))
	}
	return v
}

// run drives the scheduler to the end and gives how long that took, and the time
// spent in the scheduler itself.
func (v *virtual) run(limits schedule.Limits) (took, spent time.Duration, err error) {
	began := v.now
	r := schedule.New(v.steps, nil, limits, v.rand.Float64)
	handle := func(e schedule.Event) (over bool, err error) {
		start := time.Now()
		actions := r.Handle(e, v.now)
		spent += time.Since(start)
		for _, a := range actions {
			if a.Do == schedule.Finish && a.Result != schedule.Done {
				return true, fmt.Errorf("the run ended %s", a.Result)
			}
			if a.Do == schedule.Finish {
				return true, nil
			}
			v.act(r, a)
		}
		return false, nil
	}
	over, err := handle(schedule.Event{})
	for !over && err == nil {
		start := time.Now()
		wake := r.Wake()
		spent += time.Since(start)
		if len(v.events) > 0 && (wake.IsZero() || !wake.Before(v.events[0].at)) {
			next := heap.Pop(&v.events).(moment)
			v.now = next.at
			over, err = handle(next.e)
			continue
		}
		if wake.IsZero() {
			return 0, 0, fmt.Errorf("the run stands still")
		}
		if wake.After(v.now) {
			v.now = wake
		}
		over, err = handle(schedule.Event{})
	}
	return v.now.Sub(began), spent, err
}

func (v *virtual) act(r *schedule.Run, a schedule.Action) {
	i := a.Step
	later := func(d time.Duration, e schedule.Event) {
		e.Step = i
		heap.Push(&v.events, moment{v.now.Add(d), e})
	}
	if a.Do == schedule.Call {
		v.calls[i] = v.now
		v.ready[i] = v.now.Add(callTakes + v.takes[i])
		later(callTakes, schedule.Event{Outcome: schedule.Accepted})
		return
	}
	// The look that finds it made is one at its phase, too: proving it needs no other.
	if r.Status(i).Phase == schedule.Settling {
		v.proved[i] = v.now
		later(0, schedule.Event{Outcome: schedule.Proved})
		return
	}
	v.looks++
	switch {
	case !v.now.Add(lookTakes / 2).Before(v.ready[i]):
		later(lookTakes, schedule.Event{Outcome: schedule.Made})
	default:
		later(lookTakes, schedule.Event{Outcome: schedule.NotYet})
	}
}

// bound is the longest chain of durations with a call and the required passes of
// each; nothing can be faster.
func (v *virtual) bound(inFlight int) time.Duration {
	g := graph.Graph{Needs: make([][]int, len(v.steps))}
	weight := make([]float64, len(v.steps))
	for i, s := range v.steps {
		weight[i] = (callTakes + v.takes[i] + lookTakes).Seconds()
		for _, n := range s.Needs {
			g.Needs[i] = append(g.Needs[i], n.Step)
		}
	}
	longest := slices.Max(g.Remaining(weight))
	calls := float64(len(v.steps)) * callTakes.Seconds() / float64(inFlight)
	return time.Duration(max(longest, calls) * float64(time.Second))
}

// fixed is how long the same takes when every resource is looked at in a fixed
// interval, and with how many looks.
func (v *virtual) fixed(interval time.Duration) (took time.Duration, looks int) {
	ends := make([]time.Duration, len(v.steps))
	for i, s := range v.steps {
		var begins time.Duration
		for _, n := range s.Needs {
			begins = max(begins, ends[n.Step])
		}
		seen := (callTakes + v.takes[i] + interval - 1) / interval
		looks += int(seen)
		ends[i] = begins + seen*interval + lookTakes
		took = max(took, ends[i])
	}
	return took, looks
}

// levels is how long the same takes when everything of one depth must be there
// before anything of the next is begun, looked at every five seconds.
func (v *virtual) levels() time.Duration {
	depth := make([]int, len(v.steps))
	longest := map[int]time.Duration{}
	for i, s := range v.steps {
		for _, n := range s.Needs {
			depth[i] = max(depth[i], depth[n.Step]+1)
		}
		longest[depth[i]] = max(longest[depth[i]], v.takes[i])
	}
	var took time.Duration
	for _, d := range longest {
		took += (callTakes+d+5*time.Second-1)/(5*time.Second)*(5*time.Second) + lookTakes
	}
	return took
}

// shapes are the graphs that B3 runs.
func shapes(r *rand.Rand) map[string][]schedule.Step {
	second := func(n int) time.Duration { return time.Duration(n) * time.Second }
	out := map[string][]schedule.Step{}
	for i := range 200 {
		out["wide"] = append(out["wide"], schedule.Step{Name: fmt.Sprint(i), Expect: second(10 + r.IntN(110))})
	}
	for i := range 12 {
		s := schedule.Step{Name: fmt.Sprint(i), Expect: second(10 + r.IntN(110))}
		if i > 0 {
			s.Needs = []schedule.Need{{Step: i - 1}}
		}
		out["deep"] = append(out["deep"], s)
	}
	for i := range 120 {
		s := schedule.Step{Name: fmt.Sprint(i), Expect: second(10 + r.IntN(110))}
		for range 3 {
			if i >= 15 {
				s.Needs = append(s.Needs, schedule.Need{Step: (i/15-1)*15 + r.IntN(15)})
			}
		}
		out["layered"] = append(out["layered"], s)
	}
	// Network, subnets, rules, disks, a database, machines on it, a balancer.
	real := []schedule.Step{{Expect: second(10)}, {Expect: second(10), Needs: []schedule.Need{{Step: 0}}},
		{Expect: second(10), Needs: []schedule.Need{{Step: 0}}},
		{Expect: second(480), Needs: []schedule.Need{{Step: 1}}}}
	balancer := schedule.Step{Expect: second(60)}
	for range 16 {
		disk := len(real)
		real = append(real, schedule.Step{Expect: second(12)}, schedule.Step{
			Expect: second(75),
			Needs:  []schedule.Need{{Step: disk}, {Step: 2}, {Step: 3}},
		})
		balancer.Needs = append(balancer.Needs, schedule.Need{Step: disk + 1})
	}
	out["realistic"] = append(real, balancer)
	return out
}

// scheduling measures B3 and B4 with the naive ways beside them, and the work of
// the scheduler for each step.
func scheduling(rounds int) ([]row, error) {
	limits := schedule.Limits{InFlight: 16, MinLook: 500 * time.Millisecond, MaxLook: time.Minute}
	var rows []row
	for _, name := range []string{"wide", "deep", "layered", "realistic"} {
		var ours, naive, level []float64
		var took, bound time.Duration
		for seed := range uint64(40) {
			v := newVirtual(shapes(rand.New(rand.NewPCG(seed, 3)))[name], seed)
			t, _, err := v.run(limits)
			if err != nil {
				return nil, err
			}
			b := v.bound(limits.InFlight)
			every, _ := v.fixed(5 * time.Second)
			took, bound = took+t, bound+b
			ours, naive, level = append(ours, t.Seconds()/b.Seconds()), append(naive, every.Seconds()/b.Seconds()),
				append(level, v.levels().Seconds()/b.Seconds())
		}
		rows = append(rows, row{
			id:        "B3",
			what:      "time of a run over its bound, polled, 40 seeds: " + name,
			measured:  short(took / 40),
			reference: short(bound / 40),
			ratio:     median(ours),
			target:    1.05,
			note:      fmt.Sprintf("a look every 5 s: %.2f; level by level: %.2f", median(naive), median(level)),
		})
	}
	more, err := readiness()
	if err != nil {
		return nil, err
	}
	rows = append(rows, more...)
	work, err := workOfSteps(rounds)
	return append(rows, work), err
}

// readiness measures B4 over many pairs of a resource and its dependent.
func readiness() ([]row, error) {
	limits := schedule.Limits{InFlight: 16, MinLook: 500 * time.Millisecond, MaxLook: time.Minute}
	var delays []float64
	looks, resources := 0, 0
	naive := map[time.Duration][]float64{}
	naiveLooks := map[time.Duration]int{}
	intervals := []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 20 * time.Second}
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 5))
		v := newVirtual([]schedule.Step{{Expect: time.Duration(10+r.IntN(590)) * time.Second},
			{Expect: time.Second, Needs: []schedule.Need{{Step: 0}}}}, seed)
		if _, _, err := v.run(limits); err != nil {
			return nil, err
		}
		delays = append(delays, v.calls[1].Sub(v.ready[0]).Seconds()/v.takes[0].Seconds())
		// The dependent is too short to count: it is made with one look, most often.
		looks, resources = looks+v.looks-1, resources+1
		for _, every := range intervals {
			n := (callTakes + v.takes[0] + every - 1) / every
			naive[every] = append(naive[every], (n*every-callTakes-v.takes[0]+lookTakes).Seconds()/v.takes[0].Seconds())
			naiveLooks[every] += int(n)
		}
	}
	ours, each := median(delays), float64(looks)/float64(resources)
	note, better := "", 0
	for _, every := range intervals {
		d, n := median(naive[every]), float64(naiveLooks[every])/float64(resources)
		note += fmt.Sprintf("every %s: %.1f %% with %.0f; ", every, 100*d, n)
		if d <= ours && n <= each {
			better++
		}
	}
	return []row{
		{
			id:        "B4",
			what:      "delay from ready to the dependent's first call, of the duration",
			measured:  fmt.Sprintf("%.2f %%", 100*ours),
			reference: "2.50 %",
			ratio:     ours / 0.025,
			target:    1,
			note:      note,
		},
		{
			id:        "B4",
			what:      "looks at a resource until it is proved",
			measured:  fmt.Sprintf("%.1f", each),
			reference: "6",
			ratio:     each / 6,
			target:    1,
			note:      fmt.Sprintf("%d fixed intervals are better on both", better),
		},
	}, nil
}

// workOfSteps measures the scheduler's own time for each step of large runs.
func workOfSteps(rounds int) (row, error) {
	limits := schedule.Limits{InFlight: 16, MinLook: 500 * time.Millisecond, MaxLook: time.Minute}
	each := func(n int) (time.Duration, error) {
		r := rand.New(rand.NewPCG(uint64(n), 9))
		steps := make([]schedule.Step, n)
		for i := range steps {
			steps[i] = schedule.Step{
				Name:     fmt.Sprint(i),
				Expect:   time.Duration(10+r.IntN(110)) * time.Second,
				Patience: time.Hour * 100,
			}
			if i >= 20 {
				steps[i].Needs = []schedule.Need{{Step: r.IntN(i)}, {Step: i - 20}}
			}
		}
		_, spent, err := newVirtual(steps, 1).run(limits)
		return spent / time.Duration(n), err
	}
	var large, small []time.Duration
	for range rounds {
		a, err := each(16_000)
		if err != nil {
			return row{}, err
		}
		b, err := each(1_000)
		if err != nil {
			return row{}, err
		}
		large, small = append(large, a), append(small, b)
	}
	m, r := median(large), median(small)
	return row{
		id:        "R2",
		what:      "the scheduler's work for a step at 16 000 steps over that at 1 000",
		measured:  fmt.Sprintf("%.1f us", float64(m.Nanoseconds())/1000),
		reference: fmt.Sprintf("%.1f us", float64(r.Nanoseconds())/1000),
		ratio:     float64(m) / float64(r),
		target:    1.5,
	}, nil
}
