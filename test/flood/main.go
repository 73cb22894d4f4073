// Command flood runs the built service under load and attack, and prints what a signed-in
// operator notices of it: the 95th percentile of their reads beside that of an idle service,
// the memory of the service, and what became of the runs that were under way.
package main

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// The figures to reach.
const (
	mostTimes  = 5
	orMost     = 100 * time.Millisecond
	mostMemory = 600 // MiB
)

// only is the one way of attacking, or -1.
var only int

func main() {
	clients := flag.Int("clients", 50, "how many clients attack")
	during := flag.Duration("during", time.Minute, "for how long")
	idle := flag.Duration("idle", 15*time.Second, "how long the idle service is measured")
	flag.IntVar(&only, "only", -1, "attack in one way alone: 0 sign-ins, 1 big bodies, 2 slow peers, 3 streams, 4 heavy checks")
	flag.Parse()
	if err := run(*clients, *during, *idle); err != nil {
		fmt.Fprintln(os.Stderr, "flood:", err)
		os.Exit(1)
	}
}

// target is a demo that is flooded.
type target struct {
	dir, url, token, password string
	cmd                       *exec.Cmd
}

func run(clients int, during, idle time.Duration) error {
	dir, err := os.MkdirTemp("", "undersail-flood-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	t := &target{dir: dir}
	if err := t.up(); err != nil {
		return err
	}
	defer t.down()
	operator, err := t.person("operator-of-flood", "operator")
	if err != nil {
		return err
	}
	var people []string // who is signed in and attacks all the same
	for i := range 4 {
		p, err := t.person(fmt.Sprint("insider", i), "operator")
		if err != nil {
			return err
		}
		people = append(people, p)
	}
	for _, stack := range []string{"quiet", "read"} {
		if said, err := t.apply(stack); err != nil {
			return fmt.Errorf("make %s: %w: %s", stack, err, said)
		}
	}
	fmt.Fprintln(os.Stderr, "measuring the idle service")
	before := t.read(operator, idle)
	fmt.Fprintf(os.Stderr, "%d clients attack for %v\n", clients, during)
	ctx, cancel := context.WithTimeout(context.Background(), during)
	defer cancel()
	var tally tally
	var all sync.WaitGroup
	for i := range clients {
		all.Go(func() { t.attack(ctx, i, people, &tally) })
	}
	var runs, harmed atomic.Int64
	all.Go(func() {
		for n := 0; ctx.Err() == nil; n++ {
			runs.Add(1)
			if said, err := t.apply(fmt.Sprint("during-", n)); err != nil {
				harmed.Add(1)
				fmt.Fprintln(os.Stderr, "a run was harmed:", said, err)
			}
		}
	})
	var memory atomic.Int64
	all.Go(func() {
		for ctx.Err() == nil {
			memory.Store(max(memory.Load(), t.memory()))
			time.Sleep(200 * time.Millisecond)
		}
	})
	under := t.read(operator, during)
	all.Wait()
	if out, err := t.undersail("verify", "quiet"); err != nil {
		harmed.Add(1)
		fmt.Fprintln(os.Stderr, "a stack was harmed:", out, err)
	}
	return report(clients, before, under, &tally, memory.Load(), runs.Load(), harmed.Load())
}

func report(clients int, before, under reads, tally *tally, memory, runs, harmed int64) error {
	idle95, flood95 := before.percentile(95), under.percentile(95)
	limit := max(mostTimes*idle95, orMost)
	fmt.Printf("attackers                       %d clients: %s\n", clients, tally)
	fmt.Printf("reads of an operator, idle      p50 %v  p95 %v  of %d, %d failed\n", before.percentile(50), idle95, len(before.took), before.failed)
	fmt.Printf("reads of an operator, flooded   p50 %v  p95 %v  of %d, %d failed\n", under.percentile(50), flood95, len(under.took), under.failed)
	fmt.Printf("p95 flooded over idle           %.1f times; at most %v\n", float64(flood95)/float64(idle95), limit)
	fmt.Printf("most memory of the service      %d MiB; at most %d\n", memory, mostMemory)
	fmt.Printf("runs during the flood           %d, harmed %d\n", runs, harmed)
	var errs []error
	if flood95 > limit {
		errs = append(errs, fmt.Errorf("reads are too slow: %v", flood95))
	}
	if under.failed > 0 {
		errs = append(errs, fmt.Errorf("%d reads failed", under.failed))
	}
	if memory > mostMemory {
		errs = append(errs, fmt.Errorf("it took %d MiB", memory))
	}
	if harmed > 0 || runs == 0 {
		errs = append(errs, fmt.Errorf("of %d runs %d were harmed", runs, harmed))
	}
	return errors.Join(errs...)
}

func (t *target) up() error {
	t.cmd = exec.Command("bin/undersail", "demo", "--dir", t.dir, "--empty", "--pace", "120")
	t.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	out, err := t.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := t.cmd.Start(); err != nil {
		return err
	}
	lines := bufio.NewScanner(out)
	if !lines.Scan() || !strings.HasPrefix(lines.Text(), "ready") {
		return errors.New("the demo does not come up")
	}
	fields := strings.Fields(lines.Text())
	t.url, t.password = fields[1], fields[5]
	env, err := os.ReadFile(filepath.Join(t.dir, "env"))
	for line := range strings.Lines(string(env)) {
		if token, ok := strings.CutPrefix(strings.TrimSpace(line), "export UNDERSAIL_TOKEN="); ok {
			t.token = token
		}
	}
	return err
}

func (t *target) down() {
	t.cmd.Process.Signal(syscall.SIGTERM)
	t.cmd.Wait()
	if place, err := os.ReadFile(filepath.Join(t.dir, "service", "database", "place")); err == nil {
		os.RemoveAll(strings.TrimSpace(string(place)))
	}
}

// memory is what the service's process has now, in MiB.
func (t *target) memory() int64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", t.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	var kib int64
	_, after, _ := strings.Cut(string(raw), "VmRSS:")
	fmt.Sscan(after, &kib)
	return kib >> 10
}

