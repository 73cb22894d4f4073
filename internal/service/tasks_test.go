package service_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"undersail/internal/accounts"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
)

// ashore is a machine that tasks run on, and is completed by their text.
const ashore = `undersail: 1
about: {name: ashore, version: 1.0.0, title: Ashore}
inputs:
  users: {type: array, items: {type: string}, default: [duty]}
  word: {secret: true, rules: {length: 12}, generate: true}
resources:
  net: {type: network, want: {range: 10.33.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.33.0.0/24}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  access: {type: key_pair}
  shore: {type: instance, want: {size: plain-2, image: tide-base-3, subnet: =lan.id, public: true, firewalls: ["=door.id"], key_pair: =access.id}}
`

const onShore = `, on: =shore.public_address, user: tide, key: =access.private_key`

// TestATaskRunsOnceAgainWhenWhatItWasGivenChangesAndIsUndone takes settings to a machine
// that runs.
func TestATaskRunsOnceAgainWhenWhatItWasGivenChangesAndIsUndone(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(5 * time.Second)
	source := ashore + `  settings:
    type: task
    want: {command: 'cat > users; echo run >> runs; echo "$(cat users)"; wc -l runs', input: '=inputs.users.join(" ")', undo: 'rm users; echo undone >> runs'` + onShore + `}
  shown:
    type: task
    want: {command: cat users, answer: duty, again_when: ["=settings.output"]` + onShore + `}
outputs: {wrote: {value: =settings.output}}
`
	run := r.Await(s, r.ApplySource(s, "ashore", source, nil))
	if run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	told := r.Events(s, run.ID)
	if a := servicetest.Attributes(t, s, "ashore", "settings"); a["output"] != "duty\n1" || a["exit"] != float64(0) {
		t.Errorf("the task has %v", a)
	}
	if !strings.Contains(told, "settings wrote: duty") {
		t.Errorf("what it wrote is not told:\n%s", told)
	}
	if p := r.Propose(s, "ashore", source, nil); p.State != "nothing" {
		t.Errorf("without a change: %s", p.Summary)
	}
	p := r.Propose(s, "ashore", source, map[string]any{"users": []any{"duty", "night"}})
	if p.Summary != "2 alter, 6 same" && p.Summary != "1 alter, 6 same" && !strings.HasSuffix(p.Summary, "same") ||
		strings.Contains(p.Summary, "rebuild") {
		t.Errorf("another list of users: %s", p.Summary)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if a := servicetest.Attributes(t, s, "ashore", "settings"); a["output"] != "duty night\n2" {
		t.Errorf("after the change the task has %v", a)
	}
	if a := servicetest.Attributes(t, s, "ashore", "shown"); a["output"] != "duty night" {
		t.Errorf("what depends on it has %v", a)
	}
	v, err := s.Stacks.Verify(context.Background(), r.Admin, "ashore")
	if err != nil || !v.Healthy {
		t.Errorf("%+v %v", v, err)
	}
	// Asked for, it is run once more although nothing changed.
	ask := proposing.NewProposal{
		Stack:   "ashore",
		File:    "template.sail.yaml",
		Source:  source,
		Account: "saltmere-lab",
		Region:  "north-fell",
		Inputs:  map[string]any{"users": []any{"duty", "night"}},
	}
	for name, says := range map[string]string{"setings": "did you mean `settings`?", "net": "is no task of the stack"} {
		ask.Again = []string{name}
		_, err := s.Proposing.Propose(context.Background(), r.Admin, ask)
		if err == nil || !strings.Contains(servicetest.Explain(err), says) {
			t.Errorf("run %s again: %v", name, err)
		}
	}
	ask.Again = []string{"settings"}
	p, err = s.Proposing.Propose(context.Background(), r.Admin, ask)
	if err != nil || !strings.HasPrefix(p.Summary, "2 alter") {
		t.Fatalf("run it again: %s %v", p.Summary, err)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if a := servicetest.Attributes(t, s, "ashore", "settings"); a["output"] != "duty night\n3" {
		t.Errorf("run once more the task has %v", a)
	}
	ask.Again = nil
	if p, err := s.Proposing.Propose(context.Background(), r.Admin, ask); err != nil || p.State != "nothing" {
		t.Errorf("it would be run for ever: %s %v", p.Summary, err)
	}
	// Without the task in the template, what it did is undone.
	if run := r.Await(s, r.ApplySource(s, "ashore", ashore+`  left: {type: task, want: {command: 'cat runs'`+onShore+`}}
outputs: {wrote: {value: =left.output}}
`, nil)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	// Undoing and the new task need nothing of each other; a look at the end tells.
	run = r.Await(s, r.ApplySource(s, "ashore",
		ashore+`  left: {type: task, want: {command: 'cat runs', again_when: [later]`+onShore+`}}
`, nil))
	if run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if a := servicetest.Attributes(t, s, "ashore", "left"); a["output"] != "run\nrun\nrun\nundone" {
		t.Errorf("after it was removed the machine has %v", a)
	}
	retire, err := s.Proposing.Retire(context.Background(), r.Admin, "ashore")
	if err != nil {
		t.Fatal(err)
	}
	if run := r.Await(s, r.Carry(s, retire)); run.State != state.Done || len(r.Ledger().Alive) > 0 {
		t.Errorf("%s %s, %d alive", run.State, run.Reason, len(r.Ledger().Alive))
	}
}

// TestATaskThatFailsTellsWhyAndIsRunAgain ends badly, and goes on once it is mended.
func TestATaskThatFailsTellsWhyAndIsRunAgain(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(5 * time.Second)
	source := func(command, more string) string {
		return ashore + `  settings: {type: task, want: {command: '` + command + `'` + more + onShore + `}}
  after: {type: address, after: {settings: healthy}}
`
	}
	run := r.Await(s, r.ApplySource(s, "ashore", source(`echo the valve is stuck; exit 3`, ""), nil))
	if run.State != state.Failed ||
		!strings.Contains(run.Reason,
			"settings: asked for its phase, got broken: the command ended with exit code 3; it wrote the "+
				"valve is stuck") {
		t.Fatal(run.State, run.Reason)
	}
	p := r.Propose(s, "ashore", source(`echo open`, ", answer: closed"), nil)
	if strings.Contains(p.Summary, "rebuild") || !strings.Contains(p.Summary, "1 alter") ||
		!strings.Contains(p.Summary, "1 create") {
		t.Errorf("what failed is proposed as %s", p.Summary)
	}
	if run = r.Await(s, r.Carry(s, p)); run.State != state.Failed ||
		!strings.Contains(run.Reason, `did not answer "closed", but open`) {
		t.Fatal(run.State, run.Reason)
	}
	if run = r.Await(s, r.ApplySource(s, "ashore", source(`echo closed`, ", answer: closed"),
		nil)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	// What was given a secret may write it in any disguise: nothing of it is kept but what is named.
	if run = r.Await(s, r.ApplySource(s, "ashore",
		ashore+`  settings: {type: task, want: {command: 'cat; echo; echo level 42', input: =inputs.word`+onShore+`}}
  named: {type: task, want: {command: 'cat; echo; echo level 42', keep: 'level [0-9]+', input: =inputs.word`+onShore+`}}
`, nil)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	a := servicetest.Attributes(t, s, "ashore", "settings")
	if !strings.Contains(a["output"].(string), "not kept: a secret was given") {
		t.Errorf("a task with a secret keeps %v", a)
	}
	if a := servicetest.Attributes(t, s, "ashore", "named"); a["output"] != "level 42" {
		t.Errorf("of a task with a secret is kept %v", a)
	}
	if told := r.Events(s, run.ID); strings.Contains(told, "level 43") {
		t.Errorf("the secret is told:\n%s", told)
	}
}

// TestATaskIsFoundAgainByWhoeverTakesTheRunOver lets an engine die while the command runs,
// and while it was about to be started.
func TestATaskIsFoundAgainByWhoeverTakesTheRunOver(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, quit := r.Replica(time.Second)
	id := r.ApplySource(s, "ashore",
		ashore+`  settings: {type: task, want: {command: 'echo run >> runs; sleep 900; cat runs'`+onShore+`}}
`, nil)
	r.Until(s, id, "creating settings")
	time.Sleep(300 * time.Millisecond) // in the middle of it, most likely; at any other moment the same has to hold
	quit()
	next, _ := r.Replica(time.Second)
	run := r.Await(next, id)
	if run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if a := servicetest.Attributes(t, next, "ashore", "settings"); a["output"] != "run" {
		t.Errorf("it was run more than once: %v", a)
	}
}

// TestNothingIsRunWhereNoPacketsGo is told before the first call.
func TestNothingIsRunWhereNoPacketsGo(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	unreached := true
	_, err := s.Accounts.Bound(context.Background(), r.Admin, "saltmere-lab", accounts.Bounds{Unreached: &unreached})
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.Proposing.Propose(context.Background(), r.Admin, proposing.NewProposal{
		Stack:   "ashore",
		File:    "ashore.sail.yaml",
		Account: "saltmere-lab",
		Region:  "north-fell",
		Source:  ashore + "  settings: {type: task, want: {command: 'true'" + onShore + "}}\n",
	})
	var e *refusal.Error
	if !errors.As(err, &e) ||
		!slices.ContainsFunc(e.Findings,
			func(f render.Finding) bool { return f.Code == "not-reached" && f.Place == "settings" }) {
		t.Error(err)
	}
}

// TestAnUndoingThatFailedIsTriedAgain fails once and is then run anew.
func TestAnUndoingThatFailedIsTriedAgain(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	run := r.Await(s, r.ApplySource(s, "ashore",
		ashore+"  settings: {type: task, want: {command: 'true', undo: 'if [ -f mended ]; then echo fine; else "+
			"touch mended; echo stuck; exit 5; fi'"+onShore+"}}\n", nil))
	if run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	for _, want := range []string{state.Failed, state.Done} {
		retire, err := s.Proposing.Retire(context.Background(), r.Admin, "ashore")
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		run := r.Await(s, r.Carry(s, retire))
		if run.State != want || want == state.Failed &&
			!strings.Contains(run.Reason, "what undoes it ended with exit code 5; it wrote stuck") {
			t.Fatal(run.State, run.Reason)
		}
	}
	if left := r.Ledger().Alive; len(left) > 0 {
		t.Errorf("left: %v", left)
	}
}
