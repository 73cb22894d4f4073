package connect

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

func signer(t *testing.T) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// machine is an SSH server that takes one key of the user tide. It answers commands with
// their text, and `fails` with the code 7.
func machine(t *testing.T, user ssh.PublicKey) (Hop, ssh.Signer) {
	t.Helper()
	host := signer(t)
	config := &ssh.ServerConfig{
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if c.User() == "tide" && bytes.Equal(key.Marshal(), user.Marshal()) {
				return nil, nil
			}
			return nil, errors.New("no")
		},
	}
	config.AddHostKey(host)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	files := sftp.InMemHandler()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go answer(conn, config, files)
		}
	}()
	return Hop{
		Name:      "gateway",
		Host:      "127.0.0.1",
		Port:      22,
		At:        l.Addr().String(),
		User:      "tide",
		HostKey:   string(ssh.MarshalAuthorizedKey(host.PublicKey())),
		PublicKey: string(ssh.MarshalAuthorizedKey(user)),
	}, host
}

func answer(conn net.Conn, config *ssh.ServerConfig, files sftp.Handlers) {
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for asked := range channels {
		channel, requests, err := asked.Accept()
		if err != nil {
			return
		}
		if asked.ChannelType() == "direct-tcpip" {
			go ssh.DiscardRequests(requests)
			io.WriteString(channel, "port")
			channel.Close()
			continue
		}
		go func() {
			defer channel.Close()
			for r := range requests {
				var text struct{ Text string }
				ssh.Unmarshal(r.Payload, &text)
				r.Reply(true, nil)
				switch r.Type {
				case "exec":
					io.WriteString(channel, "did "+text.Text)
					code := uint32(0)
					if text.Text == "fails" {
						code = 7
					}
					channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{code}))
					return
				case "subsystem":
					sftp.NewRequestServer(channel, files).Serve()
					return
				}
			}
		}()
	}
}

func signs(with ssh.Signer) Sign {
	return func(_ context.Context, _ int, data []byte) (*ssh.Signature, error) {
		return with.Sign(rand.Reader, data)
	}
}

func dialled(t *testing.T) *Way {
	t.Helper()
	user := signer(t)
	hop, _ := machine(t, user.PublicKey())
	way, err := Dial(context.Background(), []Hop{hop}, signs(user))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(way.Close)
	return way
}

func TestACommandEndsWithItsCode(t *testing.T) {
	t.Parallel()
	way := dialled(t)
	var out strings.Builder
	err := way.Run(context.Background(), Terminal{Out: &out, Err: &out}, "uptime")
	if err != nil || out.String() != "did uptime" {
		t.Errorf("%q %v", out.String(), err)
	}
	var code *ssh.ExitError
	err = way.Run(context.Background(), Terminal{Out: &out, Err: &out}, "fails")
	if !errors.As(err, &code) || code.ExitStatus() != 7 {
		t.Errorf("%v", err)
	}
}

func TestAForwardedPortIsTheMachines(t *testing.T) {
	t.Parallel()
	way := dialled(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		way.Forward(ctx, l, 8085, func(err error) { t.Error(err) })
	}()
	conn, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	if said, err := io.ReadAll(conn); err != nil || string(said) != "port" {
		t.Errorf("%q %v", said, err)
	}
	conn.Close()
	stop()
	<-ended
	if _, err := net.Dial("tcp", l.Addr().String()); err == nil {
		t.Error("the port stays open")
	}
}

func TestOnlyThePinnedMachineAndTheRightKeyAreTaken(t *testing.T) {
	t.Parallel()
	user, other := signer(t), signer(t)
	hop, _ := machine(t, user.PublicKey())
	for name, c := range map[string]struct {
		change func(*Hop)
		with   ssh.Signer
		words  string
	}{
		"another host key": {func(h *Hop) { h.HostKey = string(ssh.MarshalAuthorizedKey(other.PublicKey())) }, user,
			"another host key than the one that is pinned"},
		"no host key":    {func(h *Hop) { h.HostKey = "" }, user, "host key is not known"},
		"another user":   {func(h *Hop) { h.User = "root" }, user, "does not accept the key for this user"},
		"another signer": {func(*Hop) {}, other, "handshake failed"},
		"nobody there":   {func(h *Hop) { h.At = "127.0.0.1:1" }, user, "cannot be reached"},
	} {
		h := hop
		c.change(&h)
		way, err := Dial(context.Background(), []Hop{h}, signs(c.with))
		if err == nil || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s: %v", name, err)
			if way != nil {
				way.Close()
			}
		}
	}
	refusing := func(context.Context, int, []byte) (*ssh.Signature, error) {
		return nil, errors.New("the connection is over")
	}
	_, err := Dial(context.Background(), []Hop{hop}, refusing)
	if err == nil || !strings.Contains(err.Error(), "the connection is over") {
		t.Errorf("a signer that refuses: %v", err)
	}
}

