// Package database runs the databases of the simulated clouds: each is a PostgreSQL server
// of its own on a loopback port that nobody is told of, reached through the private
// network of whoever owns it.
package database

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// User is somebody who may sign in.
type User struct{ Name, Password, Rights string }

// Servers are those of one simulator. They are safe for concurrent use.
type Servers struct {
	dir string

	mu      sync.Mutex
	running map[string]*server
}

type server struct {
	port int
	cmd  *exec.Cmd
	mu   sync.Mutex // one change at a time
}

// Name is that of the database in each server.
const Name = "main"

const owner = "larch" // the cloud's own user in each server

// New keeps the servers' files below a folder, or elsewhere where that is closed to who
// runs them. What is elsewhere of folders that are no more is thrown away.
func New(dir string) *Servers {
	origins, _ := filepath.Glob(filepath.Join(elsewhere(), "*"+origin))
	for _, file := range origins {
		if of, err := os.ReadFile(file); err == nil {
			if _, err := os.Stat(string(of)); os.IsNotExist(err) {
				os.RemoveAll(strings.TrimSuffix(file, origin))
				os.Remove(file)
			}
		}
	}
	return &Servers{dir: dir, running: map[string]*server{}}
}

// elsewhere is where files go that a folder of the simulator's own would hide, each beside
// a file that says whose they are.
func elsewhere() string { return filepath.Join(os.TempDir(), "undersail-simcloud-databases") }

const origin = ".origin"

// programs is the folder of PostgreSQL's programs, the newest that there is.
func programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", errors.New("no PostgreSQL is installed; Debian's package postgresql has it")
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(strings.Split(path, "/")[4])
		return n
	}
	return filepath.Dir(slices.MaxFunc(found, func(a, b string) int { return version(a) - version(b) })), nil
}

// as gives who runs the server: it refuses root.
func as() (*syscall.SysProcAttr, int, error) {
	attr := &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGINT}
	if os.Getuid() != 0 {
		return attr, -1, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, 0, err
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	attr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return attr, uid, nil
}

// Ensure starts a database if it does not run, and gives it these users and no others.
func (s *Servers) Ensure(ctx context.Context, id string, users []User) error {
	s.mu.Lock()
	one := s.running[id]
	if one == nil {
		one = &server{}
		s.running[id] = one
	}
	s.mu.Unlock()
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.cmd == nil {
		if err := s.start(ctx, id, one); err != nil {
			return fmt.Errorf("start database %s: %w", id, err)
		}
	}
	return one.grant(ctx, users)
}

// place is a folder for a server's files that the user who runs it can reach.
func (s *Servers) place(id string, uid int) (string, error) {
	dir := filepath.Join(s.dir, id)
	if uid < 0 {
		return dir, os.MkdirAll(s.dir, 0o700)
	}
	// Folders above may be closed to others, as temporary ones of tests are.
	base := elsewhere()
	if err := os.MkdirAll(base, 0o711); err != nil {
		return "", err
	}
	dir = filepath.Join(base, strings.ReplaceAll(strings.Trim(s.dir, "/"), "/", "-")+"-"+id)
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	if err := os.WriteFile(dir+origin, []byte(filepath.Dir(s.dir)), 0o600); err != nil {
		return "", err
	}
	if err := os.Mkdir(dir, 0o700); err != nil {
		return "", err
	}
	return dir, os.Chown(dir, uid, -1)
}

func (s *Servers) start(ctx context.Context, id string, one *server) error {
	bin, err := programs()
	if err != nil {
		return err
	}
	attr, uid, err := as()
	if err != nil {
		return err
	}
	dir, err := s.place(id, uid)
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(dir, "PG_VERSION")); err != nil {
		init := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", dir, "-U", owner, "-A", "trust",
			"--no-sync", "-E", "UTF8", "--locale=C")
		init.SysProcAttr, init.Dir = attr, "/"
		if out, err := init.CombinedOutput(); err != nil {
			return fmt.Errorf("initdb: %w: %s", err, out)
		}
		rules := "host all " + owner + " 127.0.0.1/32 trust\nhost " + Name + " all 127.0.0.1/32 scram-sha-256\n"
		if err := os.WriteFile(filepath.Join(dir, "pg_hba.conf"), []byte(rules), 0o600); err != nil {
			return fmt.Errorf("starting a database server: %w", err)
		}
		if uid >= 0 {
			os.Chown(filepath.Join(dir, "pg_hba.conf"), uid, -1)
		}
	}
	os.Remove(filepath.Join(dir, "postmaster.pid")) // of one that was killed with the simulator
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("starting a database server: %w", err)
	}
	one.port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", dir, "-p", strconv.Itoa(one.port), "-c",
		"listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "fsync=off", "-c", "full_page_writes=off",
		"-c", "max_connections=20", "-c", "shared_buffers=16MB", "-c", "logging_collector=off")
	cmd.SysProcAttr, cmd.Dir = attr, "/"
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting a database server: %w", err)
	}
	go cmd.Wait()
	one.cmd = cmd
	for wait := time.Now().Add(20 * time.Second); ; time.Sleep(30 * time.Millisecond) {
		conn, err := one.sign(ctx, "postgres")
		if err == nil {
			defer conn.Close(ctx)
			var there bool
			err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = $1)", Name).Scan(&there)
			if err != nil || there {
				return err
			}
			_, err = conn.Exec(ctx, "CREATE DATABASE "+Name)
			return err
		}
		if time.Now().After(wait) || ctx.Err() != nil {
			return err
		}
	}
}

