package test

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
)

// answers asks an address as a user would, whatever its certificate.
func answers(t *testing.T, url string) string {
	t.Helper()
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	res, err := client.Get(url)
	if err != nil {
		t.Fatalf("the address in the outputs does not answer: %v", err)
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(res.Body)
	if res.StatusCode != http.StatusOK {
		t.Errorf("%s answers %s", url, res.Status)
	}
	return string(body)
}

type verification struct {
	Healthy   bool
	Resources []struct {
		Name, State string
		Evidence    []struct {
			Asked, Answer string
			Passed        bool
		}
	}
}

// beyondLarch are the examples with types that the simulated cloud does not
// have, with the secret that each needs.
var beyondLarch = map[string]string{"notice-platform": "mail_key", "tide-model": "", "premises-cloud": "authorization"}

// byJobs are the examples that are done whole by make jobs, and three of them here.
var byJobs = func() map[string]bool {
	out := map[string]bool{}
	for _, j := range wholeJobs {
		if j.alone {
			out[j.template] = true
		}
	}
	return out
}()

// kept is how many resources an example keeps when its stack is retired.
var kept = map[string]int{"duty-desk": 3}

// refusedForTypes proposes what the cloud cannot do: every error names a type or
// a property, and no stack is left behind.
func (b *bench) refusedForTypes(stack, template, secret string) {
	b.t.Helper()
	args := []string{"propose", stack, "--template", template, "--account", "saltmere-lab", "--region", "north-fell",
		"--inputs", "examples/" + template + ".inputs.yaml", "-o", "json"}
	if secret != "" {
		args = append(args, "--secret", secret+"=-")
	}
	r := b.runWith("Not-a-real-key-1", args...)
	var problem struct {
		Findings []struct{ Severity, Code, Place string }
	}
	if err := json.Unmarshal([]byte(r.out), &problem); err != nil || r.code != 3 {
		b.t.Fatalf("%s: exit code %d, %v\n%s%s", template, r.code, err, r.out, r.err)
	}
	unsupported := 0
	for _, f := range problem.Findings {
		switch {
		case f.Code == "not-supported":
			unsupported++
		case f.Code == "limit" && strings.Contains(f.Place, ".grants["): // a right over what the cloud does not have
		case f.Severity == "error" && f.Code != "not-offered" && f.Code != "quota":
			b.t.Errorf("%s: %s at %s", template, f.Code, f.Place)
		}
	}
	if unsupported == 0 {
		b.t.Errorf("%s: nothing says what the cloud does not have", template)
	}
	if l := b.ledger(stack); len(l.Alive)+len(l.Gone) > 0 {
		b.t.Errorf("%s: a refused proposal made something", template)
	}
}

// takeGuardAway retires a stack with a guarded resource, which is refused, and
// applies the template without the guard.
func (b *bench) takeGuardAway(stack string) {
	b.t.Helper()
	r := b.run("retire", stack, "--yes")
	if r.code != 3 || !strings.Contains(r.err, "front is guarded and would be removed") {
		b.t.Fatalf("retiring what is guarded: %d %s", r.code, r.err)
	}
	r = b.run("retire", stack, "--lift-guard", "front", "--yes")
	if r.code != 6 || !strings.Contains(r.err, "these are guarded until now, and are rebuilt or removed: front") {
		b.t.Errorf("with its guard lifted for once it asks for a consent: %d %s", r.code, r.err)
	}
	r = b.run("retire", stack, "--lift-guard", "server")
	if r.code != 3 || !strings.Contains(r.err, "nothing of that name is guarded") {
		b.t.Errorf("a guard that is none: %d %s", r.code, r.err)
	}
	text := b.must(0, "templates", "show", "field-app").out
	open := file(b.t, "field-app.sail.yaml", strings.Replace(text, "guard: true", "guard: false", 1))
	b.must(0, "apply", b.propose(stack, open), "--watch")
}

// TestEveryExampleFromTemplateToNothingLeft takes each template of the library
// the whole way: propose, accept, apply, use, verify, retire.
func TestEveryExampleFromTemplateToNothingLeft(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "120")
	var templates []struct{ Name, Version, Title string }
	b.into(&templates, "templates")
	if len(templates) < 14 {
		t.Fatalf("the library has %v", templates)
	}
	b.must(0, "apply", b.propose("intake-trial", "gauge-intake", "--inputs", "examples/gauge-intake.inputs.yaml",
		"--input", "range=10.99.0.0/20"), "--watch")
	for _, template := range templates {
		t.Run(template.Name, func(t *testing.T) {
			t.Parallel()
			if byJobs[template.Name] {
				t.Skip("TestWholeJobs does it")
			}
			b := b.in(t)
			stack := "whole-" + template.Name
			if secret, refused := beyondLarch[template.Name]; refused {
				b.refusedForTypes(stack, template.Name, secret)
				return
			}
			from := template.Name
			if template.Name == "coast-tiers" {
				from = "examples/coast-tiers.sail.yaml" // from files, with what it embeds
			}
			id := b.propose(stack, from, "--inputs", "examples/"+template.Name+".inputs.yaml")
			if r := b.must(0, "apply", id, "--watch"); !strings.Contains(r.out, "is done: all") {
				t.Errorf("the end is not told:\n%s", r.out)
			}
			var outputs map[string]any
			b.into(&outputs, "outputs", stack)
			if address := fmt.Sprint(outputs["address"]); strings.HasPrefix(address, "http") {
				answers(t, address)
			}
			var v verification
			b.into(&v, "verify", stack)
			if !v.Healthy || len(v.Resources) == 0 {
				t.Errorf("verified: %+v", v)
			}
			for _, r := range v.Resources {
				if len(r.Evidence) == 0 {
					t.Errorf("there is no evidence for %s", r.Name)
				}
			}
			made := len(b.ledger(stack).Alive)
			if last := v.Resources[len(v.Resources)-1]; last.Name == "whole stack" {
				v.Resources = v.Resources[:len(v.Resources)-1] // the proof of the stack is no resource
			}
			if made != len(v.Resources) {
				t.Errorf("%d resources are alive, %d are recorded", made, len(v.Resources))
			}
			if template.Name == "field-app" {
				b.takeGuardAway(stack)
			}
			if r := b.retire(stack); strings.Contains(r.out, "nothing of it is left") != (kept[template.Name] == 0) {
				t.Errorf("the end tells of what is kept:\n%s", r.out)
			}
			if l := b.ledger(stack); len(l.Alive) != kept[template.Name] || len(l.Gone) != made-kept[template.Name] {
				t.Errorf("after retiring %d are alive and %d gone of %d", len(l.Alive), len(l.Gone), made)
			}
			if r := b.run("outputs", stack); r.code != 1 || !strings.Contains(r.err, "was retired") {
				t.Errorf("a retired stack: %d %s", r.code, r.err)
			}
		})
	}
}

