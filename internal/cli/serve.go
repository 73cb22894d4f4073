package cli

import (
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/daemon"
	"undersail/internal/demo"
	"undersail/internal/store"
)

func (a *app) serveCommand() *cobra.Command {
	c := daemon.Config{Console: a.console}
	cmd := &cobra.Command{Use: "serve", Short: "Run the service, with a database of its own unless one is named", Args: cobra.NoArgs,
		Long:    "Run the service until interrupted. On the first start it makes the user admin and prints its\npassword once. The sealing key is a file beside the database: keep a copy of it elsewhere.",
		Example: "  undersail serve\n  undersail serve --listen 127.0.0.1:7420 --database-url postgres://undersail@127.0.0.1/undersail",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c.Log = slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			d, err := daemon.Start(cmd.Context(), c)
			if err != nil {
				return &exit{exitFailed, err}
			}
			if d.FirstPassword != "" && a.output == "table" {
				fmt.Fprintf(cmd.ErrOrStderr(), "first start: the user is admin, the password %s\n", d.FirstPassword)
			}
			if err := a.print(cmd, map[string]string{"url": d.URL, "user": "admin", "password": d.FirstPassword}, func(w io.Writer) { fmt.Fprintf(w, "ready  %s\n", d.URL) }); err != nil {
				return err
			}
			<-cmd.Context().Done()
			if err := d.Close(); err != nil {
				return &exit{exitFailed, err}
			}
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&c.Dir, "dir", stateDir("service"), "directory of the service")
	f.StringVar(&c.Listen, "listen", "127.0.0.1:7420", "address to listen on; port 0 takes a free one")
	f.StringVar(&c.DatabaseURL, "database-url", "", "PostgreSQL to use instead of one of its own")
	f.StringVar(&c.KeyFile, "key-file", "", "file of the sealing key; in --dir when left out")
	f.StringArrayVar(&c.LocalLibraries, "local-libraries", nil, "folder of this machine from which libraries may be read")
	f.StringSliceVar(&c.Reach, "reach", nil, "private address, address:port or range that clouds, machines and libraries may have; public ones need none")
	retentionFlags(cmd, &c.Engine.Retention)
	f.DurationVar(&c.Engine.ClaimLife, "claim-life", 10*time.Second, "how long a replica that is gone keeps its runs from others")
	f.Float64Var(&c.Engine.CallRate, "call-rate", 20, "calls a second that an account is tried with until its cloud has shown what it takes")
	a.outputFlag(cmd)
	return cmd
}

// retentionFlags let an operator say how long things are kept.
func retentionFlags(cmd *cobra.Command, r *store.Retention) {
	for _, x := range []struct {
		name, what string
		usual      int
		to         *time.Duration
	}{
		{"keep-evidence", "evidence of health checks; the newest of every check stays", 90, &r.Evidence},
		{"keep-events", "events of runs that are over", 365, &r.Events},
		{"keep-proposals", "proposals that were never applied", 90, &r.Proposals},
		{"keep-tokens", "tokens after their end", 30, &r.Tokens},
		{"keep-secrets", "sealed secrets of retired stacks", 90, &r.Secrets},
	} {
		*x.to = time.Duration(x.usual) * 24 * time.Hour
		cmd.Flags().Var((*days)(x.to), x.name, "days to keep "+x.what+"; 0 for ever")
	}
}

// days is a duration given in whole days.
type days time.Duration

func (d *days) String() string { return strconv.Itoa(int(time.Duration(*d) / (24 * time.Hour))) }
func (d *days) Type() string   { return "days" }
func (d *days) Set(text string) error {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return fmt.Errorf("%q is not a number of days", text)
	}
	*d = days(time.Duration(n) * 24 * time.Hour)
	return nil
}

func stateDir(name string) string {
	base := os.Getenv("XDG_STATE_HOME")
	if base == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			home = os.TempDir()
		}
		base = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(base, "undersail", name)
}

func (a *app) demoCommand() *cobra.Command {
	c := demo.Config{Console: a.console}
	cmd := &cobra.Command{Use: "demo", Short: "Run everything with demo data: database, simulated clouds, service", Args: cobra.NoArgs,
		Long:    "Run the service with the simulated cloud Larch and the data of the Saltmere Tide Office, until\ninterrupted. The directory's file env sets what the client needs.",
		Example: "  undersail demo --dir /tmp/demo\n  . /tmp/demo/env",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c.Say = func(format string, args ...any) { fmt.Fprintf(cmd.ErrOrStderr(), format+"\n", args...) }
			d, err := demo.Start(cmd.Context(), c)
			if err != nil {
				return &exit{exitFailed, err}
			}
			if err := a.print(cmd, map[string]string{"url": d.URL, "user": demo.User, "password": d.Password}, func(w io.Writer) {
				fmt.Fprintf(w, "ready  %s  user %s  password %s\n", d.URL, demo.User, d.Password)
			}); err != nil {
				return err
			}
			select {
			case <-cmd.Context().Done():
			case err = <-d.Failed:
			}
			if closeErr := d.Close(); err == nil {
				err = closeErr
			}
			if err != nil {
				return &exit{exitFailed, err}
			}
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&c.Dir, "dir", stateDir("demo"), "directory of the demo")
	f.StringVar(&c.Listen, "listen", "127.0.0.1:0", "address to listen on; port 0 takes the one used before, or a free one")
	f.Float64Var(&c.Pace, "pace", 20, "cloud seconds in a real second")
	a.outputFlag(cmd)
	f.BoolVar(&c.Empty, "empty", false, "load accounts and templates, but make no stacks")
	return cmd
}
