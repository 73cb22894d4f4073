package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"undersail/internal/await"
)

const fiveMistakes = `undersail: 1
about: {name: five, version: 1.0.0, title: Five mistakes}
inputs:
  workers: {type: integr}
resources:
  net: {type: netwrk, want: {range: 10.0.0.0/16}}
  rules: {type: firewall, want: {network: =nett.id, rules: []}}
  front: {type: address, patience: soon}
outputs:
  address: =front.adress
`

func TestFiveMistakesAreReportedAtOnce(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	path := file(t, "five.sail.yaml", fiveMistakes)
	r := b.run("check", path)
	if r.code != 3 {
		t.Errorf("exit code %d", r.code)
	}
	for _, want := range []string{":4:19: error", "did you mean `integer`?", ":6:15: error", "did you mean `network`?",
		":7:44: error", "did you mean `net`?", ":8:36: error", "write a span such as", ":10:19: error",
		"did you mean `address`?", "5 errors"} {
		if !strings.Contains(r.err, want) {
			t.Errorf("want %q in:\n%s", want, r.err)
		}
	}
	p := b.run("propose", "five", "--template", path, "--account", "saltmere-lab", "--region", "north-fell")
	if p.code != 3 {
		t.Errorf("proposing it: exit code %d", p.code)
	}
}

func TestWhatCannotWorkIsFoundBeforeAnythingIsMade(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	b.simcloud("fault", "add", "quota", "--label", "vcpus", "--value", "1", "--count", "-1")
	weak, forbidden := file(t, "password", "short\n"), file(t, "password-2", "Saltmere-2026-x\n")
	for _, c := range []struct {
		about string
		args  []string
		want  string
	}{
		{"a size not sold there", []string{"--template", "warning-site", "--input", "size=vast-64"},
			"not sold in north-fell"},
		{"a quota one short", []string{"--template", "warning-site", "--input", "size=plain-2"},
			"this needs 2, 1 too many"},
		{"a weak password in a file",
			[]string{"--template", "tide-archive", "--input", "forecasters=10.0.0.0/8", "--secret", "password=" + weak},
			"the secret breaks its rules: it has 5 characters and needs 14"},
		{"a password with a forbidden text",
			[]string{"--template", "tide-archive", "--input", "forecasters=10.0.0.0/8", "--secret",
				"password=" + forbidden}, "forbidden text"},
		{"a password in the clear",
			[]string{"--template", "tide-archive", "--input", "forecasters=10.0.0.0/8", "--input",
				"password=Kelp-and-2026-x"}, "stands there in the clear"},
		{"an unknown input", []string{"--template", "warning-site", "--input", "sise=plain-2"}, "did you mean `size`?"},
	} {
		r := b.run(append([]string{"propose", "never", "--account", "saltmere-lab", "--region", "north-fell"},
			c.args...)...)
		if r.code != 3 || !strings.Contains(r.err, c.want) || !strings.Contains(r.err, "remedy:") {
			t.Errorf("%s: exit code %d, want 3 with %q:\n%s", c.about, r.code, c.want, r.err)
		}
	}
	l := b.ledger("never")
	if len(l.Alive)+len(l.Gone) != 0 {
		t.Errorf("something was made: %+v", l)
	}
	for _, call := range l.Calls {
		if call.Method == "PUT" {
			t.Errorf("the cloud was asked to make something: %s", call.Path)
		}
	}
	if r := b.must(0, "stacks"); strings.Contains(r.out, "never") {
		t.Error("a refused proposal left a stack behind")
	}
}

