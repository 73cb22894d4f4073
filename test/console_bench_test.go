package test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// sixtySource makes about sixty resources; its range can be wrong.
const sixtySource = `undersail: 1
about: {name: many, version: 1.0.0, title: Many}
inputs:
  range: {type: string, format: cidr, default: 10.72.0.0/16, title: Range, page: Network}
  count: {type: integer, minimum: 1, maximum: 2000, default: %d, page: Network}
resources:
  net: {type: network, want: {range: =inputs.range}}
  lan: {type: subnet, want: {network: =net.id, range: '=carve(inputs.range, ["lan/20"]).lan'}}
  rules:
    type: firewall
    repeat: =inputs.count
    want: {network: =net.id, rules: ['=firewall_rule{from: inputs.range, port: 1000 + index, about: "gauge " + string(index)}']}
`

// TestConsoleFigures measures the console in a browser, each figure over one that is
// measured beside it, and prints them. It judges nothing; make bench-console runs it, with
// the numbers of changes and rounds in UNDERSAIL_BENCH_CONSOLE.
func TestConsoleFigures(t *testing.T) {
	sizes := os.Getenv("UNDERSAIL_BENCH_CONSOLE")
	if sizes == "" {
		t.Skip("make bench-console measures")
	}
	many, rounds := 1000, 15
	fmt.Sscanf(sizes, "%d %d", &many, &rounds)
	b := start(t, "--empty", "--pace", "600")
	bytes := b.firstPage()
	fmt.Printf("%-76s %10s %10s %7s %7s\n", "what", "measured", "reference", "ratio", "target")
	print := func(what, measured, reference string, ratio, target float64) {
		fmt.Printf("%-76s %10s %10s %7.2f %7.2f\n", what, measured, reference, ratio, target)
	}
	print("first page, compressed, over 150 kB", fmt.Sprintf("%.1f kB", float64(bytes)/1000), "150 kB",
		float64(bytes)/150000, 1)

	p := b.browse()
	p.signIn(b.password)
	shown, bare := p.keyToFindings(b, rounds)
	print("from a key pressed to its findings shown, 60 resources, over the bare check", ms(shown), ms(bare),
		shown/bare, 2)

	few, lot := p.proposalOf(b, "few", 50), p.proposalOf(b, "lot", many)
	print(fmt.Sprintf("proposal of %d changes scrolled and searched: longest frame over that of 50", many), ms(lot),
		ms(few), lot/few, 3)
	fewRun, lotRun := p.runOf(b, "few"), p.runOf(b, "lot")
	print(fmt.Sprintf("run of %d steps scrolled while it goes on: longest frame over that of 50", many), ms(lotRun),
		ms(fewRun), lotRun/fewRun, 3)
}

func ms(v float64) string { return fmt.Sprintf("%.1f ms", v) }

// firstPage adds up what a visitor loads first: the page, its scripts and its styles, as
// gzip squeezes them.
func (b *bench) firstPage() int {
	page := answers(b.t, b.url+"/")
	all := []string{page}
	for _, m := range regexp.MustCompile(`(?:src|href)="(/assets/[^"]+\.(?:js|css))"`).FindAllStringSubmatch(page, -1) {
		all = append(all, answers(b.t, b.url+m[1]))
	}
	n := 0
	for _, text := range all {
		var out bytes.Buffer
		w := gzip.NewWriter(&out)
		io.WriteString(w, text)
		w.Close()
		n += out.Len()
	}
	return n
}

// keyToFindings types a digit into a range, again and again, and gives the medians of the
// time until its finding is shown, and of the same check asked alone, in milliseconds.
func (p *page) keyToFindings(b *bench, rounds int) (shown, bare float64) {
	body := map[string]any{
		"stack":   "sixty",
		"account": "saltmere-lab",
		"region":  "hollow-bay",
		"source":  fmt.Sprintf(sixtySource, 57),
		"file":    "many.sail.yaml",
	}
	raw, _ := json.Marshal(body)
	var draft struct{ ID string }
	p.post(b, "/api/v1/drafts", raw, &draft)
	p.open("/prepare/many?draft=" + draft.ID + "&page=Network")
	p.sees("drawn to scale")
	var keys, checks []float64
	for i := range rounds {
		wrong := fmt.Sprintf("10.72.0.%d/16", i+1) // has host bits set
		body["inputs"] = map[string]any{"range": wrong}
		question, _ := json.Marshal(body)
		alone, err := chromedp.Run(p.ctx, chromedp.Evaluate[float64](fmt.Sprintf(`(async () => {
			const began = performance.now()
			const answer = await fetch('/api/v1/checks', {method: 'POST', headers: {'Content-Type': 'application/json', 'X-Undersail-Console': '1'}, body: %q})
			await answer.json()
			return performance.now() - began
		})()`, question), chromedp.EvalAwaitPromise))
		if err != nil {
			p.t.Fatal(err)
		}
		checks = append(checks, alone)
		v, err := chromedp.Run(p.ctx, chromedp.Evaluate[float64](fmt.Sprintf(`new Promise(done => {
			const e = document.querySelector('#field-range'), text = %q
			const began = performance.now()
			const seen = () => document.querySelector('aside')?.textContent.includes(text)
			const watch = new MutationObserver(() => { if (seen()) { watch.disconnect(); done(performance.now() - began) } })
			watch.observe(document.body, {subtree: true, childList: true, characterData: true})
			Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(e, text)
			e.dispatchEvent(new Event('input', {bubbles: true}))
			setTimeout(() => done(-1), 10000)
		})`, wrong), chromedp.EvalAwaitPromise))
		if err != nil || v < 0 {
			p.t.Fatalf("the finding of %s was not shown: %v\n%s", wrong, err, p.text())
		}
		keys = append(keys, v)
		time.Sleep(150 * time.Millisecond)
	}
	slices.Sort(keys)
	slices.Sort(checks)
	return keys[len(keys)/2], checks[len(checks)/2]
}

