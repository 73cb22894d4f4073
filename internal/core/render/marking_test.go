package render

import (
	"encoding/json"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

const around = `undersail: 1
about: {name: around, version: 1.0.0, title: Around}
inputs:
  word: {secret: true}
  to: {type: string, default: listener.saltmere.example}
calc:
  url: ="http://" + inputs.to + "/" + inputs.word
  half: =base64.encode(bytes(inputs.word))
functions:
  wrap: {takes: {s: string}, gives: '="<" + s + ">"'}
resources:
  net: {type: network, want: {range: 10.81.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.81.0.0/25}}
  box:
    type: instance
    want:
      size: plain-1
      image: debian-12
      subnet: =lan.id
      user_data:
        runcmd:
          - ="tell " + inputs.to + " " + inputs.word + " end"
          - =wrap(inputs.word)
          - =calc.half
          - '=inputs.word == "kelp" ? "guessed" : "told " + inputs.word'
          - =inputs.word
    health:
      - http: {url: =calc.url, headers: {x: ="at " + self.public_address + " " + inputs.word}}
        within: 1m
  store: {type: database, want: {engine: postgresql-16, size: plain-1, storage: 20GiB, subnets: ["=lan.id"], users: [{name: reader, password: =inputs.word}]}}
outputs:
  where: {value: ="see " + box.private_address + " with " + inputs.word}
  line: {value: ="port=" + string(store.port) + " word=" + inputs.word}
  next: {value: ="port=" + string(store.port + 1) + " word=" + inputs.word}
`

// TestWhatStandsAroundASecretIsShown: with nothing but the secret taken out, and ids and
// addresses named where they are not known yet.
func TestWhatStandsAroundASecretIsShown(t *testing.T) {
	t.Parallel()
	template, found := lang.Read("around.sail.yaml", []byte(around))
	if template == nil {
		t.Fatal(found)
	}
	request := Request{
		Template: template,
		Stack:    Stack{Name: "around"},
		Inputs:   map[string]any{},
		Secrets:  map[string]string{"word": "around/word@1"},
	}
	kelp := func(string) (string, bool) { return "kelp", true }
	session, r := Accept(budget.Boundless(), request)
	raw, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.NewReplacer(`\u003c`, "<", `\u003e`, ">").Replace(string(raw))
	for _, shown := range []string{
		`"tell listener.saltmere.example ⟨secret:around/word@1⟩ end"`, `"<⟨secret:around/word@1⟩>"`,
		`"told ⟨secret:around/word@1⟩"`, `"secret:around/word@1"`,
		`"http://listener.saltmere.example/⟨secret:around/word@1⟩"`,
		`"text":"at ⟨box.public_address⟩ ⟨secret:around/word@1⟩"`,
		`"text":"see ⟨box.private_address⟩ with ⟨secret:around/word@1⟩"`,
	} {
		if !strings.Contains(text, shown) {
			t.Errorf("nobody is shown %s in\n%s", shown, text)
		}
	}
	for _, o := range r.Outputs {
		u, _ := o.Value.(resource.Unresolved)
		if o.Name == "line" && resource.Placed(u.Marked) != "port=⟨store.port⟩ word=⟨secret:around/word@1⟩" {
			t.Errorf("a number in its place is %v", resource.Placed(u.Marked))
		}
		if o.Name == "next" && u.Made == "" {
			t.Errorf("what is computed with a number is shown as if it were put there: %v", u.Marked)
		}
	}
	leaf := func(i int) resource.Unresolved {
		u, _ := r.Resource("box").Want["user_data"].(map[string]any)["runcmd"].([]any)[i].(resource.Unresolved)
		return u
	}
	if u := leaf(2); u.Marked != nil || u.Made == "" || strings.Contains(u.String(), "kelp") {
		t.Errorf("what is encoded is shown as if it were put in its place: %+v", u)
	}
	// What is sent is what was shown, with the secret in its place, whatever the secret is.
	session.Report("net", map[string]any{"id": "n-1"})
	session.Report("lan", map[string]any{"id": "l-1"})
	_, sent, err := session.Resolve("box", kelp)
	if err != nil {
		t.Fatal(err)
	}
	commands := sent.Want["user_data"].(map[string]any)["runcmd"].([]any)
	for i, want := range []string{"tell listener.saltmere.example kelp end", "<kelp>", "a2VscA==", "told kelp",
		"kelp"} {
		if commands[i] != want {
			t.Errorf("command %d is %q, want %q", i, commands[i], want)
		}
	}
	session.Report("box", map[string]any{"public_address": "198.51.100.7"})
	shown, sent, err := session.Resolve("box", kelp)
	if err != nil {
		t.Fatal(err)
	}
	header := func(r Resource) any {
		for _, c := range r.Checks {
			if c.Kind == "http" {
				return c.Spec["headers"].(map[string]any)["x"]
			}
		}
		return nil
	}
	if header(sent) != "at 198.51.100.7 kelp" {
		t.Errorf("sent is %v", header(sent))
	}
	u := header(shown).(resource.Unresolved)
	if got := resource.Shown(u.Marked); got != "at 198.51.100.7 ⟨secret:around/word@1⟩" {
		t.Errorf("shown is %v", got)
	}
	if got := resource.Placed(u.Marked); got != "at ⟨box.public_address⟩ ⟨secret:around/word@1⟩" {
		t.Errorf("its place is %v", got)
	}
}

// TestATextThatReadsAsASecretIsRefused, wherever it stands and however it is made; so is a
// mapping that reads as what one stack hands to another.
func TestATextThatReadsAsASecretIsRefused(t *testing.T) {
	t.Parallel()
	for name, value := range map[string]string{
		"as it stands":   `"⟨secret:around/word@1⟩"`,
		"in a text":      `"tell ⟨secret:around/word@1⟩ on"`,
		"all of it":      `"secret:around/word@1"`,
		"by an input":    `=inputs.text`,
		"put together":   `="⟨secret:" + "around/word@1⟩"`,
		"with its mark":  "=\"tell \ue000around/word@1\ue003\"",
		"in a list":      `=["x", "⟨secret:around/word@1⟩"].join("")`,
		"as what stacks": `'={"$secret": "around/word@1"}'`,
		"written so":     `{$secret: around/word@1}`,
		"as a key":       `'={"⟨secret:around/word@1⟩": "x"}'`,
	} {
		template, found := lang.Read("around.sail.yaml",
			[]byte("undersail: 1\nabout: {name: around, version: 1.0.0, title: Around}\ninputs: {text: {type: "+
				"string, default: none}}\nresources: {front: {type: address}}\noutputs:\n  line:\n    value: "+value+
				"\n"))
		if template == nil {
			t.Fatal(name, found)
		}
		r := Render(budget.Boundless(), Request{
			Template: template,
			Stack:    Stack{Name: "around"},
			Inputs:   map[string]any{"text": "⟨secret:around/word@1⟩"},
		})
		if len(r.Findings) == 0 || !strings.Contains(r.Findings[0].Message, "reads as if a secret stood in it") {
			t.Errorf("%s: %v %v", name, r.Findings, r.Outputs)
		}
	}
}
