package test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"

	"undersail/internal/await"

	"github.com/chromedp/chromedp"
)

// badLine stands between a browser and the service, and behaves as lines and services do.
type badLine struct {
	*httptest.Server
	mu     sync.Mutex
	faults []lineFault
	met    int
	html   func(string) string // what becomes of the console's page when a script asks for it
}

// lineFault answers calls of a method to a path in the service's place: with a status, or, for 0,
// with a connection that ends.
type lineFault struct {
	method string
	path   *regexp.Regexp
	status int
	head   http.Header
	behind bool // the service hears it, and its answer is lost
}

// badLine leads to the service.
func (b *bench) badLine() *badLine {
	b.t.Helper()
	l := &badLine{}
	proxy := &httputil.ReverseProxy{
		FlushInterval: -1,
		Rewrite: func(r *httputil.ProxyRequest) {
			to, _ := url.Parse(b.url) // the service may have come back at another place
			r.SetURL(to)
			r.Out.Header.Del("Accept-Encoding")
			if r.In.Header.Get("Origin") != "" {
				r.Out.Header.Set("Origin", b.url) // the service knows itself by its own name alone
			}
		},
		ErrorHandler: func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) },
		ModifyResponse: func(r *http.Response) error {
			l.mu.Lock()
			defer l.mu.Unlock()
			asked := r.Request.Header.Get("Sec-Fetch-Dest") == "empty" // by a script, and not to be shown
			if l.html == nil || !asked || !strings.HasPrefix(r.Header.Get("Content-Type"), "text/html") {
				return nil
			}
			text, err := io.ReadAll(r.Body)
			if err != nil {
				return err
			}
			changed := []byte(l.html(string(text)))
			r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(changed)), int64(len(changed))
			r.Header.Set("Content-Length", strconv.Itoa(len(changed)))
			return nil
		},
	}
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f, hit := l.faultOf(r)
		switch {
		case !hit:
			proxy.ServeHTTP(w, r)
			return
		case f.behind:
			proxy.ServeHTTP(httptest.NewRecorder(), r)
		case f.status != 0:
			for k, v := range f.head {
				w.Header()[k] = v
			}
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(f.status)
			_, _ = fmt.Fprintf(w, `{"type":"urn:undersail:test","title":"%s","status":%d}`, http.StatusText(f.status),
				f.status)
			return
		}
		panic(http.ErrAbortHandler) // the connection ends without an answer
	}))
	b.t.Cleanup(func() { l.CloseClientConnections(); l.Close() })
	return l
}

func (l *badLine) faultOf(r *http.Request) (lineFault, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, f := range l.faults {
		if (f.method == "" || f.method == r.Method) && f.path.MatchString(r.URL.Path) {
			l.met++
			return f, true
		}
	}
	return lineFault{}, false
}

// breaks lets faults be until they are lifted, and tells how many calls met them.
func (l *badLine) breaks(faults ...lineFault) (met func() int, lift func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.faults, l.met = faults, 0
	met = func() int { l.mu.Lock(); defer l.mu.Unlock(); return l.met }
	return met, func() { l.mu.Lock(); defer l.mu.Unlock(); l.faults = nil }
}

var anything, ofDrafts, ofScripts = regexp.MustCompile(`.`), regexp.MustCompile(`^/api/v1/drafts/`), regexp.MustCompile(`^/assets/.*\.js$`)

// typedStep is one step of preparing: what is typed there, and how the draft has it then.
type typedStep struct {
	page, field string
	values      []string // one for each fault
	kept        func(body map[string]any) string
}

