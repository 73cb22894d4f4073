package guest

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"golang.org/x/term"
	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// A guest has a real shell: what is run there may hold pipes, conditions and files. All
// of it is the guest's own; nothing of the machine that simulates is within its reach.

// script runs a script as a user, and gives its exit code. What it leaves in the background
// runs on until the machine stops.
func (g *Guest) script(ctx context.Context, user, text string, in io.Reader, out, err io.Writer) int {
	file, fault := syntax.NewParser().Parse(strings.NewReader(text), "")
	if fault != nil {
		fmt.Fprintln(err, "sh:", fault)
		return 2
	}
	home := "/home/" + user
	if !g.isDir(home) {
		g.makeDir("/home")
		g.makeDir(home)
	}
	env := expand.ListEnviron("HOME="+home, "USER="+user, "PATH=/usr/bin", "HOSTNAME="+g.Label)
	return g.interpret(ctx, file, user, env, in, out, err)
}

func (g *Guest) interpret(ctx context.Context, file *syntax.File, user string, env expand.Environ, in io.Reader,
	out, err io.Writer, params ...string) int {
	r, fault := interp.New(
		interp.StdIO(in, out, err), interp.Dir("/"), interp.Params(append([]string{"--"}, params...)...),
		interp.Env(env),
		interp.CallHandler(programs), interp.OpenHandler(g.openFile), interp.StatHandler(g.stat),
		interp.ReadDirHandler2(g.readDir), interp.AccessHandler(g.access),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc {
			return func(ctx context.Context, args []string) error {
				at := interp.HandlerCtx(ctx)
				c := &call{
					guest: g,
					user:  user,
					dir:   at.Dir,
					env:   exported(at.Env),
					args:  args[1:],
					in:    at.Stdin,
					out:   at.Stdout,
					err:   at.Stderr,
				}
				if code := c.do(ctx, path.Base(args[0])); code != 0 {
					return interp.ExitStatus(code)
				}
				return nil
			}
		}))
	if fault != nil {
		fmt.Fprintln(err, "sh:", fault)
		return 2
	}
	fault = r.Run(ctx, file)
	var exit interp.ExitStatus
	switch {
	case errors.As(fault, &exit):
		return int(exit)
	case fault != nil:
		fmt.Fprintln(err, "sh:", fault)
		return 1
	}
	return 0
}

// exported are the variables that a program is given.
func exported(env expand.Environ) expand.Environ {
	var list []string
	for name, v := range env.Each {
		if v.Exported && v.Kind == expand.String {
			list = append(list, name+"="+v.Str)
		}
	}
	return expand.ListEnviron(list...)
}

// programs lets names that the interpreter keeps for itself, and does not have, be
// programs.
func programs(_ context.Context, args []string) ([]string, error) {
	if args[0] == "kill" {
		args[0] = "/bin/kill"
	}
	return args, nil
}

// command runs a line whose output is small.
func (g *Guest) command(user, line string) (string, int) {
	var out bytes.Buffer
	code := g.script(g.alive, user, line, strings.NewReader(""), &out, &out)
	return out.String(), code
}

// shell answers commands line by line. On a terminal it echoes and lets lines be edited.
func (g *Guest) shell(user string, rw io.ReadWriter, terminal bool) {
	if terminal {
		t := term.NewTerminal(rw, g.Label+"$ ")
		for {
			line, err := t.ReadLine()
			if err != nil || strings.TrimSpace(line) == "exit" {
				return
			}
			out, _ := g.command(user, strings.TrimSpace(line))
			io.WriteString(t, out)
		}
	}
	lines := bufio.NewScanner(rw)
	for fmt.Fprintf(rw, "%s$ ", g.Label); lines.Scan(); fmt.Fprintf(rw, "%s$ ", g.Label) {
		line := strings.TrimSpace(lines.Text())
		if line == "exit" {
			return
		}
		out, _ := g.command(user, line)
		io.WriteString(rw, out)
	}
	if err := lines.Err(); err != nil { // a line that is too long, and whoever typed it is to know
		fmt.Fprintf(rw, "%s: %v\n", g.Label, err)
	}
}

func absolute(ctx context.Context, name string) string {
	if path.IsAbs(name) {
		return path.Clean(name)
	}
	return path.Join(interp.HandlerCtx(ctx).Dir, name)
}

// written is a file that is written to; it is kept with each write, so that others see
// how far it is.
type written struct {
	guest *Guest
	at    string
	text  []byte
}

func (w *written) Write(b []byte) (int, error) {
	w.text = append(w.text, b...)
	if len(w.text) > mostFile {
		return 0, errors.New("no space left on device")
	}
	w.guest.write(w.at, string(w.text))
	return len(b), nil
}
func (w *written) Read([]byte) (int, error) { return 0, io.EOF }
func (w *written) Close() error             { return nil }

type readOnly struct{ io.Reader }

func (readOnly) Write([]byte) (int, error) { return 0, fs.ErrPermission }
func (readOnly) Close() error              { return nil }

type nothing struct{}

func (nothing) Read([]byte) (int, error)    { return 0, io.EOF }
func (nothing) Write(b []byte) (int, error) { return len(b), nil }
func (nothing) Close() error                { return nil }

func (g *Guest) openFile(ctx context.Context, name string, flag int, _ os.FileMode) (io.ReadWriteCloser, error) {
	at := absolute(ctx, name)
	if at == "/dev/null" {
		return nothing{}, nil
	}
	text, there := g.read(at)
	if flag&(os.O_WRONLY|os.O_RDWR) == 0 {
		if !there {
			return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
		}
		return readOnly{strings.NewReader(text)}, nil
	}
	if g.isDir(at) || !g.isDir(path.Dir(at)) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	w := &written{guest: g, at: at}
	if flag&os.O_APPEND != 0 {
		w.text = []byte(text)
	}
	g.write(at, string(w.text))
	return w, nil
}

func (g *Guest) stat(ctx context.Context, name string, _ bool) (fs.FileInfo, error) {
	at := absolute(ctx, name)
	if g.isDir(at) {
		return entry{path.Base(at), 0, true}, nil
	}
	if text, there := g.read(at); there {
		return entry{path.Base(at), int64(len(text)), false}, nil
	}
	return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
}

func (g *Guest) access(ctx context.Context, name string, _ interp.AccessMode) error {
	_, err := g.stat(ctx, name, true)
	return err
}

func (g *Guest) readDir(ctx context.Context, name string) ([]fs.DirEntry, error) {
	at := absolute(ctx, name)
	if !g.isDir(at) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	var out []fs.DirEntry
	for _, base := range g.list(at) {
		text, file := g.read(path.Join(at, base))
		out = append(out, fs.FileInfoToDirEntry(entry{base, int64(len(text)), !file}))
	}
	return out, nil
}

// sleep waits for so many cloud seconds, or until whoever waits is gone.
func (g *Guest) sleep(ctx context.Context, seconds float64) {
	select {
	case <-ctx.Done():
	case <-time.After(g.real(seconds)):
	}
}
