package task

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"undersail/internal/await"
	"undersail/sim/guest"
	"undersail/sim/market"
)

func newSigner(t *testing.T) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// own is a machine whose commands the shell of this very system runs, in a home of its own.
func own(t *testing.T) (Machine, string) {
	t.Helper()
	home := t.TempDir()
	config := &ssh.ServerConfig{NoClientAuth: true}
	config.AddHostKey(newSigner(t))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serve(c, config, home)
		}
	}()
	client, err := ssh.Dial("tcp", l.Addr().String(), &ssh.ClientConfig{
		User:            "tide",
		HostKeyCallback: ssh.InsecureIgnoreHostKey(),
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { client.Close() })
	return On(client), home
}

func serve(c net.Conn, config *ssh.ServerConfig, home string) {
	conn, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for nc := range channels {
		channel, requests, err := nc.Accept()
		if err != nil {
			return
		}
		go func() {
			defer channel.Close()
			for req := range requests {
				if req.Type != "exec" {
					continue
				}
				var line struct{ Command string }
				ssh.Unmarshal(req.Payload, &line)
				req.Reply(true, nil)
				cmd := exec.Command("sh", "-c", line.Command)
				cmd.Env, cmd.Dir = append(os.Environ(), "HOME="+home), home
				in, err := cmd.StdinPipe()
				if err != nil {
					return
				}
				go func() {
					buffer := make([]byte, 4096)
					for {
						n, err := channel.Read(buffer)
						in.Write(buffer[:n])
						if err != nil {
							in.Close()
							return
						}
					}
				}()
				cmd.Stdout, cmd.Stderr = channel, channel.Stderr()
				code := uint32(0)
				var exit *exec.ExitError
				if err := cmd.Run(); errors.As(err, &exit) {
					code = uint32(exit.ExitCode())
				}
				channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{code}))
				return
			}
		}()
	}
}

// simulated is a machine of the simulated clouds.
func simulated(t *testing.T) Machine {
	t.Helper()
	m, err := market.Standard()
	if err != nil {
		t.Fatal(err)
	}
	f := guest.NewFabric(m.Software,
		func(s float64) time.Duration { return time.Duration(s * float64(10*time.Millisecond)) }, "")
	t.Cleanup(f.Close)
	host, mine := newSigner(t), newSigner(t)
	at := netip.MustParseAddr("127.127.9.1")
	g := f.Boot(guest.Spec{
		ID:      "t",
		Label:   "tasks",
		Card:    guest.Card{Network: "net", Private: netip.MustParseAddr("10.0.0.4"), Public: at},
		Image:   market.Image{User: "tide"},
		Key:     string(ssh.MarshalAuthorizedKey(mine.PublicKey())),
		Booted:  time.Now().Add(-time.Minute),
		HostKey: host,
	},
		[]guest.Rule{{From: netip.MustParsePrefix("127.0.0.0/8"), Port: 22}})
	var client *ssh.Client
	await.Until(t, "the machine lets us in", func() bool {
		var err error
		client, err = ssh.Dial("tcp", g.Reach()["22"].(string), &ssh.ClientConfig{
			User:            "tide",
			Auth:            []ssh.AuthMethod{ssh.PublicKeys(mine)},
			HostKeyCallback: ssh.FixedHostKey(host.PublicKey()),
		})
		return err == nil
	})
	t.Cleanup(func() { client.Close() })
	return On(client)
}

func ended(t *testing.T, m Machine, id string) State {
	t.Helper()
	var s State
	await.Until(t, "the command ends", func() bool {
		var err error
		if s, err = m.Look(context.Background(), id); err != nil {
			t.Fatal(err)
		}
		return s.Phase != Running
	})
	return s
}

