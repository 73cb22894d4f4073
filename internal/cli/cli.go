// Package cli is the command line. It calls the generated client; rendering and
// checking files is done here by internal/core, without a service.
package cli

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"
	"golang.org/x/term"

	"undersail/internal/api/contract"
)

// Exit codes, the same for every command.
const (
	exitFailed      = 1
	exitUsage       = 2
	exitFindings    = 3
	exitRefused     = 4
	exitUnreachable = 5
	exitWaiting     = 6 // for a person
)

// exit ends the program with a code. A nil error says that all is told already.
type exit struct {
	code int
	err  error
}

func (e *exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exit) Unwrap() error { return e.err }

// app is what commands share.
type app struct {
	output  string
	console fs.FS
	version string
	library string // folder of templates named NAME@RANGE
	// places tell in which file and line the value of an input stands, by inputs.NAME.
	places map[string]string
}

// Run executes the command line and returns the exit code.
func Run(args []string, console fs.FS, version string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	root := newRoot(&app{console: console, version: version})
	root.SetArgs(args)
	root.SetOut(screen{os.Stdout})
	root.SetErr(screen{os.Stderr})
	cmd, err := root.ExecuteContextC(ctx)
	if err == nil {
		return 0
	}
	var e *exit
	if !errors.As(err, &e) {
		fmt.Fprintf(screen{os.Stderr}, "undersail: %v\nSee: %s --help\n", err, cmd.CommandPath())
		return exitUsage
	}
	if e.err != nil {
		fmt.Fprintf(screen{os.Stderr}, "undersail: %v\n", e.err)
	}
	return e.code
}

func newRoot(a *app) *cobra.Command {
	root := &cobra.Command{
		Use:   "undersail",
		Short: "Render stack templates for public clouds, apply them in order, verify every resource",
		Long: `Under Sail turns a parameterized template into a running, verified stack in a
public cloud account. Nothing starts before what it needs is proved healthy.

The usual way:
  undersail templates                          choose a template
  undersail propose NAME --template T ...      see exactly what would be made
  undersail accept ID                          agree to it
  undersail apply ID --watch                   make it, prove each resource healthy
  undersail outputs NAME                       how to reach it`,
		SilenceErrors: true, SilenceUsage: true, Version: a.version,
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return err })
	for _, g := range []struct{ id, title string }{
		{"running", "Running it:"},
		{"knowing", "Knowing:"},
		{"preparing", "Preparing:"},
		{"doing", "Doing:"},
		{"living", "Living with it:"},
	} {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
	}
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("running", a.serveCommand(), a.demoCommand(), a.loginCommand(), a.logoutCommand(), a.whoamiCommand(),
		a.passwordCommand(), a.usersCommand(), a.tokensCommand(), a.backupCommand(), a.restoreCommand(),
		a.rotateKeyCommand(), a.migrateCommand(), a.adminLinkCommand())
	add("knowing", a.accountsCommand(), a.secretsCommand(), a.keyPairsCommand(), a.offersCommand(),
		a.addressesCommand(), a.policiesCommand(), a.templatesCommand(), a.librariesCommand())
	add("preparing", a.fitCommand(), a.compareCommand(), a.checkCommand(), a.renderCommand(), a.proposeCommand(),
		a.proposalsCommand(), a.acceptCommand(), a.refuseCommand())
	add("doing", a.applyCommand(), a.runsCommand(), a.watchCommand(), a.stopCommand(), a.continueCommand(),
		a.retryCommand(), a.undoCommand())
	add("living", a.stacksCommand(), a.outputsCommand(), a.revealCommand(), a.connectCommand(), a.costCommand(),
		a.verifyCommand(), a.rebuildCommand(), a.retireCommand(), a.keptCommand(), a.quietCommand(), a.eventsCommand(),
		a.auditCommand(), a.agreementsCommand())
	return root
}

// outputFlag lets a command print its result for programs.
func (a *app) outputFlag(cmd *cobra.Command) {
	cmd.Flags().StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
}

// print writes a result in the chosen form; table is called for people.
func (a *app) print(cmd *cobra.Command, v any, table func(w io.Writer)) error {
	out := cmd.OutOrStdout()
	switch a.output {
	case "json":
		var text strings.Builder
		e := json.NewEncoder(&text)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		if err := e.Encode(v); err != nil {
			return err
		}
		_, err := io.WriteString(raw(out), shownJSON(text.String()))
		return err
	case "yaml":
		data, err := json.Marshal(v)
		if err != nil {
			return err
		}
		var plain any
		if err := yaml.Load(data, &plain); err != nil {
			return err
		}
		text, err := yaml.Dump(plain)
		if err != nil {
			return err
		}
		if terminalWidth(out) == 0 {
			out = raw(out) // a program reads it as it is
		}
		_, err = out.Write(text)
		return err
	case "table":
		table(out)
		return nil
	}
	return fmt.Errorf("-o takes table, json or yaml, not %q", a.output)
}

// oneLine shows the line breaks of a cell, which would make rows that nobody wrote.
var oneLine = strings.NewReplacer("\r\n", " ⏎ ", "\n", " ⏎ ", "\r", " ⏎ ", "\v", " ", "\f", " ", "\u0085", " ⏎ ",
	"\u2028", " ⏎ ", "\u2029", " ⏎ ")

