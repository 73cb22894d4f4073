package cli

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"undersail/internal/daemon"
	"undersail/internal/demo"
	"undersail/internal/gentle"
	"undersail/internal/store"
)

func (a *app) serveCommand() *cobra.Command {
	c := daemon.Config{Console: a.console, Groups: map[string][]string{}}
	var secretFile, pipelines string
	var groups []string
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service, with a database of its own unless one is named",
		Args:  cobra.NoArgs,
		Long: `Run the service until interrupted. Until there is an administrator, each start prints a link that makes one, once.
The sealing key is a file beside the database: keep a copy of it elsewhere.

Beyond this machine people reach it by TLS: with --tls-cert and --tls-key, which are read again when they change,
or behind a proxy that speaks TLS, told by --behind-proxy and --url.

A database that is named by --database-url needs a role that reads and writes rows, and with --migrate-url another
one that owns the tables; see: undersail migrate --help`,
		Example: `  undersail serve
  undersail serve --listen 0.0.0.0:7420 --url https://undersail.saltmere.example --tls-cert chain.pem --tls-key key.pem
  undersail serve --listen 10.20.0.5:7420 --url https://undersail.saltmere.example --behind-proxy 10.20.0.4
  undersail serve --openid-issuer https://people.saltmere.example --openid-client undersail --openid-role tide-operators=operator`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := openIDFlags(&c, secretFile, groups); err != nil {
				return &exit{exitUsage, err}
			}
			if err := pipelinesFlag(&c, pipelines); err != nil {
				return &exit{exitUsage, err}
			}
			gentle.MakeRoom()
			if err := gentle.KeepMemory(); err != nil {
				return &exit{exitFailed, err}
			}
			c.Log = slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			d, err := daemon.Start(cmd.Context(), c)
			if err != nil {
				return &exit{exitFailed, err}
			}
			first, err := d.Service.People.FirstAdmin(cmd.Context())
			if err != nil {
				return &exit{exitFailed, errors.Join(err, d.Close())}
			}
			ready := map[string]string{"url": d.URL}
			if d.MetricsURL != "" {
				ready["metrics"] = d.MetricsURL
			}
			if first != nil {
				ready["first_admin"] = first.Link
				if a.output == "table" {
					fmt.Fprintf(cmd.ErrOrStderr(),
						"nobody administers this service yet. Open this link, once, until %s:\n  %s\nor in a "+
							"terminal: undersail login %s --invited\n",
						first.ExpiresAt.Local().Format("2006-01-02 15:04"), first.Link, d.URL)
				}
			}
			if err := a.print(cmd, ready, func(w io.Writer) { fmt.Fprintf(w, "ready  %s\n", d.URL) }); err != nil {
				return err
			}
			<-cmd.Context().Done()
			if err := d.Close(); err != nil {
				return &exit{exitFailed, err}
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&c.Dir, "dir", stateDir("service"), "directory of the service")
	f.StringVar(&c.Listen, "listen", "127.0.0.1:7420", "address to listen on; port 0 takes a free one")
	f.StringVar(&c.Serving.URL, "url", "", "where people reach it; its host is the only name that is answered")
	f.StringVar(&c.CertFile, "tls-cert", "", "file of the TLS certificate, with its chain")
	f.StringVar(&c.TLSKeyFile, "tls-key", "", "file of the key of the TLS certificate")
	f.StringSliceVar(&c.Proxies, "behind-proxy", nil,
		"address or range of a proxy that speaks TLS, and tells by X-Forwarded-For who asks")
	f.StringVar(&c.MetricsListen, "metrics-listen", "",
		"address of a listener for /metrics alone, which asks for no token")
	f.DurationVar(&c.SessionLife, "session-life", 12*time.Hour, "how long a session lasts")
	f.DurationVar(&c.OpenIDEvery, "openid-every", 7*24*time.Hour,
		"how long a sign-in by OpenID Connect counts, for sessions and tokens, until the provider is asked anew")
	f.DurationVar(&c.OpenIDEvery, "openid-again", 7*24*time.Hour, "the same, as it was called before")
	f.Lookup("openid-again").Hidden = true
	f.DurationVar(&c.SessionIdle, "session-idle", 2*time.Hour, "how long a session may go unused")
	f.StringVar(&c.OpenID.Issuer, "openid-issuer", "", "URL of an OpenID provider that people may sign in by")
	f.StringVar(&c.OpenID.ClientID, "openid-client", "undersail", "what the provider knows this service as")
	f.StringVar(&secretFile, "openid-secret-file", "", "file of the secret that the provider gave it, if it did")
	f.StringVar(&c.OpenID.Groups, "openid-groups", "groups", "claim that tells the groups of somebody")
	f.StringArrayVar(&groups, "openid-role", nil,
		"GROUP=ROLE or GROUP=ROLE@ACCOUNT that a group of the provider has; may be given again")
	f.StringVar(&c.OpenID.CAFile, "openid-ca", "",
		"file of certificates that the provider's is held against, beside the system's")
	f.StringVar(&pipelines, "pipelines", "",
		"YAML file of pipelines that sign in with ID tokens of their own providers: name, issuer, audience, claims, "+
			"roles, minutes of each")
	f.StringVar(&c.DatabaseURL, "database-url", "", "PostgreSQL to use instead of one of its own")
	f.StringVar(&c.MigrateURL, "migrate-url", "", "the same database for the role that owns its tables")
	f.StringVar(&c.KeyFile, "key-file", "", "file of the sealing key; in --dir when left out")
	f.StringArrayVar(&c.LocalLibraries, "local-libraries", nil,
		"folder of this machine from which libraries may be read")
	f.StringSliceVar(&c.Reach, "reach", nil,
		"private address, address:port or range that clouds, machines and libraries may have; public ones need none")
	f.BoolVar(&c.InCharge, "in-charge", false,
		"go on with a database that may be a copy or behind, such as one that was restored; say it once, and end "+
			"every other copy first")
	retentionFlags(cmd, &c.Engine.Retention)
	f.DurationVar(&c.Engine.ClaimLife, "claim-life", 10*time.Second,
		"how long a replica that is gone keeps its runs from others")
	f.Float64Var(&c.Engine.CallRate, "call-rate", 20,
		"calls a second that an account is tried with until its cloud has shown what it takes")
	a.outputFlag(cmd)
	return cmd
}