// undersail runs the client as an administrator.
func (t *target) undersail(args ...string) (string, error) {
	cmd := exec.Command("bin/undersail", args...)
	cmd.Env = append(os.Environ(), "UNDERSAIL_URL="+t.url, "UNDERSAIL_TOKEN="+t.token)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// apply makes a stack and waits until every resource is proved healthy.
func (t *target) apply(stack string) (string, error) {
	out, err := t.undersail("propose", stack, "--template", "warning-site", "--account", "saltmere-lab", "--region", "north-fell", "--input", "range="+cmp.Or(map[string]string{"quiet": "10.41.0.0/24", "read": "10.42.0.0/24"}[stack], "10.43.0.0/24"), "-o", "json")
	if err != nil {
		return out, err
	}
	var p struct {
		ID int64 `json:"id"`
	}
	if err := json.Unmarshal([]byte(out), &p); err != nil {
		return out, err
	}
	if out, err = t.undersail("accept", fmt.Sprint(p.ID)); err != nil {
		return out, err
	}
	if out, err = t.undersail("apply", fmt.Sprint(p.ID), "--watch"); err != nil || !strings.HasPrefix(stack, "during") {
		return out, err
	}
	return t.undersail("retire", stack, "--yes", "--watch")
}

// person invites somebody and gives a token of theirs.
func (t *target) person(name, role string) (string, error) {
	out, err := t.undersail("users", "invite", name, "--role", role, "-o", "json")
	var i struct{ Code string }
	if err != nil || json.Unmarshal([]byte(out), &i) != nil {
		return "", fmt.Errorf("invite %s: %w: %s", name, err, out)
	}
	res, err := http.Post(t.url+"/api/v1/invitations/take", "application/json", strings.NewReader(fmt.Sprintf(`{"code":%q,"password":"slack water at half past nine"}`, i.Code)))
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	for _, c := range res.Cookies() {
		if strings.HasSuffix(c.Name, "session") {
			return c.Value, nil
		}
	}
	log, _ := os.ReadFile(filepath.Join(t.dir, "service.log"))
	return "", fmt.Errorf("%s gets no session: %s\n%s", name, res.Status, log)
}

// reads are what somebody's reads took.
type reads struct {
	took   []time.Duration
	failed int
}

func (r reads) percentile(p int) time.Duration {
	if len(r.took) == 0 {
		return 0
	}
	slices.Sort(r.took)
	return r.took[min(len(r.took)-1, len(r.took)*p/100)].Round(100 * time.Microsecond)
}

// read reads as an operator at the console does, ten times a second.
func (t *target) read(token string, during time.Duration) (out reads) {
	client := &http.Client{Timeout: 30 * time.Second}
	paths := []string{"/api/v1/stacks", "/api/v1/stacks/read", "/api/v1/runs", "/api/v1/proposals", "/api/v1/me", "/api/v1/stacks/read/outputs"}
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for i, end := 0, time.Now().Add(during); time.Now().Before(end); i++ {
		<-tick.C
		r, _ := http.NewRequest(http.MethodGet, t.url+paths[i%len(paths)], nil)
		r.Header.Set("Authorization", "Bearer "+token)
		began := time.Now()
		res, err := client.Do(r)
		if err != nil {
			out.failed++
			continue
		}
		io.Copy(io.Discard, res.Body)
		res.Body.Close()
		if res.StatusCode != http.StatusOK {
			out.failed++
		}
		out.took = append(out.took, time.Since(began))
	}
	return out
}

// tally counts what came of attacks.
type tally struct{ signIns, bodies, slow, streams, checks atomic.Int64 }

func (t *tally) String() string {
	return fmt.Sprintf("%d sign-ins, %d big bodies, %d slow peers, %d streams, %d heavy checks", t.signIns.Load(), t.bodies.Load(), t.slow.Load(), t.streams.Load(), t.checks.Load())
}

// heavy is a template whose check takes as much as one may.
const heavy = "undersail: 1\nabout: {name: quays, version: 1.0.0, title: Quays}\nresources:\n" +
	"  quay: {type: address, repeat: 9900, want: {tags: {n: \"=string(lists.range(900).map(i, i * index).filter(i, i % 7 == 3).size())\"}}}\n"

// attack is one attacker: from an address of its own, in one of five ways.
func (t *target) attack(ctx context.Context, i int, people []string, tally *tally) {
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+i))}, Timeout: 5 * time.Second}
	client := &http.Client{Timeout: time.Minute, Transport: &http.Transport{DialContext: dialer.DialContext}}
	defer client.CloseIdleConnections()
	post := func(path, token string, body []byte) {
		r, _ := http.NewRequestWithContext(ctx, http.MethodPost, t.url+path, bytes.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		if res, err := client.Do(r); err == nil {
			io.Copy(io.Discard, res.Body)
			res.Body.Close()
		}
	}
	insider := people[i/5%len(people)]
	check, _ := json.Marshal(map[string]any{"stack": "quays", "file": "quays.sail.yaml", "source": heavy, "account": "saltmere-lab", "region": "north-fell"})
	big := append(append([]byte(`{"stack":"x","source":"`), bytes.Repeat([]byte("# "), 2<<20-100)...), `"}`...)
	way := i % 5
	if only >= 0 {
		way = only
	}
	for n := 0; ctx.Err() == nil; n++ {
		switch way {
		case 0:
			post("/api/v1/session", "", fmt.Appendf(nil, `{"name":%q,"password":"guess %d"}`, []string{"ines", "tomas", fmt.Sprint("nobody", n)}[n%3], n))
			tally.signIns.Add(1)
		case 1:
			token := insider
			if n%2 == 0 {
				token = ""
			}
			post("/api/v1/checks", token, big)
			tally.bodies.Add(1)
		case 2:
			t.slow(ctx, dialer, insider, n)
			tally.slow.Add(1)
		case 3:
			t.stream(ctx, client, insider)
			tally.streams.Add(1)
		case 4:
			post("/api/v1/checks", insider, check)
			tally.checks.Add(1)
		}
	}
}

