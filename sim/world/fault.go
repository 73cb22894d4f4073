package world

import (
	"slices"
	"strings"
)

// Fault is a misbehaviour to come. It strikes Count times, or always when Count
// is negative, on calls or resources that match.
type Fault struct {
	ID      int    `json:"id"`
	Kind    string `json:"kind"`
	Account string `json:"account,omitempty"` // empty matches every account
	On      string `json:"on,omitempty"`      // resource kind
	Label   string `json:"label,omitempty"`   // part of the resource's label or name
	Method  string `json:"method,omitempty"`
	Count   int    `json:"count"`
	Seconds int    `json:"seconds,omitempty"` // real seconds for slow, throttle, late-visibility and turns-back
	Value   int64  `json:"value,omitempty"`   // a lowered quota, or another limit
}

// FaultKinds lists the kinds with what they do.
var FaultKinds = map[string]string{
	"lose-answer":   "the call is carried out and its answer is lost",
	"server-error":  "the call answers 503 and nothing is carried out",
	"throttle":      "the call answers 429 with Retry-After",
	"slow":          "the answer takes seconds longer",
	"late-failure":  "the resource breaks while it is being made",
	"stuck":         "the resource is never made",
	"service-never": "no service of the guest ever comes up",
	"capacity":      "the zone has no machines left",
	"quota":         "the quota named by label is lowered to value",
	"limit": "the limit of the property on, such as databases.gib, that label names, least or most, " +
		"becomes value",
	"denied": "the account lacks the permission",

	"late-visibility": "the fresh resource is found by nobody for seconds",
	"stale-read":      "a read tells the resource as it was before a change of a moment ago",
	"credentials-end": "the account's credentials are not accepted any more",
	"turns-back":      "services of the guest come up and fail for good seconds later",
	"guest-dead":      "the guest answers nothing, while the cloud says that it is ready",
	"spoilt": "what the guest tells of the thing named by on is not right: cores, memory, disk, volume, " +
		"file-system, service, application, version, replication, queue, hosts, certificate, way-out, " +
		"message or sign-in",
	"disk-fails": "the disk breaks, and guests lose its mount",
	"zone-down":  "the zone named by label makes nothing and its guests answer nothing",
}

// AddFault plans a fault and returns it with its number.
func (w *World) AddFault(f Fault) Fault {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.nextFault++
	f.ID = w.nextFault
	w.faults = append(w.faults, f)
	w.write(entry{Faults: &w.faults})
	return f
}

// Faults lists what is planned.
func (w *World) Faults() []Fault {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]Fault{}, w.faults...)
}

// ClearFaults lifts one fault, or all for 0.
func (w *World) ClearFaults(id int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.faults = slices.DeleteFunc(slices.Clone(w.faults), func(f Fault) bool { return id == 0 || f.ID == id })
	if w.faults == nil {
		w.faults = []Fault{}
	}
	w.write(entry{Faults: &w.faults})
}

// Strike finds a planned fault of a kind that matches, uses it up once and
// returns it.
func (w *World) Strike(kind, account, on, label, method string) (Fault, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.strike(kind, account, on, label, method)
}

func (w *World) strike(kind, account, on, label, method string) (Fault, bool) {
	for i, f := range w.faults {
		if f.Kind != kind || !f.matches(account, on, label, method) {
			continue
		}
		if f.Count > 0 {
			w.faults[i].Count--
			if w.faults[i].Count == 0 {
				w.faults = slices.Delete(w.faults, i, i+1)
			}
			w.write(entry{Faults: &w.faults})
		}
		return f, true
	}
	return Fault{}, false
}

// Planned reports a matching fault without using it up.
func (w *World) Planned(kind, account, on, label string) (Fault, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return (&Tx{w: w}).Planned(kind, account, on, label)
}

func (f Fault) matches(account, on, label, method string) bool {
	return (f.Account == "" || f.Account == account) && (f.On == "" || f.On == on) &&
		(f.Label == "" || strings.Contains(label, f.Label)) && (f.Method == "" || method == "" || f.Method == method)
}

// Planned reports a matching fault without using it up.
func (t *Tx) Planned(kind, account, on, label string) (Fault, bool) {
	for _, f := range t.w.faults {
		if f.Kind == kind && f.matches(account, on, label, "") {
			return f, true
		}
	}
	return Fault{}, false
}

// Strike finds a planned fault that matches, uses it up once and returns it.
func (t *Tx) Strike(kind, account, on, label string) (Fault, bool) {
	return t.w.strike(kind, account, on, label, "")
}
