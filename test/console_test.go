package test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"undersail/internal/proposing"
)

// TestConsole goes the whole way in a browser: sign in, read a proposal, accept
// and apply it, watch it, look at the stack, verify, retire.
func TestConsole(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "60")
	p := b.browse()
	p.open("/stacks")
	p.do(chromedp.SendKeys(chromedp.CSS("input[name=name]"), "ines"),
		chromedp.SendKeys(chromedp.CSS("input[name=password]"), "wrong"))
	p.press("Sign in")
	p.sees("the name or the password is not right", "check both and try again")
	p.signIn(b.password)
	p.sees("No stacks yet", "undersail propose warnings")

	var proposal struct{ ID int64 }
	b.into(&proposal, "propose", "site", "--template", "warning-site", "--account", "saltmere-lab", "--region",
		"north-fell", "--inputs", "examples/warning-site.inputs.yaml")
	p.open("/proposals")
	p.sees("apply 1", "4 create")
	p.open("/proposals/1")
	p.sees("Proposal 1", "open", "4 create", "0.048 kr / h", "What waits for what", "web_rules")
	p.press("Accept and apply")
	p.sees("Run 1", "What happened", "creating site")
	p.sees("done", "4 of 4")
	states, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[string](`[...document.querySelectorAll('[data-resource]')].map(e => e.dataset.resource + ' ' + e.dataset.state).sort().join(', ')`))
	if err != nil || states != "net healthy, site healthy, subnet healthy, web_rules healthy" {
		t.Errorf("the graph shows %q, %v", states, err)
	}
	p.sees("asked", "/ready", "pass")

	p.open("/stacks/site")
	p.sees("healthy", "Outputs", "http://127.", "Inputs", "Spring tide on Thursday")
	p.press("Verify now")
	p.sees("just now")
	p.press("Propose to retire")
	p.sees("Proposal 2", "4 remove")
	p.press("Accept and retire")
	p.sees("Retire site?")
	p.press("Retire it")
	p.sees("Run 2", "4 of 4", "is retired; nothing of it is left")
	if l := b.ledger("site"); len(l.Alive) != 0 {
		t.Errorf("left over: %v", l.Alive)
	}
	p.open("/stacks")
	p.sees("No stacks yet")
	p.open("/library")
	p.sees("gauge-intake 1.4.0", "Tide gauge intake")
	p.open("/runs")
	p.sees("retire 2", "apply 1")
	p.open("/nowhere")
	p.sees("There is nothing at this address")
	p.press("Sign out")
	p.sees("Sign in")
}

// TestConsoleShowsAFailureAndContinues reads a failed run and presses on.
func TestConsoleShowsAFailureAndContinues(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	b.simcloud("fault", "add", "service-never", "--label", "site", "--count", "-1")
	b.run("apply", b.propose("site", "warning-site"), "--watch")
	b.simcloud("fault", "lift")
	p := b.browse()
	p.signIn(b.password)
	p.sees("Why site is unhealthy", "undersail continue site")
	p.open("/runs/1")
	p.sees("failed", "connection refused; not right within 5m", "not yet")
	p.press("Continue with what is missing")
	p.sees("Run 2", "done")
	p.open("/stacks/site")
	p.sees("4 of 4")
}

const berthed = `undersail: 1
about: {name: berthed, version: 1.0.0, title: Berthed}
inputs:
  serial: {type: string, pattern: '^[0-9]{4}$', later: true, title: Serial number on the case}
resources:
  front: {type: address, want: {tags: {serial: =inputs.serial}}}
`

// TestConsoleGivesARunTheValueThatItWaitsFor gives one that does not do, then one that
// does, which is digits and stays a text.
func TestConsoleGivesARunTheValueThatItWaitsFor(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	b.must(6, "apply", b.propose("berth", file(t, "berthed.sail.yaml", berthed)), "--watch")
	p := b.browse()
	p.signIn(b.password)
	p.open("/runs/1")
	p.sees("It waits:", "the value of serial")
	p.press("Give serial")
	p.sees("Serial number on the case")
	p.press("Give and go on")
	p.sees("fill in: serial number on the case")
	p.fill("serial", "42")
	p.press("Give and go on")
	p.sees("the value of serial does not do")
	p.typeIn("[name=serial]", "0042")
	p.press("Give and go on")
	p.sees("1 of 1", "ended ")
	if l := b.ledger("berth"); len(l.Alive) != 1 || l.Alive[0].Tags["serial"] != "0042" {
		t.Errorf("made is %v", l.Alive)
	}
}