// TestKilledInTheMiddleOfARun kills service and clouds at several moments.
func TestKilledInTheMiddleOfARun(t *testing.T) {
	t.Parallel()
	for i, moment := range []string{"creating net", "gateway is made and settling", "creating worker[0]"} {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			b := startAlone(t, "--empty", "--pace", "60")
			b.must(0, "apply", b.propose("intake", "gauge-intake", "--inputs", "examples/gauge-intake.inputs.yaml"))
			await.Until(t, moment,
				func() bool { return strings.Contains(b.run("events", "1").out, moment) })
			b.stop(syscall.SIGKILL)
			b.up("--empty", "--pace", "60")
			r := b.run("watch", "1")
			if r.code != 0 || !strings.Contains(r.out, "took the run over") {
				t.Fatalf("exit code %d:\n%s%s", r.code, r.out, r.err)
			}
			l := b.ledger("intake")
			once := map[string]int{}
			for _, x := range append(l.Alive, l.Gone...) {
				once[x.Tags["undersail-resource"]]++
			}
			for name, n := range once {
				if n != 1 {
					t.Errorf("%s was made %d times", name, n)
				}
			}
			if len(l.Alive) != 11 {
				t.Errorf("%d resources are alive, want 11", len(l.Alive))
			}
			var events []struct{ Number int64 }
			b.into(&events, "events", "1")
			for i, e := range events {
				if e.Number != int64(i+1) {
					t.Fatalf("event %d has number %d", i+1, e.Number)
				}
			}
		})
	}
}

func TestABadCloudChangesNothingOfTheResult(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "120")
	b.simcloud("fault", "add", "lose-answer", "--on", "instances", "--method", "PUT", "--count", "2")
	b.simcloud("fault", "add", "lose-answer", "--on", "networks", "--method", "PUT")
	b.simcloud("fault", "add", "server-error", "--on", "subnets", "--count", "3")
	b.simcloud("fault", "add", "throttle", "--on", "firewalls", "--count", "2")
	b.simcloud("fault", "add", "lose-answer", "--on", "instances", "--method", "DELETE")
	b.must(0, "apply", b.propose("intake", "gauge-intake", "--inputs", "examples/gauge-intake.inputs.yaml"), "--watch")
	l := b.ledger("intake")
	if len(l.Alive) != 11 || len(l.Gone) != 0 {
		t.Errorf("%d alive, %d gone", len(l.Alive), len(l.Gone))
	}
	b.retire("intake")
	if l := b.ledger("intake"); len(l.Alive) != 0 {
		t.Errorf("left over: %+v", l.Alive)
	}
}

func TestAServiceThatNeverComesUp(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	b.simcloud("fault", "add", "service-never", "--label", "worker-02", "--count", "-1")
	id := b.propose("intake", "gauge-intake", "--inputs", "examples/gauge-intake.inputs.yaml")
	r := b.run("apply", id, "--watch")
	if r.code != 1 {
		t.Fatalf("exit code %d:\n%s", r.code, r.out)
	}
	for _, want := range []string{"worker[1] failed: asked systemctl is-active tide-forecast", "got activating",
		"not right within 5m", "board is skipped: worker[1] failed", "worker[0] is healthy",
		"undersail continue intake"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("want %q in:\n%s", want, r.out)
		}
	}
	var run struct {
		State string
		Steps []struct{ Resource, State string }
	}
	b.into(&run, "runs", "1")
	states := map[string]string{}
	for _, s := range run.Steps {
		states[s.Resource] = s.State
	}
	if run.State != "failed" || states["worker[0]"] != "healthy" || states["worker[1]"] != "failed" ||
		states["board"] != "skipped" {
		t.Errorf("states %v", states)
	}
	before := len(b.ledger("intake").Alive)
	b.simcloud("fault", "lift")
	again := b.must(0, "continue", "intake", "--watch")
	if strings.Contains(again.out, "creating worker") || !strings.Contains(again.out, "creating board") {
		t.Errorf("continuing made more than what is missing:\n%s", again.out)
	}
	if l := b.ledger("intake"); len(l.Alive) != before+1 || len(l.Gone) != 0 {
		t.Errorf("%d alive after %d, %d gone", len(l.Alive), before, len(l.Gone))
	}
}

