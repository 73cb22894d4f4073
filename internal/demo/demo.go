// Package demo runs everything on one machine with made-up data: a database, the
// simulated clouds as a process of their own, the service, and the stacks of the
// Saltmere Tide Office, made by really running them.
package demo

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"undersail/internal/accounts"
	"undersail/internal/core/policy"
	"undersail/internal/daemon"
	"undersail/internal/openid"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/secrets"
)

// User is who signs in to the demo.
const User = "ines"

// Config is how a demo runs.
type Config struct {
	Dir    string
	Listen string
	Pace   float64
	Empty  bool
	// DatabaseURL names an empty PostgreSQL database to use instead of one of its own.
	DatabaseURL string
	Console     fs.FS
	Say         func(format string, args ...any)
}

// Demo is a running demo. Failed gets an error when the simulated clouds end by
// themselves.
type Demo struct {
	URL      string
	Password string
	Failed   chan error

	config Config
	state  state
	daemon *daemon.Daemon
	cloud  *exec.Cmd
}

// state is what a demo keeps between starts.
type state struct {
	Password string `json:"password"`
	Token    string `json:"token"`
	Listen   string `json:"listen"`
	Loaded   bool   `json:"loaded"`
}

// Start brings everything up. On the first start it loads the demo data, which
// takes about a minute; later starts find it.
func Start(ctx context.Context, c Config) (_ *Demo, err error) {
	if c.Dir, err = filepath.Abs(c.Dir); err != nil {
		return nil, fmt.Errorf("starting the demo: %w", err)
	}
	if err := os.MkdirAll(c.Dir, 0o711); err != nil {
		return nil, fmt.Errorf("make the demo's directory: %w", err)
	}
	d := &Demo{config: c, Failed: make(chan error, 1)}
	defer func() {
		if err != nil {
			d.Close()
		}
	}()
	if err := d.readState(); err != nil {
		return nil, err
	}
	if err := d.startCloud(ctx); err != nil {
		return nil, err
	}
	c.Say("starting the database and the service")
	if d.daemon, err = d.startService(ctx); err != nil {
		return nil, err
	}
	d.URL = d.daemon.URL
	d.state.Listen = strings.TrimPrefix(d.URL, "http://")
	if err := d.load(ctx); err != nil {
		return nil, fmt.Errorf("load demo data: %w", err)
	}
	d.Password = d.state.Password
	return d, d.writeEnv()
}

// startService listens where it did before, so that saved addresses stay true,
// unless somebody else took the port meanwhile.
func (d *Demo) startService(ctx context.Context) (*daemon.Daemon, error) {
	log, err := os.OpenFile(filepath.Join(d.config.Dir, "service.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("starting the service: %w", err)
	}
	var place struct{ Larch, OpenID string }
	if err := readJSON(filepath.Join(d.cloudDir(), "simcloud.json"), &place); err != nil {
		return nil, fmt.Errorf("read where the simulated cloud is: %w", err)
	}
	c := daemon.Config{
		Dir:         filepath.Join(d.config.Dir, "service"),
		DatabaseURL: d.config.DatabaseURL,
		Serving:     daemon.Serving{Listen: d.config.Listen},
		Console:     d.config.Console,
		Reach:       []string{strings.TrimPrefix(place.Larch, "http://"), "127.64.0.0/10"},
		// the cloud and its machines
		OpenID:         openid.Config{Issuer: place.OpenID, ClientID: "undersail"},
		Groups:         map[string][]string{"tide-operators": {"operator"}, "tide-watch": {"viewer"}},
		LocalLibraries: []string{filepath.Join(d.config.Dir, "library")},
		Log:            slog.New(slog.NewTextHandler(log, nil)),
	}
	if strings.HasSuffix(c.Listen, ":0") && d.state.Listen != "" {
		before := c
		before.Listen = d.state.Listen
		if started, err := daemon.Start(ctx, before); err == nil {
			return started, nil
		}
	}
	return daemon.Start(ctx, c)
}

// startCloud runs simcloud from beside this program and waits until it is ready.
func (d *Demo) startCloud(ctx context.Context) error {
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("starting the cloud: %w", err)
	}
	program := filepath.Join(filepath.Dir(self), "simcloud")
	if _, err := os.Stat(program); err != nil {
		return fmt.Errorf("the simulated clouds are not there; build them with make build: %w", err)
	}
	d.config.Say("starting the simulated clouds; one real second is %g cloud seconds", d.config.Pace)
	cmd := exec.Command(program, "run", "--dir", d.cloudDir(), "--pace", fmt.Sprint(d.config.Pace), "--accounts",
		"saltmere-live,saltmere-lab")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return fmt.Errorf("starting the cloud: %w", err)
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start the simulated clouds: %w", err)
	}
	d.cloud = cmd
	ready := make(chan bool, 1)
	go func() {
		lines := bufio.NewScanner(out)
		ready <- lines.Scan() && strings.HasPrefix(lines.Text(), "ready")
		for lines.Scan() {
		}
		d.Failed <- fmt.Errorf("the simulated clouds ended: %v", errors.Join(lines.Err(), cmd.Wait()))
	}()
	select {
	case ok := <-ready:
		if !ok {
			return errors.New("the simulated clouds did not come up")
		}
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (d *Demo) cloudDir() string { return filepath.Join(d.config.Dir, "clouds") }

func (d *Demo) readState() error {
	raw, err := os.ReadFile(filepath.Join(d.config.Dir, "demo.json"))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, &d.state)
}

