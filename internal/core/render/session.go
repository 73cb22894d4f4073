package render

import (
	"errors"
	"fmt"
	"maps"
	"sync"

	"undersail/internal/core/budget"
	"undersail/internal/core/expr"
	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// Session keeps a rendering while its stack is being made, so that one resource
// can be computed from what the others have reported by then. The order, the
// names and what is there at all are those of the rendering: only values that
// read a report are computed again. It is safe for concurrent use.
type Session struct {
	mu   sync.Mutex
	root *evaluator
}

// Accept renders and keeps everything that later values depend on. Request.Known
// tells of what is there already. Secrets are revealed only where a value is about to be
// sent.
func Accept(b *budget.Budget, request Request) (*Session, *Rendering) {
	e := newEvaluator(b, request)
	e.readers, e.resolvable = map[string][]listener{}, map[string]*member{}
	e.render()
	e.out.Outputs = e.outputs()
	e.prove()
	return &Session{root: e}, e.out
}

// member is a resource whose values can be computed again.
type member struct {
	e      *evaluator
	d      *lang.Resource
	local  string
	vars   *expr.Vars
	object *expr.Object
	fields *fields
	reads  []string
	stale  bool
}

func (m *member) outdated() { m.stale = true }

// refresh computes the wanted values again if something behind them was reported.
func (m *member) refresh() {
	if !m.stale {
		return
	}
	m.stale = false
	reads := m.e.collecting(func() { m.fields.want, m.fields.reads, _ = m.e.want(m.d, m.local, m.vars) })
	m.e.listen(m, reads, m.reads)
	m.reads = reads
}

// property computes one wanted value as it is now.
func (m *member) property(name string) (v any) {
	p, _ := m.d.Type.Property(name)
	n := m.d.Want.Get(name)
	if n == nil {
		return m.fields.want[name]
	}
	m.e.collecting(func() {
		var err error
		if v, err = m.e.eval(n, p.Shape, m.vars); err != nil {
			m.e.broken(m.local+"."+name, n, err)
		}
	})
	if name == "tags" {
		v = m.e.tagged(m.d, v)
	}
	return v
}

// Report takes the attributes of a resource into account that is there now. Only
// what reads them is computed again, when it is next asked for.
func (s *Session) Report(name string, attributes map[string]any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	m := s.root.resolvable[name]
	if m == nil {
		return
	}
	m.fields.known = attributes
	for _, l := range s.root.readers[name] {
		l.outdated()
	}
}

// Position is the place of a resource in dependency order, or -1.
func (s *Session) Position(name string) int {
	if i, ok := s.root.out.index[name]; ok {
		return i
	}
	return -1
}

// Show computes a resource from everything reported so far, as it is shown: with
// references in the places of secrets. A value that still waits stays unresolved.
func (s *Session) Show(name string) (shown Resource, err error) {
	shown, _, err = s.Resolve(name, nil)
	return shown, err
}

// Resolve computes a resource as it is shown, and as it is sent: with the values of those
// secrets that reveal gives. Neither may be changed by the caller.
func (s *Session) Resolve(name string, reveal func(reference string) (string, bool)) (shown, sent Resource, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	m := s.root.resolvable[name]
	if m == nil {
		return shown, sent, fmt.Errorf("%s is not part of the rendering", name)
	}
	err = s.root.computing(func() {
		m.refresh()
		shown = s.root.out.Resources[s.root.out.index[name]]
		shown.Want = m.fields.want
		shown.Marks = m.marked()
		shown.Pending = resource.Waits(shown.Want)
		shown.Checks = m.checks()
		m.e.collecting(func() { shown.Makes = m.e.makes(m.d, m.vars, m.object) })
		sent = shown
		if reveal == nil || !expr.HoldsSecret(shown.Want) && !secretChecks(shown.Checks) {
			return
		}
		sent.Want = maps.Clone(shown.Want)
		s.root.revealed(reveal, func() {
			for property, v := range shown.Want {
				if expr.HoldsSecret(v) {
					sent.Want[property] = s.root.filled(v, m.property(property))
				}
			}
			if secretChecks(shown.Checks) {
				sent.Checks = s.root.filledChecks(shown.Checks, m.checks())
			}
		})
	})
	return shown, sent, err
}

// Prove computes the checks of the whole stack, as they are shown and as they are made.
func (s *Session) Prove(reveal func(reference string) (string, bool)) (shown, sent []health.Check, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.root
	err = e.computing(func() {
		e.collecting(func() { shown = e.healthChecks(e.template.Prove, "prove", e.vars) })
		if sent = shown; reveal != nil && secretChecks(shown) {
			e.revealed(reveal, func() {
				e.collecting(func() { sent = e.filledChecks(shown, e.healthChecks(e.template.Prove, "prove", e.vars)) })
			})
		}
	})
	return shown, sent, err
}

// Outputs computes the outputs with the values of those secrets that reveal gives.
func (s *Session) Outputs(reveal func(reference string) (string, bool)) (sent []Output) {
	s.mu.Lock()
	defer s.mu.Unlock()
	shown := s.root.outputs()
	byName := map[string]any{}
	for _, o := range shown {
		byName[o.Name] = o.Value
	}
	s.root.revealed(reveal, func() {
		sent = s.root.outputs()
		for i, o := range sent {
			sent[i].Value = s.root.filled(byName[o.Name], o.Value)
		}
	})
	return sent
}

func (m *member) checks() (checks []health.Check) {
	m.e.collecting(func() { checks = m.e.checks(m.d, m.vars, m.object, m.fields.want) })
	return checks
}

// checks computes the checks of a resource from everything reported so far. What they
// read of the resource's own wanted values stays as it was.
func (s *Session) checks(name string) (checks []health.Check, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	m := s.root.resolvable[name]
	if m == nil {
		return nil, nil // it is part of an embedded template that was left out
	}
	err = s.root.computing(func() { checks = m.checks() })
	return checks, err
}

// filled gives what is sent: what is shown with every secret in its place. Only where more
// is made of a secret than that, what was computed with its value.
func (s *session) filled(shown, computed any) any {
	switch t := shown.(type) {
	case resource.Unresolved:
		if t.Marked != nil && s.reveal != nil {
			if v, whole := resource.Filled(t.Marked, s.reveal); whole {
				return v
			}
		}
	case []any:
		list, same := computed.([]any)
		if !same || len(list) != len(t) {
			return computed
		}
		out := make([]any, len(t))
		for i, x := range t {
			out[i] = s.filled(x, list[i])
		}
		return out
	case map[string]any:
		fields, same := computed.(map[string]any)
		if !same {
			return computed
		}
		out := maps.Clone(fields)
		for key, x := range t {
			if v, there := fields[key]; there {
				out[key] = s.filled(x, v)
			}
		}
		return out
	}
	return computed
}

func (s *session) filledChecks(shown, computed []health.Check) []health.Check {
	for i, c := range shown {
		if i < len(computed) && computed[i].Spec != nil {
			computed[i].Spec, _ = s.filled(c.Spec, computed[i].Spec).(map[string]any)
		}
	}
	return computed
}

func secretChecks(checks []health.Check) bool {
	for _, c := range checks {
		if expr.HoldsSecret(c.Spec) {
			return true
		}
	}
	return false
}

func (s *session) revealed(reveal func(reference string) (string, bool), compute func()) {
	s.revealing, s.reveal = true, reveal
	defer func() { s.revealing, s.reveal = false, nil }()
	compute()
}

// computing computes something after acceptance and gives its faults as an error;
// the rendering itself stays as it was accepted.
func (s *session) computing(compute func()) error {
	findings, generated := len(s.out.Findings), len(s.out.Generated)
	clear(s.told)
	s.texts = 0
	compute()
	var faults []error
	for _, f := range s.out.Findings[findings:] {
		if f.Severity == lang.Error {
			faults = append(faults, fmt.Errorf("%s: %s", f.Place, f.Message))
		}
	}
	s.out.Findings, s.out.Generated = s.out.Findings[:findings], s.out.Generated[:generated]
	return errors.Join(faults...)
}
