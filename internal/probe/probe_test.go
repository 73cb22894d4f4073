package probe

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strconv"
	"strings"
	"testing"
	"time"

	"undersail/internal/core/health"
)

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
	p := Prober{Allowed: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, Scrub: func(s string) string { return strings.ReplaceAll(s, "hush", "secret:s") }}
	for _, c := range []struct {
		spec   map[string]any
		passed bool
		answer string
	}{
		{map[string]any{"url": server.URL + "/ready", "trust": "any"}, true, "200 feeds 5 with word secret:s"},
		{map[string]any{"url": server.URL + "/ready", "trust": "any", "contains": "feeds 5"}, true, "200"},
		{map[string]any{"url": server.URL + "/ready", "trust": "any", "contains": "feeds 6"}, false, "200"},
		{map[string]any{"url": server.URL + "/cold", "trust": "any"}, false, "503"},
		{map[string]any{"url": server.URL + "/cold", "trust": "any", "status": int64(503)}, true, "503"},
		{map[string]any{"url": server.URL + "/away", "trust": "any"}, false, "302"},
		{map[string]any{"url": server.URL + "/ready"}, false, "certificate"},
		{map[string]any{"url": "http://10.9.9.9/"}, false, "policy lets no probe go to 10.9.9.9"},
	} {
		if e := look(p, "http", c.spec); e.Passed != c.passed || !strings.Contains(e.Answer, c.answer) {
			t.Errorf("%v: %+v", c.spec, e)
		}
	}
}

func TestPolicyHoldsForWhatAnAddressReallyReaches(t *testing.T) {
	t.Parallel()
	p := Prober{Allowed: []netip.Prefix{netip.MustParsePrefix("127.64.0.0/10")}, Reach: map[string]string{"127.64.0.1:80": "127.0.0.1:80"}}
	if e := look(p, "tcp", map[string]any{"host": "127.64.0.1", "port": int64(80)}); e.Passed || !strings.Contains(e.Answer, "policy") {
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
	p := Prober{Allowed: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, Timeout: time.Second}
	spec := map[string]any{"host": "127.0.0.1", "port": port}
	if e := look(p, "tcp", spec); !e.Passed || e.Answer != "connected" {
		t.Errorf("%+v", e)
	}
	l.Close()
	if e := look(p, "tcp", spec); e.Passed || e.Answer != "connection refused" {
		t.Errorf("%+v", e)
	}
}
