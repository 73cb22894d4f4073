package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"undersail/internal/await"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// where tells what has the focus: its label, its text, its value.
const where = `(() => { const e = document.activeElement; if (!e || e === document.body) return ''; const by = e.labels?.[0]?.innerText ?? ''; return [e.getAttribute('aria-label') ?? '', by, e.matches('button,a,summary') ? e.innerText : '', e.id, e.value ?? ''].join(' | ').slice(0, 300) })()`

// tabTo presses Tab until what has the focus tells a text, and fails when it has been
// round without meeting it.
func (p *page) tabTo(text string) {
	p.t.Helper()
	var met []string
	for range 160 {
		p.do(chromedp.KeyEvent(kb.Tab))
		at, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](where))
		if err != nil {
			p.t.Fatal(err)
		}
		if strings.Contains(at, text) {
			p.seesFocus()
			return
		}
		met = append(met, at)
	}
	p.t.Fatalf("Tab never comes to %q; it meets\n%s", text, strings.Join(met, "\n"))
}

// selects selects what is in the field that has the focus, as Control and A do.
func (p *page) selects() {
	p.t.Helper()
	p.do(chromedp.Evaluate[chromedp.Void]("document.activeElement.select()"))
}

// seesFocus fails when what has the focus does not show it.
func (p *page) seesFocus() {
	p.t.Helper()
	shown, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[bool](`(() => { const s = getComputedStyle(document.activeElement); return s.outlineStyle !== 'none' && parseFloat(s.outlineWidth) > 0 })()`))
	if err != nil || !shown {
		p.t.Errorf("what has the focus does not show it: %v", err)
	}
}

// TestPreparing has one demo and one browser for what is tried on the form.
func TestPreparing(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	p := b.browse()
	p.signIn(b.password)
	placedOnceAnswered(p, b) // first, while no account has told what it sells
	for name, try := range map[string]func(*page, *bench){
		"by keyboard alone":                              byKeyboardAlone,
		"what was typed stays":                           whatWasTypedStays,
		"a secret that is typed is sealed at once":       typedSecret,
		"a text is begun, written, published and copied": writtenText,
		"cases are run, and begun from":                  casesRun,
		"what strayed stays on the page":                 strayedStays,
	} {
		t.Run(name, func(t *testing.T) {
			p.t = t
			try(p, b)
		})
	}
}

// placedOnceAnswered begins a draft while no cloud lets anybody in: nobody types anything, and
// it has the best place as soon as one does.
func placedOnceAnswered(p *page, b *bench) {
	b.simcloud("fault", "add", "credentials-end", "--count", "-1")
	p.open("/prepare/gauge-intake")
	p.sees("No account tells what it sells", "does not accept the account's credentials")
	b.simcloud("fault", "lift")
	p.sees("Prepare Tide gauge intake", "best fit")
	p.unsees("No account tells what it sells")
}

// byKeyboardAlone prepares a stack, decides on it and watches it without a mouse.
func byKeyboardAlone(p *page, _ *bench) {
	p.open("/prepare/warning-site")
	p.sees("Name of the stack", "best fit")
	p.tabTo("stack-name")
	p.do(chromedp.KeyEvent("quay"))
	p.sees("Prepare quay")
	p.tabTo("saltmere-lab")
	p.tabTo("quarry-hill") // the region that is chosen
	p.do(chromedp.KeyEvent(kb.ArrowDown))
	p.sees("kept")
	p.tabTo("Next: ")
	p.do(chromedp.KeyEvent(kb.Enter))
	p.sees("Back: Place")
	p.tabTo("Next: Network")
	p.do(chromedp.KeyEvent(kb.Enter))
	p.tabTo("field-readers")
	p.selects()
	p.do(chromedp.KeyEvent("127.0.0.0/8"))
	p.unsees("the whole world")
	p.sees("no errors")
	p.tabTo("Propose")
	p.do(chromedp.KeyEvent(kb.Enter))
	p.sees("Proposal ", "Changes")
	p.tabTo("Created")
	p.do(chromedp.KeyEvent(kb.Enter)) // folds them
	p.unsees("web_rules firewall")
	p.do(chromedp.KeyEvent(kb.Enter))
	p.tabTo("web_rules")
	p.do(chromedp.KeyEvent(kb.Enter)) // opens one
	p.sees("127.0.0.0/8")
	p.tabTo("Accept and apply")
	p.do(chromedp.KeyEvent(kb.Enter))
	p.sees("Run ", "What happened")
	p.tabTo("site")
	p.do(chromedp.KeyEvent(kb.Enter))
	p.sees("ended ")
	p.tabTo("asked") // a line of evidence
	p.do(chromedp.KeyEvent(kb.Enter))
	p.sees("ms later it got")
}

