package store

import (
	"context"
	"errors"
	"testing"
	"time"
)

// TestWhatIsDoneByItselfBeginsOnlyWhileItsAgreementHolds: everything that ends an agreement
// happens after it was looked at, and before the run begins.
func TestWhatIsDoneByItselfBeginsOnlyWhileItsAgreementHolds(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		sql    string
		begins bool
	}{
		"as it was looked at":      {"SELECT 1", true},
		"taken back":               {"UPDATE agreements SET ended_at = now(), ended_by = 'bo'", false},
		"over":                     {"UPDATE agreements SET ends_at = now()", false},
		"its giver has less":       {"UPDATE users SET roles = '{viewer}' WHERE name = 'bo'", false},
		"its giver is disabled":    {"UPDATE users SET disabled_at = now() WHERE name = 'bo'", false},
		"somebody else's is ended": {"UPDATE users SET disabled_at = now() WHERE name <> 'bo'", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, ctx := setup(t), context.Background()
			proposal := acceptedProposal(t, s)
			if _, err := s.AddUser(ctx, User{Name: "bo", Roles: []string{"reviewer"}}); err != nil {
				t.Fatal(err)
			}
			err := s.AddAgreement(ctx, Agreement{
				Kind:       "undo",
				Giver:      "bo",
				Roles:      []string{"reviewer"},
				StackID:    stackID,
				ProposalID: proposal,
				EndsAt:     time.Now().Add(time.Hour),
				Seal:       []byte("sealed"),
			})
			if err != nil {
				t.Fatal(err)
			}
			a, err := s.AgreementOf(ctx, proposal, "undo")
			if err != nil {
				t.Fatal(err)
			}
			if _, err := s.Pool.Exec(ctx, c.sql); err != nil {
				t.Fatal(err)
			}
			_, err = s.StartRun(ctx,
				NewRun{
					Proposal:  proposal,
					Agreement: []byte("sealed"),
					Kind:      "undo",
					By:        "bo",
					Grace:     time.Minute,
					Standing:  &Standing{a.ID, []string{"reviewer"}},
				}, job)
			if c.begins && err != nil || !c.begins && !errors.Is(err, ErrConflict) {
				t.Errorf("the run begins: %v", err)
			}
			p, err := s.Proposal(ctx, proposal)
			if want := map[bool]string{true: "applied", false: "accepted"}[c.begins]; err != nil || p.State != want {
				t.Errorf("the proposal is %s %v", p.State, err)
			}
		})
	}
}

// TestNobodyGivesAValueAloneOnceTheAccountWantsTwo asks in the transaction that gives it.
func TestNobodyGivesAValueAloneOnceTheAccountWantsTwo(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	id := startedRun(t, s)
	give := func(name string) error {
		run, err := s.Run(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		return s.Give(ctx, id, stackID,
			Gift{Values: map[string]any{name: "x"}, Before: run, Seal: []byte("sealed"), Text: "given"}, time.Minute,
			job)
	}
	if err := give("one"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Pool.Exec(ctx, "UPDATE accounts SET second_person = true"); err != nil {
		t.Fatal(err)
	}
	if err := give("two"); !errors.Is(err, ErrConflict) {
		t.Errorf("it is given alone: %v", err)
	}
	if run, err := s.Run(ctx, id); err != nil || len(run.Given) != 1 {
		t.Errorf("the run was given %v %v", run.Given, err)
	}
}
