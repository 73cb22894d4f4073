package cli

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"undersail/internal/api/contract"
	"undersail/internal/people"
	"undersail/internal/review"
	"undersail/internal/secret"
	"undersail/internal/trust"
)

// login is where the service is and the token to use there.
type login struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	// CA is a file of certificates that the service's is held against, beside the system's.
	CA string `json:"ca,omitempty"`
}

func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("finding the file of sign-ins: %w", err)
	}
	return filepath.Join(dir, "undersail", "login.json"), nil
}

// whereabouts finds the service: the environment first, then the saved login.
func whereabouts() (login, error) {
	at := login{os.Getenv("UNDERSAIL_URL"), os.Getenv("UNDERSAIL_TOKEN"), os.Getenv("UNDERSAIL_CA")}
	if at.URL != "" && at.Token != "" {
		return at, nil
	}
	path, err := loginFile()
	if err != nil {
		return at, err
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return at, errors.New("not signed in to a service; run: undersail login URL, or set UNDERSAIL_URL and " +
			"UNDERSAIL_TOKEN")
	}
	var saved login
	if err := json.Unmarshal(data, &saved); err != nil {
		return at, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	return login{cmp.Or(at.URL, saved.URL), cmp.Or(at.Token, saved.Token), cmp.Or(at.CA, saved.CA)}, nil
}

// transport reaches the service of a login.
func (l login) transport() (http.RoundTripper, error) {
	if at, err := url.Parse(l.URL); err == nil && at.Scheme == "http" && !trust.IsHere(at.Hostname()) {
		return nil, &exit{exitUsage, fmt.Errorf("%s would be reached in the clear; give its https address", l.URL)}
	}
	t, err := trust.Transport(l.CA)
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	return t, nil
}

// stranger speaks to a service that nobody is signed in to yet.
func (l login) stranger() (*contract.Client, error) {
	t, err := l.transport()
	if err != nil {
		return nil, err
	}
	return contract.NewClient(l.URL, contract.WithHTTPClient(&http.Client{Transport: t}))
}

func (a *app) loginCommand() *cobra.Command {
	var user, ca string
	var invited, openid, pipeline bool
	cmd := &cobra.Command{
		Use:   "login URL",
		Short: "Sign in to a service by token, password, invitation or OpenID Connect",
		Args:  cobra.ExactArgs(1),
		Long: `Sign in to a service. Without a flag a bearer token is asked for, with --user the password of that user, with
--invited the link or code of an invitation and then the password that you choose. What is asked for may come
from standard input, a line each; it is never an argument. With --openid you sign in elsewhere, in any browser:
the command tells where, and waits. A pipeline signs in with --pipeline and an ID token of its provider, for some
minutes, where whoever runs the service named it with serve --pipelines.

A service whose certificate an authority of your own signed is reached with --ca.`,
		Example: "  undersail login http://127.0.0.1:7420 --user admin\n  undersail login " +
			"https://undersail.saltmere.example --invited\n  undersail login https://undersail.saltmere.example " +
			"--openid\n  undersail login https://undersail.saltmere.example < token",
		RunE: func(cmd *cobra.Command, args []string) error {
			at := login{URL: strings.TrimSuffix(args[0], "/")}
			if ca != "" {
				var err error
				if at.CA, err = filepath.Abs(ca); err != nil {
					return fmt.Errorf("reading the password: %w", err)
				}
			}
			c, err := at.stranger()
			if err != nil {
				return err
			}
			in := newAsker(cmd)
			switch {
			case openid:
				at.Token, err = byOpenID(cmd, c)
			case pipeline:
				at.Token, err = byPipeline(cmd, c, in)
			case invited:
				at.Token, err = byInvitation(cmd, c, in)
			case user != "":
				at.Token, err = byPassword(cmd, c, in, user)
			default:
				at.Token, err = in.secret("token: ")
			}
			if err != nil {
				return err
			}
			os.Setenv("UNDERSAIL_URL", at.URL)
			os.Setenv("UNDERSAIL_TOKEN", at.Token)
			os.Setenv("UNDERSAIL_CA", at.CA)
			me, err := a.me(cmd)
			if err != nil {
				return err
			}
			if err := at.save(); err != nil {
				return &exit{exitFailed, err}
			}
			return a.print(cmd, map[string]any{"url": at.URL, "name": me.Name, "roles": me.Roles}, func(w io.Writer) {
				fmt.Fprintf(w, "signed in to %s as %s (%s)\n", at.URL, me.Name, strings.Join(me.Roles, ", "))
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&user, "user", "", "sign in with this user's password")
	f.BoolVar(&invited, "invited", false, "set your password by an invitation, and sign in")
	f.BoolVar(&openid, "openid", false, "sign in by the service's OpenID provider, in a browser on any machine")
	f.BoolVar(&pipeline, "pipeline", false, "sign a pipeline in for some minutes, by an ID token of its own provider")
	f.StringVar(&ca, "ca", "", "file of certificates that the service's is held against, beside the system's")
	cmd.MarkFlagsMutuallyExclusive("user", "invited", "openid", "pipeline")
	a.outputFlag(cmd)
	return cmd
}

// byPassword gives a session for a password.
func byPassword(cmd *cobra.Command, c *contract.Client, in *asker, user string) (string, error) {
	password, err := in.secret("password: ")
	if err != nil {
		return "", err
	}
	terminal := true
	return sessionOf(c.SignIn(cmd.Context(), contract.SignIn{Name: user, Password: password, Terminal: &terminal}))
}

// byPipeline gives a token for an ID token.
func byPipeline(cmd *cobra.Command, c *contract.Client, in *asker) (string, error) {
	raw, err := in.secret("ID token: ")
	if err != nil {
		return "", err
	}
	made, err := decode[people.MadeToken](c.SignInPipeline(cmd.Context(), contract.PipelineToken{IdToken: raw}))
	return made.Value, err
}

// byInvitation sets a password by an invitation and gives the first session.
func byInvitation(cmd *cobra.Command, c *contract.Client, in *asker) (string, error) {
	link, err := in.secret("invitation: ")
	if err != nil {
		return "", err
	}
	code := link[strings.LastIndexByte(link, '#')+1:]
	who, err := decode[people.Person](c.LookAtInvitation(cmd.Context(), contract.InvitationCode{Code: code}))
	if err != nil {
		return "", err
	}
	terminal := true
	password, err := in.newPassword(fmt.Sprintf("a password for %s: ", who.Name))
	if err != nil {
		return "", err
	}
	return sessionOf(c.TakeInvitation(cmd.Context(), contract.TakenInvitation{
		Code:     code,
		Password: password,
		Terminal: &terminal,
	}))
}

// byOpenID tells where to sign in, and waits until somebody did.
func byOpenID(cmd *cobra.Command, c *contract.Client) (string, error) {
	t, err := decode[people.TerminalSignIn](c.BeginTerminal(cmd.Context()))
	if err != nil {
		return "", err
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "open %s in a browser, on any machine, and enter the code %s\n", t.URL, t.Code)
	if t.Complete != "" {
		fmt.Fprintf(cmd.ErrOrStderr(), "or open %s\n", t.Complete)
	}
	for {
		select {
		case <-cmd.Context().Done():
			return "", &exit{exitFailed, errors.New("nobody signed in")}
		case <-time.After(time.Duration(t.Interval) * time.Second):
		}
		token, err := sessionOf(c.AskTerminal(cmd.Context(), contract.TerminalHandle{Handle: t.Handle}))
		var r *refused
		if errors.As(err, &r) && r.Type == "urn:undersail:waiting" {
			continue
		}
		return token, err
	}
}

// sessionOf takes the session out of the answer to a sign-in.
func sessionOf(res *http.Response, err error) (string, error) {
	if _, err := decode[people.User](res, err); err != nil {
		return "", err
	}
	for _, cookie := range res.Cookies() {
		if strings.HasSuffix(cookie.Name, "undersail_session") && cookie.Value != "" {
			return cookie.Value, nil
		}
	}
	return "", &exit{exitFailed, errors.New("the service gave no session")}
}

func (a *app) logoutCommand() *cobra.Command {
	var everywhere bool
	cmd := &cobra.Command{
		Use:   "logout",
		Short: "End the session or token that commands use, and forget it",
		Args:  cobra.NoArgs,
		Long: "End the session or token that commands use here, and forget it. With --everywhere all your " +
			"sessions end, in\nbrowsers and terminals; tokens stay.",
		Example: "  undersail logout\n  undersail logout --everywhere",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			if everywhere {
				me, err := a.me(cmd)
				if err != nil {
					return err
				}
				if _, err := decode[struct{}](c.SignOutEverywhere(cmd.Context(), me.Name, nil)); err != nil {
					return err
				}
			} else if _, err := decode[struct{}](c.SignOut(cmd.Context())); err != nil {
				return err
			}
			if path, err := loginFile(); err == nil {
				os.Remove(path)
			}
			fmt.Fprintln(cmd.OutOrStdout(), "signed out")
			return nil
		}),
	}
	cmd.Flags().BoolVar(&everywhere, "everywhere", false, "end all your sessions")
	return cmd
}

func (a *app) passwordCommand() *cobra.Command {
	return &cobra.Command{Use: "password", Short: "Change your password", Args: cobra.NoArgs,
		Long: "Change your password. The one of now and the new one are asked for, or read from standard input, " +
			"a line each.\nEvery other session of yours ends.",
		Example: "  undersail password",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			in := newAsker(cmd)
			before, err := in.secret("the password of now: ")
			if err != nil {
				return err
			}
			after, err := in.newPassword("a new password: ")
			if err != nil {
				return err
			}
			_, err = decode[struct{}](c.ChangePassword(cmd.Context(), contract.PasswordChange{
				Before: before,
				After:  after,
			}))
			if err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), "the password is changed; every other session has ended")
			return nil
		}}
}

