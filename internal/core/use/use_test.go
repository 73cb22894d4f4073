package use

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

const told = `undersail: 1
about: {name: told, version: 1.0.0, title: Told}
inputs:
  word: {secret: true}
  to: {type: string, default: listener.saltmere.example}
  boxes: {type: integer, default: 2}
resources:
  net: {type: network, want: {range: 10.81.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.81.0.0/25}}
  pair: {type: key_pair}
  box:
    type: instance
    repeat: =inputs.boxes
    want: {size: plain-1, image: debian-12, subnet: =lan.id, key_pair: =pair.id, user_data: {runcmd: [="tell " + inputs.to + " " + inputs.word]}}
    health:
      - ssh: {host: =self.private_address, user: admin, key: =pair.private_key, command: told, answer: well}
        within: 1m
  entry: {type: secret, want: {value: =inputs.word}}
outputs:
  line: {value: ="word=" + inputs.word}
`

// asked is what a rendering is made with.
type asked struct {
	text, account, by, reference string
	inputs                       map[string]any
}

func rendered(t *testing.T, a asked) *render.Rendering {
	t.Helper()
	template, found := lang.Read("told.sail.yaml", []byte(a.text))
	if template == nil {
		t.Fatal(found)
	}
	r := render.Render(budget.Boundless(), render.Request{
		Template: template,
		Inputs:   a.inputs,
		Secrets:  map[string]string{"word": a.reference, "pair": "told/pair@1"},
		Stack:    render.Stack{Name: "told", Account: a.account, Cloud: "larch", Region: "north-fell"},
	})
	for _, f := range r.Findings {
		if f.Severity == lang.Error {
			t.Fatal(f)
		}
	}
	return r
}

func uses(t *testing.T, change func(a *asked)) []Use {
	t.Helper()
	a := asked{text: told, account: "saltmere-lab", by: "ada", reference: "told/word@1", inputs: map[string]any{}}
	change(&a)
	return Of(rendered(t, a), Place{By: a.by, Template: "digest-of-" + a.text})
}

func unchanged(*asked) {}

func rewritten(old, text string) func(*asked) {
	return func(a *asked) { a.text = strings.Replace(a.text, old, text, 1) }
}

func with(name string, v any) func(*asked) {
	return func(a *asked) { a.inputs[name] = v }
}

