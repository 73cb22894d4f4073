package world

import (
	"maps"
	"time"
)

// Ledger is the truth that tests compare with: every resource ever made and
// every call. It holds no secret.
type Ledger struct {
	Alive []LedgerResource `json:"alive"`
	Gone  []LedgerResource `json:"gone"`
	Calls []Call           `json:"calls"`
}

// LedgerResource is one resource as the ledger tells it.
type LedgerResource struct {
	Account   string            `json:"account"`
	Region    string            `json:"region"`
	Kind      string            `json:"kind"`
	Name      string            `json:"name"`
	ID        string            `json:"id"`
	Label     string            `json:"label"`
	Tags      map[string]string `json:"tags"`
	Phase     Phase             `json:"phase"`
	MadeAt    time.Time         `json:"made_at"`
	ReadyAt   time.Time         `json:"ready_at"`
	RemovedAt time.Time         `json:"removed_at,omitzero"`
	// Properties are as the cloud has them, without secret values and first-boot
	// configuration.
	Properties map[string]any `json:"properties"`
}

// Ledger tells everything up to now.
func (w *World) Ledger() Ledger {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := time.Now()
	out := Ledger{Alive: []LedgerResource{}, Gone: []LedgerResource{}, Calls: append([]Call{}, w.calls...)}
	for _, k := range w.order {
		r := w.resources[k]
		line := LedgerResource{r.Account, r.Region, r.Kind, r.Name, r.ID, r.Label, r.Tags, r.PhaseAt(now), r.MadeAt,
			r.ReadyAt, r.RemoveAt, Shown(r.Properties)}
		if line.Phase == Gone {
			out.Gone = append(out.Gone, line)
		} else {
			out.Alive = append(out.Alive, line)
		}
	}
	return out
}

// Shown are properties that may leave the cloud.
func Shown(properties map[string]any) map[string]any {
	out := maps.Clone(properties)
	delete(out, "value")
	delete(out, "password")
	delete(out, "accounts")
	delete(out, "user_data")
	return out
}
