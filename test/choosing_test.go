package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// mistake is one that people make before anything is there, with the finding that
// stops it and what its remedy says to do instead.
type mistake struct {
	about string
	args  []string
	code  int
	says  []string
	// instead replaces arguments by what the remedy says; then it passes.
	instead map[string]string
}

const machineText = `undersail: 1
about: {name: model, version: 1.0.0, title: The model}
inputs: {size: {picks: size}}
resources:
  net: {type: network, want: {range: 10.0.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.0.0.0/24}}
  model: {type: instance, want: {size: =inputs.size, image: %s, subnet: =lan.id}}
`

// TestChoosing asks for everything that can be known beforehand, on one empty demo: as
// the page shows it, on a terminal, over the API, and with the mistakes of practice.
func TestChoosing(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	for _, part := range []struct {
		name string
		run  func(b *bench)
	}{
		{"the page is true", (*bench).page},
		{"missing inputs are asked for on a terminal", (*bench).terminal},
		{"a form over the API", (*bench).form},
		{"mistakes are stopped and their remedies help", (*bench).mistakes},
	} {
		t.Run(part.name, func(t *testing.T) { part.run(b.in(t)) })
	}
}

// mistakes makes the mistakes that people typically make, and then does what the remedy
// says.
func (b *bench) mistakes() {
	t := b.t
	b.must(0, "accounts", "limit", "saltmere-lab", "none")
	b.must(0, "accounts", "ranges", "saltmere-lab", "--add", "172.20.0.0/16", "--about", "the premises in Saltmere")
	at := func(region string, args ...string) []string {
		return append(args, "--account", "saltmere-lab", "--region", region)
	}
	example := func(name string, args ...string) []string {
		return append([]string{"check", "examples/" + name + ".sail.yaml", "--inputs",
			"examples/" + name + ".inputs.yaml"}, args...)
	}
	large, terms := file(t, "large.sail.yaml", fmt.Sprintf(machineText, "debian-12")),
		file(t, "terms.sail.yaml", fmt.Sprintf(machineText, "tide-model-5"))
	for _, m := range []mistake{
		{"a worker of a family that the region does not sell",
			at("hollow-bay", example("reading-store", "--input", "worker_size=lean-2")...), 3,
			[]string{"inputs.worker_size: size lean-2 does not do: it is not sold in hollow-bay; it is arm64 and " +
				"x86_64 is needed", "these fit: plain-1"},
			map[string]string{"worker_size=lean-2": "worker_size=plain-1"}},
		{"a zone that does not exist",
			at("north-fell", example("gauge-intake", "--input", "zones=[north-fell-a, north-fell-d]")...), 3,
			[]string{`inputs.zones[1]: region north-fell has no zone "north-fell-d"`,
				"did you mean `north-fell-a`? Offered are north-fell-a, north-fell-b, north-fell-c"},
			map[string]string{"zones=[north-fell-a, north-fell-d]": "zones=[north-fell-a, north-fell-c]"}},
		{"a range that the premises use",
			at("north-fell", example("warning-site", "--input", "range=172.20.16.0/24")...), 3,
			[]string{"net.range: 172.20.16.0/24 overlaps 172.20.0.0/16 of the premises in Saltmere", "from input range",
				"172.21.0.0/24 is the nearest that is free"},
			map[string]string{"range=172.20.16.0/24": "range=172.21.0.0/24"}},
		{"an odd number of hosts",
			example("premises-cloud", "--input", "hosts=7", "--secret",
				"authorization="+file(t, "key", "Not-a-real-key-1")), 3,
			[]string{"inputs.hosts: multipleOf: got 7, want 2", "such as 6 or 8"},
			map[string]string{"hosts=7": "hosts=8"}},
		{"below the least machine", at("north-fell", example("field-app", "--input", "size=plain-1")...), 3,
			[]string{"inputs.size: size plain-1 does not do: it has 1 vcpus and 2 are needed", "these fit: brisk-2"},
			map[string]string{"size=plain-1": "size=brisk-2"}},
		{"too small for what it serves",
			at("north-fell", example("duty-desk", "--input", "officers=90", "--input", "size=plain-1")...), 3,
			[]string{"inputs.size: plain-1 is too small for 30 officers on a node: it has 1 vcpus (4 needed), 4GiB " +
				"of memory (16GiB needed)", "choose plain-4 or a larger one, or up to 10 officers on a node"},
			map[string]string{"size=plain-1": "size=plain-4"}},
		{"terms that nobody has accepted",
			at("north-fell", "propose", "model", "--template", terms, "--input", "size=plain-2"), 0,
			[]string{"consent   terms: tide-model-2026",
				"model.image: the account has not accepted the terms tide-model-2026", "agree to `terms`"}, nil},
		{"a very large machine without a host", at("ember-coast", "check", large, "--input", "size=vast-64"), 3,
			[]string{"model.size: size vast-64 does not do: it stands on a dedicated host only, and none is named",
				"allocate a dedicated host and name it under `host`", "these fit: plain-1"},
			map[string]string{"size=vast-64": "size=plain-1"}},
		{"a shape that the zone does not sell", at("hollow-bay", "check", large, "--input", "size=drive-64"), 3,
			[]string{`inputs.size: cloud larch has no size "drive-64"`, "these fit: plain-1"},
			map[string]string{"size=drive-64": "size=plain-1"}},
		{"administration open to the world",
			example("survey-router", "--input", "office=0.0.0.0/0", "--secret",
				"licence="+file(t, "licence", "Not-a-real-key-1")), 0,
			[]string{"rules.rules: port 22 is open to every address there is: SSH answers there",
				"name the range that its users come from"},
			map[string]string{"office=0.0.0.0/0": "office=198.51.100.0/24"}},
	} {
		r := b.run(m.args...)
		told := r.out + r.err
		if r.code != m.code {
			t.Errorf("%s: exit code %d, want %d:\n%s", m.about, r.code, m.code, told)
		}
		for _, s := range m.says {
			if !strings.Contains(told, s) {
				t.Errorf("%s: nothing of %q in\n%s", m.about, s, told)
			}
		}
		if m.instead == nil {
			continue
		}
		var args []string
		for _, a := range m.args {
			if better, ok := m.instead[a]; ok {
				a = better
			}
			args = append(args, a)
		}
		if r := b.run(args...); r.code != 0 || strings.Contains(r.err, "warning") {
			t.Errorf("%s: what the remedy says does not help: exit code %d\n%s", m.about, r.code, r.err)
		}
	}
	// Terms are accepted with the consent; then the cloud takes the image.
	var list []proposed
	b.into(&list, "proposals", "--stack", "model")
	id := fmt.Sprint(list[0].ID)
	if r := b.run("accept", id); r.code != 6 || !strings.Contains(r.err, "terms") {
		t.Errorf("accepted without consent: %d %s", r.code, r.err)
	}
	b.must(0, "accept", id, "--agree", "terms")
	if r := b.must(0, "apply", id, "--watch"); !strings.Contains(r.out, "is done") {
		t.Error(r.out)
	}
}

