package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"undersail/internal/api/contract"
	"undersail/internal/connect"
	"undersail/internal/stacks"
)

// connecting are the flags of connect.
type connecting struct {
	user, copy, to string
	forward, local int
	plain, lend    bool
}

func (a *app) connectCommand() *cobra.Command {
	var x connecting
	cmd := &cobra.Command{
		Use:   "connect STACK [MACHINE] [-- COMMAND]",
		Short: "Open a shell on a machine, forward a port, copy a file",
		Args:  cobra.MinimumNArgs(1),
		Long: `Open a shell on a machine of a stack, through its machine with a public address where it has none itself.
Host keys are those that the cloud told when the machines were made; no other is accepted. The private key
never comes here: the service signs with it, and keeps in the audit who connected where. Signing in is all
that it signs.`,
		Example: `  undersail connect intake gateway
  undersail connect intake 'worker[0]' -- systemctl is-active tide-forecast
  undersail connect rota 'board[0]' --forward 8085
  undersail connect intake gateway --copy survey.csv --to /srv/
  undersail connect intake gateway --copy :/etc/tide-intake.conf --to intake.conf
  undersail connect intake 'worker[0]' --print
  undersail connect intake 'worker[0]' --lend`,
		RunE: func(cmd *cobra.Command, args []string) error {
			var command []string
			if at := cmd.ArgsLenAtDash(); at >= 0 {
				args, command = args[:at], args[at:]
			}
			if len(args) < 1 || len(args) > 2 {
				return &exit{exitUsage, errors.New("name a stack and at most one machine; a command comes after --")}
			}
			n := stacks.NewConnection{User: x.user, Purpose: x.purpose()}
			if len(args) == 2 {
				n.Resource = args[1]
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			way, err := decode[stacks.Connection](c.Connect(cmd.Context(), args[0], n))
			if err != nil {
				return err
			}
			return a.connected(cmd, c, way, x, strings.Join(command, " "))
		},
	}
	f := cmd.Flags()
	f.StringVar(&x.user, "user", "", "user on the machine; that of its image when left out")
	f.IntVar(&x.forward, "forward", 0, "port of the machine to reach at a local address, until Ctrl-C")
	f.IntVar(&x.local, "local", 0, "with --forward: the local port; a free one when left out")
	f.StringVar(&x.copy, "copy", "",
		"file to copy to the machine; with a colon before it, a file of the machine to copy here")
	f.StringVar(&x.to, "to", "", "with --copy: file to copy to, or a folder that ends in /")
	f.BoolVar(&x.plain, "print", false, "print the line for the program ssh; the key must be in your own agent")
	f.BoolVar(&x.lend, "lend", false, "lend the key to other programs through an agent's socket, until Ctrl-C")
	cmd.MarkFlagsMutuallyExclusive("forward", "copy", "print", "lend")
	return cmd
}

func (x connecting) purpose() string {
	switch {
	case x.forward > 0:
		return "forward"
	case x.copy != "":
		return "copy"
	case x.plain:
		return "print"
	}
	return "shell"
}

func (a *app) connected(cmd *cobra.Command, c *contract.Client, way stacks.Connection, x connecting,
	command string) error {
	hops := make([]connect.Hop, len(way.Hops))
	for i, h := range way.Hops {
		hops[i] = connect.Hop{
			Name:      h.Resource,
			Host:      h.Host,
			Port:      h.Port,
			At:        h.At,
			User:      h.User,
			HostKey:   h.HostKey,
			PublicKey: h.PublicKey,
		}
	}
	sign := func(ctx context.Context, hop int, data []byte) (*ssh.Signature, error) {
		s, err := decode[stacks.Signature](c.SignConnection(ctx, way.ID, stacks.ToSign{Hop: hop, Data: data}))
		return &ssh.Signature{Format: s.Format, Blob: s.Blob}, err
	}
	machine := hops[len(hops)-1].Name
	switch {
	case x.plain:
		fmt.Fprintln(cmd.OutOrStdout(), connect.Line(hops))
		fmt.Fprintf(cmd.ErrOrStderr(),
			"its host key: %s\nthe key: undersail reveal %s --reason WHY | ssh-add -t 1h -\n",
			strings.TrimSpace(hops[len(hops)-1].HostKey), way.Hops[len(hops)-1].Key)
		return nil
	case x.lend:
		lent, err := connect.Lend(cmd.Context(), hops, sign)
		if err != nil {
			return &exit{exitFailed, err}
		}
		defer lent.Close()
		fmt.Fprintln(cmd.OutOrStdout(), lent.Line(hops))
		fmt.Fprintln(cmd.ErrOrStderr(), "the key is lent until you end this with Ctrl-C")
		<-cmd.Context().Done()
		return nil
	}
	open, err := connect.Dial(cmd.Context(), hops, sign)
	if err != nil {
		var e *exit
		if errors.As(err, &e) {
			return err
		}
		return &exit{exitFailed, err}
	}
	defer open.Close()
	switch {
	case x.forward > 0:
		return forward(cmd, open, machine, x)
	case strings.HasPrefix(x.copy, ":"):
		n, err := open.Fetch(cmd.Context(), x.copy[1:], x.to)
		return copied(cmd, err, "%d bytes of %s of %s are here", n, x.copy[1:], machine)
	case x.copy != "":
		n, err := open.Send(cmd.Context(), x.copy, x.to)
		return copied(cmd, err, "%d bytes of %s are on %s", n, x.copy, machine)
	}
	return shell(cmd, open, command)
}

func copied(cmd *cobra.Command, err error, format string, args ...any) error {
	if err != nil {
		return &exit{exitFailed, err}
	}
	fmt.Fprintf(cmd.ErrOrStderr(), format+"\n", args...)
	return nil
}

// shell opens a shell or runs a command, on a terminal where there is one, and ends
// with its code.
func shell(cmd *cobra.Command, open *connect.Way, command string) error {
	t := connect.Terminal{In: cmd.InOrStdin(), Out: raw(cmd.OutOrStdout()), Err: raw(cmd.ErrOrStderr())}
	in, out := fileOf(cmd.InOrStdin()), fileOf(cmd.OutOrStdout())
	if command == "" && isTerminal(in) && isTerminal(out) {
		before, err := term.MakeRaw(int(in.Fd()))
		if err != nil {
			return &exit{exitFailed, err}
		}
		defer term.Restore(int(in.Fd()), before)
		changed := make(chan os.Signal, 1)
		signal.Notify(changed, syscall.SIGWINCH)
		defer signal.Stop(changed)
		t.Changed = changed
		t.Size = func() (int, int) {
			columns, rows, err := term.GetSize(int(out.Fd()))
			if err != nil {
				return 80, 24
			}
			return columns, rows
		}
	}
	err := open.Run(cmd.Context(), t, command)
	var code *ssh.ExitError
	switch {
	case errors.As(err, &code):
		return &exit{max(1, code.ExitStatus()), nil}
	case err != nil:
		return &exit{exitFailed, err}
	}
	return nil
}

// forward makes a port of the machine reachable here, and says whether anything answers.
func forward(cmd *cobra.Command, open *connect.Way, machine string, x connecting) error {
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", fmt.Sprint(x.local)))
	if err != nil {
		return &exit{exitFailed, fmt.Errorf("listen here: %w; choose another port with --local", err)}
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		open.Forward(cmd.Context(), l, x.forward, func(err error) { fmt.Fprintln(cmd.ErrOrStderr(), err) })
	}()
	fmt.Fprintf(cmd.OutOrStdout(), "http://%s\n", l.Addr())
	fmt.Fprintf(cmd.ErrOrStderr(), "that is port %d of %s, until you end this with Ctrl-C; %s\n", x.forward, machine,
		answersAt(cmd.Context(), l.Addr().String()))
	<-ended
	return nil
}

// answersAt tells what answers at a forwarded port.
func answersAt(ctx context.Context, at string) string {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at+"/", nil)
	if err != nil {
		return err.Error()
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(req)
	switch {
	case errors.Is(err, io.EOF), err != nil && strings.Contains(err.Error(), "connection reset"):
		return "nothing answers there yet"
	case err != nil && strings.Contains(err.Error(), "malformed HTTP"):
		return "something answers that does not speak HTTP"
	case err != nil:
		return "it does not answer yet"
	}
	res.Body.Close()
	return "it answers " + res.Status
}
