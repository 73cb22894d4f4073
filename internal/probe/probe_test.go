package probe

import (
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"undersail/internal/core/health"
	"undersail/internal/reach"
	"undersail/internal/secret"
)

func loopback(t *testing.T) *reach.Policy {
	t.Helper()
	p, err := reach.NewPolicy("127.0.0.0/8")
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func look(p Prober, kind string, spec map[string]any) health.Evidence {
	return p.Look(context.Background(), "site", health.Check{Name: kind + "-1", Kind: kind, Spec: spec})
}

func TestHTTP(t *testing.T) {
	t.Parallel()
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/away" {
			http.Redirect(w, r, "/ready", http.StatusFound)
			return
		}
		if r.URL.Path != "/ready" {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		fmt.Fprint(w, "feeds 5 with word hush")
	}))
	defer server.Close()
	p := Prober{Policy: loopback(t), Secrets: secret.NewScrubber(map[string]string{"s": "hush"})}
	for _, c := range []struct {
		spec   map[string]any
		passed bool
		answer string
	}{
		{map[string]any{"url": server.URL + "/ready", "trust": "any"}, true,
			"200 feeds 5 with word secret:s (certificate SHA-256 "},
		{map[string]any{"url": server.URL + "/ready", "trust": "any", "contains": "feeds 5"}, true, "200"},
		{map[string]any{"url": server.URL + "/ready", "trust": "any", "contains": "feeds 6"}, false, "200"},
		{map[string]any{"url": server.URL + "/cold", "trust": "any"}, false, "503"},
		{map[string]any{"url": server.URL + "/cold", "trust": "any", "status": int64(503)}, true, "503"},
		{map[string]any{"url": server.URL + "/away", "trust": "any"}, false, "302"},
		{map[string]any{"url": server.URL + "/ready"}, false, "certificate"},
		{map[string]any{"url": "http://10.9.9.9/"}, false, "administrator opened them"},
	} {
		if e := look(p, "http", c.spec); e.Passed != c.passed || !strings.Contains(e.Answer, c.answer) {
			t.Errorf("%v: %+v", c.spec, e)
		}
	}
}

// TestEvidenceHoldsNoSecretAcrossItsCut: an answer is shortened, and blanks in it are
// squeezed, after secrets were taken out.
func TestEvidenceHoldsNoSecretAcrossItsCut(t *testing.T) {
	t.Parallel()
	const value = "rising  water\nat the weir 'twelve'"
	said := ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, said) }))
	defer server.Close()
	p := Prober{Policy: loopback(t), Secrets: secret.NewScrubber(map[string]string{"coast/password@1": value})}
	encoded := base64.StdEncoding.EncodeToString([]byte(value))
	leaks := func(answer string) bool {
		for _, word := range []string{"rising", "water", "weir", "twelve", encoded[:8], encoded[20:30]} {
			if strings.Contains(answer, word) {
				return true
			}
		}
		return false
	}
	for before := answerLimit - len(value) - 8; before <= answerLimit; before += 3 {
		for _, form := range []string{value, url.QueryEscape(value), fmt.Sprintf("%q", value),
			base64.StdEncoding.EncodeToString([]byte(value))} {
			said = strings.Repeat("x", before) + form
			if e := look(p, "http", map[string]any{"url": server.URL}); leaks(e.Answer) {
				t.Fatalf("after %d letters: %s", before, e.Answer)
			}
		}
	}
	for cut := 1; cut <= len(value); cut += 2 {
		said = strings.Repeat(" ", readLimit-cut) + value
		if e := look(p, "http", map[string]any{"url": server.URL}); leaks(e.Answer) {
			t.Fatalf("when %d bytes of it are read: %s", cut, e.Answer)
		}
	}
	said = "x"
	e := look(p, "http", map[string]any{"url": "http://127.0.0.1:1/?p=" + url.QueryEscape(value)})
	if leaks(e.Asked) || leaks(e.Answer) || !strings.Contains(e.Asked, "secret:coast/password@1") {
		t.Errorf("of an unreachable URL: %+v", e)
	}
	if e := look(p, "http", map[string]any{"url": "http://[" + value}); leaks(e.Asked) || leaks(e.Answer) {
		t.Errorf("of what is no URL: %+v", e)
	}
}

func TestAMachineThatWasGivenASecretKeepsOnlyWhatACheckNames(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "version 3.10, drowssap hsuh")
	}))
	defer server.Close()
	told := Prober{
		Policy:  loopback(t),
		Secrets: secret.NewScrubber(map[string]string{"s": "hush password"}),
		Told:    map[string]bool{"site": true},
	}
	byHost := Prober{Policy: told.Policy, Hosts: map[string]bool{"127.0.0.1": true}}
	for _, p := range []Prober{told, byHost} {
		e := look(p, "http", map[string]any{"url": server.URL, "contains": "3.10"})
		if !e.Passed || e.Answer != "200 (27 bytes, not kept: the machine was given a secret)" {
			t.Errorf("%+v", e)
		}
		e = look(p, "http", map[string]any{"url": server.URL, "keep": `version [\d.]+`})
		if !e.Passed || e.Answer != "200 version 3.10" {
			t.Errorf("%+v", e)
		}
	}
}

func TestPolicyHoldsForWhatAnAddressReallyReaches(t *testing.T) {
	t.Parallel()
	p := Prober{
		Policy: loopback(t),
		Within: []netip.Prefix{netip.MustParsePrefix("127.64.0.0/10")},
		Reach:  map[string]string{"127.64.0.1:80": "127.0.0.1:80"},
	}
	e := look(p, "tcp", map[string]any{"host": "127.64.0.1", "port": int64(80)})
	if e.Passed || !strings.Contains(e.Answer, "no probe goes there") {
		t.Errorf("%+v", e)
	}
}

func TestTCP(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_, text, _ := net.SplitHostPort(l.Addr().String())
	port, _ := strconv.ParseInt(text, 10, 64)
	p := Prober{Policy: loopback(t), Timeout: time.Second}
	spec := map[string]any{"host": "127.0.0.1", "port": port}
	if e := look(p, "tcp", spec); !e.Passed || e.Answer != "connected" {
		t.Errorf("%+v", e)
	}
	l.Close()
	if e := look(p, "tcp", spec); e.Passed || e.Answer != "connection refused" {
		t.Errorf("%+v", e)
	}
}
