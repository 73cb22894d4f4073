package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/access"
	"undersail/internal/core/lang"
	"undersail/internal/core/state"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Awaited is an input that somebody has to give a value in the middle of a run.
type Awaited struct {
	Name  string `json:"name"`
	Title string `json:"title,omitempty"`
}

// awaited lists what a run can be given now: every input that is given later and has no
// value yet, so that nobody has to come twice.
func awaited(run store.Run, doc proposal.Document) (out []Awaited) {
	if !mayBeGiven(run) {
		return nil
	}
	template, _ := readText(doc.Template.Bundle())
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

// mayBeGiven reports whether a run takes values and agreements: while it goes on, and while
// it is parked for them.
func mayBeGiven(run store.Run) bool {
	return run.State == state.Queued || run.State == state.Underway || run.State == state.Parked && (run.ParkedFor == state.ForInput || run.ParkedFor == state.ForAgreement)
}

// Give gives the values that the run of a stack waits for, by the names of its
// inputs, and lets it go on. They are recorded as inputs of the stack. Values that ask for a
// consent or a second person are a small proposal: they are given when that is accepted.
func (s *Service) Give(ctx context.Context, u people.User, stack string, values map[string]any) (Run, error) {
	st, err := s.living(ctx, stack)
	if err != nil {
		return Run{}, err
	}
	if err := u.Must(access.Operate, st.Account); err != nil {
		return Run{}, err
	}
	run, err := s.store.LastRun(ctx, st.ID)
	if err != nil {
		return Run{}, refusal.Missing(err, "run of stack", stack, "propose it first")
	}
	if !mayBeGiven(run) {
		return Run{}, refusal.New(refusal.Conflict, "undersail watch "+fmt.Sprint(run.ID)+" tells what it does", "run %d of stack %s waits for no value", run.ID, stack)
	}
	_, doc, err := s.document(ctx, run.ProposalID)
	if err != nil {
		return Run{}, err
	}
	if doc.Template.Source == "" { // it takes away, and renders nothing
		return Run{}, refusal.New(refusal.Conflict, "undersail watch "+fmt.Sprint(run.ID)+" tells what it does", "run %d of stack %s waits for no value", run.ID, stack)
	}
	template, found := readText(doc.Template.Bundle())
	if template == nil {
		return Run{}, fmt.Errorf("read the template of run %d: %w", run.ID, found)
	}
	waits := awaited(run, doc)
	if len(waits) == 0 {
		return Run{}, refusal.New(refusal.Conflict, "undersail watch "+fmt.Sprint(run.ID)+" tells what it does", "run %d of stack %s waits for no value", run.ID, stack)
	}
	names := make([]string, len(waits))
	for i, w := range waits {
		names[i] = w.Name
	}
	remedy := "give what the run waits for: " + strings.Join(names, ", ")
	if len(values) == 0 {
		return Run{}, refusal.New(refusal.Invalid, remedy, "no value is given")
	}
	values = maps.Clone(values)
	for _, name := range slices.Sorted(maps.Keys(values)) {
		in := template.Input(name)
		if in == nil || !in.Later {
			return Run{}, refusal.New(refusal.Invalid, remedy, "`%s` is no value that is given later", name)
		}
		if !slices.Contains(names, name) {
			known := doc.Inputs[name]
			if v, now := run.Given[name]; now {
				known = v
			}
			return Run{}, refusal.New(refusal.Conflict, "when the run is over, propose with another one", "%s has its value: %v", name, known)
		}
		if values[name] = typed(in, values[name]); values[name] == nil {
			return Run{}, refusal.New(refusal.Invalid, remedy, "the value of %s is empty", name)
		}
	}
	return s.gift(ctx, u, run, doc, template, values)
}

// typed reads a text as what its input wants: who types a value has only texts.
func typed(in *lang.Input, v any) any {
	text, is := v.(string)
	switch {
	case is && strings.TrimSpace(text) == "":
		return nil
	case !is || in.Schema["type"] == "string":
		return v
	}
	return in.Read(lang.Typed(in.Name, text))
}