// TestACommandIsRunOnceAndFoundAgain is the same on a real shell and on a simulated machine.
func TestACommandIsRunOnceAndFoundAgain(t *testing.T) {
	t.Parallel()
	real, home := own(t)
	for name, m := range map[string]Machine{"the shell of this system": real, "a simulated machine": simulated(t)} {
		t.Run(name, func(t *testing.T) {
			ctx := t.Context()
			if s, err := m.Look(ctx, "us-task-a.1"); err != nil || s.Phase != Absent {
				t.Fatal(s, err)
			}
			if err := m.Start(ctx, "us-task-a.1"); err == nil {
				t.Error("a command that nobody handed over is started")
			}
			for range 3 { // whoever took over hands over and starts again
				err := m.Hand(ctx, "us-task-a.1", "cat >> $HOME/runs; echo said; echo also >&2; exit 4", "once\n")
				if err != nil {
					t.Fatal(err)
				}
				if err := m.Start(ctx, "us-task-a.1"); err != nil {
					t.Fatal(err)
				}
			}
			if s := ended(t, m, "us-task-a.1"); s != (State{Ended, 4}) {
				t.Error(s)
			}
			if out, err := m.Output(ctx, "us-task-a.1", 0); err != nil || out != "said\nalso\n" {
				t.Errorf("%q %v", out, err)
			}
			if out, err := m.Output(ctx, "us-task-a.1", 5); err != nil || out != "also\n" {
				t.Errorf("%q %v", out, err)
			}
			got, err := m.Read(ctx, map[bool]string{true: home, false: "/home/tide"}[m == real]+"/runs")
			if err != nil || got != "once\n" {
				t.Errorf("it ran so often: %q %v", got, err)
			}
			_, err = m.Read(ctx, "/no such file")
			if err == nil || !strings.Contains(err.Error(), "read /no such file") {
				t.Error(err)
			}
			// What was handed over may hold a secret: it is gone with the end.
			out, _, err := m.exec(ctx, `ls "$HOME/.undersail/us-task-a.1" 2>/dev/null || true`, "")
			if err != nil || strings.Contains(out, "command") || strings.Contains(out, "input") {
				t.Errorf("left there: %q %v", out, err)
			}
			if err := m.Forget(ctx, "us-task-a.1"); err != nil {
				t.Fatal(err)
			}
			if s, err := m.Look(ctx, "us-task-a.1"); err != nil || s.Phase != Absent {
				t.Error(s, err)
			}
			for _, id := range []string{"", "a b", "$(x)", "../x", "a/b"} {
				if err := m.Hand(ctx, id, "true", ""); err == nil {
					t.Errorf("%q is taken for an id", id)
				}
			}
		})
	}
}

// TestACommandThatSomebodyEndedIsLost is told from one that runs.
func TestACommandThatSomebodyEndedIsLost(t *testing.T) {
	t.Parallel()
	m, home := own(t)
	if err := m.Hand(t.Context(), "us-task-b.1", "sleep 600", ""); err != nil {
		t.Fatal(err)
	}
	// Between the moment in which a shell opens the file for its number and that in which
	// it has written it, the command is no lost one.
	if err := os.MkdirAll(filepath.Join(home, ".undersail/us-task-c.1/started"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(home, ".undersail/us-task-c.1/pid"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if s, err := m.Look(t.Context(), "us-task-c.1"); err != nil || s.Phase != Running {
		t.Error(s, err)
	}
	if err := m.Start(t.Context(), "us-task-b.1"); err != nil {
		t.Fatal(err)
	}
	pid := ""
	await.Until(t, "the command tells its number", func() bool {
		raw, _ := os.ReadFile(filepath.Join(home, ".undersail/us-task-b.1/pid"))
		pid = string(raw)
		return strings.TrimSpace(pid) != ""
	})
	if s, err := m.Look(t.Context(), "us-task-b.1"); err != nil || s.Phase != Running {
		t.Fatal(s, err)
	}
	out, err := exec.Command("sh", "-c", "/bin/kill -9 -- -"+strings.TrimSpace(pid)).CombinedOutput()
	if err != nil { // its whole group, as setsid made it
		t.Fatal(string(out), err)
	}
	if s := ended(t, m, "us-task-b.1"); s.Phase != Lost {
		t.Error(s)
	}
	// It had ended, and somebody ended its shell before that told so.
	err = os.WriteFile(filepath.Join(home, ".undersail/us-task-b.1/exit.new"), []byte("3\n"), 0o600)
	if s, looked := m.Look(t.Context(), "us-task-b.1"); err != nil || looked != nil || s != (State{Ended, 3}) {
		t.Error(s, err, looked)
	}
}