const shelf = `undersail: 1
about: {name: shelf, version: 1.0.0, title: Shelf}
resources:
  papers: {type: disk, want: {size: 10GiB, type: solid}}
  charts: {type: disk, at_retire: keep, want: {size: 20GiB, type: solid}}
`

// TestConsoleAsksForConsentsByName retires a stack with data: what is lost has to be
// agreed to by name, and what is kept is listed until it is removed for good.
func TestConsoleAsksForConsentsByName(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	b.must(0, "apply", b.propose("shelf", file(t, "shelf.sail.yaml", shelf)), "--watch")
	var list []proposing.Kept
	p := b.browse()
	p.signIn(b.password)
	p.open("/stacks/shelf")
	p.press("Propose to retire")
	p.sees("papers disk, holds data", "its template keeps it")
	p.press("Propose it")
	p.sees("1 remove, 1 keep", "lose-data", "papers (disk of 10GiB)", "0 of 1 agreed")
	enabled := func() bool {
		on, err := chromedp.Run(p.ctx,
			chromedp.Evaluate[bool](`[...document.querySelectorAll('button')].some(b => b.textContent.startsWith('Accept and') && !b.disabled)`))
		if err != nil {
			t.Fatal(err)
		}
		return on
	}
	if enabled() {
		t.Error("it can be accepted before anything was agreed to")
	}
	p.do(chromedp.Click(chromedp.CSS(`input[name="lose-data"]`)))
	p.sees("1 of 1 agreed")
	p.press("Accept and retire")
	p.sees("1 resources are removed", "1 are kept")
	p.press("Retire it")
	p.sees("kept, and still paid for: charts")
	p.open("/stacks")
	p.sees("Kept", "shelf/charts", "20GiB")
	p.press("Give to a stack")
	p.fill("stack", "Reef")
	p.press("Give it")
	p.sees("is no place to move to")
	p.press("Cancel")
	p.press("Give to a stack")
	p.fill("stack", "reef")
	p.press("Give it")
	p.sees("reef/charts")
	r := b.must(0, "kept", "move", "reef/charts", "reef/maps")
	if !strings.Contains(r.out, "takes it over as its resource maps\nnext: undersail propose reef") {
		t.Error(r.out)
	}
	b.into(&list, "kept")
	if len(list) != 1 || list[0].Stack != "reef" || list[0].Resource != "maps" {
		t.Errorf("kept are %+v", list)
	}
	p.open("/stacks")
	p.sees("reef/maps")
	p.press("Propose to remove")
	p.sees("maps (disk of 20GiB)")
	p.do(chromedp.Click(chromedp.CSS(`input[name="lose-data"]`)))
	p.sees("1 of 1 agreed")
	p.press("Accept and remove for good")
	p.press("Remove it")
	p.sees("what was kept of stack shelf is removed for good")
	if l := b.ledger("shelf"); len(l.Alive) != 0 {
		t.Errorf("left are %v", l.Alive)
	}
}

// TestTheFirstPageIsSmall keeps the graph out of what every visitor loads.
func TestTheFirstPageIsSmall(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	page := answers(t, b.url+"/")
	loaded := 0
	for _, part := range strings.Split(page, `"`) {
		if strings.HasPrefix(part, "/assets/") && strings.HasSuffix(part, ".js") {
			script := answers(t, b.url+part)
			loaded++
			if strings.Contains(script, "/api/v1/layout") {
				t.Errorf("%s holds the graph", part)
			}
		}
	}
	if loaded == 0 {
		t.Errorf("the first page loads no script:\n%s", page)
	}
}

