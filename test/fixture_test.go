// Package test drives the product as its users do: the built programs, the
// service on loopback through its API, and the console in a real browser.
package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"undersail/internal/postgres/postgrestest"
	"undersail/internal/service/servicetest"
)

// programs builds both programs once, without the race of two tests building, and as
// everybody else builds them: what is there already is not linked again.
var programs = sync.OnceValues(func() (string, error) {
	dir, err := filepath.Abs("../bin")
	if err != nil {
		return "", err
	}
	if out, err := exec.Command("make", "--silent", "-C", "..", "build").CombinedOutput(); err != nil {
		return "", fmt.Errorf("build: %w\n%s", err, out)
	}
	return dir, nil
})

// TestMain gives demos one database server: each has a database of its own there, which
// takes a small part of the time that a server takes. What becomes of a server of one's own
// is asked by those that begin with startAlone. A service that somebody has signed in to in
// this terminal is none of theirs.
func TestMain(m *testing.M) {
	for _, name := range []string{"UNDERSAIL_URL", "UNDERSAIL_TOKEN", "SIMCLOUD_DIR"} {
		os.Unsetenv(name)
	}
	postgrestest.Main(m, servicetest.Prepare, chromium.close)
}

// bench is a running demo and the client to use on it.
type bench struct {
	t        *testing.T
	dir      string
	bin      string
	database string // its URL; empty for one of its own
	url      string
	password string
	env      []string
	cmd      *exec.Cmd
	ended    chan struct{}
}

// start runs a demo in a folder of its own. Pace is in cloud seconds.
func start(t *testing.T, args ...string) *bench {
	t.Helper()
	return startOn(t, postgrestest.Database(t), args...)
}

// startAlone runs a demo with a database server of its own.
func startAlone(t *testing.T, args ...string) *bench {
	t.Helper()
	return startOn(t, "", args...)
}

func startOn(t *testing.T, database string, args ...string) *bench {
	t.Helper()
	bin, err := programs()
	if err != nil {
		t.Fatal(err)
	}
	b := &bench{t: t, dir: t.TempDir(), bin: bin, database: database}
	b.up(args...)
	t.Cleanup(func() {
		b.stop(syscall.SIGTERM)
		b.dropDatabase()
	})
	return b
}

// up starts the demo's process and waits for its line.
func (b *bench) up(args ...string) {
	b.t.Helper()
	b.cmd = exec.Command(filepath.Join(b.bin, "undersail"),
		append([]string{"demo", "--dir", b.dir, "--database-url", b.database}, args...)...)
	b.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	var talk bytes.Buffer
	b.cmd.Stderr = &talk
	out, err := b.cmd.StdoutPipe()
	if err != nil {
		b.t.Fatal(err)
	}
	if err := b.cmd.Start(); err != nil {
		b.t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	if !lines.Scan() || !strings.HasPrefix(lines.Text(), "ready") {
		b.cmd.Wait()
		b.t.Fatalf("the demo did not come up: %s", talk.String())
	}
	fields := strings.Fields(lines.Text())
	b.url, b.password = fields[1], fields[5]
	b.ended = make(chan struct{})
	go func() {
		io.Copy(io.Discard, out)
		b.cmd.Wait()
		close(b.ended)
	}()
	b.env = os.Environ()
	raw, err := os.ReadFile(filepath.Join(b.dir, "env"))
	if err != nil {
		b.t.Fatal(err)
	}
	for line := range strings.Lines(string(raw)) {
		name, value, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), "export "), "=")
		b.env = append(b.env, name+"="+strings.Trim(value, "'"))
	}
}

// stop ends the demo's process and waits until it is gone.
func (b *bench) stop(how syscall.Signal) {
	b.cmd.Process.Signal(how)
	select {
	case <-b.ended:
	case <-time.After(90 * time.Second):
		b.cmd.Process.Kill()
		b.t.Error("the demo did not stop within 90 seconds")
	}
}

// dropDatabase removes what a demo below a private folder kept in /var/tmp.
func (b *bench) dropDatabase() {
	if raw, err := os.ReadFile(filepath.Join(b.dir, "service", "database", "place")); err == nil {
		os.RemoveAll(strings.TrimSpace(string(raw)))
	}
}

// result is what a command came to.
type result struct {
	out, err string
	code     int
}

// in gives the bench to a subtest, which then fails alone.
func (b *bench) in(t *testing.T) *bench {
	inner := *b
	inner.t = t
	return &inner
}

// run runs the client.
func (b *bench) run(args ...string) result {
	b.t.Helper()
	return b.runWith("", args...)
}

func (b *bench) runWith(stdin string, args ...string) result {
	b.t.Helper()
	return b.program("undersail", stdin, args...)
}

