package render

import (
	"slices"

	"undersail/internal/core/expr"
)

// cell is a value between the inputs and the resources: an input, a computed
// value, or an output of an embedded template. It knows which resources stand
// behind it, so that a session computes it again when one of these reports
// something, and no sooner.
type cell struct {
	value any // as expressions read it
	// reads are the resources whose reported attributes stand behind the value.
	reads   []string
	compute func() (any, []string)
	stale   bool
	secret  bool // a secret's value is part of it
	waits   bool // something of it is not known
}

// cells are the fields of an object that expressions read.
type cells struct {
	session *session
	values  map[string]*cell
}

func (s *session) cells() *cells { return &cells{s, map[string]*cell{}} }

// put keeps the first value of a field and how it is computed again.
func (c *cells) put(name string, value any, reads []string, compute func() (any, []string)) {
	x := &cell{
		value:   value,
		reads:   reads,
		compute: compute,
		secret:  expr.HoldsSecret(value),
		waits:   expr.HoldsUnknown(value),
	}
	c.values[name] = x
	c.session.listen(x, reads, nil)
}

func (c *cells) has(name string) bool { return c.values[name] != nil }

// Field gives a value, computed again if it has to be. While secrets are
// revealed, what holds one is computed with its value in, and not kept; and so it is with
// marks in the places of secrets.
func (c *cells) Field(name string) any {
	x := c.values[name]
	if x == nil {
		return nil
	}
	if x.stale {
		before := x.reads
		x.stale = false
		x.value, x.reads = x.compute()
		x.secret, x.waits = expr.HoldsSecret(x.value), expr.HoldsUnknown(x.value)
		c.session.listen(x, x.reads, before)
	}
	// What reads an address is computed again with its mark, known or not: that it comes
	// from there shows in its place.
	if x.secret && c.session.revealing || c.session.marks != unmarked && (x.secret || x.waits || len(x.reads) > 0) {
		v, _ := x.compute()
		return v
	}
	return x.value
}

// reads gives the resources behind a field.
func (c *cells) reads(name string) []string {
	if x := c.values[name]; x != nil {
		return x.reads
	}
	return nil
}

// listener is what a session computes again after a report.
type listener interface{ outdated() }

func (c *cell) outdated() { c.stale = true }

// listen notes that a value depends on what resources report; before is what it
// depended on already.
func (s *session) listen(l listener, reads, before []string) {
	if s.readers == nil || slices.Equal(reads, before) {
		return // nothing will be reported to a plain rendering
	}
	for _, name := range reads {
		if list := s.readers[name]; len(list) == 0 || list[len(list)-1] != l {
			s.readers[name] = append(list, l)
		}
	}
}
