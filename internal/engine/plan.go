package engine

import (
	"crypto/rand"
	"encoding/base32"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/core/health"
	"undersail/internal/core/render"
	"undersail/internal/core/schedule"
	"undersail/internal/proposal"
	"undersail/internal/store"
)

// Steps turns the actions of a plan into the steps of a run, with the deadlines
// and the proof that its rendering asks for; a stack that is retired has none.
//
// A step acts on an identified resource: a creation on one with a token of its
// own, drawn here and kept for life, everything else on the recorded one, or on a
// kept one that is taken over.
func Steps(p change.Plan, d proposal.Durations, recorded []store.Resource) []store.Step {
	patience := patienceOf(p.Rendering)
	known := make(map[string]store.Resource, len(recorded))
	for _, row := range recorded {
		known[row.Name] = row
	}
	steps := make([]store.Step, 0, len(p.Actions)+1)
	for n, a := range p.Actions {
		c := p.Changes[a.Change]
		s := store.Step{
			Number:     n,
			Resource:   a.Resource,
			Type:       c.Type,
			Action:     string(a.Do),
			State:      string(schedule.Waiting),
			Needs:      []store.Need{},
			ExpectMS:   d.ExpectOf(p, a),
			PatienceMS: health.Patience(patience(c.Resource), d.Rate).Milliseconds(),
		}
		row, there := known[c.Resource]
		if c.Was != "" {
			row, there = known[c.Was]
		}
		if a.Do == change.Create || !there {
			s.Token = newToken(c.Type)
		} else {
			s.Token, s.Region, s.Parts, s.Type = row.Token, row.Region, row.Parts, row.Type
		}
		if strings.Contains(row.Reason, outOfPatience) && s.Token == row.Token {
			s.PatienceMS /= 4 // it was waited out in full before
		}
		for _, need := range a.Needs {
			s.Needs = append(s.Needs, store.Need{Step: need.Action, Made: need.Made})
		}
		steps = append(steps, s)
	}
	return withProof(steps, p.Rendering, d)
}

// outOfPatience is how the scheduler says that a step took too long.
const outOfPatience = "longer than its patience"

// newToken names a resource in the cloud. It is drawn once for a step and kept,
// so that a call can be repeated by whoever takes the run over.
func newToken(typeName string) string {
	raw := make([]byte, 10)
	rand.Read(raw)
	return "us-" + strings.ReplaceAll(typeName, "_", "-") + "-" +
		strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(raw))
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
