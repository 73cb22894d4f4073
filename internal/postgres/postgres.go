// Package postgres starts and stops a PostgreSQL server of our own from the
// system's packages: on loopback, on a free port, with a data directory that
// belongs to a user who may run it. It knows nothing of what is stored.
package postgres

import (
	"context"
	"crypto/rand"
	"encoding/hex"
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
)

// Server is a running server. URL connects to its database "undersail" as a role that
// reads and writes what is granted to it, OwnerURL as the one that owns the tables and
// changes them. Neither is a superuser: what gets at the database by either gets no further.
type Server struct {
	URL, OwnerURL string

	admin string // the superuser's URL
	bin   string
	base  string // with log and password
	dir   string // the data
	owner *syscall.Credential
	port  int
	found bool // it ran before

	mu      sync.Mutex
	pid     int
	stopped bool
}

// Database is the name of the database that Start makes.
const Database = "undersail"

// The roles of the cluster: its superuser, whom only this package connects as, and the two
// that URLs are given for.
const (
	superuser   = "undersail"
	ownerRole   = "undersail_owner"
	serviceRole = "undersail_service"
)

// Start brings up the server of a directory, making it on first use. A server
// that is still running from before, because its starter was killed, is taken
// up again.
func Start(ctx context.Context, dir string) (*Server, error) {
	bin, err := programs()
	if err != nil {
		return nil, err
	}
	owner, err := serverUser()
	if err != nil {
		return nil, err
	}
	if dir, err = place(dir, owner); err != nil {
		return nil, err
	}
	passwords := map[string]string{}
	for role, file := range map[string]string{
		superuser:   "password",
		ownerRole:   "owner-password",
		serviceRole: "service-password",
	} {
		if passwords[role], err = ownPassword(filepath.Join(dir, file)); err != nil {
			return nil, err
		}
	}
	s := &Server{bin: bin, base: dir, owner: owner, dir: filepath.Join(dir, "data")}
	if _, err := os.Stat(filepath.Join(s.dir, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := initialise(ctx, bin, dir, s.dir, owner); err != nil {
			return nil, err
		}
	}
	s.port, s.pid = running(s.dir, owner)
	s.found = s.pid != 0
	for try := 0; s.pid == 0; try++ {
		if s.port, err = freePort(); err != nil {
			return nil, err
		}
		if s.pid, err = s.launch(ctx); err != nil && try == 4 {
			return nil, err
		}
	}
	at := func(role string) string {
		return fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s?sslmode=disable", role, passwords[role], s.port, Database)
	}
	s.URL, s.OwnerURL, s.admin = at(serviceRole), at(ownerRole), at(superuser)
	return s, s.ensureDatabase(ctx, passwords)
}

// Supervise starts the server again whenever it dies, on the port that it had, until
// the context ends or the server is stopped. Say tells what happens.
func (s *Server) Supervise(ctx context.Context, say func(what string, err error)) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(250 * time.Millisecond):
		}
		if !s.revive(ctx, say) {
			return
		}
	}
}

// revive starts the server if it is dead; false says that it was stopped.
func (s *Server) revive(ctx context.Context, say func(what string, err error)) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped {
		return false
	}
	if syscall.Kill(s.pid, 0) == nil {
		return true
	}
	pid, err := s.launch(ctx)
	if err != nil {
		say("the database server died and does not come up again yet", err)
		return true
	}
	s.pid = pid
	say("the database server died and was started again", nil)
	return true
}

// Stop ends the server and waits until it is gone.
func (s *Server) Stop() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stopped = true
	if err := syscall.Kill(s.pid, syscall.SIGINT); err != nil {
		return nil // it is gone already
	}
	for range 200 {
		if syscall.Kill(s.pid, 0) != nil {
			return nil
		}
		// It may be our child: reap it, or it never looks gone.
		syscall.Wait4(s.pid, nil, syscall.WNOHANG, nil)
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("PostgreSQL (process %d) did not stop within 10 seconds", s.pid)
}

// programs finds the newest installed server.
func programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", errors.New("PostgreSQL is not installed; install the Debian package postgresql, or name a server " +
			"with --database-url")
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(strings.Split(path, "/")[4])
		return n
	}
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	return filepath.Dir(found[0]), nil
}

// serverUser is who runs the server: PostgreSQL refuses root.
func serverUser() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no user postgres: %w", err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

