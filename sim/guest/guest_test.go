package guest

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"undersail/internal/await"
	"undersail/sim/market"
)

// setup boots guests at a thousand cloud seconds to a real one. Each test has
// loopback addresses of its own.
func setup(t *testing.T) *Fabric {
	t.Helper()
	m, err := market.Standard()
	if err != nil {
		t.Fatal(err)
	}
	f := NewFabric(m.Software, func(s float64) time.Duration { return time.Duration(s * float64(time.Millisecond)) },
		"")
	t.Cleanup(f.Close)
	return f
}

func signer(t *testing.T) ssh.Signer {
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

func everywhere(ports ...int) (rules []Rule) {
	for _, p := range ports {
		rules = append(rules, Rule{From: netip.MustParsePrefix("0.0.0.0/0"), Port: p})
	}
	return rules
}

func TestTheOnlyWayToAPrivateGuestIsThroughTheBastion(t *testing.T) {
	t.Parallel()
	f := setup(t)
	mine, theirs := signer(t), signer(t)
	key := string(ssh.MarshalAuthorizedKey(mine.PublicKey()))
	bastion := Spec{
		ID:    "b",
		Label: "bastion",
		Card: Card{
			Network: "net",
			Private: netip.MustParseAddr("10.0.0.4"),
			Public:  netip.MustParseAddr("127.127.1.1"),
		},
		Image:   market.Image{User: "tide"},
		Key:     key,
		Booted:  time.Now(),
		HostKey: signer(t),
	}
	worker := Spec{
		ID:          "w",
		Label:       "worker",
		Card:        Card{Network: "net", Private: netip.MustParseAddr("10.0.0.5")},
		Image:       market.Image{User: "tide"},
		Key:         key,
		VCPUs:       4,
		MemoryBytes: 8 << 30,
		Disks:       []Disk{{ID: "d", Bytes: 20 << 30, Mount: "/data"}},
		Booted:      time.Now(),
		HostKey:     signer(t),
		UserData: map[string]any{
			"packages":    []any{"tide-forecast"},
			"write_files": []any{map[string]any{"path": "/etc/tide", "content": "high"}},
		},
	}
	other := worker
	other.ID, other.Network, other.Private = "o", "other-net", netip.MustParseAddr("10.0.0.6")
	b := f.Boot(bastion, everywhere(22))
	w := f.Boot(worker, []Rule{{From: netip.MustParsePrefix("10.0.0.4/32"), Port: 22}})
	f.Boot(other, everywhere(22))

	login := func(addr, user string, key ssh.Signer, dial func(string, string) (net.Conn, error),
		hostKey ssh.PublicKey) (*ssh.Client, error) {
		conn, err := dial("tcp", addr)
		if err != nil {
			return nil, err
		}
		c, channels, requests, err := ssh.NewClientConn(conn, addr, &ssh.ClientConfig{
			User:            user,
			Auth:            []ssh.AuthMethod{ssh.PublicKeys(key)},
			HostKeyCallback: ssh.FixedHostKey(hostKey),
		})
		if err != nil {
			conn.Close()
			return nil, err
		}
		return ssh.NewClient(c, channels, requests), nil
	}
	at := func() string { s, _ := b.Reach()["22"].(string); return s }
	var jump *ssh.Client
	await.Until(t, "the bastion never answers", func() (ok bool) {
		var err error
		jump, err = login(at(), "tide", mine, net.Dial, bastion.HostKey.PublicKey())
		return err == nil
	})
	defer jump.Close()
	if _, err := login(at(), "tide", theirs, net.Dial, bastion.HostKey.PublicKey()); err == nil {
		t.Error("a stranger's key was accepted")
	}
	if _, err := login(at(), "root", mine, net.Dial, bastion.HostKey.PublicKey()); err == nil {
		t.Error("a user without keys was let in")
	}
	if len(w.Reach()) != 0 {
		t.Errorf("a private guest tells ways in: %v", w.Reach())
	}
	if _, err := jump.Dial("tcp", "10.0.0.6:22"); err == nil {
		t.Error("the bastion reached another network")
	}
	if _, err := jump.Dial("tcp", "10.0.0.5:9400"); err == nil {
		t.Error("a port that no rule allows was reached")
	}
	inside, err := login("10.0.0.5:22", "tide", mine, jump.Dial, worker.HostKey.PublicKey())
	if err != nil {
		t.Fatal(err)
	}
	defer inside.Close()
	run := func(command string) string {
		session, err := inside.NewSession()
		if err != nil {
			t.Fatal(err)
		}
		defer session.Close()
		out, err := session.CombinedOutput(command)
		if err != nil {
			return strings.TrimSpace(string(out)) + " !"
		}
		return strings.TrimSpace(string(out))
	}
	await.Until(t, "the service never comes up",
		func() bool { return run("systemctl is-active tide-forecast") == "active" })
	for command, want := range map[string]string{
		"nproc": "4", "hostname": "worker", "cat /etc/tide": "high", "cloud-init status": "status: done",
		"mountpoint /data":    "/data is a mountpoint",
		"mountpoint /nowhere": "/nowhere is not a mountpoint !", "cat /none": "cat: /none: No such file or directory !",
		"systemctl is-active nginx":   "inactive !",
		"dpkg-query -W tide-forecast": "tide-forecast 2.7.3", "lsblk": "NAME SIZE MOUNTPOINT\nvdb 20G /data",
		"reboot": "reboot: command not found !", "echo high water": "high water",
	} {
		if got := run(command); got != want {
			t.Errorf("%s answers %q, want %q", command, got, want)
		}
	}
}

// waitsForPorts finds, in what all goroutines do, a guest that waits for another one.
var waitsForPorts = regexp.MustCompile(`(?m)^goroutine \d+ \[chan receive.*\]:\n\S+\.\(\*Guest\)\.runAfter\(`)

// TestAMachineThatBootsAnewHasThePortsThatItHad: it waits for the one that it replaces to let go of
// them, however long that takes, and takes no others.
func TestAMachineThatBootsAnewHasThePortsThatItHad(t *testing.T) {
	t.Parallel()
	f := setup(t)
	spec := Spec{
		ID:      "again",
		Label:   "again",
		Card:    Card{Private: netip.MustParseAddr("10.9.9.9"), Public: netip.MustParseAddr("127.99.9.9")},
		Booted:  time.Now(),
		HostKey: signer(t),
	}
	answers := func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.99.9.9:%d", f.shifted(22)))
		if err == nil {
			c.Close()
		}
		return err == nil
	}
	old := f.Boot(spec, everywhere(22))
	await.Until(t, "the first one answers", answers)
	old.mu.Lock() // it is busy, and closes nothing yet
	goOn := sync.OnceFunc(old.mu.Unlock)
	t.Cleanup(goOn)
	f.Boot(spec, everywhere(22))
	await.Until(t, "the second one waits for the first", func() bool {
		all := make([]byte, 1<<22)
		return waitsForPorts.Match(all[:runtime.Stack(all, true)])
	})
	goOn()
	<-old.ended
	await.Until(t, "the second one answers at the same port", answers)
}

