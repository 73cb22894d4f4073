package store

import (
	"errors"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/await"
)

const (
	northPierID = "22222222-2222-4222-8222-222222222222"
	quayID      = "33333333-3333-4333-8333-333333333333"
)

// TestNobodyRetiresWhatIsRead asks in the moment in which a stack would be retired, and takes
// away only the records that it was told of.
func TestNobodyRetiresWhatIsRead(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), t.Context()
	proposal := acceptedProposal(t, s)
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `INSERT INTO stacks (id, name, account, region, reads) VALUES ($1, 'pier',
			'saltmere-lab', 'north-fell', '{"warnings": {}}')`, northPierID)
		if err == nil {
			_, err = tx.Exec(ctx, `INSERT INTO resources (stack_id, name, type, declared, region, token, state, want,
				position)
				VALUES ($1, 'net', 'network', 'net', 'north-fell', 'us-1', 'healthy', '{}', 1),
				($1, 'gone', 'network', 'gone', 'north-fell', 'us-2', 'healthy', '{}', 2)`, stackID)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	retire := func() error {
		_, err := s.StartRun(ctx, NewRun{Proposal: proposal, Agreement: []byte("sealed"), Kind: "retire", By: "ines",
			Grace: time.Minute, Absent: []string{"gone"}, Moment: Moment{TakesAway: true, Retires: true}}, job)
		return err
	}
	var reader *ErrReader
	if err := retire(); !errors.As(err, &reader) || reader.Stack != "pier" {
		t.Errorf("a stack that pier reads is retired: %v", err)
	}
	if _, err := s.Pool.Exec(ctx, "UPDATE stacks SET retired_at = now() WHERE id = $1", northPierID); err != nil {
		t.Fatal(err)
	}
	if err := retire(); err != nil {
		t.Fatalf("nobody reads it any more: %v", err)
	}
	list, err := s.Resources(ctx, stackID)
	if err != nil || len(list) != 1 || list[0].Name != "net" {
		t.Errorf("recorded are %v, %v", list, err)
	}
}

// TestWhatIsKeptMovesWhereThereIsRoom asks for the room, and whether one may say so alone, in the
// moment of the move.
func TestWhatIsKeptMovesWhereThereIsRoom(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), t.Context()
	acceptedProposal(t, s)
	log := Kept{Token: "us-log", StackID: quayID, Stack: "quay", Account: "saltmere-lab", Region: "north-fell",
		Name: "log", Type: "disk"}
	if _, err := s.AddFound(ctx, []Kept{log}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, sql string
		alone     bool
		want      error
	}{
		{"the name is taken", `INSERT INTO resources (stack_id, name, type, declared, region, token, state, want,
			position) SELECT id, 'log', 'disk', 'log', region, 'us-other', 'healthy', '{}', 1 FROM stacks
			WHERE name = 'warnings'`, true, ErrConflict},
		{"the account is closed", "UPDATE resources SET name = 'other'; UPDATE accounts SET closed_at = now()", true,
			ErrConflict},
		{"one alone", "UPDATE accounts SET closed_at = NULL, second_person = true", true, ErrSecondPerson},
		{"two", "SELECT 1", false, nil},
		{"it is kept elsewhere by now", "SELECT 1", false, ErrMoved},
	} {
		if _, err := s.Pool.Exec(ctx, c.sql); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if err := s.MoveKept(ctx, log, "warnings", "log", c.alone, Who{}); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", c.name, err, c.want)
		}
	}
	list, err := s.KeptBy(ctx, "saltmere-lab", "warnings")
	if err != nil || len(list) != 1 || list[0].Name != "log" {
		t.Errorf("kept are %v, %v", list, err)
	}
}

