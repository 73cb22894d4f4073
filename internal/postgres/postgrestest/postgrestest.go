// Package postgrestest gives the tests of a package one real server and each
// test a database of its own, cloned from one that was prepared once.
package postgrestest

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	neturl "net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"syscall"
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
// that the others are cloned from up to date, as its owner, for the role that services have; nil
// leaves it as it is.
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
	// Below /var/tmp, where the server's user may go.
	dir, err := os.MkdirTemp("/var/tmp", "undersail-test-")
	if err != nil {
		return nil, err
	}
	stop = func() {
		if server != nil {
			server.Stop()
		}
		os.RemoveAll(dir)
	}
	if err = os.Chmod(dir, 0o711); err == nil {
		err = open(filepath.Join(dir, "database"), prepare)
	}
	if err != nil {
		stop()
		return nil, err
	}
	return stop, nil
}

// open starts a server on a copy of what the first package made. The database is brought up to
// date there too, which finds nothing to do where the same was done before.
func open(dir string, prepare func(url, owner string) error) (err error) {
	made, end, err := prepared()
	if err != nil {
		return err
	}
	defer end()
	_, missing := os.Stat(made)
	if missing == nil {
		err = copyOf(made, dir)
	}
	if err == nil {
		server, err = postgres.Start(context.Background(), dir)
	}
	if err == nil {
		err = forgetful()
	}
	if err == nil && prepare != nil {
		err = prepare(server.URL, server.OwnerURL)
	}
	if err != nil || missing == nil || prepare == nil {
		return err
	}
	if err = server.Down(); err == nil {
		err = save(dir, made)
	}
	return errors.Join(err, server.Up(context.Background()))
}

// save makes a copy for those who come later, in place of all that were made of something else. A
// whole one alone gets the name that they look for.
func save(dir, made string) error {
	old, err := filepath.Glob(filepath.Join(filepath.Dir(made), "*"))
	if err != nil {
		return err
	}
	for _, one := range old {
		if err := os.RemoveAll(one); err != nil {
			return err
		}
	}
	if err := copyOf(dir, made+".part"); err != nil {
		return err
	}
	return os.Rename(made+".part", made)
}

// prepared is where servers are copied from: by everything that decides what is in one. One
// package at a time looks and makes it.
func prepared() (dir string, end func(), err error) {
	_, here, _, _ := runtime.Caller(0)
	root := filepath.Join(filepath.Dir(here), "..", "..", "..")
	sum := sha256.New()
	for _, pattern := range []string{"/usr/lib/postgresql/*/bin/postgres", root + "/go.sum",
		root + "/internal/postgres/*.go", root + "/internal/store/migrations/*"} {
		files, err := filepath.Glob(pattern)
		if err != nil {
			return "", nil, err
		}
		for _, file := range files { // the path of a server tells its version
			fmt.Fprintln(sum, file)
			if !strings.HasPrefix(file, root) {
				continue
			}
			raw, err := os.ReadFile(file)
			if err != nil {
				return "", nil, err
			}
			sum.Write(raw)
		}
	}
	dir = filepath.Join(root, ".cache", "test-databases")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", nil, err
	}
	lock, err := os.Open(dir)
	if err != nil {
		return "", nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return "", nil, errors.Join(err, lock.Close())
	}
	return filepath.Join(dir, hex.EncodeToString(sum.Sum(nil)[:8])), func() { lock.Close() }, nil
}

// copyOf copies a server's folder with the owners that its files have.
func copyOf(from, to string) error {
	if err := os.RemoveAll(to); err != nil {
		return err
	}
	if out, err := exec.Command("cp", "-a", "--reflink=auto", from, to).CombinedOutput(); err != nil {
		return fmt.Errorf("copy %s: %w: %s", from, err, out)
	}
	return nil
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
	return postgres.InDatabase(server.URL, create(t, "TEMPLATE "+postgres.Database+" STRATEGY FILE_COPY"))
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
