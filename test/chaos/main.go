// Chaos kills, freezes and starves real processes of the service while runs are
// carried out, and compares afterwards what the cloud has with what is recorded
// and what was wanted. Run it with: make chaos. Sizes are arguments.
package main

import (
	"bufio"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"undersail/internal/postgres/postgrestest"
	"undersail/internal/service/servicetest"
)

func main() {
	kills := flag.Int("kills", 30, "how often the process is killed in the middle of a run")
	stacks := flag.Int("stacks", 40, "how many stacks the replicas make under load")
	pause := flag.Duration("pause", time.Minute, "how long a replica is frozen and the database away")
	seed := flag.Uint64("seed", 1, "seed of the moments")
	sequences := flag.Int("sequences", 1000, "how many stacks are changed at random, three to five times each")
	verdicts := flag.Int("verdicts", 1000, "how many random proposals are judged, and then made")
	wholes := flag.Int("examples", 36,
		"how often the process is killed in runs of the examples, which are made and retired in turn")
	meetings := flag.Int("meetings", 0, "how many meetings of two who do something at once; 0 is all")
	pair := flag.String("pair", "", "only the meetings of one pair, such as apply/retry, or of one first deed")
	restores := flag.Int("restores", 200, "how many lives go on from a backup of some moment")
	only := flag.String("only", "", "moment, restores, kills, examples, load, model or verdicts; all when empty")
	flag.Parse()
	stop, err := postgrestest.Open(servicetest.Prepare)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := 0
	func() {
		defer stop()
		h := &harness{random: rand.New(rand.NewPCG(*seed, 1))}
		defer h.End()
		defer func() {
			if fault := recover(); fault != nil {
				fmt.Println("broken off:", fault)
				code = 1
			}
		}()
		if *only == "" || *only == "model" {
			code += h.modelled(*sequences, *seed)
		}
		if *only == "" || *only == "verdicts" {
			code += h.judged(*verdicts, *seed)
		}
		if *only == "" || *only == "moment" {
			code += h.met(*meetings, *seed, *pair)
		}
		if *only == "" || *only == "restores" {
			code += h.restored(*restores, *seed)
		}
		if *only == "restores" || *only == "model" || *only == "verdicts" || *only == "moment" {
			return
		}
		h.build()
		if *only == "" || *only == "examples" {
			code += h.examples(*wholes)
		}
		if *only == "" || *only == "kills" {
			code += h.killed(*kills)
		}
		if *only == "" || *only == "load" {
			for _, replicas := range []int{2, 3} {
				code += h.loaded(replicas, *stacks, *pause)
			}
		}
	}()
	if code > 0 {
		os.Exit(1)
	}
}

// harness is what stands in for a test, with the built program.
type harness struct {
	servicetest.Harness
	random *rand.Rand
	binary string
}

func (h *harness) build() {
	h.binary = filepath.Join(h.TempDir(), "undersail")
	if out, err := exec.Command("go", "build", "-o", h.binary, "./cmd/undersail").CombinedOutput(); err != nil {
		h.Fatalf("build: %s", out)
	}
}

// replica is a process of the service.
type replica struct {
	h       *harness
	cmd     *exec.Cmd
	ended   chan struct{}
	logFile string
}

// log is what the process has logged.
func (p *replica) log() string {
	text, err := os.ReadFile(p.logFile)
	if err != nil {
		panic(err)
	}
	return string(text)
}

// replica starts a process on the database of a rig and waits until it serves.
func (h *harness) replica(r *servicetest.Rig, keyFile string) *replica {
	dir := h.TempDir()
	cmd := exec.Command(h.binary, "serve", "--dir", dir, "--listen", "127.0.0.1:0", "--database-url", r.DatabaseURL,
		"--key-file", keyFile, "--claim-life", "2s", "--reach", "127.0.0.0/8", "-o", "json")
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := cmd.StdoutPipe()
	if err != nil {
		panic(err)
	}
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		panic(err)
	}
	defer log.Close()
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		panic(err)
	}
	lines := bufio.NewScanner(out)
	if !lines.Scan() {
		text, _ := os.ReadFile(log.Name())
		h.Fatalf("a replica did not come up: %s", text)
	}
	p := &replica{h, cmd, make(chan struct{}), log.Name()}
	go func() {
		io.Copy(io.Discard, out)
		cmd.Wait()
		close(p.ended)
	}()
	h.Cleanup(func() { p.signal(syscall.SIGKILL) })
	return p
}

func (p *replica) signal(s syscall.Signal) { p.cmd.Process.Signal(s) }

func (p *replica) kill() {
	p.signal(syscall.SIGKILL)
	<-p.ended
}

func say(format string, args ...any) {
	fmt.Printf("%s  %s\n", time.Now().Format("15:04:05"), fmt.Sprintf(format, args...))
}

// verdict prints what differs and how many that are.
func verdict(what string, differences []string) int {
	say("%s: %d differences", what, len(differences))
	for _, d := range differences {
		fmt.Println("    " + strings.ReplaceAll(d, "\n", " "))
	}
	return len(differences)
}
