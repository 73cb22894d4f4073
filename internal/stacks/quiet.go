package stacks

import (
	"sync"
	"time"
)

// Quiet is a service that changes nothing, since its database may be a copy, or behind.
type Quiet struct {
	// Why is empty of a service that is in charge.
	Why string `json:"why"`
	// Since is from which moment the records are.
	Since time.Time `json:"since"`
	// Looked says that everything was looked at: Differs is whole then.
	Looked  bool      `json:"looked"`
	Differs []Differs `json:"differs"`
}

// Differs is something that is otherwise in a cloud than in the records.
type Differs struct {
	Account  string `json:"account"`
	Stack    string `json:"stack"`
	Resource string `json:"resource"`
	ID       string `json:"id,omitempty"`
	// How is altered, missing, unrecorded, ahead or unseen.
	How string `json:"how"`
	// What says more, By who did it: a run of ours that the records do not know, or nobody
	// that is known.
	What string `json:"what"`
	By   string `json:"by"`
}

// quietness is whether the service is quiet.
type quietness struct {
	mu  sync.Mutex
	now Quiet
}
