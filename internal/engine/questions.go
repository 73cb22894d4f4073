package engine

import (
	"slices"
	"sync"

	"undersail/internal/core/use"
)

// questions are what one execution needs of persons before it goes on. It is safe for
// concurrent use.
type questions struct {
	mu     sync.Mutex
	values []string  // of which inputs somebody has to give
	uses   []use.Use // of secrets, to which somebody has to agree
}

// ask adds the inputs whose values are needed.
func (q *questions) ask(inputs []string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.values = slices.Compact(slices.Sorted(slices.Values(slices.Concat(q.values, inputs))))
}

// agree adds the uses that nobody agreed to.
func (q *questions) agree(uses []use.Use) {
	q.mu.Lock()
	defer q.mu.Unlock()
	known := use.Digests(q.uses)
	for _, u := range uses {
		if !known[u.Digest] {
			q.uses = append(q.uses, u)
		}
	}
}

// open are the questions that nobody has answered.
func (q *questions) open() (inputs []string, uses []use.Use) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return slices.Clone(q.values), slices.Clone(q.uses)
}

// answeredBy says whether values that were given let the run go on anew. What was agreed to is
// told by nothing but that something was given.
func (q *questions) answeredBy(values []string) bool {
	inputs, uses := q.open()
	return len(uses) > 0 || slices.ContainsFunc(inputs, func(name string) bool { return slices.Contains(values, name) })
}