// save keeps the login for later commands, readable by its owner only.
func (l login) save() error {
	path, err := loginFile()
	if err != nil {
		return err
	}
	data, err := json.Marshal(l)
	if err != nil {
		return fmt.Errorf("keeping the sign-in: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("keeping the sign-in: %w", err)
	}
	// Whatever was there, others could read it: it is replaced, not written over.
	return secret.ReplaceFile(path, string(data))
}

// asker asks for what is not to be seen: at a terminal, or a line each from standard input.
type asker struct {
	cmd   *cobra.Command
	lines *bufio.Reader
}

func newAsker(cmd *cobra.Command) *asker {
	return &asker{cmd, bufio.NewReader(cmd.InOrStdin())}
}

func (a *asker) atTerminal() bool { return isTerminal(fileOf(a.cmd.InOrStdin())) }

func (a *asker) secret(prompt string) (string, error) {
	if a.atTerminal() {
		fmt.Fprint(a.cmd.ErrOrStderr(), prompt)
		raw, err := term.ReadPassword(int(fileOf(a.cmd.InOrStdin()).Fd()))
		fmt.Fprintln(a.cmd.ErrOrStderr())
		return strings.TrimSpace(string(raw)), err
	}
	line, err := a.lines.ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	return strings.TrimSpace(line), nil
}

// newPassword asks for a password twice, since nobody sees what is typed.
func (a *asker) newPassword(prompt string) (string, error) {
	password, err := a.secret(prompt)
	if err != nil || !a.atTerminal() {
		return password, err
	}
	if again, err := a.secret("once more: "); err != nil || again != password {
		return "", errors.Join(err, &exit{exitUsage, errors.New("the two are not the same")})
	}
	return password, nil
}

func askSecret(cmd *cobra.Command, prompt string) (string, error) {
	return newAsker(cmd).secret(prompt)
}

func (a *app) me(cmd *cobra.Command) (people.User, error) {
	c, err := a.client()
	if err != nil {
		return people.User{}, err
	}
	return decode[contract.User](c.GetMe(cmd.Context()))
}

func (a *app) whoamiCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "whoami",
		Short:   "Show which service and user commands go to",
		Args:    cobra.NoArgs,
		Example: "  undersail whoami",
		RunE: func(cmd *cobra.Command, _ []string) error {
			me, err := a.me(cmd)
			if err != nil {
				return err
			}
			at, err := whereabouts()
			if err != nil {
				return err
			}
			return a.print(cmd, me, func(w io.Writer) {
				fmt.Fprintf(w, "%s (%s; %s) at %s\n", me.Name, review.OrDash(me.FullName), strings.Join(me.Roles, ", "),
					at.URL)
			})
		},
	}
	a.outputFlag(cmd)
	return cmd
}