// TestConsoleHandsOver makes a secret, reads it for a reason, and finds both in the audit;
// tests an account; and reads how a stack is used.
func TestConsoleHandsOver(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	b.must(0, "apply", b.propose("rota", "duty-rota", "--inputs", "examples/duty-rota.inputs.yaml"), "--watch")
	p := b.browse()
	p.signIn(b.password)
	p.open("/secrets")
	p.sees("No secret stands for itself yet")
	p.press("Make")
	p.sees("It is drawn by the service and sealed")
	p.fill("name", "board-token")
	p.press("Make it")
	p.sees("board-token", "An input takes it as secret:board-token", "nobody")
	p.press("Reveal")
	p.sees("What it is needed for")
	p.fill("reason", "first use of the board")
	p.press("Reveal it")
	p.sees("Hide it")
	token := b.must(0, "reveal", "board-token", "--reason", "to compare").out
	p.sees(token)
	p.press("Hide it")
	p.open("/audit")
	p.sees("reveal", "board-token@1", "first use of the board")
	if strings.Contains(p.text(), token) {
		t.Error("the audit shows the value")
	}
	p.press("Check every entry")
	p.sees("entries are as they were written", "undersail audit --check --head")
	p.open("/accounts/saltmere-lab")
	p.sees("signed in as, builder", "no end", "Quota in north-fell", "rota", "rota-net")
	p.press("Test now")
	p.sees("Test now")
	p.open("/stacks/rota")
	p.sees("How to use it", "Sign in as duty", "undersail connect rota 'board[1]'", "through entry")
}

// TestConsoleLetsPeopleIn invites somebody, lets them in and out again, makes and ends a
// token, and signs in by the provider of the demo.
func TestConsoleLetsPeopleIn(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	admin := b.browse()
	admin.signIn(b.password)
	admin.open("/people")
	admin.sees("ines", "What roles allow")
	admin.press("Invite")
	admin.sees("They set a password by a link")
	admin.fill("name", "nils")
	admin.fill("full_name", "Nils Aker")
	admin.fill("roles", " operator@saltmere-lab")
	admin.press("Make the link")
	admin.sees("sets a password for nils, once")
	text := admin.text()
	_, after, found := strings.Cut(text, "/welcome#")
	if !found {
		t.Fatalf("no link: %s", text)
	}
	link := "/welcome#" + strings.Fields(after)[0]
	admin.press("Done")
	admin.sees("invited", "operator in saltmere-lab")

	nils := b.browse()
	nils.open(link)
	nils.sees("You are Nils Aker", "viewer", "operator in saltmere-lab")
	nils.typeIn("input[type=password]", "tomorrow the gauges")
	nils.typeIn("input[type=password][aria-invalid]", "tomorrow the gauge")
	nils.sees("The two are not the same")
	nils.typeIn("input[type=password][aria-invalid]", "tomorrow the gauges")
	nils.press("Set the password and sign in")
	nils.sees("Stacks", "Nils Aker", "operator in saltmere-lab")
	nils.open("/people")
	nils.sees("nils", "What roles allow")
	nils.unsees("tomas")
	nils.open("/tokens")
	nils.press("Make a token")
	nils.sees("It allows no more than you may")
	nils.fill("about", "nightly-checks")
	nils.fill("roles", "admin")
	nils.press("Make it")
	nils.sees("is more than nils")
	nils.typeIn("[name=roles]", "operator@saltmere-lab")
	nils.press("Make it")
	nils.sees("It is shown only here", "usk_")
	nils.press("Done")
	nils.sees("nightly-checks", "not yet")
	nils.press("Revoke")
	nils.press("End it")
	nils.sees("No program has a token")

	again := b.browse()
	again.open(link)
	again.sees("was used, or is over")

	admin.open("/people")
	admin.sees("nils", "active")
	admin.clicks("tr:nth-child(2) button")
	admin.press("Disable")
	admin.sees("Every session and token of theirs ends at once")
	admin.clicks("[role=alertdialog] button:last-child")
	admin.sees("disabled")
	nils.open("/stacks")
	nils.sees("Sign in", "Password")

	wren := b.browse()
	wren.open("/sign-in")
	wren.press("Sign in by OpenID Connect")
	wren.sees("Simulated sign-in")
	wren.press("Wren Castell (wren)")
	wren.sees("Stacks", "Wren Castell", "operator")
	for _, p := range []*page{admin, nils, wren} {
		for _, m := range p.messages() {
			if !strings.Contains(m, "favicon") && !strings.Contains(m, "401") && !strings.Contains(m, "403") {
				t.Errorf("the browser says: %s", m)
			}
		}
	}
}