// openIDFlags reads the secret of the OpenID client, and which roles groups have.
func openIDFlags(c *daemon.Config, secretFile string, groups []string) error {
	for _, text := range groups {
		group, role, ok := strings.Cut(text, "=")
		if !ok || group == "" {
			return fmt.Errorf("--openid-role %q is not GROUP=ROLE", text)
		}
		c.Groups[group] = append(c.Groups[group], role)
	}
	if secretFile == "" {
		return nil
	}
	raw, err := os.ReadFile(secretFile)
	if err != nil {
		return fmt.Errorf("read the secret of the OpenID client: %w", err)
	}
	c.OpenID.ClientSecret = strings.TrimSpace(string(raw))
	return nil
}

// pipelinesFlag reads which pipelines may sign in.
func pipelinesFlag(c *daemon.Config, file string) error {
	if file == "" {
		return nil
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("read the pipelines: %w", err)
	}
	if err := yaml.Load(raw, &c.Pipelines, yaml.WithKnownFields()); err != nil {
		return fmt.Errorf("%s is no list of pipelines, each with name, issuer, audience, claims, roles, "+
			"minutes and ca: %w", file, err)
	}
	return nil
}

func (a *app) migrateCommand() *cobra.Command {
	var url, migrate string
	cmd := &cobra.Command{
		Use:   "migrate --database-url URL --migrate-url URL",
		Short: "Bring the tables of a database up to date, for a role that only uses them",
		Args:  cobra.NoArgs,
		Long: `Bring the tables of a PostgreSQL database up to date as the role of --migrate-url, which owns them, and grant the
role of --database-url what the service needs: to read and write rows, and to the audit only to add. Neither has
to be a superuser. The service then runs with --database-url alone. A service with a database of its own does all
of that by itself.

The URLs may ask for TLS on both sides: sslmode=verify-full with sslrootcert, sslcert and sslkey.`,
		Example: "  undersail migrate --migrate-url postgres://undersail_owner@db.saltmere.example/undersail " +
			"--database-url postgres://undersail_service@db.saltmere.example/undersail",
		RunE: func(cmd *cobra.Command, _ []string) error {
			log := slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			if err := store.Migrate(cmd.Context(), url, migrate, store.Logged(log)); err != nil {
				return &exit{exitFailed, err}
			}
			fmt.Fprintln(cmd.OutOrStdout(), "the tables are up to date, and the service's role may use them")
			return nil
		},
	}
	cmd.Flags().StringVar(&url, "database-url", "", "the database for the role that the service has")
	cmd.Flags().StringVar(&migrate, "migrate-url", "", "the same database for the role that owns its tables")
	cmd.MarkFlagRequired("database-url")
	cmd.MarkFlagRequired("migrate-url")
	return cmd
}