// slow holds connections open and says little: in the headers, in the body, and while it
// should read the answer.
func (t *target) slow(ctx context.Context, dialer *net.Dialer, token string, n int) {
	host := strings.TrimPrefix(t.url, "http://")
	var all sync.WaitGroup
	for k := range 6 {
		all.Go(func() {
			c, err := dialer.DialContext(ctx, "tcp", host)
			if err != nil {
				return
			}
			defer c.Close()
			head := []string{"GET /healthz HTTP/1.1\r\nHost: " + host + "\r\n",
				"POST /api/v1/checks HTTP/1.1\r\nHost: " + host + "\r\nAuthorization: Bearer " + token + "\r\nContent-Length: 300000\r\n\r\n{",
				"POST /api/v1/session HTTP/1.1\r\nHost: " + host + "\r\nContent-Length: 9000\r\n\r\n{"}[(n+k)%3]
			io.WriteString(c, head)
			for ctx.Err() == nil {
				c.SetDeadline(time.Now().Add(2 * time.Second))
				if _, err := io.WriteString(c, " "); err != nil {
					return
				}
				if _, err := c.Read(make([]byte, 1)); err != nil && !os.IsTimeout(err) {
					return
				}
			}
		})
	}
	all.Wait()
}

// stream opens more streams than one may have, and leaves them without a word.
func (t *target) stream(ctx context.Context, client *http.Client, token string) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	var all sync.WaitGroup
	for range 12 {
		all.Go(func() {
			r, _ := http.NewRequestWithContext(ctx, http.MethodGet, t.url+"/api/v1/stream", nil)
			r.Header.Set("Authorization", "Bearer "+token)
			if res, err := client.Do(r); err == nil {
				io.Copy(io.Discard, res.Body)
				res.Body.Close()
			}
		})
	}
	all.Wait()
}
