package test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// job is a practitioner's job that is done whole in the console: the template, what is
// filled in, the mistake that is typical of it, how it is mended as told, and what is
// changed afterwards.
type job struct {
	name, template string
	region         string
	fill           func(p *page)
	mistake        func(p *page)
	told           []string
	stays          bool // what is told stays beside what else could be chosen
	mend           func(p *page)
	consents       []string
	output         string // of the stack, that is a page to open
	change         func(p *page)
	changed        string // what the proposal of the change says
	keeps          bool   // its data outlives it
}

var consoleJobs = []job{
	{
		name: "an application server with optional parts", template: "field-app", region: "hollow-bay",
		fill: func(p *page) {
			p.goes("Server")
			p.choose("second_runtime", "3.11")
			p.goes("Network")
		},
		mistake: func(p *page) { p.typeIn("#field-team", "0.0.0.0/0") },
		told:    []string{"port 22 is open to every address there is", "open-access"},
		mend:    func(p *page) { p.typeIn("#field-team", "127.0.0.0/8") },
		output:  "address",
		change: func(p *page) {
			p.goes("Options")
			p.clicks("#field-metrics")
		},
		changed: "alter",
	},
	{
		name: "one machine from a guide", template: "tide-archive", region: "hollow-bay",
		fill: func(p *page) {
			p.goes("Network")
			p.typeIn("#field-forecasters", "127.0.0.0/8")
			p.goes("Machine")
		},
		mistake: func(p *page) { p.sees("it has 1 vcpus and 2 are needed") }, // it cannot even be chosen
		told:    []string{"it has 1 vcpus and 2 are needed"}, stays: true,
		mend: func(p *page) { p.choose("size", "plain-2") },
		change: func(p *page) {
			p.goes("Data")
			p.typeIn("#field-years", "6")
		},
		changed: "alter",
	},
	{
		name: "a store whose usable storage is computed", template: "reading-store", region: "hollow-bay",
		fill: func(p *page) {
			p.goes("Network")
			p.typeIn("#field-forecasters", "127.0.0.0/8")
			p.goes("Readings")
		},
		mistake: func(p *page) { p.typeIn("#field-gauges", "800") },
		told:    []string{"the readings need 141GiB and 80GiB of 120GiB are usable with raid5; add workers or disk"},
		mend: func(p *page) {
			p.goes("Storage")
			p.typeIn("#field-disk", "80GiB")
		},
		change: func(p *page) {
			p.goes("Workers")
			p.clicks(`[data-field=workers] [aria-label=more]`)
		},
		changed: "create",
	},
	{
		name: "a cluster by expected load", template: "forecast-cluster", region: "hollow-bay",
		fill: func(p *page) {
			p.goes("Access")
			p.typeIn("#field-duty_office", "127.0.0.0/8")
			p.clicks("#field-checked")
			p.goes("Presets")
		},
		mistake: func(p *page) { p.clicks(`article[aria-label="A storm on a spring tide"] button`) },
		told:    []string{"the account may have 96 vcpus", "too many"}, stays: true,
		mend: func(p *page) { p.clicks(`article[aria-label="Up to 1 000 readings an hour"] button`) },
		change: func(p *page) {
			p.goes("Load")
			p.clicks(`[data-field=nodes] [aria-label=more]`)
		},
		consents: []string{"checked"},
		changed:  "create",
	},
	{
		name: "a desk of one node or three", template: "duty-desk", region: "hollow-bay",
		fill: func(p *page) {
			p.goes("Network")
			p.typeIn("#field-officers_from", "127.0.0.0/8")
			p.goes("Desk")
		},
		mistake: func(p *page) { p.typeIn("#field-officers", "60") },
		told:    []string{"the sizing table desk ends at 40"},
		mend:    func(p *page) { p.choose("nodes", "3") },
		change: func(p *page) {
			p.goes("Desk")
			p.typeIn("#field-disk", "5GiB")
			p.sees("only grow")
			p.typeIn("#field-disk", "20GiB")
		},
		changed: "alter", keeps: true,
	},
}

