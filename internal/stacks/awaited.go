package stacks

import (
	"undersail/internal/core/state"
	"undersail/internal/proposal"
	"undersail/internal/store"
	"undersail/internal/templates"
)

// Awaited is an input that somebody has to give a value in the middle of a run.
type Awaited struct {
	Name  string `json:"name"`
	Title string `json:"title,omitempty"`
}

// AwaitedBy lists what a run can be given now: every input that is given later and has no
// value yet, so that nobody has to come twice.
func AwaitedBy(run store.Run, doc proposal.Document) (out []Awaited) {
	if !MayBeGiven(run) {
		return nil
	}
	template, _ := templates.Read(doc.Template.Bundle())
	if template == nil {
		return nil
	}
	for _, in := range template.Inputs {
		if in.Later && doc.Inputs[in.Name] == nil && run.Given[in.Name] == nil {
			out = append(out, Awaited{in.Name, in.Title})
		}
	}
	return out
}

// MayBeGiven reports whether a run takes values and agreements: while it goes on, and while
// it is parked for them.
func MayBeGiven(run store.Run) bool {
	return run.State == state.Queued || run.State == state.Underway ||
		run.State == state.Parked && (run.ParkedFor == state.ForInput || run.ParkedFor == state.ForAgreement)
}
