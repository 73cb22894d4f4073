package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestConsoleIsNowhereADeadEnd goes, by console alone, the ways that lead on from where somebody is
// stuck: a range that lets the checks not in, something guarded, something that serves and would be
// made anew, a run that failed, a stack that is gone, and a library that is missing.
func TestConsoleIsNowhereADeadEnd(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	p := b.browse()
	p.signIn(b.password)
	way := func(name string, go_ func()) {
		if !t.Failed() {
			t.Run(name, func(t *testing.T) { p.t = t; go_() })
		}
	}

	way("a range of the office that is wrong at first", func() {
		p.open("/prepare/field-app")
		p.sees("Name of the stack", "Best:")
		p.typeIn("#stack-name", "field")
		p.goes("Network")
		p.typeIn("#field-team", "198.51.100.0/24")
		p.sees("no rule lets in this service", "2 errors")
		p.until("the page of the input is marked, and no other",
			`[...document.querySelectorAll('nav button[data-page]')].filter((b) => b.innerText.includes('has errors')).map((b) => b.dataset.page).join() === 'Network'`)
		p.goes("Options")
		p.press("Range of the field teams' office") // the finding leads there
		p.until("its field has the focus", `document.activeElement.id === 'field-team'`)
		p.until("the value that mends is offered",
			`(() => { const e = [...document.querySelectorAll('[data-field=team] button')].find((b) => /^take 127\..*\/32$/.test(b.innerText)); if (e) e.click(); return !!e })()`)
		p.sees("no errors", "kept")
		p.press("Propose")
		p.sees("Proposal ", "decides the duration")
		p.until("what is new is begun at its title", `document.activeElement.tagName === 'H1'`)
		p.clicks(`input[name="secret-use"]`)
		p.press("Accept and apply")
		p.sees("ended ", "decided when it ended", " healthy")
	})

	way("something that serves is not made anew in one click", func() {
		p.open("/stacks/field")
		p.press("server")
		p.press("Propose to make it anew")
		p.sees("0 of 1 agreed", "rebuild", "these serve, and are made anew: server (instance)",
			"server is gone for about")
		p.until("it cannot be accepted yet",
			`[...document.querySelectorAll('button')].some((b) => b.innerText === 'Accept and apply' && b.disabled)`)
		p.clicks(`input[name=rebuild]`)
		p.press("Accept and apply")
		p.sees("ended ", " healthy", "1 removed")
	})

	way("which input stops it, and which value would not", func() {
		p.open("/prepare/field-app?stack=field")
		p.sees("Change field", "kept")
		p.goes("Server")
		p.choose("size", "plain-4")
		p.sees("Will be asked on the proposal", "server is gone for about", "input size plain-2 becomes plain-4")
		p.press("keep plain-2")
		p.unsees("Will be asked on the proposal")
	})

	way("who may only read is offered nothing that would be refused", func() {
		var invitation struct{ Code string }
		b.into(&invitation, "users", "invite", "nils", "--role", "viewer")
		nils := b.browse()
		nils.t = p.t
		nils.open("/welcome#" + invitation.Code)
		nils.sees("You are nils")
		nils.typeIn("input[type=password]", "tomorrow the gauges")
		nils.typeIn("input[type=password][aria-invalid]", "tomorrow the gauges")
		nils.press("Set the password and sign in")
		nils.sees("field", "viewer")
		for path, words := range map[string]string{
			"/stacks":            "field",
			"/stacks/field":      "Outputs",
			"/runs/1":            "What happened",
			"/proposals/1":       "Changes",
			"/library":           "Field teams",
			"/library/field-app": "best fit",
			"/prepare":           "Prepare",
		} {
			nils.open(path)
			nils.sees(words)
			nils.until("nothing is offered",
				`![...document.querySelectorAll('main button, main a')].some((b) => /^(Prepare|Change|Verify now|New |Propose|Copy and change|Prepare from it|Add a library|Accept|Refuse|Stop|Read again|Continue)/.test(b.innerText))`)
		}
	})

	way("a guarded stack is retired", func() {
		p.open("/stacks/field")
		p.press("Propose to retire")
		p.sees("front is guarded: nothing can be retired before its guard is lifted")
		p.clicks(`input[name="lift front"]`)
		p.press("Propose it")
		p.sees("lift-guard", "front", "0 of 1 agreed")
		p.clicks(`input[name="lift-guard"]`)
		p.press("Accept and retire")
		p.press("Retire it")
		p.sees("ended ", " removed")
		p.open("/stacks/field")
		p.sees("It was retired by ines", "Runs", "Proposals")
		if l := b.ledger("field"); len(l.Alive) != 0 {
			t.Errorf("left are %v", l.Alive)
		}
	})

	way("a failed run is tried again, and undone", func() {
		b.simcloud("fault", "add", "service-never", "--label", "site", "--count", "-1")
		id := b.propose("site", "warning-site")
		b.run("apply", id, "--watch")
		b.simcloud("fault", "lift")
		var runs []struct{ ID int64 }
		b.reads("/api/v1/runs?stack=site", &runs)
		p.open(fmt.Sprintf("/runs/%d", runs[0].ID))
		p.sees("failed", "Try failed steps again")
		p.press("Try failed steps again")
		p.sees(fmt.Sprintf("Run %d is done", runs[0].ID), "ended ", "Attempts", "what lay idle between them is no work",
			"site failed after")
		p.press("Propose to undo")
		p.sees("Proposal ", "remove")
		p.press("Accept and apply")
		p.sees("ended ", " removed")
		p.open("/stacks/site")
		p.sees("site", "Runs")
	})

	way("a library is added", func() {
		folder := filepath.Join(b.dir, "library", "shelf") // where the service may read folders
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, "shelf.sail.yaml"), []byte(shelf), 0o644); err != nil {
			t.Fatal(err)
		}
		p.open("/library")
		p.press("Add a library")
		p.fill("name", "harbour")
		p.fill("place", filepath.Join(folder, "nowhere"))
		p.press("Add and read it")
		p.sees("What to do")
		p.typeIn("[name=place]", folder)
		p.press("Add and read it")
		p.sees("Libraries", "harbour", "1 template", "Shelf")
	})

	way("an address that leads nowhere says so", func() {
		for path, words := range map[string]string{
			"/runs/abc":     "abc is not the number of a run",
			"/proposals/x":  "x is not the number of a proposal",
			"/stacks/never": "There is no stack never",
			"/nothing":      "There is nothing at this address",
		} {
			p.open(path)
			p.sees(words)
			if strings.Contains(p.text(), "NaN") {
				t.Errorf("%s says %s", path, p.text())
			}
		}
	})

	way("each page has a title of its own", func() {
		titles := map[string]string{}
		for _, path := range []string{"/stacks", "/prepare", "/proposals", "/runs", "/library", "/library/new",
			"/accounts", "/secrets", "/people", "/tokens", "/audit"} {
			p.open(path)
			p.until("it has a heading", `document.querySelector('h1') !== null`)
			title := p.says("document.title")
			if other := titles[title]; other != "" || title == "Under Sail" {
				t.Errorf("%s is called %q, as %s is", path, title, other)
			}
			titles[title] = path
		}
	})

	way("a password that is wrong ends no session", func() {
		p.open("/tokens")
		p.press("Change password")
		p.fill("before", "not the one that it is")
		p.fill("after", "tomorrow the gauges")
		const asked = `performance.getEntriesByType('resource').filter((e) => e.name.endsWith('/api/v1/me')).length`
		before := p.says("String(" + asked + ")")
		p.press("Change it")
		p.sees("the name or the password is not right")
		p.until("who is here was asked", asked+" > "+before)
		if strings.Contains(p.text(), "Your session ended") {
			t.Error("a password that is wrong is told as a session that ended")
		}
		p.press("Cancel")
	})

	way("a key throws nothing away that was typed", func() {
		p.open("/library")
		p.press("Add a library")
		p.fill("name", "quay")
		p.do(chromedp.KeyEvent("\u001b"))
		p.sees("Throw away what you typed?")
		p.press("Go on typing")
		if typed := p.says(`document.querySelector('[name=name]').value`); typed != "quay" {
			t.Errorf("typed is %q", typed)
		}
	})

	way("another proposal of what is to be made anew says so again", func() {
		b.must(0, "apply", b.propose("quay", "warning-site"), "--watch")
		var first, other proposed
		b.into(&first, "rebuild", "quay", "site")
		b.into(&other, "propose", "quay", "--input", "headline=Calm") // in the place of the first
		p.open(fmt.Sprintf("/proposals/%d", first.ID))
		p.press("Propose again")
		p.until("it is another one",
			fmt.Sprintf(`location.pathname.startsWith('/proposals/') && location.pathname !== '/proposals/%d'`,
				first.ID))
		p.sees("1 rebuild", "these serve, and are made anew: site (instance)")
	})

	way("nothing of a person stays after signing out", func() {
		p.open("/library/warning-site/text")
		p.sees("it could be published")
		p.endOfFirstLine()
		p.do(chromedp.KeyEvent(" # mine"))
		p.sees("changed in this browser")
		p.press("Sign out")
		p.sees("your text of warning-site")
		p.press("Sign out and lose it")
		p.sees("Sign in")
		kept := p.says(`JSON.stringify([Object.entries(localStorage), Object.entries(sessionStorage)])`)
		if strings.Contains(kept, "mine") || strings.Contains(kept, "ines") {
			t.Errorf("the browser keeps %s", kept)
		}
	})
	way("who signs out, or in as somebody else, in another tab is noticed", func() {
		p.signIn(b.password)
		p.open("/runs")
		p.sees("apply")
		other := p.tab()
		other.open("/stacks")
		other.press("Sign out")
		other.sees("Sign in")
		p.sees("Your session ended", "Sign in as ines")
		other.do(chromedp.SendKeys(chromedp.CSS("input[name=name]"), "nils"),
			chromedp.SendKeys(chromedp.CSS("input[name=password]"), "tomorrow the gauges"))
		other.press("Sign in")
		other.sees("nils", "viewer")
		p.sees("nils", "viewer", "stacks in order")
		p.unsees("Your session ended")
	})
}