// TestJobsInTheConsole does jobs whole in a browser, as somebody would who never saw a
// terminal: choose, be stopped, mend it as told, propose, consent, accept, watch, verify,
// open what came of it, change one input, retire. It is what make jobs does.
func TestJobsInTheConsole(t *testing.T) {
	if os.Getenv("UNDERSAIL_JOBS") == "" {
		t.Skip("make jobs does them")
	}
	b := start(t, "--empty", "--pace", "240")
	for i, j := range consoleJobs {
		t.Run(j.name, func(t *testing.T) {
			p := b.browse()
			p.t = t
			p.signIn(b.password)
			j.do(p, b, fmt.Sprintf("job-%d", i+1))
		})
	}
}

func (j job) do(p *page, b *bench, stack string) {
	p.t.Helper()
	p.open("/library")
	p.clicks(fmt.Sprintf(`a[href="/prepare/%s"]`, j.template))
	p.sees("Name of the stack", "Best:")
	p.typeIn("#stack-name", stack)
	p.clicks(fmt.Sprintf(`input[value=%q]`, j.region))
	p.sees("saltmere-lab", j.region, "kept")
	j.fill(p)
	j.mistake(p)
	p.sees(j.told...)
	j.mend(p)
	if !j.stays {
		p.unsees(j.told[0])
	}
	p.sees("no errors")
	p.press("Propose")
	p.sees("Proposal", "open", "decides the duration")
	for _, c := range j.consents {
		p.sees(c)
	}
	p.agreeToAll()
	p.press("Accept and apply")
	p.sees("Run", "What happened")
	p.sees("ended ")
	p.open("/stacks/" + stack)
	p.sees("Outputs", "healthy")
	p.press("Verify now")
	p.sees("just now")
	if j.output != "" {
		p.opens()
	}
	p.press("Change")
	p.sees("Change "+stack, "kept")
	j.change(p)
	p.sees(j.changed)
	p.press("Propose")
	p.sees("Proposal", "open")
	p.agreeToAll() // what serves may be stopped or made anew
	p.press("Accept and apply")
	p.sees("Run", "What happened")
	p.sees("ended ")
	p.proposesToRetire(stack)
	p.agreeToAll()
	p.press("Accept and retire")
	p.press("Retire it")
	if j.keeps {
		p.sees("kept, and still paid for")
		return
	}
	p.sees("is retired; nothing of it is left")
	if l := b.ledger(stack); len(l.Alive) != 0 {
		p.t.Errorf("left over: %v", l.Alive)
	}
}

// proposesToRetire proposes it, with every guard lifted and nothing kept.
func (p *page) proposesToRetire(stack string) {
	p.t.Helper()
	p.open("/stacks/" + stack)
	p.press("Propose to retire")
	p.until("it is proposed, or asks what becomes of what is there",
		`document.querySelector('[role=dialog]') !== null || document.body.innerText.includes('Accept and retire')`)
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelectorAll('[role=dialog] input[name^="lift "]').forEach((e) => e.click())`))
	p.until("it is proposed",
		`(() => { const e = [...document.querySelectorAll('[role=dialog] button')].find((b) => b.innerText === 'Propose it' && !b.disabled); if (e) e.click(); return document.body.innerText.includes('Accept and retire') })()`)
}

// agreeToAll gives every consent that is asked.
func (p *page) agreeToAll() {
	p.t.Helper()
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelectorAll('li label input[type=checkbox]:not(:checked)').forEach((e) => e.click())`))
}

// opens follows the first output that is an address, and reads something there.
func (p *page) opens() {
	p.t.Helper()
	address, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[string](`document.querySelector('td a[href^="http"]')?.href ?? ''`))
	if err != nil || address == "" {
		p.t.Fatalf("no output is an address: %v\n%s", err, p.text())
	}
	if text := answers(p.t, strings.TrimSuffix(address, "/")+"/ready"); text == "" {
		p.t.Errorf("%s says nothing", address)
	}
}