// whatWasTypedStays reloads, goes back and forward, follows a link, and lets two people
// change one draft.
func whatWasTypedStays(p *page, b *bench) {
	t := p.t
	p.open("/prepare/gauge-intake")
	p.sees("Name of the stack")
	p.typeIn("#stack-name", "north")
	p.goes("Workers")
	p.typeIn("#field-workers", "5")
	p.sees("default 2 · put back", "kept")
	link, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("location.pathname + location.search"))
	if err != nil {
		t.Fatal(err)
	}
	p.do(chromedp.Evaluate[chromedp.Void]("location.reload()"))
	p.sees("Prepare north", "default 2 · put back")
	p.goes("Network")
	p.sees("drawn to scale")
	p.do(chromedp.Evaluate[chromedp.Void]("history.back()"))
	p.sees("Size of a worker")
	p.do(chromedp.Evaluate[chromedp.Void]("history.forward()"))
	p.sees("drawn to scale")

	other := b.browse() // a colleague with the link
	other.signIn(b.password)
	other.open(link)
	other.sees("Prepare north", "default 2 · put back")
	other.typeIn("#field-workers", "7")
	other.sees("9 machines, 17 cores")
	p.goes("Workers")
	p.typeIn("#field-workers", "3")
	p.sees("This draft was changed elsewhere while you typed", "Nothing is lost")
	p.press("Lay mine over it")
	p.sees("5 machines, 9 cores")
	other.typeIn("#field-workers", "9")
	other.sees("This draft was changed elsewhere")
	other.press("Take what is there")
	other.sees("5 machines, 9 cores")

	var list []struct {
		Body struct {
			Stack  string         `json:"stack"`
			Inputs map[string]any `json:"inputs"`
		} `json:"body"`
	}
	b.reads("/api/v1/drafts", &list)
	// changed last first
	if len(list) == 0 || list[0].Body.Stack != "north" || fmt.Sprint(list[0].Body.Inputs["workers"]) != "3" {
		t.Errorf("what is kept is %+v", list)
	}
	p.press("put back")
	p.unsees("put back")
	p.goes("Network")
	p.typeIn("#field-range", "10.6") // no range yet; somebody who types slowly loses nothing
	p.sees("is not an address range", "kept just now")
	value, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector('#field-range').value`))
	if err != nil || value != "10.6" {
		t.Errorf("what was typed became %q: %v", value, err)
	}
}

// typedSecret types a password into a form: its rules tick while it is typed, and neither
// the draft nor the page holds it afterwards.
func typedSecret(p *page, b *bench) {
	t := p.t
	p.open("/prepare/tide-archive")
	p.sees("Name of the stack")
	p.typeIn("#stack-name", "vault")
	p.goes("Access")
	p.sees("drawn when it is accepted")
	p.clicks(`[data-field=password] label:last-of-type input`)
	p.typeIn(`[data-field=password] input[type=password]`, "tide-1")
	p.sees("it has 6 characters and needs 14", `it contains the forbidden text "tide"`)
	const password = "Harbour+Lantern+91"
	p.typeIn(`[data-field=password] input[type=password]`, password)
	p.sees("keeps every rule")
	p.press("Seal it")
	p.sees("vault-password")
	var raw any
	b.reads("/api/v1/drafts", &raw)
	if text := fmt.Sprint(raw); strings.Contains(text, password) || !strings.Contains(text, "secret:vault-password") {
		t.Errorf("the draft is %s", text)
	}
	html, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.documentElement.outerHTML"))
	if err != nil || strings.Contains(html, password) {
		t.Errorf("the page holds the password: %v", err)
	}
	told := b.must(0, "reveal", "vault-password", "--reason", "to compare").out
	if strings.TrimSpace(told) != password {
		t.Errorf("sealed was %q", told)
	}
}

// writtenText begins a template from a few answers, is told where a word is wrong, gets
// one completed, publishes it, and copies it with its origin.
func writtenText(p *page, _ *bench) {
	p.open("/library/new")
	p.sees("Tiers behind the machine")
	p.typeIn("#name", "tide-board")
	p.press("Add a tier")
	p.press("Write it")
	p.sees("tide-board", "0.1.0", "it could be published", "Rendering", "middle")
	p.endOfFirstLine()
	p.do(chromedp.KeyEvent(" oops"))
	p.sees("1 error", "line 1")
	// Within a section its own keys are offered, and those of a type alone.
	p.endOfFirstLine()
	p.do(chromedp.KeyEvent(kb.Enter))
	p.do(chromedp.KeyEvent("prove: [{http: {stat"))
	p.offered("status", "through")
	p.do(chromedp.KeyEvent(kb.Escape))
	p.open("/library/new")
	p.sees("Tiers behind the machine")
	p.typeIn("#name", "tide-board")
	p.press("Write it")
	p.sees("it could be published")
	p.endOfFirstLine()
	p.do(chromedp.KeyEvent(kb.Enter))
	p.do(chromedp.KeyEvent("gui"))
	p.sees("guide") // is offered
	p.do(chromedp.Click(chromedp.CSS(".cm-tooltip-autocomplete li")))
	p.do(chromedp.KeyEvent(": A board."))
	p.sees("it could be published")
	p.press("Publish tide-board 0.1.0")
	p.sees("What it makes", "best fit", "published here")
	p.press("Copy and change")
	p.sees("tide-board-copy", "it could be published")
	p.press("Publish tide-board-copy 0.1.0")
	p.sees("copied from tide-board@0.1.0")
}

// casesRun looks at the cases of a template and begins a draft from one.
func casesRun(p *page, b *bench) {
	p.open("/library/gauge-intake")
	p.sees("Cases", "2 of 2 hold", "workers are spread over the zones",
		"net before gateway before worker[0] before board", "finding require at inputs")
	p.clicks(`[aria-label="Prepare from it: workers are spread over the zones"]`)
	p.sees("Prepare Tide gauge intake")
	p.goes("Workers")
	p.until("the workers of the case", `document.querySelector('[data-field=workers] input')?.value === '4'`)
	r := b.must(0, "templates", "test", "gauge-intake")
	if !strings.Contains(r.out, "holds  gauge-intake@1.4.0: workers are spread over the zones") ||
		!strings.Contains(r.out, "2 of 2 cases hold") {
		b.t.Errorf("the service runs the cases that it keeps:\n%s", r.out)
	}
	dir := p.t.TempDir()
	file := filepath.Join(dir, "quay.sail.yaml")
	for name, text := range map[string]string{
		"quay.sail.yaml": "undersail: 1\nabout: {name: quay, version: 1.0.0, title: Quay}\nresources:\n  front: " +
			"{type: address}\n",
		"quay.cases.yaml": "cases:\n  - name: it has one\n    expect: {resources: {front: 1}}\n  - name: it has " +
			"two\n    expect: {resources: {front: 2}}\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			p.t.Fatal(err)
		}
	}
	r = b.must(0, "templates", "publish", file)
	if !strings.Contains(r.out, "1 of 2 fail: undersail templates test quay") {
		b.t.Errorf("publishing with cases:\n%s", r.out)
	}
	r = b.must(3, "templates", "test", "quay")
	if !strings.Contains(r.out, "2 of front were expected, and there are 1") {
		b.t.Errorf("what fails:\n%s", r.out)
	}
	p.open("/library/quay")
	p.sees("1 of 2 hold", "fails", "2 of front were expected, and there are 1")
}

// strayedStays alters a stack by hand, verifies it, and opens its page anew.
func strayedStays(p *page, b *bench) {
	b.must(0, "apply", b.propose("pier", "warning-site"), "--watch")
	b.simcloud("change", "pier-web_rules", `inbound=[{"source": "0.0.0.0/0", "port": 22}]`)
	p.open("/stacks/pier")
	p.sees("4 of 4", "an hour", "changed ")
	p.press("Verify now")
	p.sees("Strayed", "altered this in the cloud")
	p.open("/stacks/pier")
	p.sees("Strayed", "web_rules rules:", "is recorded")
	p.press("Propose to put it back")
	p.sees("Proposal ", "altered by hand and is put back")
}

// offered waits until the editor offers a word for completion and, among those that begin
// otherwise, not another.
func (p *page) offered(word, other string) {
	p.t.Helper()
	p.until("offers "+word, fmt.Sprintf(`(() => { const all = [...document.querySelectorAll('.cm-tooltip-autocomplete li')].map(e => e.innerText.trim()); return all.includes(%q) && !all.includes(%q) })()`, word, other))
}

// endOfFirstLine puts the cursor of the editor behind its first line.
func (p *page) endOfFirstLine() {
	p.t.Helper()
	p.do(chromedp.Evaluate[chromedp.Void](`(() => { const all = document.querySelector('.cm-content'), s = getSelection(); all.focus(); s.selectAllChildren(all.querySelector('.cm-line')); s.collapseToEnd() })()`))
}

// TestACutConnectionIsToldAndMended cuts the streams off in the middle of a run: the page
// says so, and misses nothing of what happened meanwhile.
func TestACutConnectionIsToldAndMended(t *testing.T) {
	t.Parallel()
	b := startAlone(t, "--empty", "--pace", "60")
	p := b.browse()
	p.signIn(b.password)
	p.open("/stacks")
	p.sees("No stacks yet")
	b.run("apply", b.propose("site", "warning-site"))
	p.open("/runs/1")
	p.sees("creating")
	b.stop(syscall.SIGTERM)
	p.sees("The service cannot be heard since")
	b.up("--empty", "--pace", "60")
	p.sees("ended ", "4 of 4")
	p.unsees("cannot be heard")
	var events []struct{ Number int64 }
	b.reads("/api/v1/runs/1/events?limit=1000", &events)
	await.Until(t, fmt.Sprintf("all %d events are shown, each once", len(events)), func() bool {
		shown, err := chromedp.Run(p.ctx,
			chromedp.Evaluate[int](`document.querySelectorAll('[data-events] li').length`))
		return err == nil && shown == len(events)
	})
	p.open("/stacks")
	p.sees("site", "healthy")
}
