package probe

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"undersail/internal/core/health"
)

func init() {
	asks := func(spec map[string]any) string { return textOf(spec, "command") + " on " + textOf(spec, "host") }
	lookers["ssh"] = looker{asks, Prober.ssh}
}

func (p Prober) ssh(ctx context.Context, spec map[string]any) (string, answer) {
	command := textOf(spec, "command")
	r, err := p.route(ctx, spec)
	asked := fmt.Sprintf("%s on %s as %s%s", command, textOf(spec, "host"), textOf(spec, "user"), r.words)
	if textOf(spec, "key") == "" {
		asked = fmt.Sprintf("%s on %s as %s with the password%s", command, textOf(spec, "host"), textOf(spec, "user"),
			r.words)
	}
	if err != nil {
		return asked, none(reason(err))
	}
	defer r.close()
	client, err := p.login(ctx, r.dial, spec)
	if err != nil {
		return asked, none(reason(err))
	}
	defer client.Close()
	session, err := client.NewSession()
	if err != nil {
		return asked, none(reason(err))
	}
	defer session.Close()
	out := &limited{left: readLimit}
	session.Stdout, session.Stderr = out, out
	err = session.Run(command)
	a := answer{
		said:   &said{out.text.String(), out.left == 0},
		passed: err == nil && strings.Contains(out.text.String(), textOf(spec, "answer")),
	}
	var exit *ssh.ExitError
	if errors.As(err, &exit) {
		a.end = fmt.Sprintf("(exit code %d)", exit.ExitStatus())
	} else if err != nil {
		return asked, none(reason(err))
	}
	return asked, a
}

// Login signs in to a machine, through a jump host where the spec names one, as a check
// over SSH would: host, port, user, key or password, host_key, through. Whoever asked
// closes what comes back.
func (p Prober) Login(ctx context.Context, spec map[string]any) (client *ssh.Client, close func(), err error) {
	r, err := p.route(ctx, spec)
	if err != nil {
		return nil, nil, errors.New(reason(err))
	}
	client, err = p.login(ctx, r.dial, spec)
	if err != nil {
		r.close()
		return nil, nil, errors.New(reason(err))
	}
	return client, func() { client.Close(); r.close() }, nil
}

// Tellable is what may be kept of what a machine wrote: where it, or what it was asked to do,
// was given a secret, only what a pattern names.
func (p Prober) Tellable(host, pattern, text string, told bool) string {
	spec := map[string]any{"host": host, "keep": pattern}
	if told && pattern == "" {
		return fmt.Sprintf("(%d bytes, not kept: a secret was given)", len(text))
	}
	return p.tellable("", spec, said{text: text})
}

// limited keeps the beginning of what is written to it. Both streams of a command
// write to one.
type limited struct {
	mu   sync.Mutex
	text strings.Builder
	left int
}

func (l *limited) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := min(l.left, len(b))
	l.text.Write(b[:n])
	l.left -= n
	return len(b), nil
}

// login opens an SSH session to a host whose key is pinned.
func (p Prober) login(ctx context.Context, dial func(context.Context, string, string) (net.Conn, error),
	spec map[string]any) (*ssh.Client, error) {
	host := textOf(spec, "host")
	auth, err := credential(spec)
	if err != nil {
		return nil, err
	}
	want := textOf(spec, "host_key")
	if want == "" {
		want = p.HostKeys[host]
	}
	pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(want))
	if err != nil {
		return nil, fmt.Errorf("no host key of %s is known to compare with", host)
	}
	addr := net.JoinHostPort(host, fmt.Sprint(number(spec, "port", health.SSHPort)))
	conn, err := dial(ctx, "tcp", addr)
	if err != nil {
		return nil, err
	}
	if deadline, ok := ctx.Deadline(); ok {
		conn.SetDeadline(deadline)
	}
	// A connection inside another does not keep deadlines; closing it does.
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	c, channels, requests, err := ssh.NewClientConn(conn, addr, &ssh.ClientConfig{
		User: textOf(spec, "user"), Auth: []ssh.AuthMethod{auth}, HostKeyCallback: ssh.FixedHostKey(pinned),
		HostKeyAlgorithms: []string{pinned.Type()}})
	if err != nil {
		stop()
		conn.Close()
		return nil, err
	}
	return ssh.NewClient(c, channels, requests), nil
}

// credential is what a login shows: a key, or a password.
func credential(spec map[string]any) (ssh.AuthMethod, error) {
	key, password := textOf(spec, "key"), textOf(spec, "password")
	switch {
	case key == "" && password == "":
		return nil, errors.New("the login has neither a key nor a password")
	case key == "":
		return ssh.Password(password), nil
	}
	signer, err := ssh.ParsePrivateKey([]byte(key))
	if err != nil {
		return nil, errors.New("the private key cannot be read")
	}
	return ssh.PublicKeys(signer), nil
}
