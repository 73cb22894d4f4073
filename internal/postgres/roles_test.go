package postgres

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"undersail/internal/tlstest"

	"github.com/jackc/pgx/v5"
)

// started gives a server that goes with the test, and the directory that it is in.
func started(t *testing.T) (*Server, string) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "database")
	s, err := Start(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		s.Stop()
		os.RemoveAll(s.base)
	})
	return s, dir
}

func statement(t *testing.T, url, sql string) error {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), url)
	if err != nil {
		return err
	}
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), sql)
	return err
}

// TestTheRolesOfAServiceGetNoFurther does what somebody would who found a way to run
// statements as the service.
func TestTheRolesOfAServiceGetNoFurther(t *testing.T) {
	t.Parallel()
	s, _ := started(t)
	err := statement(t, s.OwnerURL, "CREATE TABLE tide (at int); GRANT SELECT, INSERT ON tide TO "+serviceRole)
	if err != nil {
		t.Fatal(err)
	}
	if err := statement(t, s.URL, "INSERT INTO tide VALUES (1)"); err != nil {
		t.Fatalf("what was granted: %v", err)
	}
	proof := filepath.Join(t.TempDir(), "proof")
	for _, url := range []string{s.URL, s.OwnerURL} {
		for what, sql := range map[string]string{
			"a program":           "COPY (SELECT 1) TO PROGRAM 'touch " + proof + "'",
			"a program that asks": "COPY tide FROM PROGRAM 'id'",
			"a file":              "COPY (SELECT 1) TO '" + proof + "'",
			"reading a file":      "SELECT pg_read_file('/etc/passwd')",
			"listing files":       "SELECT pg_ls_dir('.')",
			"an object of files":  "SELECT lo_export(lo_create(0), '" + proof + "')",
			"a superuser":         "ALTER ROLE " + serviceRole + " SUPERUSER",
			"another role":        "CREATE ROLE mallory LOGIN",
			"becoming one":        "SET ROLE " + superuser,
			"settings":            "ALTER SYSTEM SET archive_command = 'touch " + proof + "'",
			"a language": "CREATE FUNCTION f() RETURNS void LANGUAGE c AS " +
				"'/lib/x86_64-linux-gnu/libc.so.6', 'system'",
			"an extension":        "CREATE EXTENSION adminpack",
			"hashes of passwords": "SELECT rolpassword FROM pg_authid",
			"another database":    "CREATE DATABASE mallory",
			"reading the config":  "SELECT pg_reload_conf()",
		} {
			if err := statement(t, url, sql); err == nil {
				t.Errorf("%s may be done by %s", what, url[:strings.LastIndexByte(url, ':')])
			}
		}
	}
	for what, sql := range map[string]string{
		"a table":              "CREATE TABLE mallory (x int)",
		"a temporary one":      "CREATE TEMP TABLE mallory (x int)",
		"what was not granted": "DELETE FROM tide",
		"a trigger":            "ALTER TABLE tide DISABLE TRIGGER ALL",
		"emptying":             "TRUNCATE tide",
		"dropping":             "DROP TABLE tide",
		"a schema":             "CREATE SCHEMA mallory",
	} {
		if err := statement(t, s.URL, sql); err == nil {
			t.Errorf("the service's role may do: %s", what)
		}
	}
	if _, err := os.Stat(proof); err == nil {
		t.Error("a file was written through the database")
	}
}

