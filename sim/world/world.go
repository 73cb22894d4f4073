// Package world is the state behind the simulated clouds: every resource ever
// made, every call received, faults to come, and the clock. It lasts in a
// journal, so that a restarted simulator goes on where it was, even after it
// was killed.
package world

import (
	"bufio"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"
)

// Phase is where a resource of a simulated cloud is in its life.
type Phase string

// The phases.
const (
	Making   Phase = "making"
	Ready    Phase = "ready"
	Changing Phase = "changing"
	Broken   Phase = "broken"
	Removing Phase = "removing"
	Gone     Phase = "gone"
)

// Resource is one resource, alive or gone. Times are real time.
type Resource struct {
	Account    string            `json:"account"`
	Region     string            `json:"region"`
	Kind       string            `json:"kind"`
	Name       string            `json:"name"` // chosen by the client, unique in account, region and kind
	ID         string            `json:"id"`
	Label      string            `json:"label"`
	Properties map[string]any    `json:"properties"`
	Attributes map[string]any    `json:"attributes"`
	Tags       map[string]string `json:"tags"`
	Digest     string            `json:"digest"` // of the creating body
	Generation int               `json:"generation"`
	MadeAt     time.Time         `json:"made_at"`
	MadeBy     string            `json:"made_by,omitempty"` // id of the resource that made it by itself
	ReadyAt    time.Time         `json:"ready_at"`
	BreaksAt   time.Time         `json:"breaks_at,omitzero"`
	Why        string            `json:"why,omitempty"`
	ChangedAt  time.Time         `json:"changed_at,omitzero"` // when a change takes hold
	RemoveAt   time.Time         `json:"remove_at,omitzero"`  // when removal is over
	VisibleAt  time.Time         `json:"visible_at,omitzero"` // before it nobody sees the resource
}

// PhaseAt tells the phase at a moment.
func (r *Resource) PhaseAt(now time.Time) Phase {
	switch {
	case !r.RemoveAt.IsZero() && !now.Before(r.RemoveAt):
		return Gone
	case !r.RemoveAt.IsZero():
		return Removing
	case !r.BreaksAt.IsZero() && !now.Before(r.BreaksAt):
		return Broken
	case now.Before(r.ReadyAt):
		return Making
	case now.Before(r.ChangedAt):
		return Changing
	}
	return Ready
}

// Call is one request that a cloud received.
type Call struct {
	At      time.Time `json:"at"`
	Account string    `json:"account,omitempty"`
	Method  string    `json:"method"`
	Path    string    `json:"path"`
	Status  int       `json:"status"`
	Fault   string    `json:"fault,omitempty"`
}

type entry struct {
	Resource *Resource      `json:"resource,omitempty"`
	Call     *Call          `json:"call,omitempty"`
	Faults   *[]Fault       `json:"faults,omitempty"`
	Notes    map[string]any `json:"facts,omitempty"`
}

// World is safe for concurrent use.
type World struct {
	mu        sync.Mutex
	resources map[string]*Resource // by key
	before    map[string]*Resource // by key: as they were before the last change
	order     []string
	byID      map[string]*Resource
	calls     []Call
	faults    []Fault
	nextFault int
	notes     map[string]any
	journal   *bufio.Writer
	file      *os.File
	pace      float64
	seed      uint64
}

// Open reads the journal of a directory, or begins one.
func Open(dir string, pace float64, seed uint64) (*World, error) {
	w := &World{
		resources: map[string]*Resource{},
		before:    map[string]*Resource{},
		byID:      map[string]*Resource{},
		notes:     map[string]any{},
		pace:      pace,
		seed:      seed,
	}
	path := filepath.Join(dir, "journal.jsonl")
	if err := w.replay(path); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open journal: %w", err)
	}
	w.file, w.journal = file, bufio.NewWriter(file)
	return w, nil
}

func (w *World) replay(path string) error {
	file, err := os.Open(path)
	if os.IsNotExist(err) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("read journal: %w", err)
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var e entry
		if json.Unmarshal(lines.Bytes(), &e) != nil {
			continue // a line cut short by a kill: it was never answered
		}
		switch {
		case e.Resource != nil:
			w.keep(e.Resource)
		case e.Call != nil:
			w.calls = append(w.calls, *e.Call)
		case e.Faults != nil:
			w.faults = *e.Faults
			for _, f := range w.faults {
				w.nextFault = max(w.nextFault, f.ID)
			}
		case e.Notes != nil:
			maps.Copy(w.notes, e.Notes)
		}
	}
	return lines.Err()
}