func TestAMachineThatBreaksWhileItIsMade(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	b.simcloud("fault", "add", "late-failure", "--on", "instances")
	r := b.run("apply", b.propose("site", "warning-site"), "--watch")
	if r.code != 1 || !strings.Contains(r.out, "the host failed while the instance was being made") {
		t.Fatalf("exit code %d:\n%s", r.code, r.out)
	}
	b.must(0, "continue", "site", "--watch")
	if l := b.ledger("site"); len(l.Alive) != 4 || len(l.Gone) != 1 {
		t.Errorf("%d alive, %d gone: the wreck was not replaced", len(l.Alive), len(l.Gone))
	}
}

func TestStopAndContinue(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "30")
	b.must(0, "apply", b.propose("site", "warning-site"))
	await.Until(t, "the machine is begun",
		func() bool { return strings.Contains(b.run("events", "1").out, "creating site") })
	b.must(0, "stop", "1")
	r := b.run("watch", "1")
	if r.code != 1 || !strings.Contains(r.err, "was stopped") || !strings.Contains(r.err, "undersail continue site") {
		t.Errorf("exit code %d: %s", r.code, r.err)
	}
	b.must(0, "continue", "site", "--watch")
	if l := b.ledger("site"); len(l.Alive) != 4 {
		t.Errorf("%d alive", len(l.Alive))
	}
	if r := b.run("stop", "1"); r.code != 4 || !strings.Contains(r.err, "over already") {
		t.Errorf("stopping what is over: %d %s", r.code, r.err)
	}
}

func TestTheWorldChangedSinceTheProposal(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	id := b.propose("site", "warning-site")
	b.simcloud("fault", "add", "quota", "--label", "addresses", "--value", "0", "--count", "-1")
	r := b.run("apply", id)
	if r.code != 4 || !strings.Contains(r.err, "the world has changed") || !strings.Contains(r.err, "addresses") {
		t.Errorf("exit code %d: %s", r.code, r.err)
	}
	if l := b.ledger("site"); len(l.Alive) != 0 {
		t.Error("something was made")
	}
}

// TestASecretIsFoundNowhere searches everything the product and the ledger keep
// or say for the value of a secret, in several encodings.
func TestASecretIsFoundNowhere(t *testing.T) {
	t.Parallel()
	b := startAlone(t, "--empty", "--pace", "240")
	const value = "Zebra7-Quartz9-Lantern"
	path := file(t, "password", value)
	b.must(0, "apply", b.propose("archive", "tide-archive", "--inputs", "examples/tide-archive.inputs.yaml", "--secret",
		"password="+path), "--watch")
	b.must(0, "verify", "archive")
	said := ""
	for _, args := range [][]string{{"proposals", "-o", "json"}, {"runs", "1", "-o", "json"},
		{"events", "1", "-o", "json"}, {"events", "1", "--evidence", "-o", "json"}, {"stacks", "archive", "-o", "json"},
		{"outputs", "archive", "-o", "json"}, {"stacks"}} {
		said += b.must(0, args...).out
	}
	said += b.program("simcloud", "", "ledger", "--calls", "-o", "json").out
	if !strings.Contains(said, "secret:archive/password@1") {
		t.Error("not even the reference is told: the search would prove nothing")
	}
	find(t, "what was said", said, value)
	b.stop(syscall.SIGTERM)
	database := filepath.Join(b.dir, "service")
	if place, err := os.ReadFile(filepath.Join(database, "database", "place")); err == nil {
		database = strings.TrimSpace(string(place))
	}
	files := 0
	for _, dir := range []string{database, filepath.Join(b.dir, "service"), filepath.Join(b.dir, "service.log")} {
		filepath.Walk(dir, func(path string, info os.FileInfo, err error) error {
			if err == nil && info.Mode().IsRegular() {
				raw, _ := os.ReadFile(path)
				files++
				find(t, path, string(raw), value)
			}
			return nil
		})
	}
	if files < 100 {
		t.Errorf("only %d files were searched: the database was not among them", files)
	}
}

func find(t *testing.T, where, text, value string) {
	t.Helper()
	for _, form := range []string{value, fmt.Sprintf("%x", value), "WmVicmE3LVF1YXJ0ejktTGFudGVybg"} {
		if strings.Contains(text, form) {
			t.Errorf("the secret stands in %s as %s", where, form)
		}
	}
}
