// Command mutants draws small faults in the heart and in what decides who may do what, puts each into the
// program by itself, and runs the tests that should notice it. It prints a line for each, and
// fails where one survives. The same seed draws the same ones.
package main

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// part is some of the program, with the tests that hold it: the fast ones first.
type part struct {
	name string
	// files are patterns; behind a colon stand the only functions that count, if any do.
	files  []string
	stages [][]string
}

// attacks are the ways that an attacker goes, over the network.
var attacks = []string{"-timeout", "15m", "-run",
	"^(TestAttacks|TestEveryOperationIsHeld|TestNoPlaceOfASecretIsForgotten|TestWhatIsAgreedToIsWhatHappens|" +
		"TestAProviderIsAskedAnewAboutItsPeople)$", "./test"}

// uses are the tests of secrets that are given, and of what is agreed to.
var uses = []string{"-timeout", "10m", "-parallel", "4", "-run",
	"TestAcceptingIsWhole|TestAServiceStarts|TestConsentsAreAsked|TestARunWaitsFor|TestAKeptDisk|" +
		"TestUndoingByItself|TestWhatIsAgreedTo|TestWhatWasApplied|TestASecretIs|TestProposalsAreDecided|" +
		"TestSecretsFlow|TestRotating|TestWhereSecrets|TestWhatAnotherStack|" +
		"TestConnecting", "./internal/service", "./internal/proposing", "./internal/secrets"}

var parts = []part{
	{"access", []string{"internal/access/*.go"}, [][]string{{"./internal/access"}, {"./internal/people"}, attacks}},
	{"sealed", []string{"internal/sealed/*.go"}, [][]string{{"./internal/sealed", "./internal/access"}, uses, attacks}},
	{"people", []string{"internal/people/*.go"},
		[][]string{{"./internal/people"},
			{"-run", "People|Person|Session|OpenID|Sign|Door|Token|Invit|Password|User|Provider", "./test",
				"./internal/service", "./internal/proposing"}, attacks}},
	{"accepting", []string{
		"internal/proposing/agreement.go", "internal/proposing/uses.go", "internal/proposing/standing.go",
		"internal/proposing/gift.go", "internal/stacks/uses.go",
		"internal/proposing/decision.go:accept,shownAs,mayDecide,decide,acceptTerms,turnOn",
		"internal/store/agreements.go", "internal/store/runs.go:StartRun", "internal/store/proposals.go:Decide",
		"internal/engine/agreeing.go", "internal/core/use/*.go",
	}, [][]string{{"./internal/core/use", "./internal/proposal"},
		{"-run", "Agree|Run|Propos|Decid", "./internal/store"}, uses, attacks}},
	{"core", []string{"internal/core/*/*.go"},
		[][]string{{"./internal/core/..."}, {"./internal/exchange", "./internal/cli"},
			{"./internal/proposing"}, whole}},
	{"store", []string{"internal/store/*.go"},
		[][]string{{"./internal/store"}, {"./internal/people", "./internal/stacks"},
			{"./internal/proposing"}, {"./internal/engine"}, whole}},
	{"engine", []string{"internal/engine/*.go"}, [][]string{{"./internal/engine"}, {"./internal/proposing"}, whole}},
	{"proposing", []string{"internal/proposing/*.go"}, [][]string{{"./internal/proposing"}, whole}},
}

// whole are the tests that drive everything at once.
var whole = []string{"-timeout", "20m", "-parallel", "4", "./internal/service", "./test"}