func (d *Demo) writeState() error {
	raw, err := json.Marshal(d.state)
	if err != nil {
		return fmt.Errorf("writing the state: %w", err)
	}
	return os.WriteFile(filepath.Join(d.config.Dir, "demo.json"), raw, 0o600)
}

func (d *Demo) writeEnv() error {
	env := fmt.Sprintf("export UNDERSAIL_URL=%s\nexport UNDERSAIL_TOKEN=%s\nexport SIMCLOUD_DIR=%s\n", d.URL,
		d.state.Token, quoted(d.cloudDir()))
	if err := os.WriteFile(filepath.Join(d.config.Dir, "env"), []byte(env), 0o600); err != nil {
		return fmt.Errorf("writing the environment: %w", err)
	}
	return d.writeState()
}

func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// Close stops the service, then the clouds. The data stays.
func (d *Demo) Close() error {
	var err error
	if d.daemon != nil {
		err = d.daemon.Close()
	}
	if d.cloud != nil && d.cloud.Process != nil {
		d.cloud.Process.Signal(syscall.SIGTERM)
		select {
		case ended := <-d.Failed:
			_ = ended // by our signal
		case <-time.After(5 * time.Second):
			d.cloud.Process.Kill()
		}
	}
	return err
}

// load makes users, accounts, templates and stacks, once.
func (d *Demo) load(ctx context.Context) error {
	s := d.daemon.Service
	if d.state.Token == "" {
		d.state.Password = people.NewPassword()
		for _, u := range []struct{ name, full, role string }{
			{User, "Ines Varga", "admin"},
			{"tomas", "Tomas Holm", "reviewer"},
			{"oda", "Oda Lindqvist", "viewer"},
		} {
			if err := s.People.Put(ctx, u.name, u.full, d.state.Password, u.role); err != nil {
				return err
			}
		}
		var err error
		if d.state.Token, err = s.People.IssueToken(ctx, User, "demo"); err != nil {
			return err
		}
	}
	if err := d.loadAccounts(ctx); err != nil {
		return err
	}
	if err := d.loadTemplates(ctx); err != nil {
		return err
	}
	if err := d.writeState(); err != nil {
		return err
	}
	if d.config.Empty || d.state.Loaded {
		return nil
	}
	if err := d.loadStacks(ctx); err != nil {
		return err
	}
	if err := d.loadSecrets(ctx); err != nil {
		return err
	}
	if err := d.loadPeople(ctx); err != nil {
		return err
	}
	d.state.Loaded = true
	return nil
}

func (d *Demo) me(ctx context.Context) (people.User, error) {
	return d.daemon.Service.People.ByToken(ctx, d.state.Token, "", true)
}

func (d *Demo) loadAccounts(ctx context.Context) error {
	var place struct{ Larch, Admin string }
	if err := readJSON(filepath.Join(d.cloudDir(), "simcloud.json"), &place); err != nil {
		return err
	}
	var list []struct {
		Name         string `json:"name"`
		ClientID     string `json:"client_id"`
		ClientSecret string `json:"client_secret"`
	}
	if err := readJSON(filepath.Join(d.cloudDir(), "accounts.json"), &list); err != nil {
		return err
	}
	me, err := d.me(ctx)
	if err != nil {
		return err
	}
	for _, a := range list {
		n := accounts.NewAccount{
			Name:        a.Name,
			Cloud:       "larch",
			Endpoint:    place.Larch,
			Credentials: map[string]string{"client_id": a.ClientID, "client_secret": a.ClientSecret},
		}
		if _, err := d.daemon.Service.Accounts.Add(ctx, me, n); err != nil {
			return fmt.Errorf("account %s: %w", a.Name, err)
		}
	}
	return nil
}