// TestEverythingThatASecretIsOpenedForIsListed: once each, members of a repetition together.
func TestEverythingThatASecretIsOpenedForIsListed(t *testing.T) {
	t.Parallel()
	var got []string
	for _, u := range uses(t, unchanged) {
		got = append(got, u.For+" "+u.At+" of "+strings.Join(u.Members, " ")+": "+strings.Join(u.Secrets, " "))
	}
	slices.Sort(got)
	want := []string{
		"answer box ssh-1 of box[0] box[1]: told/word@1",
		"output output line of : told/word@1",
		"people box (signing in) of box[0] box[1]: told/word@1",
		"property box.user_data of box[0] box[1]: told/word@1",
		"property entry.value of entry: told/word@1",
		"sign-in box ssh-1 (key) of box[0] box[1]: told/pair@1",
	}
	if !slices.Equal(got, want) {
		t.Errorf("listed are\n%s\nexpected\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// TestWhatIsTheSameUseAndWhatIsAnother compares with what was agreed to before.
func TestWhatIsTheSameUseAndWhatIsAnother(t *testing.T) {
	t.Parallel()
	agreed := Digests(uses(t, unchanged))
	for name, c := range map[string]struct {
		change func(*asked)
		beyond []string
	}{
		"nothing":              {unchanged, nil},
		"a new version":        {func(a *asked) { a.reference = "told/word@2" }, nil},
		"one more member":      {with("boxes", int64(3)), nil},
		"one member less":      {with("boxes", int64(1)), nil},
		"what a check expects": {rewritten("answer: well", "answer: fine"), nil},
		"a size":               {rewritten("size: plain-1", "size: plain-2"), nil},
		"another secret": {func(a *asked) { a.reference = "other/word@1" },
			[]string{"box (signing in)", "box ssh-1", "box.user_data", "entry.value", "output line"}},
		"a word around it":      {with("to", "elsewhere.saltmere.example"), []string{"box.user_data"}},
		"the text of an output": {rewritten(`"word="`, `"key="`), []string{"output line"}},
		"another image":         {rewritten("image: debian-12", "image: tide-base-3"), []string{"box.user_data"}},
		"another key pair": {rewritten("key_pair: =pair.id", `key_pair: pair-of-somebody`),
			[]string{"box (signing in)", "box.user_data"}},
		"what is asked of it": {rewritten("command: told,", "command: cat /etc/word,"),
			[]string{"box ssh-1", "box ssh-1 (key)"}},
		"as whom": {rewritten("user: admin", "user: root"), []string{"box ssh-1", "box ssh-1 (key)"}},
		"to where": {rewritten("host: =self.private_address", "host: 198.51.100.9"),
			[]string{"box ssh-1", "box ssh-1 (key)"}},
		"another account": {func(a *asked) { a.account = "saltmere-live" },
			[]string{"box (signing in)", "box ssh-1", "box ssh-1 (key)", "box.user_data", "entry.value",
				"output line"}},
		"who wrote it": {func(a *asked) { a.by = "mole" },
			[]string{"box (signing in)", "box ssh-1", "box ssh-1 (key)", "box.user_data", "entry.value",
				"output line"}},
		"more made of it": {rewritten("{value: =inputs.word}", `{value: =base64.encode(bytes(inputs.word))}`),
			[]string{"entry.value"}},
	} {
		t.Run(name, func(t *testing.T) {
			var beyond []string
			for _, u := range Beyond(uses(t, c.change), agreed) {
				beyond = append(beyond, u.At)
			}
			slices.Sort(beyond)
			if !slices.Equal(beyond, c.beyond) {
				t.Errorf("to be asked about are %q, expected %q", beyond, c.beyond)
			}
		})
	}
}

// TestWhatIsMadeOfASecretCountsForItsTemplateAlone: an expression may mean anything in
// another text.
func TestWhatIsMadeOfASecretCountsForItsTemplateAlone(t *testing.T) {
	t.Parallel()
	encoded := rewritten("{value: =inputs.word}", `{value: =base64.encode(bytes(inputs.word))}`)
	agreed := Digests(uses(t, encoded))
	again := Beyond(uses(t, func(a *asked) { encoded(a); rewritten("title: Told", "title: Told anew")(a) }), agreed)
	if len(again) != 1 || again[0].At != "entry.value" || again[0].Made != "base64.encode(bytes(inputs.word))" ||
		strings.Contains(again[0].Made, "@") {
		t.Errorf("asked about again is %+v", again)
	}
}

// TestWhereAReadSecretGoesIsSaid: with what shows that it is there, and the way.
func TestWhereAReadSecretGoesIsSaid(t *testing.T) {
	t.Parallel()
	secret := resource.Unresolved{Secrets: []string{"told/word@1"}}
	in := map[string]any{"host": "198.51.100.7", "user": "tide"}
	for _, c := range []struct {
		kind string
		spec map[string]any
		to   string
	}{
		{"http", map[string]any{"url": "http://board.saltmere.example:8080/a?b=c", "body": secret},
			"board.saltmere.example:8080 by http, in the clear"},
		{"http", map[string]any{"url": "https://board.saltmere.example/a", "body": secret},
			"board.saltmere.example by https, by a certificate that the system trusts"},
		{"http", map[string]any{"url": "https://board.saltmere.example#a", "body": secret, "trust": "any"},
			"board.saltmere.example by https, whatever certificate it shows"},
		{"http", map[string]any{"url": "https://board.saltmere.example@198.51.100.66/a", "body": secret},
			"198.51.100.66 by https, by a certificate that the system trusts"},
		{"http", map[string]any{"url": "http://10.0.0.4/", "body": secret, "through": in},
			"10.0.0.4 by http, in the clear, through tide at 198.51.100.7:22"},
		{"ssh", map[string]any{"host": "10.0.0.4", "user": "admin", "password": secret},
			"SSH to admin at 10.0.0.4:22, by the host key that the cloud told"},
		{"ssh", map[string]any{
			"host":     "10.0.0.4",
			"port":     int64(2222),
			"user":     "admin",
			"password": secret,
			"host_key": "ssh-ed25519 AAAA",
		}, "SSH to admin at 10.0.0.4:2222, by the host key that the template names"},
		{"ssh", map[string]any{
			"host":     "10.0.0.4",
			"user":     "admin",
			"password": secret,
			"through":  map[string]any{"host": "198.51.100.7", "port": int64(2200), "user": "tide"},
		}, "SSH to admin at 10.0.0.4:22, by the host key that the cloud told, through tide at 198.51.100.7:2200"},
		{"database", map[string]any{"host": "10.0.0.5", "name": "tides", "password": secret},
			"database tides at 10.0.0.5:5432, in the clear"},
		{"database", map[string]any{
			"host":     "10.0.0.5",
			"port":     int64(6432),
			"name":     "tides",
			"password": secret,
			"trust":    "system",
		}, "database tides at 10.0.0.5:6432, by a certificate that the system trusts"},
		{"database", map[string]any{
			"host":     "10.0.0.5",
			"name":     "tides",
			"password": secret,
			"trust":    "any",
			"through":  in,
		}, "database tides at 10.0.0.5:5432, whatever certificate it shows, through tide at 198.51.100.7:22"},
		{"tcp", map[string]any{"host": secret, "port": int64(22)}, ":22"},
		{"name", map[string]any{"name": secret, "server": "10.0.0.53"}, "name server 10.0.0.53"},
	} {
		list := OfChecks(render.Resource{
			Declared: "board",
			Name:     "board",
			Checks:   []health.Check{{Kind: c.kind, Name: c.kind + "-1", Spec: c.spec}},
		}, render.Stack{}, Place{})
		if len(list) != 1 || list[0].For != Check ||
			list[0].To != c.to && (c.kind != "tcp" || !strings.HasSuffix(list[0].To, c.to)) {
			t.Errorf("%s %v goes to %+v, expected %s", c.kind, c.spec, list, c.to)
		}
	}
}

// TestAKeyOpensTheWayAndTheWayThere: two uses, each to where it signs in.
func TestAKeyOpensTheWayAndTheWayThere(t *testing.T) {
	t.Parallel()
	key, jump := resource.Unresolved{Secrets: []string{"told/key@1"}},
		resource.Unresolved{Secrets: []string{"told/jump@1"}}
	spec := map[string]any{
		"host":    "10.0.0.4",
		"user":    "admin",
		"key":     key,
		"command": "true",
		"through": map[string]any{"host": "198.51.100.7", "user": "tide", "key": jump},
	}
	list := OfChecks(render.Resource{
		Declared: "board",
		Name:     "board",
		Checks:   []health.Check{{Kind: "ssh", Name: "ssh-1", Spec: spec}},
	}, render.Stack{}, Place{})
	if len(list) != 2 || list[0].For != SignIn || list[1].For != SignIn || list[0].Secrets[0] != "told/key@1" ||
		list[1].Secrets[0] != "told/jump@1" ||
		!strings.HasPrefix(list[0].To, "SSH to admin at 10.0.0.4:22") ||
		!strings.HasPrefix(list[1].To, "SSH to tide at 198.51.100.7:22") {
		t.Errorf("%+v", list)
	}
}

// TestWhereEverybodyReadsIsAnError names the secret and the place.
func TestWhereEverybodyReadsIsAnError(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{
		"net.tags": strings.Replace(told, "{range: 10.81.0.0/24}", "{range: 10.81.0.0/24, tags: {w: =inputs.word}}", 1),
	} {
		found := InTheClear(rendered(t, asked{text: text, reference: "told/word@1", inputs: map[string]any{}}))
		if len(found) != 1 || found[0].Severity != lang.Error || found[0].Place != name ||
			!strings.Contains(found[0].Message, "told/word@1") {
			t.Errorf("%s: %+v", name, found)
		}
	}
	found := InTheClear(rendered(t, asked{text: told, reference: "told/word@1", inputs: map[string]any{}}))
	if len(found) > 0 {
		t.Errorf("where it is kept for it: %+v", found)
	}
}

// TestADigestIsOverAListInAnyOrder, and over every use in it.
func TestADigestIsOverAListInAnyOrder(t *testing.T) {
	t.Parallel()
	list := uses(t, unchanged)
	turned := slices.Clone(list)
	slices.Reverse(turned)
	if DigestOf(list) != DigestOf(turned) {
		t.Error("the order tells")
	}
	for i := range list {
		if DigestOf(slices.Delete(slices.Clone(list), i, i+1)) == DigestOf(list) {
			t.Errorf("without %s it is the same", list[i].At)
		}
	}
	if got := Secrets(list); !slices.Equal(got, []string{"told/pair@1", "told/word@1"}) {
		t.Errorf("they are of %q", got)
	}
}

const plainBox = `undersail: 1
about: {name: told, version: 1.0.0, title: Told}
inputs: {word: {secret: true}}
resources:
  net: {type: network, want: {range: 10.81.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.81.0.0/25}}
  pair: {type: key_pair}
  data: {type: disk, want: {size: 10GiB, type: solid}}
  box: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, key_pair: =pair.id, disks: [{disk: =data.id}]}}
  other: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, key_pair: =pair.id, disks: [{disk: disk-7}]}}
  old: {type: instance, find: {name: old}}
  ask: {type: task, want: {on: =box.private_address, user: admin, key: =pair.private_key, command: COMMAND, keep: '.*'}}
  more: {type: task, want: {on: =box.private_address, user: admin, key: =pair.private_key, command: '="echo " + ask.output + "WORD"'}}
`

// TestWhatAMachineIsToldByOtherWays: by a command that runs on it, and by a disk that carries
// what it was given before, as it is named here or by its cloud.
func TestWhatAMachineIsToldByOtherWays(t *testing.T) {
	t.Parallel()
	const entry = `'="cat " + inputs.word'`
	for name, c := range map[string]struct {
		text    string
		carried map[string][]string
		want    []string
	}{
		"nothing": {strings.Replace(plainBox, "COMMAND", "date", 1), nil, nil},
		"a command": {strings.Replace(plainBox, "COMMAND", entry, 1), nil,
			[]string{"answer ask: told/word@1", "command ask: told/word@1", "people box (signing in): told/word@1"}},
		"a disk of the stack": {strings.Replace(plainBox, "COMMAND", "date", 1),
			map[string][]string{"data": {"old/b@1", "old/a@2", "old/b@1"}},
			[]string{"answer ask: old/a@2 old/b@1", "people box (signing in): old/a@2 old/b@1"}},
		"a disk by its id": {strings.Replace(plainBox, "COMMAND", "date", 1),
			map[string][]string{"disk-7": {"old/a@2"}}, []string{"people other (signing in): old/a@2"}},
		"what is not attached": {strings.Replace(plainBox, "COMMAND", "date", 1),
			map[string][]string{"disk-8": {"old/a@2"}, "net": {"old/a@2"}, "dat": {"old/a@2"}}, nil},
		"a command and a disk": {strings.Replace(plainBox, "COMMAND", entry, 1),
			map[string][]string{"data": {"told/word@1", "old/a@2"}},
			[]string{"answer ask: old/a@2 told/word@1", "command ask: told/word@1",
				"people box (signing in): old/a@2 told/word@1"}},
		"the command of a lookup": {strings.NewReplacer("COMMAND", entry, "on: =box.private_address",
			"on: =old.private_address").Replace(plainBox), nil, []string{"command ask: told/word@1"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var got []string
			for _, u := range Of(rendered(t, asked{
				text:      c.text,
				account:   "saltmere-lab",
				reference: "told/word@1",
				inputs:    map[string]any{},
			}), Place{Carried: c.carried}) {
				if u.For != SignIn {
					got = append(got, u.For+" "+u.At+": "+strings.Join(u.Secrets, " "))
				}
			}
			if slices.Sort(got); !slices.Equal(got, c.want) {
				t.Errorf("listed are %q, expected %q", got, c.want)
			}
		})
	}
}

// TestWhatNobodyKnowsYetIsWaitedFor: what a task says beside a secret has to be looked at once
// it is known; where something is need not.
func TestWhatNobodyKnowsYetIsWaitedFor(t *testing.T) {
	t.Parallel()
	text := strings.NewReplacer("COMMAND", "date", `"WORD"`, "inputs.word").Replace(plainBox)
	for _, u := range Of(rendered(t, asked{text: text, reference: "told/word@1", inputs: map[string]any{}}), Place{}) {
		want := []string(nil)
		if u.At == "more" {
			want = []string{"ask.output"}
		}
		if u.For == Command && !slices.Equal(u.Waits, want) {
			t.Errorf("%s waits for %q, expected %q", u.At, u.Waits, want)
		}
	}
}

// TestWhatAProofAsksOfAToldMachineIsAUse: it belongs to no resource, so that the machine is known by
// the address alone.
func TestWhatAProofAsksOfAToldMachineIsAUse(t *testing.T) {
	t.Parallel()
	for host, want := range map[string]int{"'=box[0].private_address'": 1, "quay.saltmere.example": 0} {
		proof := "prove:\n  - ssh: {host: " + host + ", user: admin, key: =pair.private_key, command: told, " +
			"answer: well}\n    within: 1m\noutputs:"
		n := 0
		for _, u := range uses(t, rewritten("outputs:", proof)) {
			if u.For == Answer && len(u.Members) == 0 && slices.Equal(u.Secrets, []string{"told/word@1"}) {
				n++
			}
		}
		if n != want {
			t.Errorf("%s: %d answers are uses, want %d", host, n, want)
		}
	}
}

// TestMarksOfAListGoToTheirOwnPlaces, and to none where the lists are not alike.
func TestMarksOfAListGoToTheirOwnPlaces(t *testing.T) {
	t.Parallel()
	waits := func(name string) resource.Unresolved { return resource.Unresolved{Waits: []string{name}} }
	list := []any{waits("net.id"), "plain", waits("lan.id")}
	marks := []any{resource.MarkAttribute("net.id", ""), "plain", resource.MarkAttribute("lan.id", "")}
	if got := fmt.Sprint(place(list, marks)); got != "[⟨net.id⟩ plain ⟨lan.id⟩]" {
		t.Error(got)
	}
	if got := fmt.Sprint(place(list, marks[:2])); strings.Contains(got, "⟨") {
		t.Error(got)
	}
}
