package main

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

// target is a demo.
type target struct {
	dir, url, token, password string
	cmd                       *exec.Cmd
}

// newTarget starts one in a directory of its own.
func newTarget() (*target, error) {
	dir, err := os.MkdirTemp("", "undersail-flood-")
	if err != nil {
		return nil, err
	}
	t := &target{dir: dir}
	return t, t.up()
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
	defer os.RemoveAll(t.dir)
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
	out, err := t.undersail("propose", stack, "--template", "warning-site", "--account", "saltmere-lab", "--region",
		"north-fell", "--input",
		"range="+cmp.Or(map[string]string{"quiet": "10.41.0.0/24", "read": "10.42.0.0/24"}[stack], "10.43.0.0/24"),
		"-o", "json")
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
	res, err := http.Post(t.url+"/api/v1/invitations/take", "application/json",
		strings.NewReader(fmt.Sprintf(`{"code":%q,"password":"slack water at half past nine"}`, i.Code)))
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
	paths := []string{"/api/v1/stacks", "/api/v1/stacks/read", "/api/v1/runs", "/api/v1/proposals", "/api/v1/me",
		"/api/v1/stacks/read/outputs"}
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