func (a *app) adminLinkCommand() *cobra.Command {
	var p daemon.Place
	var name, url string
	cmd := &cobra.Command{
		Use:   "admin-link",
		Short: "On the service's machine: a link for an administrator when no other is left",
		Args:  cobra.NoArgs,
		Long: "Print a link that sets the password of an administrator once, and makes the user if there is none " +
			"of the name. It\nneeds the directory of the service, and is for whoever runs it: when every " +
			"administrator lost the way in.",
		Example: "  undersail admin-link --dir /var/lib/undersail --name ines",
		RunE: func(cmd *cobra.Command, _ []string) error {
			i, err := daemon.AdminLink(cmd.Context(), p, strings.TrimSuffix(url, "/"), name)
			if err != nil {
				return &exit{exitFailed, err}
			}
			return a.invited(cmd, name)(i, nil)
		},
	}
	placeFlags(cmd, &p)
	cmd.Flags().StringVar(&name, "name", "admin", "the administrator")
	cmd.Flags().StringVar(&url, "url", "http://127.0.0.1:7420", "where people reach the service")
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
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run everything with demo data: database, simulated clouds, service",
		Args:  cobra.NoArgs,
		Long: "Run the service with the simulated cloud Larch and the data of the Saltmere Tide Office, " +
			"until\ninterrupted. The directory's file env sets what the client needs.",
		Example: "  undersail demo --dir /tmp/demo\n  . /tmp/demo/env",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c.Say = func(format string, args ...any) { fmt.Fprintf(cmd.ErrOrStderr(), format+"\n", args...) }
			gentle.MakeRoom()
			if err := gentle.KeepMemory(); err != nil {
				return &exit{exitFailed, err}
			}
			d, err := demo.Start(cmd.Context(), c)
			if err != nil {
				return &exit{exitFailed, err}
			}
			if err := a.print(cmd, map[string]string{"url": d.URL, "user": demo.User, "password": d.Password},
				func(w io.Writer) {
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
		},
	}
	f := cmd.Flags()
	f.StringVar(&c.Dir, "dir", stateDir("demo"), "directory of the demo")
	f.StringVar(&c.Listen, "listen", "127.0.0.1:0",
		"address to listen on; port 0 takes the one used before, or a free one")
	f.StringVar(&c.DatabaseURL, "database-url", "", "empty PostgreSQL database to use instead of one of its own")
	f.Float64Var(&c.Pace, "pace", 20, "cloud seconds in a real second")
	a.outputFlag(cmd)
	f.BoolVar(&c.Empty, "empty", false, "load accounts and templates, but make no stacks")
	return cmd
}
