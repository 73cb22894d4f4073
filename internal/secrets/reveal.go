package secrets

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/access"
	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/store"
)

// Asked names a value to be revealed: a reference such as db-password or
// intake/admin_password@1, or of a stack a secret input, a drawn key or a secret output.
type Asked struct {
	Reference string `json:"reference,omitempty"`
	Stack     string `json:"stack,omitempty"`
	Name      string `json:"name,omitempty"`
	Reason    string `json:"reason"`
}

// Revealed is a value that is handed over.
type Revealed struct {
	Reference string `json:"reference"`
	Value     string `json:"value"`
}

// leastReason is how many letters a reason has.
const leastReason = 4

// Reveal hands a value over, to an administrator and to whoever gave it or had it drawn,
// for a reason that the audit keeps. The audit is written first: nothing is handed over
// that it does not hold.
func (s *Secrets) Reveal(ctx context.Context, u people.User, a Asked) (Revealed, error) {
	if a.Reason = strings.TrimSpace(a.Reason); len([]rune(a.Reason)) < leastReason {
		return Revealed{}, refusal.New(refusal.Invalid, "say in a few words what it is needed for: --reason TEXT",
			"a secret is revealed for a reason")
	}
	found, err := s.asked(ctx, a)
	if err != nil {
		return Revealed{}, err
	}
	permit, closed := s.sealed.MayReveal(u.Actor(), found.rows...)
	if closed != nil {
		err := s.journal.RecordOf(ctx, u, "reveal", found.name, a.Reason, map[string]any{
			"refused":    true,
			"references": found.references(),
		})
		if err != nil {
			return Revealed{}, fmt.Errorf("recording it in the journal: %w", err)
		}
		remedy := "ask whoever administers " + cmp.Or(closed.Account, "the service")
		if closed.GivenBy != "" {
			remedy = "ask " + closed.GivenBy + ", who gave it, or whoever administers " +
				cmp.Or(closed.Account, "the service")
		}
		return Revealed{}, refusal.New(refusal.Forbidden, remedy, "you may not read %s", found.name)
	}
	value, err := found.open(permit)
	if err != nil {
		return Revealed{}, err
	}
	err = s.journal.RecordOf(ctx, u, "reveal", found.name, a.Reason, map[string]any{"references": found.references()})
	if err != nil {
		return Revealed{}, fmt.Errorf("recording it in the journal: %w", err)
	}
	return Revealed{found.name, value}, nil
}

// handed is something that can be revealed: what it is made of, and how it is opened.
type handed struct {
	name string
	rows []store.Secret
	open func(sealed.Permit) (string, error)
}

func (h handed) references() []string {
	out := []string{}
	for _, row := range h.rows {
		out = append(out, row.Reference)
	}
	return out
}

// asked finds what somebody asks for.
func (s *Secrets) asked(ctx context.Context, a Asked) (handed, error) {
	reference := strings.TrimPrefix(a.Reference, "secret:")
	switch {
	case reference != "" && a.Stack != "", reference == "" && (a.Stack == "" || a.Name == ""):
		return handed{}, refusal.New(refusal.Invalid, "name a reference, or a stack and what of it",
			"it is not clear what is to be revealed")
	case reference == "":
		return s.askedOfStack(ctx, a.Stack, a.Name)
	case strings.Contains(reference, "/"):
		stack, rest, _ := strings.Cut(reference, "/")
		if !strings.Contains(rest, "@") {
			return s.askedOfStack(ctx, stack, rest)
		}
		row, err := s.store.Secret(ctx, reference)
		if err == nil && !access.Sees(ctx, row.Account) {
			err = store.ErrNotFound
		}
		if err != nil {
			return handed{}, refusal.Missing(err, "secret", reference,
				"list those of the stack with: undersail outputs "+stack)
		}
		return s.single(row), nil
	}
	row, err := s.Referred(ctx, reference)
	if err != nil {
		return handed{}, err
	}
	if row.Kind == "public_key" {
		return handed{}, refusal.New(refusal.Invalid, "its public half is shown by: undersail secrets show "+reference,
			"somebody else has the private half of %s", reference)
	}
	return s.single(row), nil
}

func (s *Secrets) single(row store.Secret) handed {
	return handed{row.Reference, []store.Secret{row}, func(p sealed.Permit) (string, error) {
		plain, err := s.sealed.Open(context.Background(), p, row)
		return plain.Expose(), err
	}}
}

// askedOfStack finds a secret of a stack by the name of its input, its drawn key or its
// output.
func (s *Secrets) askedOfStack(ctx context.Context, stack, name string) (handed, error) {
	st, err := s.stacks.Living(ctx, stack)
	if err != nil {
		return handed{}, err
	}
	name = strings.TrimSuffix(name, ".private_key")
	if reference, ok := st.Secrets[name]; ok {
		row, err := s.store.Secret(ctx, reference)
		if err != nil {
			return handed{}, refusal.Missing(err, "secret", reference, "")
		}
		h := s.single(row)
		h.name = st.Name + "/" + name
		return h, nil
	}
	outputs, err := s.stacks.OutputsOf(ctx, st)
	if err != nil {
		return handed{}, err
	}
	names := slices.Sorted(maps.Keys(st.Secrets))
	for _, o := range outputs {
		if o.Secret {
			names = append(names, o.Name)
		}
		if !o.Secret || o.Name != name {
			continue
		}
		h := handed{name: st.Name + "/outputs/" + o.Name}
		for _, reference := range resource.Secrets(o.Value) {
			row, err := s.store.Secret(ctx, reference)
			if err != nil {
				return h, refusal.Missing(err, "secret", reference, "")
			}
			h.rows = append(h.rows, row)
		}
		if len(h.rows) == 0 || len(resource.Waits(o.Value)) > 0 {
			return h, refusal.New(refusal.Conflict, "wait until the stack is healthy", "output %s is not known yet",
				o.Name)
		}
		h.open = func(p sealed.Permit) (string, error) { return s.openOutput(ctx, st, o.Name, p) }
		return h, nil
	}
	return handed{}, refusal.New(refusal.NotFound, expr.Suggest(name, names, "it has no secrets"),
		"stack %s has no secret %q", stack, name)
}

// openOutput computes an output with the secrets that a permit opens in their places.
func (s *Secrets) openOutput(ctx context.Context, st store.Stack, name string, p sealed.Permit) (string, error) {
	reveal, err := s.sealed.Opened(ctx, p)
	if err != nil {
		return "", fmt.Errorf("reading the opened: %w", err)
	}
	values, err := s.stacks.SentOutputs(ctx, st, reveal)
	if err != nil {
		return "", err
	}
	if text, is := values[name].(string); is {
		return text, nil
	}
	raw, err := json.Marshal(values[name])
	return string(raw), err
}
