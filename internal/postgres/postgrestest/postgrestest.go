// Package postgrestest gives the tests of a package one real server and each
// test a database of its own, cloned from one that was prepared once.
package postgrestest

import (
	"context"
	"fmt"
	neturl "net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/postgres"
)

var (
	server    *postgres.Server
	databases atomic.Int64
)

// Main runs the tests of a package with a server. Prepare brings the database
// that the others are cloned from up to date, as its owner, for the role that services have.
// What the tests share otherwise is ended after them.
func Main(m *testing.M, prepare func(url, owner string) error, after ...func()) {
	os.Exit(run(m, prepare, after))
}

func run(m *testing.M, prepare func(url, owner string) error, after []func()) int {
	stop, err := Open(prepare)
	if err != nil {
		fmt.Fprintln(os.Stderr, "test database:", err)
		return 1
	}
	defer stop()
	for _, end := range after {
		defer end()
	}
	return m.Run()
}

// T is what this package needs of a test; programs that measure have their own.
type T interface {
	Helper()
	Fatal(args ...any)
}

// Open starts the server for a program that is no test. Stop ends it and removes
// what it kept.
func Open(prepare func(url, owner string) error) (stop func(), err error) {
	dir, err := os.MkdirTemp("", "undersail-test-")
	if err != nil {
		return nil, err
	}
	stop = func() {
		if server != nil {
			server.Stop()
		}
		if place, err := os.ReadFile(filepath.Join(dir, "database", "place")); err == nil {
			os.RemoveAll(strings.TrimSpace(string(place)))
		}
		os.RemoveAll(dir)
	}
	if server, err = postgres.Start(context.Background(), filepath.Join(dir, "database")); err == nil {
		err = forgetful()
	}
	if err == nil {
		err = prepare(server.URL, server.OwnerURL)
	}
	if err != nil {
		stop()
		return nil, err
	}
	return stop, nil
}

// forgetful lets the server write without waiting for the disk: its data is
// thrown away after the tests, and a slow disk must not decide what they say.
// What survives a crash is tested with the built program and its own server.
func forgetful() error {
	ctx := context.Background()
	admin, err := pgx.Connect(ctx, postgres.InDatabase(server.AdminURL(), "postgres"))
	if err != nil {
		return err
	}
	defer admin.Close(ctx)
	for _, statement := range []string{"ALTER SYSTEM SET fsync = off", "ALTER SYSTEM SET full_page_writes = off",
		"SELECT pg_reload_conf()"} {
		if _, err := admin.Exec(ctx, statement); err != nil {
			return fmt.Errorf("%s: %w", statement, err)
		}
	}
	return nil
}

// Database makes a database for one test and gives its URL.
func Database(t T) string {
	t.Helper()
	return postgres.InDatabase(server.URL, create(t, "TEMPLATE "+postgres.Database))
}

// Empty makes a database without tables, and gives its URL for the role of a service and for
// the one that is to own the tables.
func Empty(t T) (url, owner string) {
	t.Helper()
	u, err := neturl.Parse(server.OwnerURL)
	if err != nil {
		t.Fatal(err)
	}
	name := create(t, "OWNER "+u.User.Username())
	return postgres.InDatabase(server.URL, name), postgres.InDatabase(server.OwnerURL, name)
}

func create(t T, how string) (name string) {
	t.Helper()
	ctx := context.Background()
	name = fmt.Sprint("test", databases.Add(1))
	admin, err := pgx.Connect(ctx, postgres.InDatabase(server.AdminURL(), "postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(ctx)
	if _, err := admin.Exec(ctx, "CREATE DATABASE "+name+" "+how); err != nil {
		t.Fatal(err)
	}
	return name
}

// AsAdmin is the URL of the superuser for the database of another URL: for tests that look
// behind what the service's role may.
func AsAdmin(url string) string {
	_, path, _ := strings.Cut(strings.TrimPrefix(url, "postgres://"), "/")
	name, _, _ := strings.Cut(path, "?")
	return postgres.InDatabase(server.AdminURL(), name)
}

// Away takes the server away for a while, with everything that is connected.
func Away(during time.Duration) error {
	if err := server.Down(); err != nil {
		return err
	}
	time.Sleep(during)
	return server.Up(context.Background())
}
