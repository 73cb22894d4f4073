package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"undersail/internal/api/contract"
	"undersail/internal/secret"
	"undersail/internal/service"
)

// login is where the service is and the token to use there.
type login struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "undersail", "login.json"), nil
}

// whereabouts finds the service: the environment first, then the saved login.
func whereabouts() (login, error) {
	at := login{os.Getenv("UNDERSAIL_URL"), os.Getenv("UNDERSAIL_TOKEN")}
	if at.URL != "" && at.Token != "" {
		return at, nil
	}
	path, err := loginFile()
	if err != nil {
		return at, err
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return at, errors.New("not signed in to a service; run: undersail login URL, or set UNDERSAIL_URL and UNDERSAIL_TOKEN")
	}
	var saved login
	if err := json.Unmarshal(data, &saved); err != nil {
		return at, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	if at.URL != "" {
		saved.URL = at.URL
	}
	if at.Token != "" {
		saved.Token = at.Token
	}
	return saved, nil
}

func (a *app) loginCommand() *cobra.Command {
	var user string
	cmd := &cobra.Command{Use: "login URL", Short: "Sign in to a service with a bearer token or a password", Args: cobra.ExactArgs(1),
		Long:    "Sign in to a service. The token, or with --user the password, is asked for or read from standard\ninput; it is never an argument. A password gives a session of 12 hours.",
		Example: "  undersail login http://127.0.0.1:7420 --user admin\n  undersail login https://undersail.saltmere.example < token",
		RunE: func(cmd *cobra.Command, args []string) error {
			at := login{URL: strings.TrimSuffix(args[0], "/")}
			var err error
			if user == "" {
				at.Token, err = askSecret(cmd, "token: ")
			} else {
				at.Token, err = session(cmd, at.URL, user)
			}
			if err != nil {
				return err
			}
			os.Setenv("UNDERSAIL_URL", at.URL)
			os.Setenv("UNDERSAIL_TOKEN", at.Token)
			me, err := a.me(cmd)
			if err != nil {
				return err
			}
			if err := at.save(); err != nil {
				return &exit{exitFailed, err}
			}
			return a.print(cmd, map[string]string{"url": at.URL, "name": me.Name, "role": me.Role}, func(w io.Writer) {
				fmt.Fprintf(w, "signed in to %s as %s (%s)\n", at.URL, me.Name, me.Role)
			})
		}}
	cmd.Flags().StringVar(&user, "user", "", "sign in with this user's password")
	a.outputFlag(cmd)
	return cmd
}

// session signs in with a password and gives the session's token.
func session(cmd *cobra.Command, url, user string) (string, error) {
	password, err := askSecret(cmd, "password: ")
	if err != nil {
		return "", err
	}
	c, err := contract.NewClient(url)
	if err != nil {
		return "", err
	}
	res, err := c.SignIn(cmd.Context(), contract.SignIn{Name: user, Password: password})
	if _, err := decode[contract.User](res, err); err != nil {
		return "", err
	}
	for _, cookie := range res.Cookies() {
		if cookie.Value != "" {
			return cookie.Value, nil
		}
	}
	return "", &exit{exitFailed, errors.New("the service gave no session")}
}

// save keeps the login for later commands, readable by its owner only.
func (l login) save() error {
	path, err := loginFile()
	if err != nil {
		return err
	}
	data, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	// Whatever was there, others could read it: it is replaced, not written over.
	return secret.ReplaceFile(path, string(data))
}

func askSecret(cmd *cobra.Command, prompt string) (string, error) {
	if in := fileOf(cmd.InOrStdin()); isTerminal(in) {
		fmt.Fprint(cmd.ErrOrStderr(), prompt)
		raw, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
		return strings.TrimSpace(string(raw)), err
	}
	line, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	return strings.TrimSpace(line), nil
}

func (a *app) me(cmd *cobra.Command) (service.User, error) {
	c, err := a.client()
	if err != nil {
		return service.User{}, err
	}
	return decode[contract.User](c.GetMe(cmd.Context()))
}

func (a *app) whoamiCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "whoami", Short: "Show which service and user commands go to", Args: cobra.NoArgs, Example: "  undersail whoami",
		RunE: func(cmd *cobra.Command, _ []string) error {
			me, err := a.me(cmd)
			if err != nil {
				return err
			}
			at, err := whereabouts()
			if err != nil {
				return err
			}
			return a.print(cmd, me, func(w io.Writer) { fmt.Fprintf(w, "%s (%s, %s) at %s\n", me.Name, me.FullName, me.Role, at.URL) })
		}}
	a.outputFlag(cmd)
	return cmd
}
