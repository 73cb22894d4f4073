package test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// page is a tab of a headless browser.
type page struct {
	t    *testing.T
	ctx  context.Context
	url  string
	mu   sync.Mutex
	said []string // by the browser's console
}

// listen keeps what the browser's console says from now on.
func (p *page) listen() {
	p.t.Helper()
	keep := func(text string) { p.mu.Lock(); p.said = append(p.said, text); p.mu.Unlock() }
	if err := chromedp.Listen(p.ctx, func(event any) {
		switch e := event.(type) {
		case *runtime.EventConsoleAPICalled:
			for _, arg := range e.Args {
				keep(fmt.Sprintf("%s: %s %s", e.Type, arg.Value, arg.Description))
			}
		case *runtime.EventExceptionThrown:
			keep("exception: " + e.ExceptionDetails.Text)
		case *log.EventEntryAdded:
			keep(fmt.Sprintf("%s: %s %s", e.Entry.Level, e.Entry.Text, e.Entry.URL))
		}
	}); err != nil {
		p.t.Fatal(err)
	}
}

func (p *page) messages() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string{}, p.said...)
}

// chromium is the one browser of all tests. Each test has a context of its own in it, with no
// session and no store of another.
var chromium browserOnce

type browserOnce struct {
	once sync.Once
	ctx  context.Context
	err  error
	ends []context.CancelFunc
}

func (b *browserOnce) start() (context.Context, error) {
	b.once.Do(func() {
		path, err := exec.LookPath("chromium-headless-shell") // takes little more than half of what chromium takes
		if err != nil {
			b.err = errors.New("the Debian package chromium-headless-shell is not installed; make test installs it")
			return
		}
		options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox,
			chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
			chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
			chromedp.Flag("disable-component-update", true), chromedp.Flag("force-prefers-reduced-motion", true),
			chromedp.Flag("disable-sync", true), chromedp.Flag("hide-scrollbars", true))
		allocator, endBrowser := chromedp.NewExecAllocator(context.Background(), options...)
		ctx, endTab := chromedp.NewContext(allocator)
		b.ctx, b.ends = ctx, []context.CancelFunc{endTab, endBrowser}
		b.err = chromedp.Do(ctx)
	})
	return b.ctx, b.err
}

func (b *browserOnce) close() {
	for _, end := range b.ends {
		end()
	}
}

// browse opens a tab of 1280 by 800 on the console.
func (b *bench) browse() *page {
	b.t.Helper()
	browser, err := chromium.start()
	if err != nil {
		b.t.Fatal(err)
	}
	ctx, endTab := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	ctx, endTime := context.WithTimeout(ctx, 10*time.Minute)
	b.t.Cleanup(func() { endTime(); endTab() })
	p := &page{t: b.t, ctx: ctx, url: b.url}
	p.do(chromedp.EmulateViewport(1280, 800))
	return p
}

// tab opens another tab of the same browser, which shares its session and its store.
func (p *page) tab() *page {
	p.t.Helper()
	ctx, cancel := chromedp.NewContext(p.ctx)
	p.t.Cleanup(cancel)
	other := &page{t: p.t, ctx: ctx, url: p.url}
	other.do(chromedp.EmulateViewport(1280, 800))
	return other
}

// endsSession ends the session of the browser behind the back of its page.
func (p *page) endsSession() {
	p.t.Helper()
	p.do(chromedp.Evaluate[chromedp.Void](
		`fetch('/api/v1/session', {method: 'DELETE', headers: {'X-Undersail-Console': '1'}}).then(() => undefined)`,
		chromedp.EvalAwaitPromise))
}

func (p *page) do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	if err := chromedp.Do(p.ctx, actions...); err != nil {
		p.t.Fatalf("browser: %v\npage says: %s", err, p.text())
	}
}

func (p *page) open(path string) { p.t.Helper(); p.do(chromedp.Navigate(p.url + path)) }

// text is everything that a reader sees on the page.
func (p *page) text() string {
	text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body ? document.body.innerText : ''"))
	if err != nil {
		return "(" + err.Error() + ")"
	}
	return text
}

// sees waits until the page shows all the texts.
func (p *page) sees(texts ...string) {
	p.t.Helper()
	wanted, err := json.Marshal(texts)
	if err != nil {
		p.t.Fatal(err)
	}
	p.until(fmt.Sprintf("it shows %q", texts),
		fmt.Sprintf(`((said) => %s.every((text) => said.includes(text)))(document.body.innerText)`, wanted))
}

