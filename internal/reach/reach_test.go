package reach

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
)

func policy(t *testing.T, openings ...string) *Policy {
	t.Helper()
	p, err := NewPolicy(openings...)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestWhatMayBeReached(t *testing.T) {
	t.Parallel()
	p := policy(t, "127.64.0.0/10", "127.0.0.1:9000", "10.9.0.7", "fd00::/64")
	p.Ours("127.64.0.1:7420")
	for at, want := range map[string]error{
		"198.51.100.7:443": nil, "[2001:db8::1]:443": nil, "[64:ff9b::c633:6407]:443": nil,
		"127.64.0.9:80": nil, "127.0.0.1:9000": nil, "10.9.0.7:22": nil, "[fd00::5]:80": nil,
		"[::ffff:127.64.0.9]:80": nil,
		"127.0.0.1:9001":         errPrivate, "10.9.0.8:22": errPrivate, "192.168.1.1:80": errPrivate,
		"172.16.0.1:80": errPrivate, "100.64.0.1:80": errPrivate, "[::1]:80": errPrivate, "[fd00:1::5]:80": errPrivate,
		"[::ffff:127.0.0.1]:80": errPrivate, "[64:ff9b::7f00:1]:80": errPrivate, "[2002:7f00:1::]:80": errPrivate,
		"[64:ff9b::a9fe:a9fe]:80": errNever,
		"169.254.169.254:80":      errNever, "[fe80::1]:80": errNever, "[::ffff:169.254.169.254]:80": errNever,
		"0.0.0.0:80": errNever, "[::]:80": errNever, "224.0.0.1:80": errNever,
		"0.1.2.3:80": errNever, "192.0.0.8:80": errNever, "240.0.0.1:80": errNever, "[::127.0.0.1]:80": errNever,
		"[::8.8.8.8]:80": errNever, "[fec0::1]:80": errNever, "[100::1]:80": errNever, "[5f00::1]:80": errNever,
		"198.18.0.1:80": errPrivate, "198.19.255.1:80": errPrivate, "198.20.0.1:80": nil,
		"[64:ff9b:1::1]:80": errPrivate, "[64:ff9b:1::7f00:1]:80": errPrivate, "192.0.1.1:80": nil,
		"127.64.0.1:7420": errNever, "[::ffff:127.64.0.1]:7420": errNever, "127.64.0.1:7421": nil,
	} {
		if err := p.Check(netip.MustParseAddrPort(at)); err != want && !errors.Is(err, want) {
			t.Errorf("%s: %v, want %v", at, err, want)
		}
	}
	var none *Policy
	if none.Check(netip.MustParseAddrPort("127.0.0.1:80")) == nil ||
		none.Check(netip.MustParseAddrPort("198.51.100.7:443")) != nil {
		t.Error("without a policy public addresses are open, and nothing else")
	}
	for _, wrong := range []string{"", "localhost", "10.0.0.0/33", "10.0.0.1:x"} {
		if _, err := NewPolicy(wrong); err == nil {
			t.Errorf("%q opens something", wrong)
		}
	}
}

// TestNamesAndRedirectsOpenNothing: a name that resolves to a closed address and a
// redirect to one end there, with words that tell nothing of what is behind.
func TestNamesAndRedirectsOpenNothing(t *testing.T) {
	t.Parallel()
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Write([]byte("inside"))
	}))
	defer inside.Close()
	outside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, inside.URL, http.StatusFound)
	}))
	defer outside.Close()
	p := policy(t, strings.TrimPrefix(outside.URL, "http://"))
	client := &http.Client{Transport: p.Transport(), CheckRedirect: Redirects}
	if _, err := client.Get(outside.URL); err == nil || !strings.Contains(err.Error(), errPrivate.Why) {
		t.Errorf("a redirect leads inside: %v", err)
	}
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(inside.URL, "http://"))
	if _, err := p.Dial(context.Background(), "tcp", "localhost:"+port); err == nil || err.Error() != errPrivate.Why {
		t.Errorf("a name leads inside: %v", err)
	}
	open := policy(t, "127.0.0.0/8", "::1")
	if conn, err := open.Dial(context.Background(), "tcp", "localhost:"+port); err != nil {
		t.Error(err)
	} else {
		conn.Close()
	}
}

// TestAServiceThatListensEverywhereIsSeenAsOurs: at each address of this machine, whatever
// opens it, and at no other.
func TestAServiceThatListensEverywhereIsSeenAsOurs(t *testing.T) {
	t.Parallel()
	p := policy(t, "127.0.0.0/8", "10.0.0.0/8", "fd00::/8", "::1")
	p.Ours("0.0.0.0:7420")
	p.Ours("[::]:7421")
	own := []string{"127.0.0.1", "127.64.3.3", "[::1]"}
	if list, err := net.InterfaceAddrs(); err == nil {
		for _, a := range list {
			if at, err := netip.ParsePrefix(a.String()); err == nil && at.Addr().Is4() {
				own = append(own, at.Addr().String())
			}
		}
	}
	for _, addr := range own {
		for _, port := range []string{":7420", ":7421"} {
			if err := p.Check(netip.MustParseAddrPort(addr + port)); err != errNever {
				t.Errorf("%s%s: %v", addr, port, err)
			}
		}
	}
	for _, at := range []string{"10.254.253.252:7420", "198.51.100.7:7420", "127.0.0.1:7422"} {
		if err := p.Check(netip.MustParseAddrPort(at)); err != nil {
			t.Errorf("%s: %v", at, err)
		}
	}
}