func (one *server) sign(ctx context.Context, name string) (*pgx.Conn, error) {
	return pgx.Connect(ctx, fmt.Sprintf("postgres://%s@127.0.0.1:%d/%s?sslmode=disable", owner, one.port, name))
}

// grant lets these users in, with their passwords and rights, and nobody else.
func (one *server) grant(ctx context.Context, users []User) error {
	conn, err := one.sign(ctx, Name)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, "SELECT rolname FROM pg_roles WHERE rolcanlogin AND rolname <> $1", owner)
	if err != nil {
		return err
	}
	have, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	tx, err := conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback(ctx)
	run := func(format string, args ...any) {
		if err == nil {
			_, err = tx.Exec(ctx, fmt.Sprintf(format, args...))
		}
	}
	for _, name := range have {
		if !slices.ContainsFunc(users, func(u User) bool { return u.Name == name }) {
			run("REASSIGN OWNED BY %s TO %s", ident(name), owner)
			run("DROP OWNED BY %s", ident(name))
			run("DROP ROLE %s", ident(name))
		}
	}
	for _, u := range users {
		verb := "CREATE"
		if slices.Contains(have, u.Name) {
			verb = "ALTER"
		}
		run("%s ROLE %s LOGIN PASSWORD %s", verb, ident(u.Name), literal(u.Password))
		run("REVOKE ALL ON SCHEMA public FROM %s", ident(u.Name))
		run("GRANT USAGE ON SCHEMA public TO %s", ident(u.Name))
		run("GRANT SELECT ON ALL TABLES IN SCHEMA public TO %s", ident(u.Name))
		if u.Rights != "read" {
			run("GRANT CREATE ON SCHEMA public TO %s", ident(u.Name))
			run("GRANT INSERT, UPDATE, DELETE, TRUNCATE ON ALL TABLES IN SCHEMA public TO %s", ident(u.Name))
		}
	}
	for _, w := range users { // what one makes later, the others may read too
		if w.Rights == "read" {
			continue
		}
		for _, u := range users {
			run("ALTER DEFAULT PRIVILEGES FOR ROLE %s IN SCHEMA public GRANT SELECT ON TABLES TO %s", ident(w.Name),
				ident(u.Name))
		}
	}
	if err != nil {
		return err
	}
	return tx.Commit(ctx)
}

func ident(name string) string { return pgx.Identifier{name}.Sanitize() }

func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// Dial connects to a database that runs.
func (s *Servers) Dial(id string) (net.Conn, error) {
	s.mu.Lock()
	one := s.running[id]
	s.mu.Unlock()
	if one == nil {
		return nil, errors.New("connection refused")
	}
	one.mu.Lock()
	port := one.port
	one.mu.Unlock()
	return net.DialTimeout("tcp", "127.0.0.1:"+strconv.Itoa(port), 5*time.Second)
}

// Stop ends a database; Remove throws its files away too.
func (s *Servers) Stop(id string) {
	s.mu.Lock()
	one := s.running[id]
	delete(s.running, id)
	s.mu.Unlock()
	if one == nil {
		return
	}
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.cmd != nil {
		one.cmd.Process.Signal(syscall.SIGINT) // a fast shutdown
		for range 100 {
			if one.cmd.Process.Signal(syscall.Signal(0)) != nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// Remove ends a database and throws its files away.
func (s *Servers) Remove(id string) {
	s.Stop(id)
	if _, uid, err := as(); err == nil {
		if dir, err := s.place(id, uid); err == nil {
			os.RemoveAll(dir)
			os.Remove(dir + origin)
		}
	}
}

// Close ends all of them. Their files stay.
func (s *Servers) Close() {
	s.mu.Lock()
	ids := []string{}
	for id := range s.running {
		ids = append(ids, id)
	}
	s.mu.Unlock()
	var all sync.WaitGroup
	for _, id := range ids {
		all.Go(func() { s.Stop(id) })
	}
	all.Wait()
}