func (p *page) post(b *bench, path string, body []byte, v any) {
	p.t.Helper()
	r, _ := http.NewRequest(http.MethodPost, b.url+path, bytes.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Authorization", "Bearer "+b.token())
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		p.t.Fatal(err)
	}
	defer answer.Body.Close()
	raw, _ := io.ReadAll(answer.Body)
	if answer.StatusCode >= 300 {
		p.t.Fatalf("%s: %s %s", path, answer.Status, raw)
	}
	json.Unmarshal(raw, v)
}

// proposalOf proposes so many changes, and gives the longest frame while they are scrolled
// and searched.
func (p *page) proposalOf(b *bench, stack string, n int) float64 {
	p.t.Helper()
	raw, _ := json.Marshal(map[string]any{
		"stack":   stack,
		"account": "saltmere-lab",
		"region":  "hollow-bay",
		"source":  fmt.Sprintf(sixtySource, n-2),
		"file":    "many.sail.yaml",
		"inputs":  map[string]any{"range": fmt.Sprintf("10.%d.0.0/16", 73+n%7)},
	})
	var proposal struct{ ID int64 }
	p.post(b, "/api/v1/proposals", raw, &proposal)
	p.open(fmt.Sprintf("/proposals/%d", proposal.ID))
	p.sees("Created")
	return p.longestFrame(`async () => {
		const list = document.querySelector('[aria-label=Changes][role=list]'), box = list.scrollHeight > list.clientHeight ? list : document.scrollingElement
		for (let i = 0; i < 60; i++) { box.scrollTop = (i % 30) * box.scrollHeight / 30; await frame() }
		const search = document.querySelector('input[type=search]')
		for (const text of ['r', 'ru', 'rules[4', 'rules', '']) { Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(search, text); search.dispatchEvent(new Event('input', {bubbles: true})); for (let i = 0; i < 6; i++) await frame() }
	}`)
}

// runOf applies the newest proposal of a stack, and gives the longest frame while its steps
// are scrolled as they change.
func (p *page) runOf(b *bench, stack string) float64 {
	var list []struct{ ID int64 }
	b.reads("/api/v1/proposals?stack="+stack, &list)
	b.must(0, "accept", fmt.Sprint(list[0].ID))
	var run struct{ ID int64 }
	p.post(b, fmt.Sprintf("/api/v1/proposals/%d/apply", list[0].ID), nil, &run)
	p.open(fmt.Sprintf("/runs/%d", run.ID))
	p.sees("decides the end")
	return p.longestFrame(`async () => {
		const box = document.querySelector('[aria-label="Time of each step"]')
		for (let i = 0; i < 240; i++) { box.scrollTop = (i % 60) * box.scrollHeight / 60; await frame() }
	}`)
}

// longestFrame is the longest time between two frames, in milliseconds, while something is
// done to the page.
func (p *page) longestFrame(what string) float64 {
	p.t.Helper()
	time.Sleep(700 * time.Millisecond)
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[float64](`(async () => {
		const frame = () => new Promise(requestAnimationFrame)
		let longest = 0, last = performance.now(), on = true
		const tick = () => { const now = performance.now(); longest = Math.max(longest, now - last); last = now; if (on) requestAnimationFrame(tick) }
		requestAnimationFrame(tick)
		await (`+strings.TrimSpace(what)+`)()
		on = false
		return longest
	})()`, chromedp.EvalAwaitPromise))
	if err != nil {
		p.t.Fatal(err)
	}
	return v
}
