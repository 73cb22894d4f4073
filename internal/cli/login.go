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
	return &cobra.Command{Use: "login URL", Short: "Sign in to a service with a bearer token", Args: cobra.ExactArgs(1),
		Long:    "Sign in to a service. The token is asked for, or read from standard input; it is never an argument.",
		Example: "  undersail login http://127.0.0.1:7420\n  undersail login https://undersail.saltmere.example < token",
		RunE: func(cmd *cobra.Command, args []string) error {
			token, err := askSecret(cmd, "token: ")
			if err != nil {
				return err
			}
			at := login{strings.TrimSuffix(args[0], "/"), token}
			os.Setenv("UNDERSAIL_URL", at.URL)
			os.Setenv("UNDERSAIL_TOKEN", at.Token)
			me, err := a.me(cmd)
			if err != nil {
				return err
			}
			path, err := loginFile()
			if err != nil {
				return err
			}
			data, err := json.Marshal(at)
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
				return err
			}
			if err := os.WriteFile(path, data, 0o600); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "signed in to %s as %s (%s)\n", at.URL, me.Name, me.Role)
			return nil
		}}
}

func askSecret(cmd *cobra.Command, prompt string) (string, error) {
	if in, ok := cmd.InOrStdin().(*os.File); ok && term.IsTerminal(int(in.Fd())) {
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
