package engine

import "sync"

// mentions are what one execution has told, so that it is told once. It is safe for concurrent
// use.
type mentions struct {
	mu      sync.Mutex
	told    map[string]bool
	written map[string]int
}

func newMentions() *mentions { return &mentions{told: map[string]bool{}, written: map[string]int{}} }

// first says whether a thing is told for the first time.
func (m *mentions) first(thing string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	before := m.told[thing]
	m.told[thing] = true
	return !before
}

// read is how much of what a command wrote was told, by its mark.
func (m *mentions) read(mark string) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.written[mark]
}

func (m *mentions) readTo(mark string, length int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.written[mark] = length
}
