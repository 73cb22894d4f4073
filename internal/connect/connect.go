// Package connect takes people to machines over SSH: through as many machines as lie
// before them, with host keys that are known beforehand, and with keys that it never
// holds: somebody else signs with them. It opens shells, runs commands, forwards ports,
// copies files, and lends the keys to other programs as an agent of its own.
package connect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Hop is one machine on the way.
type Hop struct {
	Name      string // for messages
	Host      string
	Port      int
	At        string // host:port of the first hop
	User      string
	HostKey   string // in OpenSSH form; no other is accepted
	PublicKey string // in OpenSSH form, of the key that signs in
}

// Sign signs a request to sign in to a hop (RFC 4252, section 7).
type Sign func(ctx context.Context, hop int, data []byte) (*ssh.Signature, error)

// Way is an open way to a machine. Close it.
type Way struct {
	clients []*ssh.Client
}

// dialPatience bounds reaching one machine.
const dialPatience = 20 * time.Second

// Dial signs in to every machine on the way.
func Dial(ctx context.Context, hops []Hop, sign Sign) (*Way, error) {
	w := &Way{}
	for i, h := range hops {
		client, err := w.next(ctx, i, h, sign)
		if err != nil {
			w.Close()
			return nil, fmt.Errorf("sign in to %s as %s: %w", h.Name, h.User, err)
		}
		w.clients = append(w.clients, client)
	}
	return w, nil
}

func (w *Way) next(ctx context.Context, i int, h Hop, sign Sign) (*ssh.Client, error) {
	pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(h.HostKey))
	if err != nil {
		return nil, errors.New("its host key is not known")
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(h.PublicKey))
	if err != nil {
		return nil, errors.New("the key to sign in with is not known")
	}
	ctx, cancel := context.WithTimeout(ctx, dialPatience)
	defer cancel()
	var conn net.Conn
	at := h.At
	if i == 0 {
		var d net.Dialer
		conn, err = d.DialContext(ctx, "tcp", at)
	} else {
		at = net.JoinHostPort(h.Host, fmt.Sprint(h.Port))
		conn, err = w.clients[i-1].DialContext(ctx, "tcp", at)
	}
	if err != nil {
		return nil, fmt.Errorf("it cannot be reached at %s: %w", at, err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	c, channels, requests, err := ssh.NewClientConn(conn, at, &ssh.ClientConfig{
		User:              h.User,
		HostKeyCallback:   ssh.FixedHostKey(pinned),
		HostKeyAlgorithms: []string{pinned.Type()},
		Auth:              []ssh.AuthMethod{ssh.PublicKeys(remote{ctx, public, i, sign})},
	})
	if !stop() && err == nil {
		err = ctx.Err()
	}
	if err != nil {
		conn.Close()
		return nil, explain(err)
	}
	return ssh.NewClient(c, channels, requests), nil
}

// explain says what the two errors mean that people meet.
func explain(err error) error {
	switch text := err.Error(); {
	case strings.Contains(text, "host key mismatch"):
		return errors.New("it shows another host key than the one that is pinned: somebody may stand between, or " +
			"the machine was replaced by hand")
	case strings.Contains(text, "unable to authenticate"):
		return errors.New("it does not accept the key for this user")
	}
	return err
}

// remote is a key that somebody else signs with.
type remote struct {
	ctx  context.Context
	key  ssh.PublicKey
	hop  int
	sign Sign
}

func (r remote) PublicKey() ssh.PublicKey { return r.key }

func (r remote) Sign(_ io.Reader, data []byte) (*ssh.Signature, error) {
	return r.sign(r.ctx, r.hop, data)
}

// Close ends everything on the way.
func (w *Way) Close() {
	for i := len(w.clients) - 1; i >= 0; i-- {
		w.clients[i].Close()
	}
}

func (w *Way) last() *ssh.Client { return w.clients[len(w.clients)-1] }

// Terminal is what a shell speaks through. Size and Changed are nil where there is no
// terminal.
type Terminal struct {
	In       io.Reader
	Out, Err io.Writer
	// Size gives columns and rows; Changed tells when they changed.
	Size    func() (columns, rows int)
	Changed <-chan os.Signal
}

// Run opens a shell, or runs a command when it is not empty, until it ends. An
// [ssh.ExitError] tells with which code.
func (w *Way) Run(ctx context.Context, t Terminal, command string) error {
	session, err := w.last().NewSession()
	if err != nil {
		return fmt.Errorf("begin a session: %w", err)
	}
	defer session.Close()
	defer context.AfterFunc(ctx, func() { session.Close() })()
	session.Stdout, session.Stderr = t.Out, t.Err
	input, err := session.StdinPipe() // not Stdin: its copying would outlive the shell
	if err != nil {
		return err
	}
	if t.Size != nil {
		columns, rows := t.Size()
		kind := os.Getenv("TERM")
		if kind == "" {
			kind = "xterm-256color"
		}
		if err := session.RequestPty(kind, rows, columns, ssh.TerminalModes{ssh.ECHO: 1}); err != nil {
			return fmt.Errorf("ask for a terminal: %w", err)
		}
	}
	if command == "" {
		err = session.Shell()
	} else {
		err = session.Start(command)
	}
	if err != nil {
		return fmt.Errorf("begin a shell: %w", err)
	}
	go func() {
		if t.In != nil {
			io.Copy(input, t.In)
		}
		input.Close()
	}()
	ended := make(chan struct{})
	defer close(ended)
	if t.Changed != nil {
		go func() {
			for {
				select {
				case <-t.Changed:
					columns, rows := t.Size()
					session.WindowChange(rows, columns)
				case <-ended:
					return
				}
			}
		}()
	}
	return session.Wait()
}

// Forward carries connections of a listener to a port of the machine itself, until the
// context is over.
func (w *Way) Forward(ctx context.Context, l net.Listener, port int, failed func(error)) {
	defer context.AfterFunc(ctx, func() { l.Close() })()
	for {
		here, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer here.Close()
			there, err := w.last().DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", fmt.Sprint(port)))
			if err != nil {
				failed(fmt.Errorf("nothing answers at port %d of the machine: %w", port, err))
				return
			}
			defer there.Close()
			done := make(chan struct{})
			go func() {
				io.Copy(there, here)
				if half, ok := there.(interface{ CloseWrite() error }); ok {
					_ = half.CloseWrite()
				}
				close(done)
			}()
			io.Copy(here, there)
			here.Close()
			<-done
		}()
	}
}