func main() {
	seed := flag.Uint64("seed", 1, "which are drawn")
	n := flag.Int("n", 60, "how many are drawn")
	which := flag.String("which", "", "these of them alone, such as 4,17")
	only := flag.String("part", "",
		"of this part alone: access, sealed, people, accepting, core, store, engine, proposing")
	fast := flag.Bool("fast", false,
		"with the first tests of each part alone, to see what the slow ones are needed for")
	list := flag.Bool("list", false, "print those that are drawn, and run nothing")
	flag.Parse()
	err := run(*seed, *n, strings.FieldsFunc(*which, func(r rune) bool { return r == ',' }), *only, *list, *fast)
	if err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

func run(seed uint64, n int, which []string, only string, list, fast bool) error {
	var all []mutant
	for i, p := range parts {
		if only != "" && p.name != only {
			continue
		}
		of, err := mutantsOf(p)
		if err != nil {
			return err
		}
		for _, m := range of {
			m.part = &parts[i]
			all = append(all, m)
		}
	}
	rand.New(rand.NewPCG(seed, 0)).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	dir, err := os.MkdirTemp("", "undersail-mutants-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	fmt.Printf("seed %d draws %d of %d\n", seed, n, len(all))
	drawn, tried, survived := 0, 0, 0
	began := time.Now()
	for _, m := range all {
		if drawn == n {
			break
		}
		overlay, err := m.overlay(dir)
		if err != nil {
			return err
		}
		if goes(overlay, "build", "./"+filepath.Dir(m.file)) != nil {
			continue // no program: nothing that could be overlooked
		}
		if drawn++; len(which) > 0 && !slices.Contains(which, strconv.Itoa(drawn)) {
			continue
		}
		tried++
		what := fmt.Sprintf("%2d %-9s %s:%d %s", drawn, m.part.name, m.file, m.line, m.what)
		if list {
			fmt.Println(what)
			continue
		}
		by, err := m.killed(overlay, fast)
		if err != nil {
			return err
		}
		if by == "" {
			survived++
			by = "SURVIVES"
		}
		fmt.Printf("%s: %s (%v)\n", what, by, time.Since(began).Round(time.Second))
	}
	if list {
		return nil
	}
	fmt.Printf("%d tried, %d survive\n", tried, survived)
	if survived > 0 {
		return errors.New("some survive: write what notices them, or why they change nothing")
	}
	return nil
}

// overlay writes the file with the fault in it, and what tells the compiler to take it.
func (m mutant) overlay(dir string) (string, error) {
	source, err := os.ReadFile(m.file)
	if err != nil {
		return "", err
	}
	changed := filepath.Join(dir, "mutant.go")
	if err := os.WriteFile(changed, []byte(m.in(string(source))), 0o600); err != nil {
		return "", err
	}
	whole, err := filepath.Abs(m.file)
	if err != nil {
		return "", err
	}
	raw, err := json.Marshal(map[string]any{"Replace": map[string]string{whole: changed}})
	if err != nil {
		return "", err
	}
	overlay := filepath.Join(dir, "overlay.json")
	return overlay, os.WriteFile(overlay, raw, 0o600)
}

// goes runs the compiler's command with the fault, also in what tests build by themselves.
func goes(overlay string, args ...string) error {
	cmd := exec.Command("go", args...)
	cmd.Env = append(os.Environ(), "GOFLAGS=-overlay="+overlay)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

var failed = regexp.MustCompile(`--- FAIL: (\S+)`)

// killed says which test notices the fault first; nothing says that none does.
func (m mutant) killed(overlay string, fast bool) (string, error) {
	stages := m.part.stages
	if fast {
		stages = stages[:1]
	}
	// Most are noticed beside where they are, in a moment.
	if beside := []string{"./" + filepath.Dir(m.file)}; !slices.Equal(stages[0], beside) {
		stages = append([][]string{beside}, stages...)
	}
	for _, stage := range stages {
		// What tests build by themselves is not known to who keeps their results: count=1.
		err := goes(overlay, append([]string{"test", "-vet=off", "-ldflags=-s", "-count=1", "-failfast"}, stage...)...)
		if err == nil {
			continue
		}
		if of := failed.FindAllStringSubmatch(err.Error(), -1); of != nil {
			return "killed by " + of[len(of)-1][1], nil
		}
		if strings.Contains(err.Error(), "panic:") || strings.Contains(err.Error(), "FAIL") {
			return "killed, the program or its tests end", nil
		}
		return "", err
	}
	return "", nil
}