// TestNothingPlantedInTheDatabaseIsFollowed does what somebody would who got to be the
// server's own user.
func TestNothingPlantedInTheDatabaseIsFollowed(t *testing.T) {
	t.Parallel()
	s, dir := started(t)
	if s.owner == nil {
		t.Log("the server runs as the caller: there is nobody to plant anything")
	} else {
		for _, path := range []string{s.base, filepath.Join(s.base, "server.log"), filepath.Join(s.base, "password"),
			filepath.Join(s.base, "service-password")} {
			info, err := os.Lstat(path)
			if err != nil {
				t.Fatal(err)
			}
			if st := info.Sys().(*syscall.Stat_t); st.Uid != 0 || info.Mode().Perm()&0o022 != 0 {
				t.Errorf("%s belongs to user %d, mode %v", path, st.Uid, info.Mode())
			}
		}
		for what, args := range map[string][]string{
			"a link beside the data":         {"-s", "/etc/passwd", filepath.Join(s.base, "planted")},
			"a link in the place of the log": {"-sf", "/etc/passwd", filepath.Join(s.base, "server.log")},
		} {
			cmd := exec.Command("ln", args...)
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.owner}
			if out, err := cmd.CombinedOutput(); err == nil {
				t.Errorf("the server's user may make %s: %s", what, out)
			}
		}
		cmd := exec.Command("cat", filepath.Join(s.base, "owner-password"))
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.owner}
		if cmd.Run() == nil {
			t.Error("the server's user reads the passwords")
		}
	}
	// A log that is a link is not written to, however it came there.
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	target, log := filepath.Join(t.TempDir(), "target"), filepath.Join(s.base, "server.log")
	if err := os.WriteFile(target, []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	os.Remove(log)
	if err := os.Symlink(target, log); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(context.Background(), dir); err == nil {
		t.Error("a log that is a link was written to")
	}
	if got, _ := os.ReadFile(target); string(got) != "mine" {
		t.Errorf("the target of the link holds %q", got)
	}
	os.Remove(log)
	// The file that names the server's process is the server's: it must not make us end another.
	victim := exec.Command("sleep", "300")
	if err := victim.Start(); err != nil {
		t.Fatal(err)
	}
	defer victim.Process.Kill()
	pidFile := filepath.Join(s.dir, "postmaster.pid")
	err := os.WriteFile(pidFile, fmt.Appendf(nil, "%d\n%s\n0\n%d\n", victim.Process.Pid, s.dir, s.port), 0o600)
	if err != nil {
		t.Fatal(err)
	}
	if port, pid := running(s.dir, s.owner); pid != 0 {
		t.Errorf("process %d at port %d is taken for the server", pid, port)
	}
	os.Remove(pidFile)
	again, err := Start(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Stop()
	if err := victim.Process.Signal(syscall.Signal(0)); err != nil {
		t.Error("a process that is none of ours was ended")
	}
}

// TestOlderDirectoriesAreHandedOver starts on what a program left whose role was the
// superuser, and whose directory was the server's user's.
func TestOlderDirectoriesAreHandedOver(t *testing.T) {
	t.Parallel()
	s, dir := started(t)
	err := statement(t, s.admin,
		"CREATE TABLE tide (id bigint GENERATED ALWAYS AS IDENTITY, at int); INSERT INTO tide (at) VALUES (7); "+
			"CREATE TYPE phase AS ENUM ('ebb', 'flood'); CREATE SEQUENCE alone; CREATE FUNCTION seven() RETURNS int "+
			"LANGUAGE sql AS 'SELECT 7'")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if s.owner != nil {
		for _, name := range []string{"", "password", "server.log"} {
			if err := os.Chown(filepath.Join(s.base, name), int(s.owner.Uid), int(s.owner.Gid)); err != nil {
				t.Fatal(err)
			}
		}
	}
	again, err := Start(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Stop()
	for _, sql := range []string{"ALTER TABLE tide ADD COLUMN more int", "INSERT INTO tide (at) VALUES (8)",
		"ALTER TYPE phase ADD VALUE 'slack'", "ALTER SEQUENCE alone RESTART",
		"CREATE OR REPLACE FUNCTION seven() RETURNS int LANGUAGE sql AS 'SELECT 8'"} {
		if err := statement(t, again.OwnerURL, sql); err != nil {
			t.Errorf("the owner: %s: %v", sql, err)
		}
	}
	if info, err := os.Stat(s.base); err != nil || s.owner != nil && info.Sys().(*syscall.Stat_t).Uid != 0 {
		t.Error("the directory is still the server's user's")
	}
}

// TestADatabaseMayAskForCertificates connects to a server that takes sessions by TLS alone,
// from those whose certificate its authority signed; backups too.
func TestADatabaseMayAskForCertificates(t *testing.T) {
	t.Parallel()
	s, dir := started(t)
	if err := statement(t, s.OwnerURL, "CREATE TABLE tide (at int); GRANT SELECT ON tide TO "+serviceRole); err != nil {
		t.Fatal(err)
	}
	ours, others := tlstest.New(t), tlstest.New(t)
	ours.Sign(t, "server", []string{"localhost"})
	ours.Sign(t, serviceRole, nil)
	others.Sign(t, "stranger", nil)
	for from, to := range map[string]string{
		ours.File("authority"): "root.crt",
		ours.File("server"):    "server.crt",
		ours.KeyFile("server"): "server.key",
	} {
		raw, err := os.ReadFile(from)
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(s.dir, to)
		if err := os.WriteFile(path, raw, 0o600); err != nil {
			t.Fatal(err)
		}
		if s.owner != nil {
			os.Chown(path, int(s.owner.Uid), int(s.owner.Gid))
		}
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	config := filepath.Join(s.dir, "postgresql.conf")
	more := "\nssl = on\nssl_ca_file = 'root.crt'\n"
	f, err := os.OpenFile(config, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteString(more)
	f.Close()
	rules := "hostssl undersail undersail_service 127.0.0.1/32 cert\nhost all undersail 127.0.0.1/32 " +
		"scram-sha-256\nhost all undersail_owner 127.0.0.1/32 scram-sha-256\n"
	if err := os.WriteFile(filepath.Join(s.dir, "pg_hba.conf"), []byte(rules), 0o600); err != nil {
		t.Fatal(err)
	}
	s, err = Start(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	by := func(root, holder *tlstest.Authority, name string) string {
		return fmt.Sprintf("postgres://%s@localhost:%d/%s?sslmode=verify-full&sslrootcert=%s&sslcert=%s&sslkey=%s",
			serviceRole, s.port, Database, root.File("authority"), holder.File(name), holder.KeyFile(name))
	}
	good := by(ours, ours, serviceRole)
	if err := statement(t, good, "SELECT * FROM tide"); err != nil {
		t.Fatalf("with certificates on both sides: %v", err)
	}
	for what, url := range map[string]string{
		"in the clear": s.URL,
		"without one of our own": fmt.Sprintf("postgres://%s@localhost:%d/%s?sslmode=verify-full&sslrootcert=%s",
			serviceRole, s.port, Database, ours.File("authority")),
		"one of another":          by(ours, others, "stranger"),
		"the server's is unknown": by(others, ours, serviceRole),
		"another's name":          by(ours, ours, "server"),
	} {
		if err := statement(t, url, "SELECT 1"); err == nil {
			t.Errorf("%s: it connects", what)
		}
	}
	var dump bytes.Buffer
	if err := Dump(context.Background(), good, &dump); err != nil || !bytes.HasPrefix(dump.Bytes(), []byte("PGDMP")) {
		t.Errorf("a backup by certificate: %v", err)
	}
}
