// Package probe asks running machines for real: TCP connections, HTTP and HTTPS
// requests, commands over SSH, queries to databases, questions to name servers, signed
// in where that is asked, each also through a jump host. It brings evidence and judges
// nothing.
package probe

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"undersail/internal/core/health"
	"undersail/internal/reach"
	"undersail/internal/secret"
)

// Prober looks at the machines of one stack. It is safe for concurrent use.
type Prober struct {
	// Policy says which addresses may be reached, and Within, where it is not empty,
	// narrows that to where the account's machines are. What lies behind a jump host is
	// the jump host's business.
	Policy *reach.Policy
	Within []netip.Prefix
	// Reach maps host:port to the host:port at which it is really reached.
	Reach map[string]string
	// HostKeys maps addresses to the SSH host key that must be shown.
	HostKeys map[string]string
	// Secrets are taken out of what is kept.
	Secrets *secret.Scrubber
	// Told are the resources that were given something made of a secret, and Hosts
	// their addresses. Such a machine could answer with its secret in any disguise, so
	// of its answers only that is kept which a check names in `keep`.
	Told  map[string]bool
	Hosts map[string]bool
	// Names is where the cloud's own name server is, as host:port; empty where it tells of
	// none.
	Names string
	// Unreached says that no packets of ours reach the machines: then nothing is asked.
	Unreached bool
	// Timeout bounds one look; 5 seconds when zero.
	Timeout time.Duration
}

// readLimit is how many bytes of an answer are read, and answerLimit how many letters
// of it are kept as evidence.
const (
	readLimit   = 64 << 10
	answerLimit = 300
)

// Look makes one look of a check whose values are all known.
func (p Prober) Look(ctx context.Context, resource string, c health.Check) health.Evidence {
	timeout := p.Timeout
	if timeout == 0 {
		timeout = 5 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	if p.Unreached {
		return health.Evidence{
			Resource: resource,
			Check:    c.Name,
			At:       time.Now(),
			Asked:    p.Secrets.Text(wouldAsk(c)),
			Answer:   "not asked: no packets from here reach the machines of this account",
			Unasked:  true,
		}
	}
	began := time.Now()
	asked, a := p.ask(ctx, c)
	answer := p.Secrets.Text(a.words)
	if a.said != nil {
		answer += " " + p.tellable(resource, c.Spec, *a.said)
	}
	answer = strings.TrimSpace(shorten(answer) + " " + a.end)
	return health.Evidence{
		Resource: resource,
		Check:    c.Name,
		At:       time.Now(),
		Asked:    p.Secrets.Text(asked),
		Answer:   answer,
		Passed:   a.passed,
		Took:     time.Since(began).Milliseconds(),
	}
}

// answer is what came back: our words for it, what the machine itself said, and our words
// for how that ended.
type answer struct {
	words  string
	said   *said
	end    string
	passed bool
}

// said is the text of a machine, or its beginning.
type said struct {
	text string
	cut  bool
}

// none is an answer in our words alone.
func none(words string) answer { return answer{words: words} }

// tellable is what of a machine's text may be kept: all of it without the secrets that we
// know, or of a machine that was given some only what the check names.
func (p Prober) tellable(resource string, spec map[string]any, s said) string {
	text := s.text
	if pattern, err := regexp.Compile(textOf(spec, "keep")); err == nil && textOf(spec, "keep") != "" {
		text = strings.Join(pattern.FindAllString(text, 20), " ")
	} else if p.told(resource, spec) {
		return fmt.Sprintf("(%d bytes, not kept: the machine was given a secret)", len(text))
	}
	if s.cut {
		return p.Secrets.Begin(text)
	}
	return p.Secrets.Text(text)
}

// told tells whether a check asks a machine that was given a secret.
func (p Prober) told(resource string, spec map[string]any) bool {
	host := textOf(spec, "host")
	if u, err := url.Parse(textOf(spec, "url")); err == nil && u.Hostname() != "" {
		host = u.Hostname()
	}
	return p.Told[resource] || p.Hosts[host]
}

// looker is how checks of a kind are looked at; each kind has a file, which adds its own.
type looker struct {
	// asks says what a check asks, in the words of a look.
	asks func(spec map[string]any) string
	look func(Prober, context.Context, map[string]any) (asked string, a answer)
}

var lookers = map[string]looker{}

func init() {
	asks := func(spec map[string]any) string {
		return "connect to " + net.JoinHostPort(textOf(spec, "host"), fmt.Sprint(number(spec, "port", 0)))
	}
	lookers["tcp"] = looker{asks, Prober.tcp}
}

func wouldAsk(c health.Check) string {
	if l, ok := lookers[c.Kind]; ok {
		return l.asks(c.Spec)
	}
	return c.Kind
}

func (p Prober) ask(ctx context.Context, c health.Check) (asked string, a answer) {
	if l, ok := lookers[c.Kind]; ok {
		return l.look(p, ctx, c.Spec)
	}
	return c.Kind, none("there is no such check")
}

func shorten(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > answerLimit {
		s = string(r[:answerLimit]) + " ..."
	}
	return s
}

func textOf(spec map[string]any, key string) string { s, _ := spec[key].(string); return s }

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
	host := textOf(jump, "host")
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
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, fmt.Errorf("%s is no host and port", addr)
	}
	found, err := p.resolved(ctx, host)
	if err != nil {
		return nil, err
	}
	at, err := netip.ParseAddrPort(net.JoinHostPort(found.String(), port))
	if err != nil {
		return nil, fmt.Errorf("%s is no host and port", addr)
	}
	if to, ok := p.Reach[at.String()]; ok && to != at.String() { // a name of a machine whose port is elsewhere
		if moved, err := netip.ParseAddrPort(to); err == nil {
			at = moved
		}
	}
	if len(p.Within) > 0 && !slices.ContainsFunc(p.Within, func(x netip.Prefix) bool { return x.Contains(at.Addr()) }) {
		return nil, fmt.Errorf("the machines of the account are not at %s: no probe goes there", at.Addr())
	}
	return p.Policy.Dial(ctx, network, at.String())
}

func (p Prober) tcp(ctx context.Context, spec map[string]any) (string, answer) {
	addr := net.JoinHostPort(textOf(spec, "host"), fmt.Sprint(number(spec, "port", 0)))
	r, err := p.route(ctx, spec)
	asked := "connect to " + addr + r.words
	if err != nil {
		return asked, none(reason(err))
	}
	defer r.close()
	conn, err := r.dial(ctx, "tcp", addr)
	if err != nil {
		return asked, none(reason(err))
	}
	conn.Close()
	return asked, answer{words: "connected", passed: true}
}

// reason says why there was no answer in as few words as possible. An error of a
// request names its URL, in which a secret may stand in a form that nobody looks for.
func reason(err error) string {
	var request *url.Error
	if errors.As(err, &request) {
		err = request.Err
	}
	var timeout net.Error
	switch {
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return "no answer in time"
	case strings.Contains(err.Error(), "connection refused"):
		return "connection refused"
	case strings.Contains(err.Error(), "unable to authenticate"):
		return "not signed in: the key or the password was not accepted"
	case strings.Contains(err.Error(), "host key mismatch"):
		return "another host key than the pinned one was shown"
	}
	return err.Error()
}