// form keeps a draft, changes it by merge patches under its revision, and asks what it
// would be.
func (b *bench) form() {
	t := b.t
	send := func(method, path, revision, body string) (int, map[string]any) {
		t.Helper()
		req, err := http.NewRequest(method, b.url+"/api/v1"+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+b.token())
		req.Header.Set("Content-Type", "application/json")
		if revision != "" {
			req.Header.Set("If-Match", revision)
		}
		if method == http.MethodPatch {
			req.Header.Set("Content-Type", "application/merge-patch+json")
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		var v map[string]any
		json.NewDecoder(res.Body).Decode(&v)
		return res.StatusCode, v
	}
	status, d := send("POST", "/drafts", "", `{"stack": "pages", "template": "warning-site"}`)
	body, _ := d["body"].(map[string]any)
	if status != 201 || body["region"] == nil || d["answer"] == nil { // it got the best place
		t.Fatalf("%d %v", status, d)
	}
	at := fmt.Sprint("/drafts/", d["id"])
	status, d = send("PATCH", at, `"1"`,
		`{"account": "saltmere-lab", "region": "north-fell", "inputs": {"size": "plain-48", "range": "10.77.0.0/24"}}`)
	answer, _ := d["answer"].(map[string]any)
	if status != 200 || answer["errors"] != 1.0 || d["revision"] != 2.0 {
		t.Errorf("%d %v", status, d)
	}
	if status, p := send("PATCH", at, `"1"`, `{"region": null}`); status != 409 ||
		!strings.Contains(fmt.Sprint(p["title"]), "has revision 2 by now") {
		t.Errorf("an old revision: %d %v", status, p)
	}
	if status, d = send("PATCH", at, "2", `{"inputs": {"size": null}}`); status != 200 ||
		d["answer"].(map[string]any)["errors"] != 0.0 {
		t.Errorf("%d %v", status, d)
	}
	if status, p := send("POST", "/checks", "",
		`{"stack": "", "template": "warning-site", "colour": 1}`); status != 422 ||
		!strings.Contains(fmt.Sprint(p["title"]), "colour") {
		t.Errorf("an unknown field: %d %v", status, p)
	}
	if status, p := send("PUT", at+"/secrets/size", "", `{"value": "x"}`); status != 422 ||
		!strings.Contains(fmt.Sprint(p["title"]), "no secret and no key pair") {
		t.Errorf("a size is no secret: %d %v", status, p)
	}
	if status, p := send("POST", at+"/propose", `"1"`, ""); status != 409 ||
		!strings.Contains(fmt.Sprint(p["title"]), "has revision 3") {
		t.Errorf("what somebody has not seen is not proposed: %d %v", status, p)
	}
	if status, _ := send("DELETE", at, "", ""); status != 204 {
		t.Errorf("removing it: %d", status)
	}
	_, d = send("POST", "/drafts", "",
		`{"stack": "kept-word", "template": "tide-archive", "inputs": {"forecasters": "127.0.0.0/8"}}`)
	kept := fmt.Sprint("/drafts/", d["id"])
	if status, d = send("PUT", kept+"/secrets/password", "", `{}`); status != 200 ||
		fmt.Sprint(d["body"].(map[string]any)["inputs"].(map[string]any)["password"]) != "secret:kept-word-password" {
		t.Errorf("a secret that is drawn: %d %v", status, d["body"])
	}
	status, p := send("POST", kept+"/propose", fmt.Sprintf(`"%v"`, d["revision"]), "")
	if status != 201 || p["summary"] != "8 create" {
		t.Errorf("proposed: %d %v", status, p)
	}
	status, again := send("POST", fmt.Sprint("/proposals/", p["id"], "/draft"), "", "")
	if status != 201 || fmt.Sprint(again["body"].(map[string]any)["inputs"].(map[string]any)["password"]) !=
		"secret:kept-word-password" {
		t.Errorf("back in a draft: %d %v", status, again)
	} else {
		send("DELETE", fmt.Sprint("/drafts/", again["id"]), "", "")
	}
	send("POST", fmt.Sprint("/proposals/", p["id"], "/refuse"), "", `{"why": "only tried"}`)
	var me struct{ May []string }
	b.reads("/api/v1/me", &me)
	if strings.Join(me.May, " ") != "administer operate decide publish" {
		t.Errorf("an administrator may %v", me.May)
	}
	var seen struct{ Address string }
	if b.reads("/api/v1/me/address", &seen); seen.Address != "127.0.0.1" {
		t.Errorf("the address that is seen is %q", seen.Address)
	}
	status, c := send("POST", "/texts/check", "",
		`{"file": "x.sail.yaml", "source": "undersail: 1\nabout: {name: x, version: 1.0.0, title: X}\nresources: {net: {type: netwrk}}\n"}`)
	if status != 200 || c["sound"] != false ||
		!strings.Contains(fmt.Sprint(c["diagnostics"]), "did you mean `network`") {
		t.Errorf("a text: %d %v", status, c)
	}
	if status, _ := send("GET", at, "", ""); status != 404 {
		t.Errorf("it is still there: %d", status)
	}
}

// changing is what differs from one day to the next in what commands print.
var changing = regexp.MustCompile(`offers as of [^\n]*`)

// page carries out the commands of the page and compares what they print with what it
// shows.
func (b *bench) page() {
	t := b.t
	raw, err := os.ReadFile(filepath.Join("..", "docs", "choosing.md"))
	if err != nil {
		t.Fatal(err)
	}
	commands := 0
	for _, part := range regexp.MustCompile("(?s)```console\n(.*?)```").FindAllStringSubmatch(string(raw), -1) {
		for _, step := range regexp.MustCompile(`(?m)^\$ `).Split(part[1], -1)[1:] {
			line, want, _ := strings.Cut(step, "\n")
			for strings.HasSuffix(line, `\`) {
				var more string
				more, want, _ = strings.Cut(want, "\n")
				line = strings.TrimSuffix(line, `\`) + strings.TrimSpace(more)
			}
			commands++
			cmd := exec.Command("sh", "-c", `PATH="`+b.bin+`:$PATH"; `+line)
			cmd.Env, cmd.Dir = b.env, "../examples"
			out, _ := cmd.CombinedOutput()
			got := changing.ReplaceAllString(string(out), "offers as of today")
			if want = changing.ReplaceAllString(want,
				"offers as of today"); strings.TrimSpace(got) != strings.TrimSpace(want) {
				t.Errorf("%s\ngot\n%s\nwant\n%s", line, got, want)
			}
		}
	}
	if commands < 10 {
		t.Errorf("the page has only %d commands", commands)
	}
}

// escapes are what a terminal reads and nobody sees.
var escapes = regexp.MustCompile(`\x1b(\[[0-9;?<>=]*[a-zA-Z]|\$p|[()][A-Z0-9]|[=>])`)

// terminal answers the questions of a proposal, and sees that nothing is asked where
// nobody sits.
func (b *bench) terminal() {
	t := b.t
	r := b.run("propose", "asked", "--template", "gauge-intake", "--account", "saltmere-lab", "--region", "north-fell")
	if r.code != 3 || !strings.Contains(r.err, "inputs.zones: it needs zones, and none were chosen") {
		t.Errorf("without a terminal: %d %s", r.code, r.err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "script", "-qec",
		"stty rows 30 cols 100; exec "+filepath.Join(b.bin, "undersail")+
			" propose asked --template gauge-intake --region north-fell", "/dev/null")
	cmd.Env, cmd.Dir = append(b.env, "TERM=xterm"), ".."
	keys, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	screen, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	shown := make(chan string, 1000)
	go func() {
		defer close(shown)
		buffer := make([]byte, 4096)
		for {
			n, err := screen.Read(buffer)
			shown <- escapes.ReplaceAllString(string(buffer[:n]), "")
			if err != nil {
				return
			}
		}
	}()
	seen := ""
	// shows waits for a text for a while; what comes after it is looked at next.
	shows := func(text string, patience time.Duration) bool {
		t.Helper()
		over := time.After(patience)
		for !strings.Contains(seen, text) {
			select {
			case more, on := <-shown:
				if seen += more; !on {
					t.Fatalf("it ended before %q:\n%s", text, seen)
				}
			case <-over:
				return false
			}
		}
		seen = seen[strings.Index(seen, text):]
		return true
	}
	until := func(text string) {
		t.Helper()
		if !shows(text, 90*time.Second) {
			t.Fatalf("it does not show %q:\n%s", text, seen)
		}
	}
	press := func(text string) {
		t.Helper()
		if _, err := keys.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	// answer types an answer and goes on to what is shown next. A busy program drops keys
	// that come too early: they are pressed again, after emptying the line (Ctrl-U).
	answer := func(text, next string) {
		t.Helper()
		until("enter")
		for range 30 {
			time.Sleep(300 * time.Millisecond) // as a person does
			if text != "" {
				press("\x15" + text)
			}
			time.Sleep(300 * time.Millisecond) // and reads what was typed
			if press("\r"); shows(next, 2*time.Second) {
				return
			}
		}
		t.Fatalf("it does not go on to %q:\n%s", next, seen)
	}
	until("Account") // the first one is taken
	answer("", "Zones for the workers")
	until("offered are north-fell-a") // a narrow terminal is drawn in pieces
	answer("north-fell-a, north-fell-c", "Where administrators come from")
	answer("127.0.0.0/8", "Proposal ")
	until(" for stack asked: ")
	until("region north-fell")
	until(`["north-fell-a","north-fell-c"]`)
	until("next: undersail accept ")
	cmd.Wait()
}