// loadSecrets bounds the lab account, and makes what stands for itself.
func (d *Demo) loadSecrets(ctx context.Context) error {
	me, err := d.me(ctx)
	if err != nil {
		return err
	}
	s := d.daemon.Service
	budget, ends := 900.0, time.Now().AddDate(0, 3, 0).UTC().Truncate(24*time.Hour)
	_, err = s.Accounts.Bound(ctx, me, "saltmere-lab", accounts.Bounds{Budget: &budget, EndsAt: &ends})
	if err != nil {
		return err
	}
	for _, n := range []secrets.NewNamed{
		{Name: "rota-password", Kind: "secret", About: "sign-in to the duty officers' rota"},
		{Name: "feed-token", Kind: "secret", About: "token of the tide feed"},
		{Name: "feed-token", Kind: "secret", Rotate: true},
		{Name: "duty-key", Kind: "key_pair", About: "the officers on duty"},
	} {
		if _, err := s.Secrets.Put(ctx, me, n); err != nil {
			return fmt.Errorf("secret %s: %w", n.Name, err)
		}
	}
	return nil
}

func readJSON(path string, into any) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	return json.Unmarshal(raw, into)
}

// stacks are what the Tide Office runs. The last one meets a fault.
var stacks = []struct {
	name, template, account, region string
	inputs                          map[string]any
	fault                           map[string]any
}{
	{name: "warnings-north", template: "warning-site", account: "saltmere-live", region: "north-fell",
		inputs: map[string]any{"range": "10.60.0.0/24", "headline": "No warnings at present"}},
	{name: "readings-archive", template: "tide-archive", account: "saltmere-live", region: "north-fell",
		inputs: map[string]any{"range": "10.61.0.0/24", "forecasters": "127.0.0.0/8", "years": 10}},
	{name: "intake-trial", template: "gauge-intake", account: "saltmere-lab", region: "hollow-bay",
		inputs: map[string]any{
			"zones":         []any{"hollow-bay-a", "hollow-bay-b"},
			"workers":       4,
			"range":         "10.62.0.0/20",
			"admin_sources": []any{"127.0.0.0/8"},
		},
		fault: map[string]any{"kind": "service-never", "label": "worker-03", "count": -1}},
}

func (d *Demo) loadStacks(ctx context.Context) error {
	me, err := d.me(ctx)
	if err != nil {
		return err
	}
	have, err := d.daemon.Service.Stacks.List(ctx, "", 1000)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, st := range have {
		there[st.Name] = st.LastRun != nil
	}
	var runs []int64
	for _, st := range stacks {
		if there[st.name] {
			continue // made before this start was interrupted
		}
		if st.fault != nil {
			if err := d.fault(http.MethodPost, st.fault); err != nil {
				return err
			}
		}
		p, err := d.daemon.Service.Proposing.Propose(ctx, me, proposing.NewProposal{
			Stack:    st.name,
			Template: st.template,
			Account:  st.account,
			Region:   st.region,
			Inputs:   st.inputs,
		})
		if err != nil {
			return explain(st.name, err)
		}
		var agreed []string // that the demo's own secrets go where its templates say
		for _, c := range p.Consents {
			if c.Name == policy.ConsentSecrets {
				agreed = append(agreed, c.Name)
			}
		}
		if _, err := d.daemon.Service.Proposing.Accept(ctx, me, p.ID, agreed, ""); err != nil {
			return explain(st.name, err)
		}
		run, err := d.daemon.Service.Proposing.Apply(ctx, me, p.ID, "")
		if err != nil {
			return explain(st.name, err)
		}
		d.config.Say("making stack %s: %s", st.name, p.Summary)
		runs = append(runs, run.ID)
	}
	for _, id := range runs {
		if err := d.await(ctx, id); err != nil {
			return err
		}
	}
	return d.fault(http.MethodDelete, nil)
}

func explain(stack string, err error) error {
	var refused *refusal.Error
	if errors.As(err, &refused) {
		for _, f := range refused.Findings {
			err = fmt.Errorf("%w; %s: %s", err, f.Place, f.Message)
		}
	}
	return fmt.Errorf("stack %s: %w", stack, err)
}

func (d *Demo) await(ctx context.Context, id int64) error {
	for {
		run, err := d.daemon.Service.Stacks.Run(ctx, id)
		if err != nil {
			return err
		}
		if run.EndedAt != nil {
			d.config.Say("stack %s: %s %s", run.Stack, run.State, run.Reason)
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// fault plans a fault of the simulated clouds, or lifts all of them.
func (d *Demo) fault(method string, f map[string]any) error {
	var place struct{ Admin string }
	if err := readJSON(filepath.Join(d.cloudDir(), "simcloud.json"), &place); err != nil {
		return err
	}
	raw, err := json.Marshal(f)
	if err != nil {
		return err
	}
	at, err := url.JoinPath(place.Admin, "faults")
	if err != nil {
		return err
	}
	req, err := http.NewRequest(method, at, bytes.NewReader(raw))
	if err != nil {
		return err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	return res.Body.Close()
}
