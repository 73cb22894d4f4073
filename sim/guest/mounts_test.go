package guest

import (
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"undersail/internal/await"
)

// TestABootWaitsForWhatItMayNotDoWithout boots machines while a disk is lost.
func TestABootWaitsForWhatItMayNotDoWithout(t *testing.T) {
	t.Parallel()
	f := setup(t)
	var lost atomic.Bool
	lost.Store(true)
	machine := func(id string, optional bool) *Guest {
		return f.Boot(Spec{
			ID:      id,
			Label:   id,
			Disks:   []Disk{{ID: "d-" + id, Bytes: 1 << 30, Mount: "/data", Optional: optional}},
			Booted:  time.Now(),
			HostKey: signer(t),
			Failed:  func(string) bool { return lost.Load() },
		}, nil)
	}
	console := func(g *Guest) string { return strings.Join(g.Console(time.Now()), "\n") }
	can, needs := machine("can", true), machine("needs", false)
	await.Until(t, "the machine that can do without its disk does not start",
		func() bool { return strings.Contains(console(can), "cloud-init: finished") })
	await.Until(t, "the machine that needs its disk says nothing",
		func() bool { return strings.Contains(console(needs), "waiting for the device of /data") })
	got := console(needs)
	if !strings.Contains(got, "emergency mode") || strings.Contains(got, "sshd") || strings.Contains(got, "finished") {
		t.Errorf("without its disk the machine goes on: %s", got)
	}
	out, code := can.command("tide", "mountpoint /data; findmnt /data")
	if code != 1 || out != "/data is not a mountpoint\n" {
		t.Errorf("%d %q", code, out)
	}
	lost.Store(false)
	await.Until(t, "the machine does not go on with its disk",
		func() bool { return strings.Contains(console(needs), "cloud-init: finished") })
	lost.Store(true)
	if !strings.Contains(console(needs), "cloud-init: finished") {
		t.Error("a machine that runs is stopped by a disk that it loses")
	}
}

// TestFilesLieOnTheirFileSystem writes on a disk and on shared files, and finds them with
// whoever has these.
func TestFilesLieOnTheirFileSystem(t *testing.T) {
	t.Parallel()
	f := setup(t)
	var open atomic.Bool
	open.Store(true)
	f.Offer("files", Offer{
		Network: "net",
		At:      []netip.Addr{netip.MustParseAddr("10.0.0.9")},
		Bytes:   1 << 30,
		Dial: func(_ netip.Addr, port int) (net.Conn, error) {
			if port != NFS || !open.Load() {
				return nil, fmt.Errorf("timed out")
			}
			near, far := net.Pipe()
			far.Close()
			return near, nil
		},
	})
	machine := func(n byte, network, disk string, mounts ...any) *Guest {
		return f.Boot(Spec{
			ID:       fmt.Sprint("m", n),
			Label:    "machine",
			Card:     Card{Network: network, Private: netip.AddrFrom4([4]byte{10, 0, 0, n})},
			Disks:    []Disk{{ID: disk, Bytes: 1 << 30, Mount: "/data", Format: "xfs"}},
			Booted:   time.Now(),
			HostKey:  signer(t),
			UserData: map[string]any{"mounts": mounts},
		}, nil)
	}
	run := func(g *Guest, line, want string) {
		t.Helper()
		if out, _ := g.command("tide", line); out != want {
			t.Errorf("%s says %q, want %q", line, out, want)
		}
	}
	first := machine(1, "net", "d1", []any{"10.0.0.9:/", "/shared", "nfs4"})
	run(first, "mkdir -p /shared/a && echo high > /shared/a/tide && echo low > /data/tide && ls / | grep -q shared "+
		"&& ls /shared/a && cat /data/tide", "tide\nlow\n")
	second := machine(2, "net", "d2")
	run(second, "mkdir /mnt; mount -t nfs4 10.0.0.9:/ /mnt && cat /mnt/a/tide && mount | tail -c +1 | grep nfs4",
		"high\n10.0.0.9:/ on /mnt type nfs4 (rw)\n")
	run(second, "ls /data; echo neap >> /mnt/a/tide; mv /mnt/a/tide /data/tide; ls /mnt/a; cat /data/tide",
		"high\nneap\n")
	run(first, "ls /shared/a; umount /data; rm -rf /shared/a; ls /shared", "umount: /data: not mounted.\n")
	run(second, "rm -r /mnt; umount /mnt; ls /mnt; mountpoint /mnt; mount -t nfs4 10.0.0.8:/ /mnt",
		"rm: cannot remove '/mnt': No such file or directory\n/mnt is not a mountpoint\nmount.nfs4: Connection "+
			"timed out for 10.0.0.8:/\n")
	elsewhere := machine(3, "other", "d3", []any{"10.0.0.9:/", "/shared", "nfs4"})
	run(elsewhere, "mountpoint /shared", "/shared is not a mountpoint\n")
	open.Store(false)
	run(first, "cat /shared/a/tide; mountpoint /shared",
		"cat: /shared/a/tide: No such file or directory\n/shared is not a mountpoint\n")
	f.Halt("m1")
	moved := machine(4, "net", "d1")
	run(moved, "cat /data/tide", "low\n")
	f.Forget("d1")
	run(machine(5, "net", "d1"), "ls /data", "")
}