func key(account, region, kind, name string) string {
	return account + "/" + region + "/" + kind + "/" + name
}

func (w *World) keep(r *Resource) {
	k := key(r.Account, r.Region, r.Kind, r.Name)
	if was, there := w.resources[k]; !there {
		w.order = append(w.order, k)
	} else if was != r {
		w.before[k] = was
	}
	w.resources[k] = r
	w.byID[r.ID] = r
}

func (w *World) write(e entry) {
	raw, err := json.Marshal(e)
	if err != nil {
		return
	}
	w.journal.Write(raw)
	w.journal.WriteByte('\n')
	w.journal.Flush()
}

// Close ends the journal.
func (w *World) Close() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.journal.Flush()
	return w.file.Close()
}

// Pace is how many cloud seconds pass in a real one.
func (w *World) Pace() float64 { return w.pace }

// Real turns cloud seconds into real time.
func (w *World) Real(cloudSeconds float64) time.Duration {
	return time.Duration(cloudSeconds / w.pace * float64(time.Second))
}

// Takes gives a duration with lognormal jitter (sigma 0.1) that depends only on
// the seed and the name, so that a run can be repeated.
func (w *World) Takes(cloudSeconds float64, name string) time.Duration {
	h := fnv.New64a()
	h.Write([]byte(name))
	r := rand.New(rand.NewPCG(w.seed, h.Sum64()))
	return w.Real(cloudSeconds * math.Exp(0.1*r.NormFloat64()))
}

// Update changes the world under its lock and journals what f returns.
func (w *World) Update(f func(tx *Tx) error) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	tx := &Tx{w: w, touched: map[string]*Resource{}}
	if err := f(tx); err != nil {
		return err
	}
	for _, k := range slices.Sorted(maps.Keys(tx.touched)) {
		w.keep(tx.touched[k])
		w.write(entry{Resource: tx.touched[k]})
	}
	return nil
}

// Tx reads and changes resources inside Update.
type Tx struct {
	w       *World
	touched map[string]*Resource
}

// Find returns a copy of a resource that is not gone, or nil.
func (t *Tx) Find(account, region, kind, name string) *Resource {
	return alive(t.w.resources[key(account, region, kind, name)])
}

// Ever returns a copy of a resource even when it is gone.
func (t *Tx) Ever(account, region, kind, name string) *Resource {
	return clone(t.w.resources[key(account, region, kind, name)])
}

// Before returns a resource as it was before its last change, or nil when it was
// not there yet.
func (t *Tx) Before(r *Resource) *Resource {
	return clone(t.w.before[key(r.Account, r.Region, r.Kind, r.Name)])
}

// ByID returns a copy of a resource of an account that is not gone, or nil.
func (t *Tx) ByID(account, id string) *Resource {
	r := alive(t.w.byID[id])
	if r == nil || r.Account != account {
		return nil
	}
	return r
}

// All returns copies of what is not gone and matches.
func (t *Tx) All(match func(*Resource) bool) []*Resource {
	now := time.Now()
	var out []*Resource
	for _, k := range t.w.order {
		if r := t.w.resources[k]; r.PhaseAt(now) != Gone && match(r) {
			out = append(out, clone(r))
		}
	}
	return out
}

// Everything calls f with every resource ever made, of every account. It must not change
// them.
func (t *Tx) Everything(f func(*Resource)) {
	for _, k := range t.w.order {
		f(t.w.resources[k])
	}
}

// Put keeps a resource.
func (t *Tx) Put(r *Resource) {
	t.touched[key(r.Account, r.Region, r.Kind, r.Name)] = r
	t.w.keep(r)
}

func alive(r *Resource) *Resource {
	if r == nil || r.PhaseAt(time.Now()) == Gone {
		return nil
	}
	return clone(r)
}

func clone(r *Resource) *Resource {
	if r == nil {
		return nil
	}
	c := *r
	c.Properties, c.Attributes, c.Tags = maps.Clone(r.Properties), maps.Clone(r.Attributes), maps.Clone(r.Tags)
	return &c
}

// Record notes a call.
func (w *World) Record(c Call) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.calls = append(w.calls, c)
	w.write(entry{Call: &c})
}

// Note reads a note that lasts, such as the claimed address block.
func (w *World) Note(name string) any {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.notes[name]
}

// Note reads a note within a transaction.
func (t *Tx) Note(name string) any { return t.w.notes[name] }

// SetNote writes a note down.
func (w *World) SetNote(name string, value any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.notes[name] = value
	w.write(entry{Notes: map[string]any{name: value}})
}