// TestWhatWasFoundStandsInOnePlace: once a stack records a thing, it is not listed as found.
func TestWhatWasFoundStandsInOnePlace(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), t.Context()
	run := startedRun(t, s)
	log := Kept{Token: "us-log", StackID: quayID, Stack: "quay", Account: "saltmere-lab", Region: "north-fell",
		Name: "log", Type: "disk"}
	if _, err := s.AddFound(ctx, []Kept{log}); err != nil {
		t.Fatal(err)
	}
	w := &Write{Run: run, Claim: 1}
	w.PutResource(Resource{StackID: stackID, Name: "log", Type: "disk", Token: "us-log"})
	if err := s.Commit(ctx, w); err != nil {
		t.Fatal(err)
	}
	if list, err := s.AllKept(ctx); err != nil || len(list) != 0 {
		t.Errorf("it is listed as found still: %v %v", list, err)
	}
	if stack, name, kept, err := s.PlaceOf(ctx, "us-log"); stack != "warnings" || name != "log" || kept || err != nil {
		t.Errorf("it stands in %s/%s, kept %v, %v", stack, name, kept, err)
	}
	if news, err := s.AddFound(ctx, []Kept{log}); err != nil || len(news) != 0 {
		t.Errorf("what is recorded is found: %v %v", news, err)
	}
}

// TestASignInOfATerminalIsAskedForInItsTime tells too soon from not there.
func TestASignInOfATerminalIsAskedForInItsTime(t *testing.T) {
	t.Parallel()
	s, _, database := setupRefusing(t)
	ctx := t.Context()
	if _, err := s.AskSigningIn(ctx, "h", time.Hour); !errors.Is(err, ErrNotFound) {
		t.Errorf("one that is not there: %v", err)
	}
	database.after(1)
	if _, err := s.AskSigningIn(ctx, "h", time.Hour); err == nil || errors.Is(err, ErrNotFound) {
		t.Errorf("while nobody knows whether it is there: %v", err)
	}
	if err := s.AddSigningIn(ctx, "h", "terminal", []byte("sealed"), time.Hour); err != nil {
		t.Fatal(err)
	}
	if sealed, err := s.AskSigningIn(ctx, "h", time.Hour); string(sealed) != "sealed" || err != nil {
		t.Errorf("in its time: %s %v", sealed, err)
	}
	if _, err := s.AskSigningIn(ctx, "h", time.Hour); !errors.Is(err, ErrConflict) {
		t.Errorf("too soon: %v", err)
	}
}

// TestCredentialsAreRenewedOfWhatWasLookedAt: an account that is held to something else since is not
// renewed by who did not see it.
func TestCredentialsAreRenewedOfWhatWasLookedAt(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), t.Context()
	acceptedProposal(t, s)
	looked, err := s.Account(ctx, "saltmere-lab")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.BoundAccount(ctx, looked.Name, Bounds{SecondPerson: true}, Who{}, "second_person"); err != nil {
		t.Fatal(err)
	}
	looked.Credentials = []byte{2}
	if err := s.PutAccount(ctx, looked, looked.Revision, Who{}); !errors.Is(err, ErrMoved) {
		t.Errorf("it is renewed: %v", err)
	}
	now, err := s.Account(ctx, looked.Name)
	if err != nil || now.Credentials[0] != 1 {
		t.Fatalf("its credentials are %v, %v", now.Credentials, err)
	}
	now.Credentials = []byte{2}
	if err := s.PutAccount(ctx, now, now.Revision, Who{}); err != nil {
		t.Error(err)
	}
}

// TestWhoTakesAwayWaitsForWhoReads: a run of a stack begins after whoever looks at its outputs in this
// moment has begun, and then sees them.
func TestWhoTakesAwayWaitsForWhoReads(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), t.Context()
	proposal := acceptedProposal(t, s)
	began := make(chan error, 1)
	err := s.Tx(ctx, func(reader pgx.Tx) error {
		if err := lockStacks(ctx, reader, northPierID, []string{stackID}); err != nil {
			return err
		}
		go func() {
			_, err := s.StartRun(ctx, NewRun{Proposal: proposal, Agreement: []byte("sealed"), Kind: "retire",
				By: "ines", Grace: time.Minute, Moment: Moment{TakesAway: true, Retires: true}}, job)
			began <- err
		}()
		await.Until(t, "it waits for the reader", func() bool {
			if len(began) > 0 {
				t.Fatalf("it did not wait for the reader: %v", <-began)
			}
			var waits bool
			err := s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_stat_activity WHERE datname = "+
				"current_database() AND wait_event_type = 'Lock')").Scan(&waits)
			return err == nil && waits
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := <-began; err != nil {
		t.Error(err)
	}
}
