package proposing_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"undersail/internal/await"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
	"undersail/internal/store"
)

// TestAProviderIsAskedAnewAboutItsPeople: a token goes on no longer than the sign-in counts,
// whatever its own end is.
func TestAProviderIsAskedAnewAboutItsPeople(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Still(engine.Config{}, nil)
	ctx := context.Background()
	st, err := store.Open(ctx, r.DatabaseURL)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	for _, u := range []store.User{
		{Name: "wren", Roles: []string{"admin"}, Issuer: "https://people.saltmere.example", Subject: "1"},
		{Name: "nils", Roles: []string{"operator"}},
	} {
		if _, err := st.AddUser(ctx, u); err != nil {
			t.Fatal(err)
		}
	}
	tokens := map[string]string{}
	for _, name := range []string{"wren", "nils"} {
		if tokens[name], err = s.People.IssueToken(ctx, name, "for a year"); err != nil {
			t.Fatal(err)
		}
	}
	asks := func(name string) error {
		_, err := s.People.ByToken(ctx, tokens[name], "", true)
		return err
	}
	servicetest.Query(t, r, "UPDATE users SET signed_in_at = now() - interval '6 days'")
	if err := asks("wren"); err != nil {
		t.Errorf("within a week: %v", err)
	}
	servicetest.Query(t, r, "UPDATE users SET signed_in_at = now() - interval '8 days'")
	err = asks("wren")
	if servicetest.Kind(err) != refusal.Unauthenticated ||
		!strings.Contains(err.Error(), "was not asked about wren for longer than 7d") {
		t.Errorf("after a week: %v", err)
	}
	if err := asks("nils"); err != nil {
		t.Errorf("whom no provider knows: %v", err)
	}
	s.People.SignInBy(people.Signing{AskEvery: 30 * 24 * time.Hour})
	if err := asks("wren"); err != nil {
		t.Errorf("where the operator lets it count longer: %v", err)
	}
	servicetest.Query(t, r, "UPDATE users SET signed_in_at = NULL")
	if err := asks("wren"); servicetest.Kind(err) != refusal.Unauthenticated {
		t.Errorf("who never signed in: %v", err)
	}
}

const falls = `undersail: 1
about: {name: falls, version: 1.0.0, title: Falls}
resources:
  front: {type: address}
  back: {type: address, after: {front: healthy}, health: [{tells: {attribute: address, is: nowhere}, within: 5s}]}
`

// TestUndoingByItselfEndsWithTheAgreement: it is done in the name of whoever agreed, and not
// when they took it back, lost the right, or when somebody else wrote it down.
func TestUndoingByItselfEndsWithTheAgreement(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ sql, want string }{
		"as it was given": {"", state.Undone},
		"taken back": {"UPDATE agreements SET ended_at = now(), ended_by = 'bo'",
			"bo took the agreement to it back"},
		"the right is lost": {"UPDATE users SET roles = '{servicetest.Viewer}' WHERE name = 'bo'",
			"may not decide in account saltmere-lab any more"},
		"disabled": {"UPDATE users SET disabled_at = now() WHERE name = 'bo'",
			"bo, who agreed to it, is disabled"},
		"over":            {"UPDATE agreements SET ends_at = now() - interval '1 minute'", "not as it was given"},
		"somebody else's": {"UPDATE agreements SET giver = 'ines'", "not as it was given"},
		"nobody's":        {"DELETE FROM agreements", "nobody agreed to it"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := servicetest.New(t, 240)
			s, _ := r.Replica(0)
			ctx := context.Background()
			st, err := store.Open(ctx, r.DatabaseURL)
			if err != nil {
				t.Fatal(err)
			}
			defer st.Close()
			bo := people.User{Name: "bo", Roles: []string{"reviewer"}}
			if _, err := st.AddUser(ctx, store.User{Name: bo.Name, Roles: bo.Roles}); err != nil {
				t.Fatal(err)
			}
			p := r.Propose(s, "falls", falls, nil)
			if _, err := s.Proposing.Agree(ctx, bo, p.ID, proposing.Acceptance{OnFailure: state.Undo}); err != nil {
				t.Fatal(servicetest.Explain(err))
			}
			run, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
			if err != nil {
				t.Fatal(servicetest.Explain(err))
			}
			list, err := s.Proposing.Agreements(ctx, bo)
			if err != nil || len(list) != 1 || list[0].Giver != "bo" || list[0].Stack != "falls" {
				t.Errorf("bo is told of %+v %v", list, err)
			}
			if list, err := s.Proposing.Agreements(ctx, servicetest.Viewer); err != nil || len(list) != 0 {
				t.Errorf("others are told of %+v %v", list, err)
			}
			if c.sql != "" {
				servicetest.Query(t, r, c.sql)
			}
			var got stacks.Run
			await.Until(t, "it is undone, or asks", func() bool {
				got = r.Await(s, run.ID) // ended failed, before it is undone
				if got.State == state.Done {
					t.Fatal("it did not fail")
				}
				return got.State == state.Undone || got.State == state.Parked
			})
			if c.want == state.Undone {
				if got.State != state.Undone {
					t.Fatalf("%s: %s", got.State, got.Reason)
				}
				if runs, err := s.Stacks.Runs(ctx, "falls", 0, 1); err != nil || runs[0].StartedBy != "bo" {
					t.Errorf("it was undone by %v %v", runs, err)
				}
			} else if got.State != state.Parked || !strings.Contains(got.Reason, c.want) {
				t.Errorf("%s: %s", got.State, got.Reason)
			}
		})
	}
}

