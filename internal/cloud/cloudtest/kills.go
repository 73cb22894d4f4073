package cloudtest

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
)

// Subject is one resource whose making, altering and removing is cut off at each call.
type Subject struct {
	Type string
	// Before are made first and stay: by name their type and what they want. Wants may
	// name others as "=NAME", which stands for the id.
	Before []Given
	Want   map[string]any
	Alter  map[string]any
}

// Given is a resource that a subject needs.
type Given struct {
	Name, Type string
	Want       map[string]any
}

// Killed counts the cuts of a matrix.
type Killed struct{ Create, Alter, Remove int }

// Total is how many there were.
func (k Killed) Total() int { return k.Create + k.Alter + k.Remove }

// Kills cuts the process off at every changing call of a subject, before the call is sent
// and after it was carried out, takes over with what was committed, and checks that in the
// end nothing was made twice and nothing is left. Things counts by kind what carries a
// mark and is there.
func Kills(t *testing.T, p Place, faults *Faults, s Subject, things func(mark string) map[string]int) Killed {
	t.Helper()
	m := &matrix{t: t, p: p, faults: faults, s: s, things: things, ids: map[string]string{}}
	var made []cloud.Ref
	for i, g := range s.Before {
		live := p.ready(t, g.Type, fmt.Sprintf("us-before-%d-%s", i, strings.ReplaceAll(s.Type, "_", "-")),
			m.resolved(g.Want))
		m.ids[g.Name], made = live.ID, append(made, live.Ref)
	}
	var k Killed
	k.Create = m.each(cloud.Create)
	if s.Alter != nil {
		k.Alter = m.each(cloud.Alter)
	}
	k.Remove = m.each(cloud.Remove)
	for _, ref := range slices.Backward(made) {
		p.removed(t, ref)
	}
	return k
}

type matrix struct {
	t      *testing.T
	p      Place
	faults *Faults
	s      Subject
	things func(mark string) map[string]int
	ids    map[string]string
	number int
}

// resolved puts ids in the place of names.
func (m *matrix) resolved(v map[string]any) map[string]any {
	out, _ := m.value(v).(map[string]any)
	return out
}

func (m *matrix) value(v any) any {
	switch x := v.(type) {
	case string:
		if name, reads := strings.CutPrefix(x, "="); reads {
			return m.ids[name]
		}
	case []any:
		out := make([]any, len(x))
		for i, e := range x {
			out[i] = m.value(e)
		}
		return out
	case map[string]any:
		out := map[string]any{}
		for k, e := range x {
			out[k] = m.value(e)
		}
		return out
	}
	return v
}

// each cuts an action off at every call that it makes.
func (m *matrix) each(action cloud.Action) (cuts int) {
	for through := 0; ; through++ {
		for _, after := range []bool{false, true} {
			if !m.once(action, through, after) {
				return cuts
			}
			cuts++
		}
	}
}

// once cuts an action off at one call; false says that it makes fewer.
func (m *matrix) once(action cloud.Action, through int, after bool) bool {
	m.t.Helper()
	m.number++
	token := fmt.Sprintf("us-kill-%s-%d", strings.ReplaceAll(m.s.Type, "_", "-"), m.number)
	what := fmt.Sprintf("%s of %s, cut at call %d, sent: %t", action, m.s.Type, through+1, after)
	task := m.p.create(m.s.Type, token, m.resolved(m.s.Want))
	if action != cloud.Create {
		live := m.p.ready(m.t, m.s.Type, token, m.resolved(m.s.Want))
		task.Ref = live.Ref
	}
	switch action {
	case cloud.Create:
	case cloud.Alter:
		task.Action, task.Want, task.Tags = cloud.Alter, m.resolved(m.s.Alter), nil
	case cloud.Remove:
		task = cloud.Task{Action: cloud.Remove, Ref: task.Ref}
	}
	m.faults.Cut(through, after)
	ref, err := m.p.drive(ctx(m.t), task)
	if !m.faults.Mend() {
		if err != nil {
			m.t.Fatalf("%s: %v", what, err)
		}
		m.p.clear(m.t, ref)
		return false
	}
	// Whoever takes over has what was committed: the parts that were intended or seen.
	task.Ref = ref
	for deadline := time.Now().Add(2 * m.p.patience()); ; time.Sleep(m.p.patience() / 200) {
		if task.Ref, err = m.goOn(task); err == nil {
			break
		}
		if !cloud.ClassOf(err).Passing() || time.Now().After(deadline) {
			m.t.Fatalf("%s: taking over: %v", what, err)
		}
	}
	if action == cloud.Remove {
		m.p.gone(m.t, task.Ref)
	} else {
		live := m.p.await(m.t, task.Ref)
		for kind, n := range m.things(token) {
			if n > 1 {
				m.t.Errorf("%s: there are %d of kind %s", what, n, kind)
			}
		}
		for name, want := range task.Want {
			if has, told := live.Has[name]; action == cloud.Alter && told && !change.Holds(m.s.Type, name, want, has) {
				m.t.Errorf("%s: %s is %v, not %v", what, name, has, want)
			}
		}
		task.Ref = live.Ref
		m.p.clear(m.t, task.Ref)
	}
	if left := m.things(token); len(left) > 0 {
		m.t.Errorf("%s: %v is left", what, left)
	}
	return true
}

// goOn takes a task up as the engine does: it looks for what may have been made, then
// makes what is missing.
func (m *matrix) goOn(task cloud.Task) (cloud.Ref, error) {
	live, there, err := m.p.Adapter.Look(ctx(m.t), task.Ref)
	if err != nil {
		return task.Ref, err
	}
	if there == cloud.Present {
		for _, part := range live.Parts {
			task.Ref = task.Ref.With(part)
		}
		if task.Action == cloud.Alter && live.Phase == cloud.Making {
			return task.Ref, &cloud.Error{Class: cloud.Conflict, Message: "it is being altered"}
		}
	}
	// What nobody sees once it could be seen is not there.
	task.Ref, _ = task.Ref.Settle(time.Now().Add(time.Hour), time.Minute)
	return m.p.drive(ctx(m.t), task)
}

// clear removes a resource and waits until it is gone.
func (p Place) clear(t *testing.T, ref cloud.Ref) {
	t.Helper()
	if on, can := p.Adapter.(cloud.Settler); can {
		if err := on.Confirm(ctx(t), ref); err != nil {
			t.Fatal(err)
		}
	}
	p.removed(t, ref)
}
