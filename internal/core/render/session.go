package render

import (
	"errors"
	"fmt"
	"maps"
	"sync"

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
// tells of what is there already; Request.Reveal, when set, is asked for secrets
// only where a value is about to be sent.
func Accept(request Request) (*Session, *Rendering) {
	e := newEvaluator(request)
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

// Resolve computes a resource from everything reported so far: as it is shown,
// with secrets as references, and as it is sent, with their values. A value that
// still waits stays unresolved in both. Neither may be changed by the caller.
func (s *Session) Resolve(name string) (shown, sent Resource, err error) {
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
		shown.Pending = resource.Waits(shown.Want)
		shown.Checks = m.checks()
		m.e.collecting(func() { shown.Makes = m.e.makes(m.d, m.vars, m.object) })
		sent = shown
		if !expr.HoldsSecret(shown.Want) && !secretChecks(shown.Checks) {
			return
		}
		sent.Want = maps.Clone(shown.Want)
		s.root.revealed(func() {
			for property, v := range shown.Want {
				if expr.HoldsSecret(v) {
					sent.Want[property] = m.property(property)
				}
			}
			if secretChecks(shown.Checks) {
				sent.Checks = m.checks()
			}
		})
	})
	return shown, sent, err
}

// Prove computes the checks of the whole stack, as they are shown and as they
// are made.
func (s *Session) Prove() (shown, sent []health.Check, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.root
	err = e.computing(func() {
		e.collecting(func() { shown = e.healthChecks(e.template.Prove, "prove", e.vars) })
		if sent = shown; secretChecks(shown) {
			e.revealed(func() { e.collecting(func() { sent = e.healthChecks(e.template.Prove, "prove", e.vars) }) })
		}
	})
	return shown, sent, err
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

func secretChecks(checks []health.Check) bool {
	for _, c := range checks {
		if expr.HoldsSecret(c.Spec) {
			return true
		}
	}
	return false
}

func (s *session) revealed(compute func()) {
	s.revealing = true
	defer func() { s.revealing = false }()
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
