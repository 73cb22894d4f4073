// Package task runs commands on machines over SSH so that each is run once and can be
// found again: by whoever takes a run over, and after a connection broke. What it knows
// of a command lies in a folder on the machine, below ~/.undersail; no agent is needed,
// a POSIX shell suffices.
package task

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Phase is how far a command is.
type Phase string

// The phases. A lost one ended without an exit code: the machine was started again, or
// somebody ended it.
const (
	Absent  Phase = "absent"
	Running Phase = "running"
	Ended   Phase = "ended"
	Lost    Phase = "lost"
)

// State is what a machine tells of a command.
type State struct {
	Phase Phase
	Exit  int64
}

// Machine is somebody who is signed in to a machine.
type Machine struct{ client *ssh.Client }

// On speaks to a machine over a connection, which stays the caller's.
func On(client *ssh.Client) Machine { return Machine{client} }

// OutputLimit is how many bytes of what a command wrote are read.
const OutputLimit = 64 << 10

// folder is where the machine keeps what it knows of a command. Ids hold nothing that a
// shell reads otherwise.
func folder(id string) (string, error) {
	if id == "" || strings.Trim(id, "abcdefghijklmnopqrstuvwxyz0123456789.-") != "" {
		return "", fmt.Errorf("%q is no id of a command", id)
	}
	return `d="$HOME/.undersail/` + id + `"; `, nil
}

// Hand lays a command and its standard input down on the machine, and starts nothing.
// One that was started is left alone.
func (m Machine) Hand(ctx context.Context, id, command, input string) error {
	at, err := folder(id)
	if err != nil {
		return err
	}
	for name, text := range map[string]string{"command": command, "input": input} {
		line := at + `umask 077; mkdir -p "$d" && { [ -d "$d/started" ] || cat > "$d/` + name + `"; }`
		if _, code, err := m.exec(ctx, line, text); err != nil || code != 0 {
			return failed("lay the command down", code, err)
		}
	}
	return nil
}

// Start starts a command that was handed over. Starting it again does nothing. What was handed over
// goes before the end is told.
func (m Machine) Start(ctx context.Context, id string) error {
	at, err := folder(id)
	if err != nil {
		return err
	}
	line := at +
		`[ -d "$d/started" ] && exit 0; [ -f "$d/command" ] || exit 66; mkdir "$d/started" 2>/dev/null || exit 0; export d; ` +
		`nohup setsid sh -c 'echo $$ > "$d/pid"; sh "$d/command" < "$d/input" > "$d/output" 2>&1; echo $? > "$d/exit.new"; rm -f "$d/command" "$d/input"; mv "$d/exit.new" "$d/exit"' < /dev/null > /dev/null 2>&1 &`
	_, code, err := m.exec(ctx, line, "")
	if err != nil || code != 0 {
		return failed("start the command", code, err)
	}
	return nil
}

// Look tells how far a command is.
func (m Machine) Look(ctx context.Context, id string) (State, error) {
	at, err := folder(id)
	if err != nil {
		return State{}, err
	}
	line := at +
		`over() { [ -f "$d/exit" ] && echo "ended $(cat "$d/exit")"; }; over && exit 0; [ -d "$d/started" ] || { echo absent; exit 0; }; p="$(cat "$d/pid" 2>/dev/null)"; [ -n "$p" ] || { echo running; exit 0; }; ` +
		`if kill -0 "$p" 2>/dev/null; then echo running; else over || { [ -s "$d/exit.new" ] && mv "$d/exit.new" "$d/exit" && over; } || echo lost; fi`
	out, code, err := m.exec(ctx, line, "")
	if err != nil || code != 0 {
		return State{}, failed("ask for the command", code, err)
	}
	word, exit, _ := strings.Cut(strings.TrimSpace(out), " ")
	s := State{Phase: Phase(word)}
	switch s.Phase {
	case Absent, Running, Lost:
		return s, nil
	case Ended:
		if s.Exit, err = strconv.ParseInt(exit, 10, 64); err == nil {
			return s, nil
		}
	}
	return State{}, fmt.Errorf("the machine answered %q when it was asked for the command", strings.TrimSpace(out))
}

// Output reads what a command wrote, from a byte on, at most OutputLimit of it.
func (m Machine) Output(ctx context.Context, id string, from int) (string, error) {
	at, err := folder(id)
	if err != nil {
		return "", err
	}
	out, code, err := m.exec(ctx,
		fmt.Sprintf(at+`[ -f "$d/output" ] || exit 0; tail -c +%d "$d/output" | head -c %d`, from+1, OutputLimit), "")
	if err != nil || code != 0 {
		return "", failed("read what the command wrote", code, err)
	}
	return out, nil
}

// Read reads a file of the machine.
func (m Machine) Read(ctx context.Context, path string) (string, error) {
	out, code, err := m.exec(ctx, fmt.Sprintf("head -c %d < %s", OutputLimit, quoted(path)), "")
	if err != nil || code != 0 {
		return "", failed("read "+path, code, err)
	}
	return out, nil
}

// Forget removes what the machine knows of a command.
func (m Machine) Forget(ctx context.Context, id string) error {
	at, err := folder(id)
	if err != nil {
		return err
	}
	_, code, err := m.exec(ctx, at+`rm -rf "$d"`, "")
	if err != nil || code != 0 {
		return failed("clear the command away", code, err)
	}
	return nil
}

// quoted makes one word of a shell of a text.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

func failed(what string, code int, err error) error {
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return fmt.Errorf("%s: the machine's shell ended with exit code %d", what, code)
}

// exec runs a line in the shell of whoever is signed in.
func (m Machine) exec(ctx context.Context, line, input string) (out string, code int, err error) {
	session, err := m.client.NewSession()
	if err != nil {
		return "", 0, err
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { session.Close() })
	defer stop()
	var text bytes.Buffer
	session.Stdout = &text
	// A line may end without reading its input, which is no failure of the line: so the
	// session does not copy it, as it would tell of that.
	in, err := session.StdinPipe()
	if err != nil {
		return "", 0, err
	}
	if err = session.Start(line); err == nil {
		go func() {
			io.WriteString(in, input)
			in.Close()
		}()
		err = session.Wait()
	}
	var exit *ssh.ExitError
	switch {
	case errors.As(err, &exit):
		return text.String(), exit.ExitStatus(), nil
	case ctx.Err() != nil:
		return "", 0, ctx.Err()
	}
	return text.String(), 0, err
}