func ownPassword(path string) (string, error) {
	data, err := os.ReadFile(path)
	if err == nil {
		return strings.TrimSpace(string(data)), nil
	}
	raw := make([]byte, 18)
	rand.Read(raw)
	password := hex.EncodeToString(raw)
	return password, os.WriteFile(path, []byte(password+"\n"), 0o600)
}

func initialise(ctx context.Context, bin, dir, data string, owner *syscall.Credential) error {
	pw := filepath.Join(dir, "password")
	if owner != nil { // for as long as initdb reads it
		if err := os.Chown(pw, int(owner.Uid), int(owner.Gid)); err != nil {
			return fmt.Errorf("making the database cluster: %w", err)
		}
		defer os.Chown(pw, 0, 0)
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", data, "-U", superuser, "--pwfile", pw,
		"--auth=scram-sha-256", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: owner}
	if out, err := cmd.CombinedOutput(); err != nil {
		os.RemoveAll(data)
		return fmt.Errorf("initialise the database in %s: %w\n%s", data, err, out)
	}
	return nil
}

// running reads postmaster.pid and checks that its process lives, is the server's user's
// own, and answers: the file is the server's, and whoever writes it must not make us signal
// another process.
func running(data string, owner *syscall.Credential) (port, pid int) {
	raw, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return 0, 0
	}
	lines := strings.Split(string(raw), "\n")
	if len(lines) < 4 {
		return 0, 0
	}
	pid, _ = strconv.Atoi(strings.TrimSpace(lines[0]))
	port, _ = strconv.Atoi(strings.TrimSpace(lines[3]))
	if pid <= 1 || syscall.Kill(pid, 0) != nil || !runsAs(pid, owner) {
		return 0, 0
	}
	c, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second)
	if err != nil {
		return 0, 0
	}
	c.Close()
	return port, pid
}

// runsAs reports whether a process is a server's, and its user's.
func runsAs(pid int, owner *syscall.Credential) bool {
	uid := uint32(os.Geteuid())
	if owner != nil {
		uid = owner.Uid
	}
	info, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	if err != nil {
		return false
	}
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	st, ok := info.Sys().(*syscall.Stat_t)
	return err == nil && ok && st.Uid == uid && strings.TrimSpace(string(name)) == "postgres"
}

// launch starts the server in a process group of its own, so that an interrupt
// at the terminal does not end it before the service is done with it.
func (s *Server) launch(ctx context.Context) (pid int, err error) {
	log, err := os.OpenFile(filepath.Join(s.base, "server.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY|syscall.O_NOFOLLOW,
		0o600)
	if err != nil {
		return 0, fmt.Errorf("write the log of the database server: %w", err)
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(s.bin, "postgres"), "-D", s.dir, "-p", strconv.Itoa(s.port),
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "max_connections=200", "-c",
		"log_min_messages=fatal")
	cmd.Dir, cmd.Stdout, cmd.Stderr = "/", log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.owner, Setpgid: true}
	if err := cmd.Start(); err != nil {
		return 0, fmt.Errorf("start PostgreSQL: %w", err)
	}
	ended := make(chan struct{})
	go func() { cmd.Wait(); close(ended) }()
	if !waitReady(ctx, s.port, ended) {
		return 0, fmt.Errorf("PostgreSQL does not come up; see %s", filepath.Join(s.base, "server.log"))
	}
	return cmd.Process.Pid, nil
}

func waitReady(ctx context.Context, port int, ended chan struct{}) bool {
	for range 300 {
		if c, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second); err == nil {
			c.Close()
			return true
		}
		select {
		case <-ended:
			return false
		case <-ctx.Done():
			return false
		case <-time.After(50 * time.Millisecond):
		}
	}
	return false
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("finding a free port: %w", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// InDatabase is the same URL for another database.
func InDatabase(at, name string) string {
	before, after, _ := strings.Cut(at, "/"+Database+"?")
	return before + "/" + name + "?" + after
}

// AdminURL connects as the superuser: for tests that look behind what the roles may.
func (s *Server) AdminURL() string { return s.admin }

// Down stops the server so that Up can start it again on the same port.
func (s *Server) Down() error { return s.Stop() }

// Up starts a server that was taken down, and waits until it takes sessions.
func (s *Server) Up(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	pid, err := s.launch(ctx)
	if err != nil {
		return err
	}
	s.pid, s.stopped = pid, false
	conn, err := s.session(ctx, patience)
	if err != nil {
		return err
	}
	return conn.Close(ctx)
}

// process is the id of the server's process.
func (s *Server) process() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pid
}
