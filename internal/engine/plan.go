package engine

import (
	"crypto/rand"
	"encoding/base32"
	"strings"
	"time"

	"undersail/internal/core/change"
	"undersail/internal/core/graph"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/schedule"
	"undersail/internal/store"
)

// Durations tells how long things take, in milliseconds of real time by
// resource type, learned from earlier runs; Rate is the account's clock.
type Durations struct {
	Learned map[string]int64
	Rate    float64
}

func (d Durations) expect(c change.Change) int64 {
	t, _ := resource.ByName(c.Type)
	if c.Change == change.Remove {
		return int64(8 / d.Rate * 1000)
	}
	if ms, ok := d.Learned[c.Type]; ok {
		return ms
	}
	return int64(float64(t.Expect) / d.Rate * 1000)
}

// Steps turns the changes of a proposal into the steps of a run, with the
// deadlines and the proof that its rendering asks for; a stack that is retired
// has none. What stays the same needs no step. A rebuild is a removal and a creation: the old one goes
// after the old ones that use it, the new one comes after the old one is gone.
//
// A step acts on an identified resource: a creation on one with a token of its
// own, drawn here and kept for life, everything else on the recorded one.
func Steps(changes []change.Change, r *render.Rendering, d Durations, recorded []store.Resource) []store.Step {
	patience := patienceOf(r)
	known := make(map[string]store.Resource, len(recorded))
	for _, row := range recorded {
		known[row.Name] = row
	}
	var steps []store.Step
	making, removing := map[string]int{}, map[string]int{}
	add := func(c change.Change, kind change.Kind, action string) int {
		c.Change = kind
		n := len(steps)
		s := store.Step{Number: n, Resource: c.Resource, Type: c.Type, Action: action, State: string(schedule.Waiting), Needs: []store.Need{},
			ExpectMS: d.expect(c), PatienceMS: int64(float64(patience(c.Resource)) / d.Rate * 1000)}
		row, there := known[c.Resource]
		if !there && c.Was != "" {
			row, there = known[c.Was]
		}
		if action == ActionCreate || !there {
			s.Token = newToken(c.Type)
		} else {
			s.Token, s.Region, s.Parts, s.Type = row.Token, row.Region, row.Parts, row.Type
		}
		steps = append(steps, s)
		return n
	}
	for _, c := range changes {
		switch c.Change {
		case change.Remove:
			removing[c.Resource] = add(c, change.Remove, ActionRemove)
		case change.Rebuild:
			removing[c.Resource] = add(c, change.Remove, ActionRemove)
			making[c.Resource] = add(c, change.Create, ActionCreate)
			steps[making[c.Resource]].Needs = append(steps[making[c.Resource]].Needs, store.Need{Step: removing[c.Resource]})
		case change.Create:
			making[c.Resource] = add(c, c.Change, ActionCreate)
		case change.Alter:
			making[c.Resource] = add(c, c.Change, ActionAlter)
		}
	}
	keepPace(steps, changes, making, removing)
	for _, c := range changes {
		if n, ok := making[c.Resource]; ok {
			for _, a := range c.After {
				if m, changes := making[a.Name]; changes {
					steps[n].Needs = append(steps[n].Needs, store.Need{Step: m, Made: a.Gate == lang.GateMade})
				}
				// The old prerequisite goes after the old dependent.
				old, oldGoes := removing[a.Name]
				user, userGoes := removing[c.Resource]
				if oldGoes && userGoes && c.Change == change.Rebuild {
					steps[old].Needs = append(steps[old].Needs, store.Need{Step: user})
				}
			}
		}
		if n, ok := removing[c.Resource]; ok && c.Change == change.Remove {
			for _, a := range c.After {
				if m, changes := removing[a.Name]; changes {
					steps[n].Needs = append(steps[n].Needs, store.Need{Step: m})
				}
			}
		}
	}
	return withProof(steps, r, d)
}

// keepPace lets a member of a group begin once the member so many places before
// it is healthy.
func keepPace(steps []store.Step, changes []change.Change, making, removing map[string]int) {
	groups := map[string][]int{} // the last step of each member
	for _, c := range changes {
		last, changing := making[c.Resource]
		if c.AtOnce == 0 || !changing {
			continue
		}
		first := last
		if gone, rebuilt := removing[c.Resource]; rebuilt {
			first = gone
		}
		if before := groups[c.Group]; int64(len(before)) >= c.AtOnce {
			steps[first].Needs = append(steps[first].Needs, store.Need{Step: before[int64(len(before))-c.AtOnce]})
		}
		groups[c.Group] = append(groups[c.Group], last)
	}
}

// Forecast tells how long the steps take together in real time and the chain of
// resources that decides it.
func Forecast(steps []store.Step) (time.Duration, []string) {
	g := graph.Graph{Needs: make([][]int, len(steps))}
	weight := make([]float64, len(steps))
	for i, s := range steps {
		weight[i] = float64(s.ExpectMS)
		for _, n := range s.Needs {
			g.Needs[i] = append(g.Needs[i], n.Step)
		}
	}
	total, chain := 0.0, []string{}
	for _, i := range g.CriticalPath(weight) {
		total += weight[i]
		chain = append(chain, steps[i].Resource)
	}
	return time.Duration(total) * time.Millisecond, chain
}

// newToken names a resource in the cloud. It is drawn once for a step and kept,
// so that a call can be repeated by whoever takes the run over.
func newToken(typeName string) string {
	raw := make([]byte, 10)
	rand.Read(raw)
	return "us-" + strings.ReplaceAll(typeName, "_", "-") + "-" + strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(raw))
}

// usualPatience is the deadline, in cloud seconds, of what no rendering tells of.
const usualPatience = 1800

// patienceOf looks the patience of resources up in a rendering, which may be nil.
func patienceOf(r *render.Rendering) func(string) int64 {
	known := map[string]int64{}
	if r != nil {
		for _, res := range r.Resources {
			known[res.Name] = res.Patience
		}
	}
	return func(name string) int64 {
		if seconds, ok := known[name]; ok {
			return seconds
		}
		return usualPatience
	}
}
