package guest

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"undersail/internal/await"
	"undersail/sim/market"
)

// TestAGuestHasAShell runs what administrators run.
func TestAGuestHasAShell(t *testing.T) {
	t.Parallel()
	f := setup(t)
	g := f.Boot(Spec{
		ID:      "s",
		Label:   "shore",
		Card:    Card{Network: "net", Private: netip.MustParseAddr("10.0.0.4")},
		Image:   market.Image{User: "tide"},
		VCPUs:   4,
		Booted:  time.Now().Add(-time.Minute),
		HostKey: signer(t),
	}, nil)
	for _, c := range []struct {
		line, out string
		code      int
	}{
		{"nproc", "4\n", 0},
		{`n=$(nproc); if [ "$n" -ge 4 ]; then echo enough; fi`, "enough\n", 0},
		{"echo spring > /etc/tide && echo neap >> /etc/tide; cat /etc/tide | grep neap", "neap\n", 0},
		{"cat /nowhere", "cat: /nowhere: No such file or directory\n", 1},
		// that of whoever simulates is out of reach
		{"cat /etc/passwd", "cat: /etc/passwd: No such file or directory\n", 1},
		{"mkdir /a && mkdir /a", "mkdir: cannot create directory '/a': File exists\n", 1},
		{"for i in 1 2 3; do echo $i; done | wc", "3\n", 0},
		{"no-such-tool", "no-such-tool: command not found\n", 127},
		{`sh -c 'exit 7'; echo $?`, "7\n", 0},
		{"printf 'duty:Low-Water-12' | chpasswd && id duty", "uid=1000(duty)\n", 0},
	} {
		if out, code := g.command("tide", c.line); out != c.out || code != c.code {
			t.Errorf("%s: %q, exit code %d", c.line, out, code)
		}
	}
	// What is left in the background outlives whoever began it, and its shell is found.
	g.command("tide",
		`mkdir -p /home/tide/x; nohup setsid sh -c 'echo $$ > /home/tide/x/pid; sleep 200; echo done > /home/tide/x/end' < /dev/null > /dev/null 2>&1 &`)
	await.Until(t, "the shell in the background is not found",
		func() bool { _, code := g.command("tide", `kill -0 "$(cat /home/tide/x/pid)"`); return code == 0 })
	await.Until(t, "what was left in the background does not end", func() bool {
		out, _ := g.command("tide", "cat /home/tide/x/end")
		return strings.TrimSpace(out) == "done"
	})
	// Another size needs a stop: the disk stays.
	f.Halt("s")
	g = f.Boot(g.Spec, nil)
	if out, _ := g.command("tide", "cat /etc/tide"); out != "spring\nneap\n" {
		t.Errorf("after a stop the disk holds %q", out)
	}
}