func TestChangingAStackChangesOnlyWhatDiffers(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	b.must(0, "apply", b.propose("site", "warning-site", "--inputs", "examples/warning-site.inputs.yaml"), "--watch")
	var p struct {
		ID      int64
		Summary string
		Changes []struct{ Resource, Change, Reason string }
	}
	b.into(&p, "propose", "site")
	if p.Summary != "4 same" {
		t.Errorf("without any change: %s", p.Summary)
	}
	b.into(&p, "propose", "site", "--input", "readers=[127.0.0.0/8]", "--input", "size=plain-4")
	if p.Summary != "2 alter, 2 same" {
		t.Errorf("two inputs changed: %s %+v", p.Summary, p.Changes)
	}
	first := fmt.Sprint(p.ID)
	b.into(&p, "propose", "site", "--input", "headline=High water at noon")
	if p.Summary != "1 rebuild, 3 same" {
		t.Errorf("first-boot configuration changed: %s", p.Summary)
	}
	if r := b.run("accept", first); r.code != 4 || !strings.Contains(r.err, "stale") {
		t.Errorf("a proposal that a newer one replaced: %d %s", r.code, r.err)
	}
	if r := b.run("accept", fmt.Sprint(p.ID)); r.code != 6 || !strings.Contains(r.err, "site (instance)") ||
		!strings.Contains(r.err, "--agree rebuild") {
		t.Errorf("a machine that serves is made anew unasked: %d %s", r.code, r.err)
	}
	if r := b.must(0, "proposals", fmt.Sprint(p.ID)); !strings.Contains(r.out, "site is gone for about") ||
		!strings.Contains(r.out, "input `headline`, of which") {
		t.Errorf("the proposal does not say for how long and since what:\n%s", r.out)
	}
	b.must(0, "accept", fmt.Sprint(p.ID), "--agree", "rebuild")
	b.must(0, "apply", fmt.Sprint(p.ID), "--watch")
	var outputs map[string]string
	b.into(&outputs, "outputs", "site")
	if page := answers(t, outputs["address"]); !strings.Contains(page, "High water at noon") {
		t.Errorf("the page says %s", page)
	}
	if l := b.ledger("site"); len(l.Alive) != 4 || len(l.Gone) != 1 {
		t.Errorf("%d alive, %d gone", len(l.Alive), len(l.Gone))
	}
	b.into(&p, "propose", "site", "--input", "readers=[127.0.0.0/8]")
	b.must(0, "accept", fmt.Sprint(p.ID))
	r := b.must(0, "apply", fmt.Sprint(p.ID), "--watch")
	if !strings.Contains(r.out, "altering web_rules") || strings.Contains(r.out, "creating") {
		t.Errorf("narrowing the readers did more than that:\n%s", r.out)
	}
}

