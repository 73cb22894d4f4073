package test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// adminPassword is what the first administrator chooses in tests.
const adminPassword = "slack water at half past nine"

// empty is a service without anything in it, beside the clouds of a demo.
type empty struct {
	*bench
	dir, endpoint, id, secret string
	ready                     struct {
		URL   string
		First string `json:"first_admin"`
	}
	serve *exec.Cmd
}

// startEmpty runs a service from nothing, and signs in to it.
func startEmpty(t *testing.T, b *bench) *empty {
	t.Helper()
	e := &empty{bench: b, dir: t.TempDir()}
	e.up(t)
	t.Cleanup(func() {
		e.down()
		if place, err := os.ReadFile(filepath.Join(e.dir, "database", "place")); err == nil {
			os.RemoveAll(strings.TrimSpace(string(place)))
		}
	})
	b.env = append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir())
	if r := b.run("stacks"); r.code != 5 || !strings.Contains(r.err, "undersail login") {
		t.Errorf("before signing in: %d %s", r.code, r.err)
	}
	if r := b.runWith("wrong\n", "login", e.ready.URL, "--user", "admin"); r.code != 5 {
		t.Errorf("with a wrong password: %d %s", r.code, r.err)
	}
	if r := b.runWith(e.ready.First+"\n"+adminPassword+"\n", "login", e.ready.URL, "--invited"); r.code != 0 {
		t.Fatalf("signing in: %s", r.err)
	}
	r := b.runWith(e.ready.First+"\n"+adminPassword+"\n", "login", e.ready.URL, "--invited")
	if r.code == 0 || !strings.Contains(r.err, "used") {
		t.Errorf("the invitation works twice: %s", r.err)
	}
	e.endpoint, e.id, e.secret = b.cloudAccount()
	return e
}

