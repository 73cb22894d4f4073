package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/secrets"
)

func (a *app) revealCommand() *cobra.Command {
	var reason, into string
	cmd := &cobra.Command{
		Use:   "reveal SECRET | reveal STACK NAME",
		Short: "Hand a secret over, for a reason that the audit keeps",
		Args:  cobra.RangeArgs(1, 2),
		Long: `Hand the value of a secret over: on a terminal, into a pipe, or into a new file for its owner only. It is
for administrators, and for whoever gave the secret or had it drawn. NAME is a secret input of the stack,
a key pair that was drawn for it, or a secret output. Who read what, when and why stays in the audit.`,
		Example: "  undersail reveal intake admin_password --reason 'first sign-in'\n  undersail reveal db-password " +
			"--reason 'moved to the new server' --to password\n  undersail reveal rota access --reason 'drill' | " +
			"ssh-add -t 1h -",
		RunE: func(cmd *cobra.Command, args []string) error {
			asked := secrets.Asked{Reference: args[0], Reason: reason}
			if len(args) == 2 {
				asked = secrets.Asked{Stack: args[0], Name: args[1], Reason: reason}
			}
			if asked.Reason == "" {
				var err error
				if asked.Reason, err = askLine(cmd, "what for: "); err != nil {
					return err
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			v, err := decode[secrets.Revealed](c.Reveal(cmd.Context(), asked))
			if err != nil {
				return err
			}
			if into != "" {
				return a.revealInto(cmd, v, into)
			}
			if terminalWidth(cmd.OutOrStdout()) > 0 {
				fmt.Fprintln(cmd.OutOrStdout(), shown(v.Value))
				return nil
			}
			_, err = io.WriteString(raw(cmd.OutOrStdout()), v.Value)
			return err
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "what it is needed for; asked for on a terminal")
	cmd.Flags().StringVar(&into, "to", "", "new file to write it to, for its owner only")
	return cmd
}

// revealInto writes a value to a file that is not there yet.
func (a *app) revealInto(cmd *cobra.Command, v secrets.Revealed, path string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, os.ErrExist) {
		return &exit{exitUsage, fmt.Errorf("%s is there already; name a file that is not", path)}
	}
	if err != nil {
		return &exit{exitFailed, err}
	}
	_, err = f.WriteString(v.Value)
	if err := errors.Join(err, f.Close()); err != nil {
		return &exit{exitFailed, err}
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s is in %s, which only you may read\n", v.Reference, path)
	return nil
}

// askLine asks for a line on a terminal; elsewhere nothing is asked.
func askLine(cmd *cobra.Command, prompt string) (string, error) {
	in := fileOf(cmd.InOrStdin())
	if !isTerminal(in) {
		return "", &exit{exitUsage, errors.New("say what it is needed for, with --reason TEXT")}
	}
	fmt.Fprint(cmd.ErrOrStderr(), prompt)
	var line strings.Builder
	one := make([]byte, 1)
	for {
		n, err := in.Read(one)
		if n == 0 || one[0] == '\n' {
			return strings.TrimSpace(line.String()), nil
		}
		if err != nil {
			return "", err
		}
		line.WriteByte(one[0])
	}
}
