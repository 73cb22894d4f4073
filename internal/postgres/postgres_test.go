package postgres

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"undersail/internal/await"

	"github.com/jackc/pgx/v5"
)

func count(t *testing.T, url string) (n int) {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "CREATE TABLE IF NOT EXISTS tide (at int); INSERT INTO tide VALUES (1)"); err != nil {
		t.Fatal(err)
	}
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM tide").Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// restoredIsCounted: a database that was filled from a backup knows what its tables hold, or its
// queries would go through whole tables.
func restoredIsCounted(t *testing.T, s *Server) {
	t.Helper()
	ctx := context.Background()
	admin, err := pgx.Connect(ctx, s.AdminURL())
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(ctx)
	if _, err := admin.Exec(ctx, "CREATE DATABASE anew OWNER "+ownerRole); err != nil {
		t.Fatal(err)
	}
	var backup bytes.Buffer
	if err := Dump(ctx, s.OwnerURL, &backup); err != nil {
		t.Fatal(err)
	}
	at := InDatabase(s.OwnerURL, "anew")
	if err := Load(ctx, at, &backup); err != nil {
		t.Fatal(err)
	}
	restored, err := pgx.Connect(ctx, at)
	if err != nil {
		t.Fatal(err)
	}
	defer restored.Close(ctx)
	var rows float64
	err = restored.QueryRow(ctx, "SELECT reltuples FROM pg_class WHERE relname = 'tide'").Scan(&rows)
	if err != nil || rows != 2 {
		t.Errorf("the restored table is taken to hold %g rows, %v", rows, err)
	}
}

func TestAServerIsTakenUpAgain(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dir := filepath.Join(t.TempDir(), "database")
	first, err := Start(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if place, err := os.ReadFile(filepath.Join(dir, "place")); err == nil {
			os.RemoveAll(strings.TrimSpace(string(place)))
		}
	})
	if n := count(t, first.OwnerURL); n != 1 {
		t.Fatal(n)
	}
	// Its starter was killed: the next one finds it running.
	second, err := Start(ctx, dir)
	if err != nil || second.URL != first.URL {
		t.Fatalf("a running server was not taken up again: %v", err)
	}
	if err := second.Stop(); err != nil {
		t.Fatal(err)
	}
	third, err := Start(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	if n := count(t, third.OwnerURL); n != 2 {
		t.Errorf("after a restart there are %d rows, want 2", n)
	}
	restoredIsCounted(t, third)
	if err := third.Stop(); err != nil {
		t.Error(err)
	}
	if err := third.Stop(); err != nil {
		t.Errorf("stopping twice: %v", err)
	}
}

func TestAServerThatDiesIsStartedAgain(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	dir := filepath.Join(t.TempDir(), "database")
	s, err := Start(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		s.Stop()
		if place, err := os.ReadFile(filepath.Join(dir, "place")); err == nil {
			os.RemoveAll(strings.TrimSpace(string(place)))
		}
	})
	count(t, s.OwnerURL)
	told := make(chan string, 100)
	kept := make(chan struct{})
	go func() { defer close(kept); s.Supervise(ctx, func(what string, _ error) { told <- what }) }()
	for round := range 2 {
		if err := syscall.Kill(s.process(), syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		for what := range told {
			if strings.Contains(what, "was started again") {
				break
			}
		}
		await.Until(t, "it lets us in again", func() bool {
			conn, err := pgx.Connect(ctx, s.URL)
			if err == nil {
				conn.Close(ctx)
			}
			return err == nil
		})
		if n := count(t, s.OwnerURL); n != round+2 {
			t.Errorf("after %d deaths there are %d rows", round+1, n)
		}
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	<-kept // what was stopped on purpose is not started again
}
