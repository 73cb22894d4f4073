package connect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Lent is an agent with a socket of its own. Close takes the keys back.
type Lent struct {
	// Socket is the path for SSH_AUTH_SOCK, KnownHosts a file with the pinned host keys.
	Socket, KnownHosts string

	dir      string
	listener net.Listener
}

// Lend lets other programs sign in to the hops, through a socket that only this user may
// open. The keys themselves are not here.
func Lend(ctx context.Context, hops []Hop, sign Sign) (*Lent, error) {
	dir, err := os.MkdirTemp("", "undersail-connect-") // 0700
	if err != nil {
		return nil, fmt.Errorf("lending the address of a database: %w", err)
	}
	l := &Lent{Socket: filepath.Join(dir, "agent"), KnownHosts: filepath.Join(dir, "known_hosts"), dir: dir}
	var known strings.Builder
	for i, h := range hops {
		at := fmt.Sprintf("[%s]:%d", h.Host, h.Port)
		if h.Port == 22 {
			at = h.Host
		}
		if host, port, err := net.SplitHostPort(h.At); i == 0 && err == nil {
			at = fmt.Sprintf("[%s]:%s", host, port)
			if port == "22" {
				at = host
			}
		}
		fmt.Fprintf(&known, "%s %s\n", at, strings.TrimSpace(h.HostKey))
	}
	if err := os.WriteFile(l.KnownHosts, []byte(known.String()), 0o600); err != nil {
		os.RemoveAll(dir)
		return nil, fmt.Errorf("lending the address of a database: %w", err)
	}
	if l.listener, err = net.Listen("unix", l.Socket); err != nil {
		os.RemoveAll(dir)
		return nil, fmt.Errorf("open a socket for the agent: %w", err)
	}
	if err := os.Chmod(l.Socket, 0o600); err != nil {
		l.Close()
		return nil, fmt.Errorf("lending the address of a database: %w", err)
	}
	go func() {
		for {
			conn, err := l.listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				agent.ServeAgent(lender{ctx, hops, sign}, conn)
			}()
		}
	}()
	return l, nil
}

// Close takes the keys back.
func (l *Lent) Close() {
	l.listener.Close()
	os.RemoveAll(l.dir)
}

// Line is the command that signs in with what is lent.
func (l *Lent) Line(hops []Hop) string {
	return fmt.Sprintf("SSH_AUTH_SOCK=%s ssh -o UserKnownHostsFile=%s -o StrictHostKeyChecking=yes %s", l.Socket,
		l.KnownHosts, target(hops, l.KnownHosts))
}

// Line is the plain command that signs in to the last hop with a key of the user's own
// agent.
func Line(hops []Hop) string { return "ssh " + target(hops, "") }

// plain is what stands in a line of a shell as it is.
var plain = regexp.MustCompile(`^[A-Za-z0-9@%+=:,./_-]+$`)

// quoted writes a word as a shell reads it back. One that begins with a hyphen would be an
// option.
func quoted(word string) string {
	if plain.MatchString(word) && !strings.HasPrefix(word, "-") {
		return word
	}
	if strings.HasPrefix(word, "-") {
		word = "./" + word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

func target(hops []Hop, known string) string {
	first, last := hops[0], hops[len(hops)-1]
	at := func(h Hop, address string) (string, string) {
		host, port, err := net.SplitHostPort(address)
		if err != nil {
			return h.User + "@" + h.Host, fmt.Sprint(h.Port)
		}
		return h.User + "@" + host, port
	}
	who, port := at(first, first.At)
	if len(hops) == 1 {
		if port == "22" {
			return quoted(who)
		}
		return "-p " + quoted(port) + " " + quoted(who)
	}
	jump := who + ":" + port
	end := quoted(last.User + "@" + last.Host)
	if last.Port != 22 {
		end = fmt.Sprintf("-p %d %s", last.Port, end)
	}
	if known == "" {
		return "-J " + quoted(jump) + " " + end
	}
	// A jump takes no options of the line: it is written out.
	through := fmt.Sprintf("ssh -o UserKnownHostsFile=%s -o StrictHostKeyChecking=yes -p %s -W %%h:%%p %s",
		quoted(known), quoted(port), quoted(strings.ReplaceAll(who, "%", "%%")))
	return fmt.Sprintf("-o ProxyCommand='%s' %s", strings.ReplaceAll(through, "'", `'\''`), end)
}

// lender is an agent whose keys are elsewhere.
type lender struct {
	ctx  context.Context
	hops []Hop
	sign Sign
}

var errLent = errors.New("this agent only lends the keys of one connection")

func (l lender) List() ([]*agent.Key, error) {
	var out []*agent.Key
	seen := map[string]bool{}
	for _, h := range l.hops {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(h.PublicKey))
		if err != nil || seen[string(key.Marshal())] {
			continue
		}
		seen[string(key.Marshal())] = true
		out = append(out, &agent.Key{Format: key.Type(), Blob: key.Marshal(), Comment: h.Name})
	}
	return out, nil
}

func (l lender) Sign(key ssh.PublicKey, data []byte) (*ssh.Signature, error) {
	err := errLent
	for i, h := range l.hops {
		own, _, _, _, parseErr := ssh.ParseAuthorizedKey([]byte(h.PublicKey))
		if parseErr != nil || !bytes.Equal(own.Marshal(), key.Marshal()) {
			continue
		}
		var signature *ssh.Signature
		if signature, err = l.sign(l.ctx, i, data); err == nil {
			return signature, nil
		}
	}
	return nil, err
}

func (lender) Add(agent.AddedKey) error       { return errLent }
func (lender) Remove(ssh.PublicKey) error     { return errLent }
func (lender) RemoveAll() error               { return errLent }
func (lender) Lock([]byte) error              { return errLent }
func (lender) Unlock([]byte) error            { return errLent }
func (lender) Signers() ([]ssh.Signer, error) { return nil, errLent }
