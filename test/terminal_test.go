package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// terminalShots takes pictures of commands in a real terminal window.
func terminalShots(t *testing.T, b *bench, to string) {
	t.Helper()
	screen := exec.Command("Xvfb", ":97", "-screen", "0", "1280x800x24", "-nolisten", "tcp")
	if err := screen.Start(); err != nil {
		t.Fatal(err)
	}
	defer screen.Process.Kill()
	time.Sleep(time.Second)
	five := file(t, "five.sail.yaml", fiveMistakes)
	rota := b.propose("rota", "duty-rota", "--inputs", "examples/duty-rota.inputs.yaml", "--input",
		"password=secret:rota-password")
	site := b.propose("warnings-south", "warning-site", "--inputs", "examples/warning-site.inputs.yaml")
	for _, c := range []struct {
		name, command string
		wait          time.Duration
	}{
		{"terminal-check", "cd " + filepath.Dir(five) + "; undersail check five.sail.yaml", 2 * time.Second},
		{"terminal-render", "undersail render examples/gauge-intake.sail.yaml --inputs " +
			"examples/gauge-intake.inputs.yaml --account saltmere-lab --region ember-coast --input " +
			"'zones=[ember-coast-a]'", 2 * time.Second},
		{"terminal-fit", "undersail fit --account saltmere-lab --count 2 --memory 32GiB --disk 2TiB --throughput " +
			"350 --by disk", 2 * time.Second},
		{"terminal-propose", "undersail propose intake-north --input workers=4", 2 * time.Second},
		{"terminal-apply", "undersail apply " + site + " --watch", 3300 * time.Millisecond},
		{"terminal-guide", "undersail apply " + rota + " --watch", 14 * time.Second},
		{"terminal-connect", handing, 9 * time.Second},
	} {
		window(t, b, filepath.Join(to, c.name+".png"), c.command, c.wait)
	}
}

// handing shows several commands of handing over one after the other.
const handing = `clear
while read -r line; do printf '$ %s\n' "$line"; eval "$line" </dev/null; echo; done <<'END'
undersail connect rota 'board[0]' -- systemctl is-active tide-board
timeout -s INT 3 undersail connect rota 'board[0]' --forward 8085
undersail connect rota 'board[1]' --print
undersail reveal rota password
undersail reveal rota password --reason 'first sign-in' | wc -c
undersail audit rota
undersail audit --check
END
`

// window shows one command with its output in a terminal and pictures it.
func window(t *testing.T, b *bench, path, command string, wait time.Duration) {
	t.Helper()
	shown := strings.ReplaceAll(command, "cd "+os.TempDir(), "cd ")
	if _, after, ok := strings.Cut(shown, "; "); ok {
		shown = after
	}
	script := file(t, "show.sh", "printf '$ %s\\n' \"$SHOWN\"\n"+command+"\nprintf '$ '\nsleep 60\n")
	cmd := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x47+0+0", "-bg", "#fffdf9",
		"-fg", "#17252e", "-b", "12", "-e", "bash", script)
	cmd.Env = append(b.env, "DISPLAY=:97", "SHOWN="+shown, "PATH="+b.bin+":"+os.Getenv("PATH"))
	cmd.Dir = ".."
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { cmd.Process.Kill(); cmd.Wait() }()
	time.Sleep(wait)
	shot := exec.Command("import", "-window", "root", path)
	shot.Env = append(os.Environ(), "DISPLAY=:97")
	if out, err := shot.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}