func (e *empty) up(t *testing.T, flags ...string) {
	t.Helper()
	e.serve = exec.Command(filepath.Join(e.bin, "undersail"),
		append([]string{"serve", "--dir", e.dir, "--listen", "127.0.0.1:0", "--reach", "127.0.0.0/8", "-o", "json"},
			flags...)...)
	e.serve.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	log, err := os.OpenFile(filepath.Join(e.dir, "service.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	e.serve.Stderr = log
	out, err := e.serve.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := e.serve.Start(); err != nil {
		t.Fatal(err)
	}
	if err := json.NewDecoder(out).Decode(&e.ready); err != nil {
		t.Fatal(err)
	}
}

func (e *empty) down() {
	e.serve.Process.Signal(syscall.SIGTERM)
	e.serve.Wait()
}

// background runs a command until stop is called, and gives what it writes first.
func (b *bench) background(t *testing.T, args ...string) (line string, stop func()) {
	t.Helper()
	cmd := exec.Command(filepath.Join(b.bin, "undersail"), args...)
	cmd.Env, cmd.Dir = b.env, ".."
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	buffer := make([]byte, 4096)
	n, err := out.Read(buffer)
	if err != nil {
		t.Fatalf("%v: %v", args, err)
	}
	return strings.TrimSpace(string(buffer[:n])), func() {
		cmd.Process.Signal(syscall.SIGINT)
		cmd.Wait()
	}
}

// signIn tells what the board answers to a name and a password.
func signIn(t *testing.T, at, user, password string) int {
	t.Helper()
	res, err := http.PostForm(at+"/sign-in", url.Values{"user": {user}, "password": {password}})
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	return res.StatusCode
}

// awkward secrets have blanks, quotes and line breaks, as machines squeeze and quote them.
var awkward = map[string]string{
	"blanks": "kelp  and shingle\tat low water",
	"quotes": `kelp"shingle'\<&>weir 7`,
	"lines":  "kelp first line\nshingle second line\n\nthird",
}

// TestFromAnEmptyServiceToASignIn is the day of somebody who begins: an account, a secret
// and a stack; a shell on its machines, its private page, and the password that it takes.
func TestFromAnEmptyServiceToASignIn(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240") // for its clouds only
	e := startEmpty(t, b)
	folder := t.TempDir()
	lines := arguments(t)
	r := b.runWith("wrong", "accounts", "add", "mine", "--endpoint", e.endpoint, "--client-id", e.id)
	if r.code != 1 || !strings.Contains(r.err, "does not accept the account's credentials") {
		t.Errorf("an account with a wrong secret: %d %s", r.code, r.err)
	}
	if r := b.runWith(e.secret, "accounts", "add", "mine", "--endpoint", e.endpoint, "--client-id", e.id); r.code != 0 {
		t.Fatalf("adding an account: %s", r.err)
	}
	r = b.must(0, "accounts", "show", "mine")
	if !strings.Contains(r.out, "(builder)") || !strings.Contains(r.out, "may make") ||
		strings.Contains(r.out, e.secret) {
		t.Errorf("%s", r.out)
	}
	for kind, value := range awkward {
		if r := b.runWith(value, "secrets", "add", kind, "--about", "a secret with "+kind); r.code != 0 {
			t.Fatalf("%s: %s", kind, r.err)
		}
		if r := b.must(0, "reveal", kind, "--reason", "to compare"); r.out != strings.TrimSuffix(value, "\n") {
			t.Errorf("%s is revealed as %q", kind, r.out)
		}
	}
	b.must(0, "secrets", "make", "rota-password", "--length", "24", "--kinds", "small,capital,digit")
	b.must(0, "key-pairs", "make", "duty")

	id := b.proposeAt("rota", "examples/duty-rota.sail.yaml", "mine", "--inputs", "examples/duty-rota.inputs.yaml",
		"--input", "password=secret:rota-password")
	b.must(6, "accept", id)
	b.must(0, "accept", id, "--agree", "secret-use")
	applied := b.must(0, "apply", id, "--watch")
	if !strings.Contains(applied.out, "## First use") || !strings.Contains(applied.out, "Sign in as **duty**") ||
		!strings.Contains(applied.out, "undersail connect rota 'board[1]'") {
		t.Errorf("no guide after the run:\n%s", applied.out)
	}
	if r := b.must(0, "secrets", "show", "rota-password"); !strings.Contains(r.out, "rota (password)") {
		t.Errorf("%s", r.out)
	}

	// A shell on a machine that only the bastion reaches.
	if r := b.must(0, "connect", "rota", "board[0]", "--", "hostname"); strings.TrimSpace(r.out) != "rota-board-01" {
		t.Errorf("%q", r.out)
	}
	r = b.runWith("hostname\nexit\n", "connect", "rota", "board[1]")
	if r.code != 0 || !strings.Contains(r.out, "rota-board-02") {
		t.Errorf("a shell: %d %q %s", r.code, r.out, r.err)
	}
	if r := b.run("connect", "rota", "board[1]", "--", "false-command"); r.code != 127 {
		t.Errorf("a command that fails: %d", r.code)
	}
	sent := filepath.Join(folder, "survey.csv")
	if err := os.WriteFile(sent, []byte("station;level\nnorth;2.4\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b.must(0, "connect", "rota", "board[0]", "--copy", sent, "--to", "/srv/")
	r = b.must(0, "connect", "rota", "board[0]", "--", "cat", "/srv/survey.csv")
	if r.out != "station;level\nnorth;2.4\n" {
		t.Errorf("%q", r.out)
	}
	fetched := filepath.Join(folder, "fetched")
	b.must(0, "connect", "rota", "board[0]", "--copy", ":/srv/survey.csv", "--to", fetched)
	if info, err := os.Stat(fetched); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	r = b.run("connect", "rota", "board[0]", "--copy", ":/srv/survey.csv", "--to", fetched)
	if r.code != 1 || !strings.Contains(r.err, "is there already") {
		t.Errorf("it writes over a file: %d %s", r.code, r.err)
	}

	// Its page, which is private, and the password that it takes.
	at, stop := b.background(t, "connect", "rota", "board[0]", "--forward", "8085")
	defer stop()
	if body := answers(t, at+"/"); !strings.Contains(body, "Duty board") {
		t.Errorf("the page: %s", body)
	}
	password := b.must(0, "reveal", "rota", "password", "--reason", "first sign-in").out
	if code := signIn(t, at, "duty", password); code != http.StatusOK {
		t.Errorf("the board answers %d to the password that was revealed", code)
	}
	if code := signIn(t, at, "duty", password+"x"); code != http.StatusUnauthorized {
		t.Errorf("the board answers %d to another one", code)
	}
	kept := filepath.Join(folder, "password")
	b.must(0, "reveal", "rota", "password", "--reason", "for the safe", "--to", kept)
	if data, err := os.ReadFile(kept); err != nil || string(data) != password {
		t.Errorf("%v", err)
	}
	if info, err := os.Stat(kept); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}

	// Other programs sign in with what is lent to them, and with nothing else.
	lent(t, b)

	// Credentials end in the middle of a run, and are renewed.
	second := b.proposeAt("site", "examples/warning-site.sail.yaml", "mine", "--input", "range=10.199.0.0/24")
	b.must(0, "accept", second)
	b.simcloudAt("fault", "add", "slow", "--on", "networks", "--method", "PUT", "--seconds", "2")
	b.must(0, "apply", second)
	b.simcloudAt("fault", "add", "credentials-end", "--count", "-1")
	if r := b.run("watch", "2"); r.code != 6 || !strings.Contains(r.err, "waits for a person") {
		t.Fatalf("the run does not wait: %d %s", r.code, r.err)
	}
	b.simcloudAt("fault", "lift")
	if r := b.runWith(e.secret, "accounts", "renew", "mine"); r.code != 0 {
		t.Fatalf("renewing: %s", r.err)
	}
	b.must(0, "watch", "2")

	b.must(0, "audit", "--check")
	if r := b.must(0, "audit", "rota"); !strings.Contains(r.out, "connect") || !strings.Contains(r.out, "accept") {
		t.Errorf("%s", r.out)
	}
	secrets := map[string]string{"the password": password, "the account's": e.secret}
	for kind, value := range awkward {
		secrets["one with "+kind] = value
	}
	private := b.must(0, "reveal", "rota", "access", "--reason", "to look for it").out
	secrets["the key"] = strings.Split(strings.TrimSpace(private), "\n")[2]
	secretsStandNowhere(t, e, secrets)
	for line := range lines() {
		if what := holding([]byte(line), secrets); what != "" {
			t.Errorf("the arguments of a process held %s", what)
		}
	}
	backedUpAndRestored(t, e, password)
}

// proposeAt proposes in an account of the test's own and gives the proposal's id.
func (b *bench) proposeAt(stack, template, account string, more ...string) string {
	b.t.Helper()
	var p struct{ ID int64 }
	b.into(&p, append([]string{"propose", stack, "--template", template, "--account", account, "--region",
		"north-fell"}, more...)...)
	return strconv.FormatInt(p.ID, 10)
}

// simcloudAt speaks to the simulated cloud, whose place the environment of an empty
// service does not tell.
func (b *bench) simcloudAt(args ...string) {
	b.t.Helper()
	env := b.env
	b.env = append(append([]string{}, env...), "SIMCLOUD_DIR="+filepath.Join(b.dir, "clouds"))
	b.simcloud(args...)
	b.env = env
}

// lent signs in with the program ssh through an agent that lends the key.
func lent(t *testing.T, b *bench) {
	t.Helper()
	if _, err := exec.LookPath("ssh"); err != nil {
		t.Log("there is no program ssh on this machine")
		return
	}
	line, stop := b.background(t, "connect", "rota", "board[0]", "--lend")
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "sh", "-c", line+" hostname").CombinedOutput()
	if err != nil || !strings.Contains(string(out), "rota-board-01") {
		t.Errorf("%s: %v\n%s", line, err, out)
	}
	socket := strings.TrimPrefix(strings.Fields(line)[0], "SSH_AUTH_SOCK=")
	if info, err := os.Stat(filepath.Dir(socket)); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("others may open the agent's folder: %v %v", info, err)
	}
	stop()
	if _, err := os.Stat(filepath.Dir(socket)); err == nil {
		t.Error("the agent's folder stays")
	}
}

// forms are those in which a secret could stand somewhere.
func forms(secret string) map[string]string {
	quoted, _ := json.Marshal(secret)
	out := map[string]string{
		"plain":    secret,
		"JSON":     string(quoted[1 : len(quoted)-1]),
		"Go":       strings.Trim(strconv.Quote(secret), `"`),
		"URL":      url.QueryEscape(secret),
		"path":     url.PathEscape(secret),
		"hex":      hex.EncodeToString([]byte(secret)),
		"squeezed": strings.Join(strings.Fields(secret), " "),
	}
	for shift := range 3 {
		encoded := base64.StdEncoding.EncodeToString(append(make([]byte, shift), secret...))
		out[fmt.Sprintf("base64 at %d", shift)] = encoded[[]int{0, 2, 3}[shift] : len(encoded)-4]
	}
	return out
}

// holding names the secret and the form in which something holds it, or nothing.
func holding(data []byte, secrets map[string]string) string {
	for name, secret := range secrets {
		for form, text := range forms(secret) {
			if len(text) >= 8 && bytes.Contains(data, []byte(text)) {
				return name + " in the form " + form
			}
		}
	}
	return ""
}

// secretsStandNowhere searches everything that the service wrote and answers, byte by
// byte, after showing that it would find one.
func secretsStandNowhere(t *testing.T, e *empty, secrets map[string]string) {
	t.Helper()
	for name, secret := range secrets {
		for form, text := range forms(secret) {
			if len(text) >= 8 && holding([]byte("before "+text+" after"), map[string]string{name: secret}) == "" {
				t.Errorf("%s would not be found in the form %s", name, form)
			}
		}
	}
	database := filepath.Join(e.dir, "database")
	if place, err := os.ReadFile(filepath.Join(database, "place")); err == nil {
		database = strings.TrimSpace(string(place))
	}
	password, err := os.ReadFile(filepath.Join(database, "password"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := os.ReadFile(filepath.Join(database, "data", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	conn, err := pgx.Connect(ctx,
		fmt.Sprintf("postgres://undersail:%s@127.0.0.1:%s/undersail", strings.TrimSpace(string(password)),
			strings.TrimSpace(strings.Split(string(pid), "\n")[3])))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	// A mark that is written as secrets must not be shows that the search looks into the
	// tables, their files and the write-ahead log.
	mark := map[string]string{"the mark": "seaweed-on-the-quay-4711"}
	if _, err := conn.Exec(ctx, "INSERT INTO settings (name, value) VALUES ('mark', $1)",
		[]byte(mark["the mark"])); err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(ctx, "CHECKPOINT"); err != nil {
		t.Fatal(err)
	}
	found := map[string]int{}
	look := func(kind, where string, data []byte) {
		if what := holding(data, secrets); what != "" {
			t.Errorf("%s holds %s", where, what)
		}
		if holding(data, mark) != "" {
			found[kind]++
		}
	}
	files := 0
	for _, dir := range []string{e.dir, database} {
		err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return nil // a file of the database that went meanwhile
			}
			data, err := os.ReadFile(path)
			if err != nil {
				return nil
			}
			kind := "file"
			if strings.Contains(path, "pg_wal") {
				kind = "log"
			}
			look(kind, path, data)
			if kind == "log" {
				look(kind, path, unpaged(data))
			}
			files++
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	// What the database keeps compressed is read as text.
	tables, err := conn.Query(ctx, "SELECT tablename FROM pg_tables WHERE schemaname = 'public'")
	if err != nil {
		t.Fatal(err)
	}
	names, err := pgx.CollectRows(tables, pgx.RowTo[string])
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		rows, err := conn.Query(ctx, "SELECT t::text FROM "+pgx.Identifier{name}.Sanitize()+" t")
		if err != nil {
			t.Fatal(err)
		}
		texts, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range texts {
			look("table", "table "+name, []byte(text))
			look("table", "table "+name, unhexed(text))
		}
	}
	for _, kind := range []string{"file", "log", "table"} {
		if found[kind] == 0 {
			t.Errorf("the search does not find the mark in any %s", kind)
		}
	}
	for _, path := range []string{"accounts", "accounts/mine", "secrets", "secrets/rota-password", "stacks",
		"stacks/rota", "stacks/rota/outputs", "stacks/rota/guide", "stacks/rota/template", "proposals", "proposals/1",
		"runs", "runs/1", "runs/1/events?limit=1000", "audit?limit=500"} {
		r := e.api(path)
		if len(r) < 3 {
			t.Errorf("%s answers %s", path, r)
		}
		look("answer", path, r)
	}
	for _, args := range [][]string{
		{"stacks", "rota", "-o", "yaml"},
		{"outputs", "rota"},
		{"proposals", "1"},
		{"events", "1"},
		{"audit", "--limit", "500"},
		{"connect", "rota", "board[0]", "--print"},
	} {
		r := e.run(args...)
		look("command", strings.Join(args, " "), []byte(r.out+r.err))
	}
	if files < 100 {
		t.Errorf("%d files were searched", files)
	}
}

// arguments gathers the arguments of every process of this machine from now on, until
// what it gives is called.
func arguments(t *testing.T) func() map[string]bool {
	t.Helper()
	seen := map[string]bool{}
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for {
			lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
			for _, line := range lines {
				if data, err := os.ReadFile(line); err == nil {
					seen[string(data)] = true
				}
			}
			select {
			case <-stop:
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}()
	return func() map[string]bool {
		close(stop)
		<-stopped
		if !seen[strings.Join(os.Args, "\x00")+"\x00"] {
			t.Error("the search for arguments does not see those of this test")
		}
		return seen
	}
}

// unpaged gives what a file of the write-ahead log says without the headers of its pages:
// a record that reaches over the end of a page is cut in two by one.
func unpaged(data []byte) []byte {
	const page, short, long, isLong = 8192, 24, 40, 2
	var out []byte
	for at := 0; at+long <= len(data); at += page {
		header := short
		if data[at+2]&isLong != 0 {
			header = long
		}
		out = append(out, data[at+header:min(at+page, len(data))]...)
	}
	return out
}

func TestARecordThatReachesOverAPageIsRead(t *testing.T) {
	t.Parallel()
	const word = "seaweed"
	data := make([]byte, 3*8192)
	data[2] = 2 // the first page of a file has the long header
	copy(data[8192-3:], word[:3])
	copy(data[8192+24:], word[3:])
	copy(data[2*8192-5:], word[:5])
	copy(data[2*8192+24:], word[5:])
	if strings.Contains(string(data), word) || strings.Count(string(unpaged(data)), word) != 2 {
		t.Errorf("it is found %d times in the file, %d times without the headers", strings.Count(string(data), word),
			strings.Count(string(unpaged(data)), word))
	}
}

// unhexed reads what a row shows of bytes.
func unhexed(text string) []byte {
	_, after, found := strings.Cut(text, `\\x`)
	if !found {
		return nil
	}
	end := strings.IndexFunc(after, func(c rune) bool { return !strings.ContainsRune("0123456789abcdef", c) })
	if end < 0 {
		end = len(after)
	}
	data, _ := hex.DecodeString(after[:end/2*2])
	return data
}

// api asks with the saved login.
func (e *empty) api(path string) []byte {
	e.t.Helper()
	var saved struct{ Token string }
	for _, v := range e.env {
		if dir, ok := strings.CutPrefix(v, "XDG_CONFIG_HOME="); ok {
			raw, err := os.ReadFile(filepath.Join(dir, "undersail", "login.json"))
			if err == nil {
				json.Unmarshal(raw, &saved)
			}
		}
	}
	req, err := http.NewRequest(http.MethodGet, e.ready.URL+"/api/v1/"+path, nil)
	if err != nil {
		e.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+saved.Token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		e.t.Fatal(err)
	}
	defer res.Body.Close()
	var all bytes.Buffer
	all.ReadFrom(res.Body)
	if res.StatusCode != http.StatusOK {
		e.t.Errorf("%s answers %d: %s", path, res.StatusCode, all.String())
	}
	return all.Bytes()
}

// backedUpAndRestored writes a backup while the service runs and restores it, with its key
// and without, as on another machine.
func backedUpAndRestored(t *testing.T, e *empty, password string) {
	t.Helper()
	first := adminPassword
	folder := t.TempDir()
	dump, key := filepath.Join(folder, "undersail.dump"), filepath.Join(folder, "undersail.key")
	e.must(0, "backup", "--dir", e.dir, "--to", dump, "--key-to", key)
	if r := e.run("backup", "--dir", e.dir, "--to", dump); r.code != 1 {
		t.Errorf("a backup writes over another: %d %s", r.code, r.err)
	}
	sealed, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	if data, err := os.ReadFile(dump); err != nil || bytes.Contains(data, bytes.TrimSpace(sealed)) {
		t.Errorf("the backup holds the key: %v", err)
	}
	before := strings.TrimSpace(string(sealed))
	if r := e.must(0, "rotate-key", "--dir", e.dir); !strings.Contains(r.out, "sealed with the new key") {
		t.Errorf("%s", r.out)
	}
	now, err := os.ReadFile(filepath.Join(e.dir, "sealing.key"))
	if err != nil || strings.TrimSpace(string(now)) == before {
		t.Errorf("the key is the old one: %v", err)
	}
	if r := e.must(0, "reveal", "rota", "password", "--reason", "after a new key"); r.out != password {
		t.Error("after a new key the password is another one")
	}
	e.down()
	restored := t.TempDir()
	t.Cleanup(func() {
		for _, dir := range []string{restored} {
			if place, err := os.ReadFile(filepath.Join(dir, "database", "place")); err == nil {
				os.RemoveAll(strings.TrimSpace(string(place)))
			}
		}
	})
	r := e.must(0, "restore", "--dir", restored, "--from", dump, "--key", key)
	if !strings.Contains(r.out, "1 accounts, 2 stacks") {
		t.Errorf("%s", r.out)
	}
	r = e.run("restore", "--dir", restored, "--from", dump, "--key", key)
	if r.code != 1 || !strings.Contains(r.err, "already") {
		t.Errorf("it restores over a service: %d %s", r.code, r.err)
	}
	own := filepath.Join(restored, "sealing.key")
	for name, change := range map[string]func() error{
		"without its key":  func() error { return os.Rename(own, own+".away") },
		"with another key": func() error { return os.WriteFile(own, []byte(otherKey+"\n"), 0o600) },
	} {
		if err := change(); err != nil {
			t.Fatal(err)
		}
		r := e.run("serve", "--dir", restored, "--listen", "127.0.0.1:0")
		if r.code != 1 || !strings.Contains(r.err, "was sealed with the key") {
			t.Errorf("%s it starts: %d %s", name, r.code, r.err)
		}
		if err := os.Rename(own+".away", own); err != nil && name == "without its key" {
			t.Fatal(err)
		} else if err == nil {
			continue
		}
	}
	if err := os.WriteFile(own, sealed, 0o600); err != nil {
		t.Fatal(err)
	}
	// What the service did after the backup is written beside the database.
	err = os.WriteFile(filepath.Join(restored, "deeds.jsonl"),
		[]byte(`{"at":"2026-11-30T10:00:00Z","run":999,"writes":1,"stack":"rota","stack_id":"7d0c2c1e-6d7e-4c2e-9f64-0d6c5f5a1b11","resource":"late","action":"create","token":"us-late"}`+"\n"), 0o600)
	if err != nil {
		t.Fatal(err)
	}
	e.dir = restored
	e.up(t)
	if r := e.runWith(first+"\n", "login", e.ready.URL, "--user", "admin"); r.code != 0 {
		t.Fatalf("signing in to the restored one: %s", r.err)
	}
	if r := e.must(0, "reveal", "rota", "password", "--reason", "restored"); r.out != password {
		t.Error("the restored service has another password")
	}
	// It may be a copy that somebody only looks at: it changes nothing until it is told.
	e.must(0, "verify", "rota")
	r = e.must(0, "quiet")
	if !strings.Contains(r.out, "the database was filled from a backup, or is a copy") ||
		!strings.Contains(r.out, "undersail serve --in-charge") {
		t.Errorf("%s", r.out)
	}
	r = e.run("tokens", "add", "looked", "--role", "viewer", "--for", "1d")
	if r.code == 0 || !strings.Contains(r.err, "the service is quiet and changes nothing") {
		t.Errorf("it makes a token: %d %s", r.code, r.err)
	}
	r = e.run("retire", "rota")
	if r.code == 0 || !strings.Contains(r.err, "the service is quiet and changes nothing") {
		t.Errorf("it proposes: %d %s", r.code, r.err)
	}
	e.down()
	e.up(t, "--in-charge")
	inCharge := func(when string) {
		t.Helper()
		if r := e.runWith(first+"\n", "login", e.ready.URL, "--user", "admin"); r.code != 0 {
			t.Fatalf("signing in %s: %s", when, r.err)
		}
		if r := e.must(0, "quiet"); !strings.Contains(r.out, "is in charge") {
			t.Errorf("%s: %s", when, r.out)
		}
		e.must(0, "retire", "rota")
	}
	inCharge("in charge")
	e.down()
	e.up(t)
	inCharge("once it was told")
	if r := e.must(0, "audit", "--check"); r.code != 0 {
		t.Error(r.out)
	}
}

// otherKey is a sealing key of nothing.
const otherKey = "AGE-SECRET-KEY-1GFPYYSJZGFPYYSJZGFPYYSJZGFPYYSJZGFPYYSJZGFPYYSJZGFPQ4EGAEX"