// TestNothingTypedIsLost prepares a stack over a line and a service that fail in every way, at
// every step: each time the page says what is so, and what was typed is in the draft at the end.
func TestNothingTypedIsLost(t *testing.T) {
	t.Parallel()
	b := startAlone(t, "--empty", "--pace", "240")
	line := b.badLine()
	p := b.browse()
	p.url = line.URL
	p.signIn(b.password)
	p.open("/prepare/gauge-intake")
	p.sees("Name of the stack", "best fit")
	id := p.says(`new URLSearchParams(location.search).get('draft')`)
	draft := func() (body map[string]any) {
		var d struct{ Body map[string]any }
		b.reads("/api/v1/drafts/"+id, &d)
		return d.Body
	}
	input := func(name string) func(map[string]any) string {
		return func(body map[string]any) string {
			inputs, _ := body["inputs"].(map[string]any)
			return fmt.Sprint(inputs[name])
		}
	}
	steps := []typedStep{
		{"Place", "#stack-name", []string{"na", "nb", "nc", "nd", "ne", "nf", "ng", "nh", "north"},
			func(body map[string]any) string { return fmt.Sprint(body["stack"]) }},
		{"Workers", "#field-workers", []string{"3", "4", "5", "6", "7", "8", "9", "10", "11"}, input("workers")},
		{"Network", "#field-range",
			[]string{"10.40.0.0/22", "10.41.0.0/22", "10.42.0.0/22", "10.43.0.0/22", "10.44.0.0/22", "10.45.0.0/22",
				"10.46.0.0/22", "10.47.0.0/22", "10.48.0.0/22"}, input("range")},
	}
	faults := []struct {
		name   string
		fault  lineFault
		told   string
		mended func(p *page)
	}{
		{"408", lineFault{method: "PATCH", path: ofDrafts, status: 408}, "The service could not take it just now", nil},
		{"429", lineFault{method: "PATCH", path: ofDrafts, status: 429, head: http.Header{"Retry-After": {"1"}}},
			"The service could not take it just now", nil},
		{"503", lineFault{method: "PATCH", path: ofDrafts, status: 503}, "The service could not take it just now", nil},
		{"a dropped connection", lineFault{path: anything}, "The service does not answer", nil},
		{"an answer that is lost", lineFault{method: "PATCH", path: ofDrafts, behind: true},
			"The service does not answer", nil},
		{"401", lineFault{path: regexp.MustCompile(`^/api/v1/(drafts|me)`), status: 401}, "Your session ended",
			func(p *page) { // the page looks once more when it is looked at: the answers may have ended after it asked
				p.do(chromedp.Evaluate[chromedp.Void](`window.dispatchEvent(new Event('focus'))`))
				p.unsees("Your session ended")
			}},
		{"422", lineFault{method: "PATCH", path: ofDrafts, status: 422}, "not taken",
			func(p *page) { p.press("Try again") }},
		{"403", lineFault{method: "PATCH", path: ofDrafts, status: 403}, "not kept",
			func(p *page) { p.press("Try again") }},
	}
	for _, s := range steps {
		for i, f := range faults {
			if t.Failed() {
				return // the next would begin from what this one left
			}
			t.Run(s.page+" under "+f.name, func(t *testing.T) {
				p.t = t
				p.goes(s.page)
				met, lift := line.breaks(f.fault)
				p.typeIn(s.field, s.values[i])
				p.sees(f.told)
				if got := p.says(fmt.Sprintf(`document.querySelector(%q).value`, s.field)); got != s.values[i] {
					t.Errorf("the field shows %q, and %q was typed", got, s.values[i])
				}
				if met() == 0 {
					t.Error("no call met the fault")
				}
				if f.fault.status == http.StatusUnauthorized { // while it cannot go away by itself
					p.typeIn(`[role=dialog] input[type=password]`, b.password)
					p.press("Sign in and go on")
				}
				lift()
				if f.mended != nil {
					f.mended(p)
				}
				p.sees("kept just now")
				await.Until(t, "what was typed is in the draft",
					func() bool { return s.kept(draft()) == s.values[i] })
				p.unsees(f.told)
			})
		}
	}
	p.t = t

	t.Run("a page that is loaded anew sends what waited", func(t *testing.T) {
		p.t = t
		p.goes("Workers")
		_, lift := line.breaks(lineFault{method: "PATCH", path: ofDrafts, status: 503})
		p.typeIn("#field-workers", "12")
		p.sees("1 value waiting for the service")
		p.do(chromedp.Evaluate[chromedp.Void]("location.reload()"))
		p.sees("waiting for the service")
		lift()
		await.Until(t, "what was typed is in the draft",
			func() bool { return input("workers")(draft()) == "12" })
		p.sees("kept just now")
	})

	t.Run("killed and restarted", func(t *testing.T) {
		p.t = t
		b.stop(syscall.SIGKILL)
		p.typeIn("#field-workers", "13")
		p.sees("The service does not answer", "The service cannot be heard since")
		b.up("--empty", "--pace", "240")
		await.Until(t, "what was typed is in the draft",
			func() bool { return input("workers")(draft()) == "13" })
		p.unsees("cannot be heard")
	})

	t.Run("frozen", func(t *testing.T) {
		p.t = t
		if err := b.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
			t.Fatal(err)
		}
		p.typeIn("#field-workers", "14")
		p.sees("no answer for")
		if err := b.cmd.Process.Signal(syscall.SIGCONT); err != nil {
			t.Fatal(err)
		}
		await.Until(t, "what was typed is in the draft",
			func() bool { return input("workers")(draft()) == "14" })
		p.unsees("no answer for")
	})

	t.Run("two tabs", func(t *testing.T) {
		p.t = t
		other := p.tab()
		other.open("/prepare/gauge-intake?draft=" + id + "&page=Workers")
		other.sees("Prepare nh")
		other.typeIn("#field-workers", "4")
		other.sees("kept just now")
		p.typeIn("#field-workers", "6")
		p.sees("changed elsewhere while you typed")
		p.press("Lay mine over it")
		await.Until(t, "what was laid over it is in the draft",
			func() bool { return input("workers")(draft()) == "6" })
		code, said := b.call("DELETE", "/api/v1/drafts/"+id, b.token(), "")
		if code != http.StatusNoContent { // and what if it goes meanwhile
			t.Fatalf("removing the draft: %d, %v", code, said)
		}
		p.typeIn("#field-workers", "7")
		p.sees("This draft was proposed or removed meanwhile")
		p.press("Go on in a new draft")
		p.until("it is a new draft",
			fmt.Sprintf(`!location.search.includes(%q) && document.body.innerText.includes('Prepare nh')`, id))
		id = p.says(`new URLSearchParams(location.search).get('draft')`)
		await.Until(t, "everything is in the new draft",
			func() bool { return input("workers")(draft()) == "7" && input("range")(draft()) == "10.47.0.0/22" })
	})
}

