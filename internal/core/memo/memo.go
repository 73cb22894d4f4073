// Package memo keeps what is immutable and costly to make, such as checked
// expressions, by a key that holds everything it depends on. It must never keep
// results that depend on inputs.
package memo

import "sync"

// Of is a bounded memory of two generations: when the young one is full it
// becomes the old one, and what was in the old one and not asked for since is
// forgotten. The zero value is empty; Most must be set. It is safe for
// concurrent use.
type Of[T any] struct {
	// Most is how many things a generation holds.
	Most int

	mu         sync.Mutex
	young, old map[string]T
}

// Get finds what was kept under a key.
func (m *Of[T]) Get(key string) (T, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if v, ok := m.young[key]; ok {
		return v, true
	}
	v, ok := m.old[key]
	if ok {
		m.keep(key, v)
	}
	return v, ok
}

// Put keeps something.
func (m *Of[T]) Put(key string, v T) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.keep(key, v)
}

func (m *Of[T]) keep(key string, v T) {
	if m.young == nil || len(m.young) >= m.Most {
		m.old, m.young = m.young, make(map[string]T)
	}
	m.young[key] = v
}

// Forget empties the memory.
func (m *Of[T]) Forget() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.young, m.old = nil, nil
}