func TestServicesComeUpWarmUpAndMayNeedAMount(t *testing.T) {
	t.Parallel()
	f := setup(t)
	now := time.Now()
	spec := Spec{
		ID:       "g",
		Label:    "g",
		Card:     Card{Private: netip.MustParseAddr("10.0.0.4")},
		Booted:   now,
		HostKey:  signer(t),
		UserData: map[string]any{"packages": []any{"tide-intake", "tide-archive", "no-such-package"}},
	}
	g := newGuest(spec, f)
	if len(g.services) != 2 {
		t.Fatalf("%d services", len(g.services))
	}
	intake, archive := g.services[0], g.services[1]
	at := func(cloudSeconds float64) time.Time { return now.Add(f.real(cloudSeconds)) }
	for _, c := range []struct {
		at              float64
		intake, archive string
		warm            int
	}{
		{5, "inactive", "inactive", 0},
		{15, "activating", "inactive", 0},
		{20, "active", "inactive", 0},
		{33, "active", "failed", 2},
		{60, "active", "failed", 5},
	} {
		have, all := g.warm(intake, at(c.at))
		i, a := g.state(intake, at(c.at)), g.state(archive, at(c.at))
		if i != c.intake || a != c.archive || have != c.warm || all != 5 {
			t.Errorf("after %v s: %s (%d of %d feeds) and %s, want %s (%d) and %s", c.at, i, have, all, a, c.intake,
				c.warm, c.archive)
		}
	}
	if g.Initialised(at(10)) || !g.Initialised(at(40)) {
		t.Error("first-boot configuration ends at the wrong moment")
	}
}

func TestMarket(t *testing.T) {
	t.Parallel()
	m, err := market.Standard()
	if err != nil {
		t.Fatal(err)
	}
	if len(m.Regions) < 5 || len(m.Families) != 6 || len(m.Sizes("north-fell")) < 40 || len(m.DiskTypes) != 5 {
		t.Errorf("%d regions, %d families, %d sizes, %d disk types", len(m.Regions), len(m.Families),
			len(m.Sizes("north-fell")), len(m.DiskTypes))
	}
	for name, r := range m.Regions {
		if len(r.Zones) < 2 || len(r.Zones) > 4 {
			t.Errorf("region %s has %d zones", name, len(r.Zones))
		}
	}
	if s, ok := m.Size("north-fell", "vast-64"); !ok || len(s.Zones) != 0 {
		t.Errorf("vast-64 in north-fell: %+v", s)
	}
	if s, ok := m.Size("ember-coast", "vast-64"); !ok || len(s.Zones) != 2 || s.GiB != 1536 {
		t.Errorf("vast-64 in ember-coast: %+v", s)
	}
	if _, err := market.Parse([]byte("sizes: none")); err == nil {
		t.Error("an unknown key of a market file was passed over")
	}
}

// TestAPortThatAnotherSimulatorTriesIsNotRefused begins while another one finds out at the
// same moment whether it may have low ports: the port being taken says nothing of that.
func TestAPortThatAnotherSimulatorTriesIsNotRefused(t *testing.T) {
	l, err := net.Listen("tcp", lowPort)
	if err != nil {
		t.Skip("this machine refuses low ports:", err)
	}
	defer l.Close()
	if f := NewFabric(nil, nil, ""); f.shift != 0 {
		t.Errorf("ports below 1024 are shifted by %d", f.shift)
	}
}