// TestARunIsToldAsItIs follows a run over the same line: what is typed into a dialog stays, what is
// shown is not taken away by an answer that says nothing, and the end is told however bad the line was.
func TestARunIsToldAsItIs(t *testing.T) {
	t.Parallel()
	b := startAlone(t, "--empty", "--pace", "240")
	line := b.badLine()
	b.must(6, "apply", b.propose("berth", file(t, "berthed.sail.yaml", berthed)), "--watch")
	p := b.browse()
	p.url = line.URL
	p.signIn(b.password)
	p.open("/runs/1")
	p.sees("It waits:", "the value of serial")
	ofRuns := regexp.MustCompile(`^/api/v1/(runs|stream|stacks)`)
	for _, status := range []int{408, 429, 503} {
		met, lift := line.breaks(lineFault{path: ofRuns, status: status})
		line.CloseClientConnections()
		p.sees("The service cannot be heard since")
		await.Until(t, "the page asks", func() bool { return met() > 3 })
		p.sees("It waits:", "the value of serial")
		lift()
		p.unsees("cannot be heard")
	}
	p.press("Give serial")
	p.fill("serial", "00")
	p.endsSession()
	p.sees("Your session ended", "Sign in as ines")
	if strings.Contains(p.text(), "cannot be heard") {
		t.Error("a session that ended is told as a service that is away")
	}
	p.typeIn(`input[autocomplete="current-password"]`, b.password)
	p.press("Sign in and go on")
	p.unsees("Your session ended")
	if typed := p.says(`document.querySelector('[name=serial]').value`); typed != "00" {
		t.Errorf("in the dialog stands %q", typed)
	}
	p.typeIn("[name=serial]", "0042")
	if err := b.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	p.press("Give and go on")
	p.until("it is on its way, and cannot be sent twice",
		`[...document.querySelectorAll('[role=dialog] button')].some((b) => b.innerText === 'Give and go on' && b.disabled)`)
	if err := b.cmd.Process.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	p.sees("ended ", "1 of 1")

	t.Run("a script that is missing", func(t *testing.T) {
		p.t = t
		_, lift := line.breaks(lineFault{path: ofScripts}, lineFault{path: regexp.MustCompile(`^/favicon`)})
		p.press("Audit")
		p.sees("The script of this page could not be read", "loaded anew as soon as the service answers")
		lift()
		p.sees("Who", "berth")
		_, lift = line.breaks(lineFault{path: ofScripts, status: http.StatusNotFound})
		p.press("Tokens")
		p.sees("It was loaded anew once, and the script is still missing")
		lift()
		p.press("Try again")
		p.sees("Tokens of programs")
	})

	t.Run("another build", func(t *testing.T) {
		p.t = t
		p.open("/runs/1")
		p.sees("1 of 1")
		line.mu.Lock()
		line.html = func(text string) string { return strings.ReplaceAll(text, `.js"`, `.js?renewed"`) }
		line.mu.Unlock()
		line.CloseClientConnections()
		p.sees("The service was renewed")
		p.do(chromedp.Evaluate[chromedp.Void]("window.before = true"))
		p.press("Audit")
		p.until("the page is loaded anew", "!window.before && document.body.innerText.includes('berth')")
		p.unsees("The service was renewed")
	})
}

// says gives what a script says as a text.
func (p *page) says(script string) string {
	p.t.Helper()
	text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](script))
	if err != nil {
		p.t.Fatalf("%s: %v", script, err)
	}
	return text
}
