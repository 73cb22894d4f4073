package engine_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/change"
	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/engine"
	"undersail/internal/proposal"
	"undersail/internal/store"
)

// told writes steps as NUMBER CHANGE RESOURCE < what each needs.
func told(steps []store.Step) string {
	var out []string
	for _, s := range steps {
		var needs []string
		for _, n := range s.Needs {
			need := fmt.Sprint(n.Step)
			if n.Made {
				need += " made"
			}
			needs = append(needs, need)
		}
		slices.Sort(needs)
		out = append(out, strings.TrimSuffix(fmt.Sprintf("%d %s %s < %s", s.Number, s.Action, s.Resource,
			strings.Join(needs, ", ")), " < "))
	}
	return strings.Join(out, "\n")
}

func after(names ...string) []render.After {
	out := []render.After{}
	for _, n := range names {
		out = append(out, render.After{Name: n, Gate: lang.GateHealthy})
	}
	return out
}

// ordered gives changes the order of their actions; what goes was recorded as the
// changes tell it.
func ordered(r *render.Rendering, changes ...change.Change) change.Plan {
	var recorded []change.Recorded
	for _, c := range changes {
		if c.Change == change.Create {
			continue
		}
		was := change.Recorded{Name: c.Resource, Type: c.Type}
		for _, a := range c.After {
			was.After = append(was.After, a.Name)
		}
		recorded = append(recorded, was)
	}
	return change.Plan{Rendering: r, Changes: changes}.Ordered(recorded, offer.Everywhere{})
}

func TestStepsOfChanges(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		about   string
		changes []change.Change
		prove   bool
		want    string
	}{
		{"what is made waits for what is made, not for what stays",
			[]change.Change{
				{Resource: "net", Change: change.Same},
				{Resource: "lan", Change: change.Create, After: after("net")},
				{Resource: "host", Change: change.Create, After: append(after("lan"), render.After{Name: "net"})},
			},
			false, "0 create lan\n1 create host < 0"},
		{"existence is enough where that is asked",
			[]change.Change{
				{Resource: "a", Change: change.Create},
				{Resource: "b", Change: change.Create, After: []render.After{{Name: "a", Gate: lang.GateMade}}},
			},
			false, "0 create a\n1 create b < 0 made"},
		{"old ones go in the opposite order, new ones after them",
			[]change.Change{
				{Resource: "net", Change: change.Rebuild},
				{Resource: "lan", Change: change.Rebuild, After: after("net")},
			},
			false, "0 remove net < 2\n1 create net < 0\n2 remove lan\n3 create lan < 1, 2"},
		{"two at a time",
			[]change.Change{
				{Resource: "w0", Change: change.Create, Group: "w", AtOnce: 2},
				{Resource: "w1", Change: change.Alter, Group: "w", AtOnce: 2},
				{Resource: "w2", Change: change.Same, Group: "w", AtOnce: 2},
				{Resource: "w3", Change: change.Create, Group: "w", AtOnce: 2},
			},
			false, "0 create w0\n1 alter w1\n2 create w3 < 0"},
		{"one rebuild begins when the one before it is whole again",
			[]change.Change{
				{Resource: "w0", Change: change.Rebuild, Group: "w", AtOnce: 1},
				{Resource: "w1", Change: change.Rebuild, Group: "w", AtOnce: 1},
			},
			false, "0 remove w0\n1 create w0 < 0\n2 remove w1 < 1\n3 create w1 < 2"},
		{"the proof comes last",
			[]change.Change{{Resource: "a", Change: change.Create}, {Resource: "b", Change: change.Remove}},
			true, "0 create a\n1 remove b\n2 prove whole stack < 0, 1"},
		{"a stack in which nothing changes is still proved", nil, true, "0 prove whole stack"},
	} {
		r := &render.Rendering{}
		if c.prove {
			r.Prove = []health.Check{{Name: "tcp-1", Kind: "tcp", Within: 120}}
		}
		if got := told(engine.Steps(ordered(r, c.changes...), proposal.Durations{Rate: 1}, nil)); got != c.want {
			t.Errorf("%s:\ngot\n%s\nwant\n%s", c.about, got, c.want)
		}
	}
}

func TestStepsHaveThePatienceOfTheirRendering(t *testing.T) {
	t.Parallel()
	r := &render.Rendering{
		Resources: []render.Resource{{Name: "slow", Patience: 7200}},
		Prove:     []health.Check{{Within: 300}, {Within: 120}},
	}
	steps := engine.Steps(ordered(r, change.Change{Resource: "slow", Change: change.Create}, change.Change{
		Resource: "gone",
		Change:   change.Remove,
	}), proposal.Durations{Rate: 60}, nil)
	var got []int64
	for _, s := range steps {
		got = append(got, s.PatienceMS)
	}
	// In real milliseconds, a sixtieth of the cloud's: two hours, the usual half
	// hour, and the longest check of the proof with a minute to spare, which is less
	// than anything is given where a minute is a second.
	if !slices.Equal(got, []int64{120_000, 30_000, 30_000}) {
		t.Error(got)
	}
	retired := engine.Steps(ordered(nil, change.Change{Resource: "slow", Change: change.Remove}),
		proposal.Durations{Rate: 60}, nil)
	if len(retired) != 1 || retired[0].PatienceMS != 30_000 {
		t.Error(retired)
	}
}