func TestTheExitCodeTellsWhatCameOfIt(t *testing.T) {
	t.Parallel()
	b := startAlone(t, "--empty", "--pace", "240")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"accept", "999"}, 1, "there is no proposal 999"},
		{[]string{"accept", "x"}, 2, "ids are numbers"},
		{[]string{"stacks", "nothing"}, 1, "there is no stack nothing"},
		{[]string{"watch", "77"}, 1, "there is no run 77"},
		{[]string{"stop", "77"}, 1, "there is no run 77"},
		{[]string{"frobnicate"}, 2, "unknown command"},
		{[]string{"propose"}, 2, "accepts 1 arg"},
		{[]string{"propose", "Bad Name", "--template", "warning-site", "--account", "saltmere-lab", "--region",
			"north-fell"}, 1, "is not a name for a stack"},
		{[]string{"propose", "x", "--template", "no-such", "--account", "saltmere-lab", "--region", "north-fell"}, 1,
			"there is no template \"no-such\""},
		{[]string{"propose", "x", "--template", "warning-site", "--account", "nobody", "--region", "north-fell"}, 1,
			"there is no account \"nobody\""},
		{[]string{"propose", "x", "--template", "warning-site", "--account", "saltmere-lab", "--region", "nowhere"}, 1,
			"account saltmere-lab has no region \"nowhere\""},
		{[]string{"propose", "x", "--template", "warning-site"}, 1, "needs an account and a region"},
		{[]string{"check", "no-such.yaml"}, 2, "no such file"},
		{[]string{"render", "examples/warning-site.sail.yaml", "-o", "xml"}, 2, "table, json or yaml"},
	} {
		if r := b.run(c.args...); r.code != c.code || !strings.Contains(r.err, c.says) {
			t.Errorf("undersail %s: exit code %d, want %d with %q:\n%s", strings.Join(c.args, " "), r.code, c.code,
				c.says, r.err)
		}
	}
	b.stop(15)
	if r := b.run("stacks"); r.code != 5 || !strings.Contains(r.err, "does not answer") {
		t.Errorf("without the service: %d %s", r.code, r.err)
	}
	b.up("--empty", "--pace", "240")
	for _, verb := range strings.Fields("serve demo login accounts offers addresses policies fit compare cost " +
		"templates render check propose proposals accept refuse apply runs watch stop continue stacks outputs " +
		"verify retire events") {
		if r := b.must(0, verb, "--help"); !strings.Contains(r.out, "Examples:") {
			t.Errorf("%s --help shows no example", verb)
		}
	}
}