// press clicks the button or link with a text.
func (p *page) press(text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("there is a button %q", text),
		fmt.Sprintf(`(() => { const e = [...document.querySelectorAll('button,a')].filter(e => e.innerText.trim() === %q && !e.disabled).at(-1); if (e) e.click(); return !!e })()`, text))
}

// until waits until a script says true. The page itself asks it whenever something of it has
// changed, and twice a second for what is no change of the page, as what is in a field.
func (p *page) until(what, script string) {
	p.t.Helper()
	ask := fmt.Sprintf(`new Promise((done) => {
		let due = 0, over = false
		const holds = () => { try { return Boolean(%s) } catch { return false } }
		const end = (said) => {
			over = true
			watch.disconnect(), clearInterval(slow), clearTimeout(stop)
			done(said)
		}
		const ask = () => { due = 0; if (!over && holds()) end(true) }
		const watch = new MutationObserver(() => { due ||= setTimeout(ask, 30) })
		const slow = setInterval(ask, 500), stop = setTimeout(() => end(false), 10_000)
		watch.observe(document, {subtree: true, childList: true, characterData: true, attributes: true})
		ask()
	})`, script)
	for deadline := time.Now().Add(90 * time.Second); time.Now().Before(deadline); {
		holds, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](ask, chromedp.EvalAwaitPromise))
		if err == nil && holds {
			return
		} else if p.ctx.Err() != nil {
			break
		}
	}
	p.t.Fatalf("never: %s; the page says:\n%s", what, p.text())
}

// fill types into a field of a form.
func (p *page) fill(name, text string) {
	p.t.Helper()
	p.do(chromedp.SendKeys(chromedp.CSS("[name="+name+"]"), text))
}

func (p *page) signIn(password string) {
	p.t.Helper()
	p.open("/")
	p.sees("Sign in")
	p.do(chromedp.SendKeys(chromedp.CSS("input[name=name]"), "ines"),
		chromedp.SendKeys(chromedp.CSS("input[name=password]"), password))
	p.press("Sign in")
	p.sees("Ines Varga")
}

// shoot writes a picture of what is visible.
func (p *page) shoot(path string) {
	p.t.Helper()
	time.Sleep(300 * time.Millisecond) // fonts and transitions come to rest
	png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		p.t.Fatal(err)
	}
	if err := os.WriteFile(path, png, 0o644); err != nil {
		p.t.Fatal(err)
	}
}

// scrollsTo brings the part of the page with a title to its top.
func (p *page) scrollsTo(title string) {
	p.t.Helper()
	p.until("there is "+title,
		fmt.Sprintf(`(() => { const e = [...document.querySelectorAll('h2')].find((h) => h.innerText == %q); if (!e) return false; e.closest('section').scrollIntoView({block: 'start'}); return true })()`, title))
}

// focus puts the cursor into what a CSS selector finds, with what is in it selected.
func (p *page) focus(selector string) {
	p.t.Helper()
	p.until("there is "+selector,
		fmt.Sprintf(`(() => { const e = document.querySelector(%q); if (!e) return false; e.scrollIntoView({block: 'center'}); e.focus(); if (e.select) e.select(); return true })()`, selector))
}

// typeIn replaces what is in a field by typing.
func (p *page) typeIn(selector, text string) {
	p.t.Helper()
	p.focus(selector)
	p.do(chromedp.KeyEvent(text))
}

// choose picks a value of a field whose choices stand in a table or as radios.
func (p *page) choose(field, value string) {
	p.t.Helper()
	p.clicks(fmt.Sprintf(`[data-field=%q] input[value=%q]`, field, value))
}

// clicks clicks what a CSS selector finds, as soon as it is there.
func (p *page) clicks(selector string) {
	p.t.Helper()
	p.until(selector+" can be clicked",
		fmt.Sprintf(`(() => { const e = document.querySelector(%q); if (!e || e.disabled) return false; e.click(); return true })()`, selector))
}

// goes opens a page of the form that is shown.
func (p *page) goes(title string) {
	p.t.Helper()
	p.clicks(fmt.Sprintf(`nav[aria-label="Pages of the template"] button[data-page=%q]`, title))
}

// unsees waits until the page shows a text no more.
func (p *page) unsees(text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("%q is gone", text), fmt.Sprintf(`!document.body.innerText.includes(%q)`, text))
}
