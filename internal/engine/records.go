package engine

import (
	"sync"

	"undersail/internal/store"
)

const notRecorded = "it is not recorded any more"

// records are the resources of a stack as one execution knows them recorded, by name. It is safe
// for concurrent use: what it gives are copies, and what it has is changed by change alone. The
// maps of a resource are never written to, but replaced.
type records struct {
	mu   sync.Mutex
	rows map[string]*store.Resource
}

func newRecords(list []store.Resource) *records {
	r := &records{rows: map[string]*store.Resource{}}
	for _, row := range list {
		r.rows[row.Name] = &row
	}
	return r
}

// named is what is recorded under a name, or nil.
func (r *records) named(name string) *store.Resource {
	r.mu.Lock()
	defer r.mu.Unlock()
	row := r.rows[name]
	if row == nil {
		return nil
	}
	saved := *row
	return &saved
}

// of is what is recorded of the very resource that a step acts on, or nil.
func (r *records) of(s *store.Step) *store.Resource {
	if row := r.named(s.Resource); row != nil && row.Token == s.Token {
		return row
	}
	return nil
}

// all are in no order.
func (r *records) all() []store.Resource {
	r.mu.Lock()
	defer r.mu.Unlock()
	list := make([]store.Resource, 0, len(r.rows))
	for _, row := range r.rows {
		list = append(list, *row)
	}
	return list
}

func (r *records) put(row store.Resource) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.rows[row.Name] = &row
}

func (r *records) forget(name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.rows, name)
}

// change changes what is recorded of the very resource that a step acts on, and gives how it is
// then; nil where that is not recorded any more. It must not ask for records.
func (r *records) change(s *store.Step, how func(row *store.Resource)) *store.Resource {
	r.mu.Lock()
	defer r.mu.Unlock()
	row := r.rows[s.Resource]
	if row == nil || row.Token != s.Token {
		return nil
	}
	how(row)
	saved := *row
	return &saved
}