func TestFilesGoThereAndBack(t *testing.T) {
	t.Parallel()
	way, dir := dialled(t), t.TempDir()
	from, back := filepath.Join(dir, "survey.csv"), filepath.Join(dir, "back")
	if err := os.WriteFile(from, []byte("north;2.4\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	if n, err := way.Send(ctx, from, "/"); err != nil || n != 10 {
		t.Fatal(n, err)
	}
	if n, err := way.Fetch(ctx, "/survey.csv", back); err != nil || n != 10 {
		t.Fatal(n, err)
	}
	if data, err := os.ReadFile(back); err != nil || string(data) != "north;2.4\n" {
		t.Errorf("%q %v", data, err)
	}
	if _, err := way.Fetch(ctx, "/survey.csv", back); err == nil || !strings.Contains(err.Error(), "is there already") {
		t.Errorf("it writes over a file: %v", err)
	}
	if _, err := way.Fetch(ctx, "/none", filepath.Join(dir, "none")); err == nil {
		t.Error("a file that is not there is fetched")
	}
	if _, err := os.Stat(filepath.Join(dir, "none")); err == nil {
		t.Error("what could not be fetched leaves a file")
	}
	if _, err := way.Send(ctx, dir, "/x"); err == nil || !strings.Contains(err.Error(), "no regular file") {
		t.Errorf("a folder is sent: %v", err)
	}
}

// TestWhatIsLentSignsInAndNothingElse: the agent lists the keys of the way, and takes and
// gives away none.
func TestWhatIsLentSignsInAndNothingElse(t *testing.T) {
	t.Parallel()
	user := signer(t)
	hop, _ := machine(t, user.PublicKey())
	lent, err := Lend(context.Background(), []Hop{hop, hop}, signs(user))
	if err != nil {
		t.Fatal(err)
	}
	conn, err := net.Dial("unix", lent.Socket)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	client := agent.NewClient(conn)
	keys, err := client.List()
	if err != nil || len(keys) != 1 || !bytes.Equal(keys[0].Blob, user.PublicKey().Marshal()) {
		t.Errorf("%v %v", keys, err)
	}
	signature, err := client.Sign(user.PublicKey(), []byte("request"))
	if err != nil || user.PublicKey().Verify([]byte("request"), signature) != nil {
		t.Errorf("%v %v", signature, err)
	}
	if _, err := client.Sign(signer(t).PublicKey(), []byte("request")); err == nil {
		t.Error("another key signs")
	}
	if client.RemoveAll() == nil || client.Lock([]byte("x")) == nil {
		t.Error("the agent lets itself be changed")
	}
	lent.Close()
	if _, err := os.Stat(lent.KnownHosts); err == nil {
		t.Error("what was lent stays")
	}
}

func TestThePlainLine(t *testing.T) {
	t.Parallel()
	gate := Hop{Host: "203.0.113.7", Port: 22, At: "203.0.113.7:22", User: "tide"}
	shifted := Hop{Host: "203.0.113.7", Port: 22, At: "127.64.0.1:2222", User: "tide"}
	board := Hop{Host: "10.0.0.5", Port: 22, User: "admin"}
	for want, hops := range map[string][]Hop{
		"ssh tide@203.0.113.7":                       {gate},
		"ssh -p 2222 tide@127.64.0.1":                {shifted},
		"ssh -J tide@203.0.113.7:22 admin@10.0.0.5":  {gate, board},
		"ssh -J tide@127.64.0.1:2222 admin@10.0.0.5": {shifted, board},
	} {
		if got := Line(hops); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}