// Send copies a regular file to the machine. A path that ends in a slash is a folder
// there.
func (w *Way) Send(ctx context.Context, from, to string) (int64, error) {
	source, err := os.Open(from)
	if err != nil {
		return 0, fmt.Errorf("sending what was asked: %w", err)
	}
	defer source.Close()
	if info, err := source.Stat(); err != nil || !info.Mode().IsRegular() {
		return 0, fmt.Errorf("%s is no regular file", from)
	}
	if to == "" || strings.HasSuffix(to, "/") {
		to = path.Join(to, filepath.Base(from))
	}
	files, err := w.files(ctx)
	if err != nil {
		return 0, err
	}
	defer files.Close()
	target, err := files.Create(to)
	if err != nil {
		return 0, fmt.Errorf("write %s on the machine: %w", to, err)
	}
	n, err := io.Copy(target, source)
	if err := errors.Join(err, target.Close()); err != nil {
		return n, fmt.Errorf("write %s on the machine: %w", to, err)
	}
	return n, nil
}

// Fetch copies a file of the machine to one that is not there yet, for its owner only.
func (w *Way) Fetch(ctx context.Context, from, to string) (n int64, err error) {
	if to == "" || strings.HasSuffix(to, "/") {
		to = filepath.Join(to, path.Base(from))
	}
	files, err := w.files(ctx)
	if err != nil {
		return 0, err
	}
	defer files.Close()
	source, err := files.Open(from)
	if err != nil {
		return 0, fmt.Errorf("read %s on the machine: %w", from, err)
	}
	defer source.Close()
	target, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, os.ErrExist) {
		return 0, fmt.Errorf("%s is there already; name another file with --to", to)
	}
	if err != nil {
		return 0, err
	}
	n, err = io.Copy(target, source)
	if err := errors.Join(err, target.Close()); err != nil {
		os.Remove(to)
		return n, fmt.Errorf("fetch %s: %w", from, err)
	}
	return n, nil
}

func (w *Way) files(ctx context.Context) (*sftp.Client, error) {
	files, err := sftp.NewClient(w.last())
	if err != nil {
		return nil, fmt.Errorf("the machine takes no files: %w", err)
	}
	context.AfterFunc(ctx, func() { files.Close() })
	return files, nil
}