func (b *bench) program(name, stdin string, args ...string) result {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(b.bin, name), args...)
	cmd.Env, cmd.Dir, cmd.Stdin = b.env, "..", strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.Run()
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// must runs the client and fails the test on another exit code.
func (b *bench) must(code int, args ...string) result {
	b.t.Helper()
	r := b.run(args...)
	if r.code != code {
		b.t.Fatalf("undersail %s: exit code %d, want %d\n%s%s", strings.Join(args, " "), r.code, code, r.out, r.err)
	}
	return r
}

// into reads the JSON that a command printed.
func (b *bench) into(v any, args ...string) {
	b.t.Helper()
	r := b.must(0, append(args, "-o", "json")...)
	if err := json.Unmarshal([]byte(r.out), v); err != nil {
		b.t.Fatalf("undersail %s: %v\n%s", strings.Join(args, " "), err, r.out)
	}
}

// ledgerResource and ledger are what simcloud says is true.
type ledgerResource struct {
	Kind, Name, ID, Label, Phase string
	Tags                         map[string]string
}

type ledger struct {
	Alive, Gone []ledgerResource
	Calls       []struct{ Method, Path, Fault string }
}

func (b *bench) ledger(stack string) ledger {
	b.t.Helper()
	r := b.program("simcloud", "", "ledger", "--tag", "undersail-stack:"+stack, "-o", "json")
	var l ledger
	if err := json.Unmarshal([]byte(r.out), &l); err != nil {
		b.t.Fatalf("ledger: %v\n%s%s", err, r.out, r.err)
	}
	return l
}

func (b *bench) simcloud(args ...string) {
	b.t.Helper()
	if r := b.program("simcloud", "", args...); r.code != 0 {
		b.t.Fatalf("simcloud %s: %s", strings.Join(args, " "), r.err)
	}
}

// cloudAccount is an account of the simulated cloud: where that is, and what opens it.
func (b *bench) cloudAccount() (endpoint, id, secret string) {
	b.t.Helper()
	var clouds struct{ Larch string }
	var accounts []struct {
		ID     string `json:"client_id"`
		Secret string `json:"client_secret"`
	}
	for name, into := range map[string]any{"simcloud.json": &clouds, "accounts.json": &accounts} {
		raw, err := os.ReadFile(filepath.Join(b.dir, "clouds", name))
		if err != nil || json.Unmarshal(raw, into) != nil {
			b.t.Fatal(name, err)
		}
	}
	return clouds.Larch, accounts[0].ID, accounts[0].Secret
}

// propose makes and accepts a proposal and returns its id as text.
func (b *bench) propose(stack, template string, more ...string) string {
	b.t.Helper()
	var p proposed
	b.into(&p, append([]string{"propose", stack, "--template", template, "--account", "saltmere-lab", "--region",
		"north-fell"}, more...)...)
	return b.accept(p)
}

// proposed is what a test needs to know of a proposal.
type proposed struct {
	ID       int64
	Consents []struct{ Name string }
}

// accept agrees to a proposal and to all that it asks for.
func (b *bench) accept(p proposed) string {
	b.t.Helper()
	id := fmt.Sprint(p.ID)
	args := []string{"accept", id}
	for _, c := range p.Consents {
		args = append(args, "--agree", c.Name)
	}
	b.must(0, args...)
	return id
}

// retire removes a stack and gives what was told.
func (b *bench) retire(stack string) result {
	b.t.Helper()
	var p proposed
	b.into(&p, "retire", stack)
	return b.must(0, "apply", b.accept(p), "--watch")
}

// file writes a file of the test and returns its path.
func file(t *testing.T, name, content string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// call makes an API call with the demo's token, or none.
func (b *bench) call(method, path, token, body string) (int, map[string]any) {
	b.t.Helper()
	req, err := http.NewRequest(method, b.url+path, strings.NewReader(body))
	if err != nil {
		b.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		b.t.Fatal(err)
	}
	defer res.Body.Close()
	var v map[string]any
	raw, _ := io.ReadAll(res.Body)
	json.Unmarshal(raw, &v)
	return res.StatusCode, v
}

func (b *bench) token() string {
	for _, e := range b.env {
		if t, ok := strings.CutPrefix(e, "UNDERSAIL_TOKEN="); ok {
			return t
		}
	}
	return ""
}

func itoa(n int64) string { return fmt.Sprint(n) }

// reads gets something of the API as JSON.
func (b *bench) reads(path string, v any) {
	b.t.Helper()
	r, err := http.NewRequest(http.MethodGet, b.url+path, nil)
	if err != nil {
		b.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+b.token())
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		b.t.Fatal(err)
	}
	defer answer.Body.Close()
	if err := json.NewDecoder(answer.Body).Decode(v); err != nil || answer.StatusCode != http.StatusOK {
		b.t.Fatalf("GET %s: %s, %v", path, answer.Status, err)
	}
}