// columns writes rows of tab-separated cells in columns. On a terminal a row
// ends at its edge; elsewhere nothing is cut.
func columns(w io.Writer, header string, rows func(row func(format string, args ...any))) {
	var all strings.Builder
	t := tabwriter.NewWriter(&all, 0, 4, 2, ' ', 0)
	fmt.Fprintln(t, header)
	rows(func(format string, args ...any) {
		for i, arg := range args {
			if text, is := arg.(string); is {
				args[i] = oneLine.Replace(text)
			}
		}
		fmt.Fprintf(t, format+"\n", args...)
	})
	t.Flush()
	width := terminalWidth(w)
	for line := range strings.Lines(all.String()) {
		line = strings.TrimRight(line, " \n")
		if width > 0 {
			line = clip(line, width)
		}
		fmt.Fprintln(w, line)
	}
}

// terminalWidth is 0 when the output is no terminal.
func terminalWidth(w io.Writer) int {
	f := fileOf(w)
	if f == nil {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

// client speaks to the service that the environment or the saved login names.
func (a *app) client() (*contract.Client, error) {
	at, err := whereabouts()
	if err != nil {
		return nil, &exit{exitUnreachable, err}
	}
	transport, err := at.transport()
	if err != nil {
		return nil, err
	}
	return contract.NewClient(at.URL, contract.WithHTTPClient(&http.Client{Transport: retrying{transport}}),
		contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+at.Token)
			if r.Method == http.MethodPost {
				r.Header.Set("Idempotency-Key", rand.Text())
			}
			return nil
		}))
}

// asking runs a command that asks the service.
func (a *app) asking(run func(cmd *cobra.Command, args []string, c *contract.Client) error,
) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		return run(cmd, args, c)
	}
}

// retrying makes a call once more whose answer was lost: reading calls as they are,
// creating ones under the key that they carry, so that nothing is done twice.
type retrying struct{ http.RoundTripper }

// RoundTrip makes a call.
func (a retrying) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := a.RoundTripper.RoundTrip(r)
	if err == nil || r.Context().Err() != nil || errors.Is(err, syscall.ECONNREFUSED) ||
		r.Method != http.MethodGet && r.Header.Get("Idempotency-Key") == "" {
		return res, err
	}
	if r.GetBody != nil {
		if r.Body, err = r.GetBody(); err != nil {
			return nil, err
		}
	}
	return a.RoundTripper.RoundTrip(r)
}

// decode reads an answer; a problem becomes an exit with the right code.
func decode[T any](res *http.Response, err error) (T, error) {
	var v T
	if err != nil {
		return v, &exit{exitUnreachable,
			fmt.Errorf("the service does not answer: %w; is it running? See: undersail serve --help", unwrapURL(err))}
	}
	defer res.Body.Close()
	if res.StatusCode >= 400 {
		return v, problemExit(res)
	}
	if res.StatusCode == http.StatusNoContent {
		return v, nil
	}
	if err := json.NewDecoder(res.Body).Decode(&v); err != nil {
		return v, &exit{exitFailed, fmt.Errorf("the service's answer cannot be read: %w", err)}
	}
	return v, nil
}

func unwrapURL(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}

// refused is a problem that the service answered with.
type refused struct{ contract.Problem }

func (r *refused) Error() string {
	s := r.Title
	if r.Remedy != nil && *r.Remedy != "" {
		s += "\nremedy: " + *r.Remedy
	}
	if r.Status == http.StatusInternalServerError && r.Instance != nil {
		s += "\ntrace: " + strings.TrimPrefix(*r.Instance, "urn:undersail:trace:")
	}
	return s
}

func problemExit(res *http.Response) error {
	var p contract.Problem
	if err := json.NewDecoder(io.LimitReader(res.Body, 8<<20)).Decode(&p); err != nil || p.Title == "" {
		return &exit{exitFailed, fmt.Errorf("the service answered %s", res.Status)}
	}
	code := exitFailed
	switch strings.TrimPrefix(p.Type, "urn:undersail:") {
	case "findings":
		code = exitFindings
	case "consent", "waiting":
		code = exitWaiting
	case "stale", "conflict", "not-allowed":
		code = exitRefused
	case "not-signed-in":
		code = exitUnreachable
	}
	return &exit{code, &refused{p}}
}

// told shows the findings and diagnostics of a refusal, then ends with its code.
func (a *app) told(cmd *cobra.Command, err error) error {
	var r *refused
	if !errors.As(err, &r) || r.Findings == nil && r.Diagnostics == nil {
		return err
	}
	var e *exit
	errors.As(err, &e)
	if a.output == "json" || a.output == "yaml" {
		if err := a.print(cmd, r.Problem, nil); err != nil {
			return err
		}
	}
	if r.Diagnostics != nil {
		for _, d := range *r.Diagnostics {
			fmt.Fprint(cmd.ErrOrStderr(), d.Text())
		}
	}
	if r.Findings != nil {
		a.printFindings(cmd.ErrOrStderr(), *r.Findings)
	}
	return &exit{e.code, r}
}
