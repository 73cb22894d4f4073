// Package probe asks running machines for real: TCP connections, HTTP and HTTPS
// requests, commands over SSH, each also through a jump host. It brings
// evidence and judges nothing.
package probe

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"undersail/internal/core/health"
)

// Prober looks at the machines of one stack. It is safe for concurrent use.
type Prober struct {
	// Allowed is where sockets may be opened to; empty allows nothing. What
	// lies behind a jump host is the jump host's business.
	Allowed []netip.Prefix
	// Reach maps host:port to the host:port at which it is really reached.
	Reach map[string]string
	// HostKeys maps addresses to the SSH host key that must be shown.
	HostKeys map[string]string
	// Scrub removes secrets from what is kept; nil keeps everything.
	Scrub func(string) string
	// Timeout bounds one look; 5 seconds when zero.
	Timeout time.Duration
}

// answerLimit is how much of an answer is kept as evidence.
const answerLimit = 300

// Look makes one look of a check whose values are all known.
func (p Prober) Look(ctx context.Context, resource string, c health.Check) health.Evidence {
	timeout := p.Timeout
	if timeout == 0 {
		timeout = 5 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	began := time.Now()
	asked, answer, passed := p.ask(ctx, c)
	e := health.Evidence{Resource: resource, Check: c.Name, At: time.Now(), Asked: asked, Answer: shorten(answer), Passed: passed, Took: time.Since(began).Milliseconds()}
	if p.Scrub != nil {
		e.Asked, e.Answer = p.Scrub(e.Asked), p.Scrub(e.Answer)
	}
	return e
}

func (p Prober) ask(ctx context.Context, c health.Check) (asked, answer string, passed bool) {
	switch c.Kind {
	case "tcp":
		return p.tcp(ctx, c.Spec)
	case "http":
		return p.http(ctx, c.Spec)
	case "ssh":
		return p.ssh(ctx, c.Spec)
	}
	return c.Kind, "there is no such check", false
}

func shorten(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > answerLimit {
		s = string(r[:answerLimit]) + " ..."
	}
	return s
}

func text(spec map[string]any, key string) string { s, _ := spec[key].(string); return s }

func number(spec map[string]any, key string, otherwise int64) int64 {
	switch n := spec[key].(type) {
	case int64:
		return n
	case float64:
		return int64(n)
	}
	return otherwise
}

// route dials, directly or through a jump host. Close ends what was opened on the way.
type route struct {
	dial  func(ctx context.Context, network, addr string) (net.Conn, error)
	words string
	close func()
}

func (p Prober) route(ctx context.Context, spec map[string]any) (route, error) {
	jump, ok := spec["through"].(map[string]any)
	if !ok {
		return route{dial: p.dial, close: func() {}}, nil
	}
	host := text(jump, "host")
	client, err := p.login(ctx, p.dial, jump)
	words := " through " + host
	if err != nil {
		return route{words: words}, fmt.Errorf("the jump host %s: %w", host, err)
	}
	return route{dial: client.DialContext, words: words, close: func() { client.Close() }}, nil
}

// dial opens a socket, where that is allowed.
func (p Prober) dial(ctx context.Context, network, addr string) (net.Conn, error) {
	if to, ok := p.Reach[addr]; ok {
		addr = to
	}
	at, err := netip.ParseAddrPort(addr)
	if err != nil {
		return nil, fmt.Errorf("%s is no address and port", addr)
	}
	allowed := false
	for _, prefix := range p.Allowed {
		allowed = allowed || prefix.Contains(at.Addr())
	}
	if !allowed {
		return nil, fmt.Errorf("the account's policy lets no probe go to %s", at.Addr())
	}
	var d net.Dialer
	return d.DialContext(ctx, network, addr)
}

func (p Prober) tcp(ctx context.Context, spec map[string]any) (string, string, bool) {
	addr := net.JoinHostPort(text(spec, "host"), fmt.Sprint(number(spec, "port", 0)))
	r, err := p.route(ctx, spec)
	asked := "connect to " + addr + r.words
	if err != nil {
		return asked, reason(err), false
	}
	defer r.close()
	conn, err := r.dial(ctx, "tcp", addr)
	if err != nil {
		return asked, reason(err), false
	}
	conn.Close()
	return asked, "connected", true
}

func (p Prober) http(ctx context.Context, spec map[string]any) (string, string, bool) {
	url := text(spec, "url")
	r, err := p.route(ctx, spec)
	asked := "GET " + url + r.words
	if err != nil {
		return asked, reason(err), false
	}
	defer r.close()
	transport := &http.Transport{DialContext: r.dial, DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: text(spec, "trust") == "any", MinVersion: tls.VersionTLS12}}
	client := &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return asked, err.Error(), false
	}
	req.Header.Set("User-Agent", "undersail-probe")
	res, err := client.Do(req)
	if err != nil {
		return asked, reason(err), false
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	passed := int64(res.StatusCode) == number(spec, "status", 200) && strings.Contains(string(body), text(spec, "contains"))
	return asked, fmt.Sprintf("%d %s", res.StatusCode, body), passed
}

func (p Prober) ssh(ctx context.Context, spec map[string]any) (string, string, bool) {
	command := text(spec, "command")
	r, err := p.route(ctx, spec)
	asked := fmt.Sprintf("%s on %s as %s%s", command, text(spec, "host"), text(spec, "user"), r.words)
	if err != nil {
		return asked, reason(err), false
	}
	defer r.close()
	client, err := p.login(ctx, r.dial, spec)
	if err != nil {
		return asked, reason(err), false
	}
	defer client.Close()
	session, err := client.NewSession()
	if err != nil {
		return asked, reason(err), false
	}
	defer session.Close()
	out, err := session.CombinedOutput(command)
	answer := strings.TrimSpace(string(out))
	var exit *ssh.ExitError
	if errors.As(err, &exit) {
		answer += fmt.Sprintf(" (exit code %d)", exit.ExitStatus())
	} else if err != nil {
		return asked, reason(err), false
	}
	return asked, answer, strings.Contains(string(out), text(spec, "answer")) && err == nil
}

// login opens an SSH session to a host whose key is pinned.
func (p Prober) login(ctx context.Context, dial func(context.Context, string, string) (net.Conn, error), spec map[string]any) (*ssh.Client, error) {
	host := text(spec, "host")
	signer, err := ssh.ParsePrivateKey([]byte(text(spec, "key")))
	if err != nil {
		return nil, errors.New("the private key cannot be read")
	}
	want := text(spec, "host_key")
	if want == "" {
		want = p.HostKeys[host]
	}
	pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(want))
	if err != nil {
		return nil, fmt.Errorf("no host key of %s is known to compare with", host)
	}
	addr := net.JoinHostPort(host, fmt.Sprint(number(spec, "port", 22)))
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
		User: text(spec, "user"), Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.FixedHostKey(pinned),
		HostKeyAlgorithms: []string{pinned.Type()}})
	if err != nil {
		stop()
		conn.Close()
		return nil, err
	}
	return ssh.NewClient(c, channels, requests), nil
}

// reason says why there was no answer in as few words as possible.
func reason(err error) string {
	var timeout net.Error
	switch {
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return "no answer in time"
	case strings.Contains(err.Error(), "connection refused"):
		return "connection refused"
	case strings.Contains(err.Error(), "unable to authenticate"):
		return "the key was not accepted"
	case strings.Contains(err.Error(), "host key mismatch"):
		return "another host key than the pinned one was shown"
	}
	return err.Error()
}
