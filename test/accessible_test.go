package test

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// violation is one rule of accessibility that a page breaks.
type violation struct {
	ID    string   `json:"id"`
	Help  string   `json:"help"`
	Nodes []string `json:"nodes"`
}

// TestEveryPageIsAccessible asks axe-core about every other page, and as make audit about
// every page, light and dark, on a desk, a tablet and a phone, with dialogs, menus and what went wrong, and
// reads what the browser's console says meanwhile.
func TestEveryPageIsAccessible(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("axe-core is not there; make test installs it: %v", err)
	}
	b := start(t, "--empty", "--pace", "240")
	b.must(0, "apply", b.propose("rota", "duty-rota", "--inputs", "examples/duty-rota.inputs.yaml"), "--watch")
	b.simcloud("fault", "add", "late-failure", "--on", "instances", "--count", "-1")
	b.run("apply", b.propose("site", "warning-site"), "--watch")
	b.simcloud("fault", "lift")
	b.must(0, "retire", "rota")
	b.must(0, "apply", b.propose("shelf", file(t, "shelf.sail.yaml", shelf)), "--watch")
	b.must(0, "secrets", "make", "board-token")
	var invitation struct{ Code string }
	b.into(&invitation, "users", "invite", "nils", "--role", "viewer")
	p := b.browse()
	p.listen()
	p.open("/sign-in")
	p.sees("Sign in")
	p.audit(string(axe), "/sign-in", 0)
	p.signIn(b.password)
	p.open("/prepare/gauge-intake")
	p.sees("Still to choose")
	at, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("location.pathname + location.search"))
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range [][]string{
		// where, what is there then, and what is pressed, with what is there after that
		{"/stacks", "rota"},
		{"/stacks/rota", "How to use it"},
		{"/stacks/site", "unhealthy"},
		{"/proposals", "retire 3"},
		{"/proposals/1", "applied"},
		{"/proposals/3", "8 remove"},
		{"/runs", "apply 2"},
		{"/runs/2", "Propose to undo"},
		{"/library", "gauge-intake"},
		{"/library/gauge-intake", "best fit"},
		{"/library/gauge-intake/text", "it could be published"},
		{"/library/new", "Tiers behind"},
		{"/prepare", "Drafts"},
		{at, "Quota left"},
		{at + "&page=Name+and+place", "sells"},
		{at + "&page=Workers", "compared by"},
		{at + "&page=Network", "drawn to scale"},
		{at + "&page=Summary", "Print it"},
		{"/accounts", "saltmere-lab"},
		{"/accounts/saltmere-lab", "builder"},
		{"/secrets", "board-token"},
		{"/people", "What roles allow"},
		{"/audit", "propose"},
		{"/tokens", "Tokens of programs"},
		{"/welcome#" + invitation.Code, "Once more"},
		{"/nowhere", "nothing at this address"},
		{"/stacks/gone", "There is no stack gone"},
		{"/runs/abc", "not the number"},
		{"/prepare/gauge-intake?draft=gone", "no longer there"},
		{"/stacks", "rota", "Menu", "Close"},
		{"/library", "gauge-intake", "Add a library", "Folder in it"},
		{"/secrets", "board-token", "Make", "Least length"},
		{"/secrets", "board-token", "Import", "Seal it"},
		{"/tokens", "Tokens of programs", "Make a token", "Cancel"},
		{"/people", "What roles allow", "Invite", "Cancel"},
		{"/accounts", "saltmere-lab", "Add an account", "Cancel"},
		{"/stacks/shelf", "papers", "Propose to retire", "Propose it"},
		{"/proposals/3", "8 remove", "Refuse", "Comment"},
	} {
		if i%4 != 0 && !wholeAudit { // make audit asks about every page
			continue
		}
		p.open(c[0])
		p.sees(c[1])
		if len(c) > 2 {
			if c[2] == "Menu" {
				p.do(chromedp.EmulateViewport(390, 800))
			}
			p.press(c[2])
			p.sees(c[3])
		}
		p.audit(string(axe), strings.Join(c, " "), i/4)
	}
	if wholeAudit {
		p.open("/stacks")
		p.sees("rota")
		p.endsSession()
		p.sees("Your session ended")
		p.audit(string(axe), "a session that ended", 0)
	}
	for _, m := range p.messages() {
		if strings.Contains(m, "the server responded with a status of 40") &&
			(wholeAudit || strings.Contains(m, "gone")) {
			continue // what is not there is asked for on purpose
		}
		if !strings.Contains(m, "favicon") {
			t.Errorf("the browser's console says: %s", m)
		}
	}
}

// wholeAudit asks about every page, light and dark, on a desk and on a phone.
var wholeAudit = os.Getenv("UNDERSAIL_AUDIT") == "whole"

// audit fails for each rule that a page breaks: light on a desk when it is its turn, dark
// on a phone in between, and all four ways in a whole audit.
func (p *page) audit(axe, path string, turn int) {
	p.t.Helper()
	p.do(chromedp.Evaluate[chromedp.Void](axe))
	for _, width := range []int64{1280, 820, 390} {
		p.do(chromedp.EmulateViewport(width, 800))
		for _, theme := range []string{"light", "dark"} {
			desk := turn%2 == 0
			if ((width == 1280) != desk || width == 820 || (theme == "light") != desk) && !wholeAudit {
				continue
			}
			p.do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.documentElement.dataset.theme = %q", theme)))
			// Colours that change come to rest first, however slow the machine is.
			p.do(chromedp.Evaluate[chromedp.Void](`new Promise(next => requestAnimationFrame(() => requestAnimationFrame(next))).then(() => document.getAnimations().forEach(a => { try { a.finish() } catch { a.cancel() } }))`, chromedp.EvalAwaitPromise))
			raw, err := chromedp.Run(p.ctx,
				chromedp.Evaluate[string](`axe.run(document, {resultTypes: ['violations']}).then(r => JSON.stringify(r.violations.map(v => ({id: v.id, help: v.help, nodes: v.nodes.map(n => n.target.join(' ') + ' ' + (n.any[0]?.message ?? n.all[0]?.message ?? n.none[0]?.message ?? ''))}))))`, chromedp.EvalAwaitPromise))
			if err != nil {
				p.t.Fatal(err)
			}
			var found []violation
			if err := json.Unmarshal([]byte(raw), &found); err != nil {
				p.t.Fatal(err)
			}
			for _, v := range found {
				p.t.Errorf("%s, %d wide, %s: %s (%s) at %s", path, width, theme, v.Help, v.ID,
					strings.Join(v.Nodes[:min(3, len(v.Nodes))], "\n    "))
			}
		}
	}
	p.do(chromedp.EmulateViewport(1280, 800))
}