// TestWhatIsAgreedToIsWhatHappens: whoever can write to the database, past every use case,
// makes no agreement and changes none.
func TestWhatIsAgreedToIsWhatHappens(t *testing.T) {
	t.Parallel()
	for name, sql := range map[string]string{
		"another value":        `UPDATE proposals SET document = jsonb_set(document, '{inputs,note}', '"b"')`,
		"another decision":     `UPDATE proposals SET decided_by = 'ulf'`,
		"nobody's agreement":   `UPDATE proposals SET agreement = NULL`,
		"another's agreement":  `UPDATE proposals SET agreement = decode('00ff', 'hex')`,
		"a consent more":       `INSERT INTO consents (proposal_id, name, about, given_by) SELECT id, 'lose-data', '', 'ines' FROM proposals`,
		"undoing":              `UPDATE proposals SET on_failure = 'undo'`,
		"another hand":         `UPDATE proposals SET shaped_by = '{ulf}'`,
		"uses as if agreed to": `UPDATE proposals SET document = jsonb_set(document, '{uses}', '[]')`,
		"as of older programs": `UPDATE proposals SET document = document - 'uses_listed'`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := servicetest.New(t, 240)
			s, _ := r.Still(engine.Config{}, nil)
			ctx := context.Background()
			p := r.Propose(s, "vault", servicetest.Vault, map[string]any{})
			if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, servicetest.All(p), ""); err != nil {
				t.Fatal(servicetest.Explain(err))
			}
			servicetest.Query(t, r, sql)
			_, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
			if servicetest.Kind(err) != refusal.Conflict || !strings.Contains(err.Error(), "not what was agreed to") {
				t.Errorf("it is applied: %v", err)
			}
		})
	}
	// An engine holds it against the seal too, when it takes a run up.
	for name, sql := range map[string]string{
		"the document":   `UPDATE proposals SET document = jsonb_set(document, '{uses}', '[]')`,
		"what was given": `UPDATE runs SET given = '{"note": "b"}'`,
		"more uses":      `UPDATE runs SET agreed = (SELECT document->'uses' FROM proposals LIMIT 1)`,
	} {
		t.Run("an engine: "+name, func(t *testing.T) {
			t.Parallel()
			r := servicetest.New(t, 240)
			s, end := r.Still(engine.Config{}, nil)
			id := r.Carry(s, r.Propose(s, "vault", servicetest.Vault, map[string]any{}))
			end()
			servicetest.Query(t, r, sql)
			next, _ := r.Replica(time.Second)
			run := r.Await(next, id)
			if run.State != state.Failed || !strings.Contains(run.Reason, "somebody changed the record") {
				t.Errorf("%s: %s", run.State, run.Reason)
			}
			if alive := r.Ledger().Alive; len(alive) > 0 {
				t.Errorf("something was made: %v", alive)
			}
		})
	}
}
