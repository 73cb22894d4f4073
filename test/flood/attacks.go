package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// tally counts what came of attacks.
type tally struct{ signIns, bodies, slow, streams, checks, invented atomic.Int64 }

func (t *tally) String() string {
	return fmt.Sprintf("%d sign-ins, %d big bodies, %d slow peers, %d streams, %d heavy checks, %d invented names",
		t.signIns.Load(), t.bodies.Load(), t.slow.Load(), t.streams.Load(), t.checks.Load(), t.invented.Load())
}

// heavy is a template whose check takes as much as one may.
const heavy = "undersail: 1\nabout: {name: quays, version: 1.0.0, title: Quays}\nresources:\n" +
	"  quay: {type: address, repeat: 9900, want: {tags: {n: \"=string(lists.range(900).map(i, i * index).filter(i, " +
	"i % 7 == 3).size())\"}}}\n"

// attack is one attacker: from an address of its own, in one of six ways.
func (t *target) attack(ctx context.Context, i int, people []string, tally *tally) {
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+i))}, Timeout: 5 * time.Second}
	client := &http.Client{Timeout: time.Minute, Transport: &http.Transport{DialContext: dialer.DialContext}}
	defer client.CloseIdleConnections()
	post := func(path, token string, body []byte) {
		r, _ := http.NewRequestWithContext(ctx, http.MethodPost, t.url+path, bytes.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		if res, err := client.Do(r); err == nil {
			io.Copy(io.Discard, res.Body)
			res.Body.Close()
		}
	}
	insider := people[i/6%len(people)]
	check, _ := json.Marshal(map[string]any{
		"stack":   "quays",
		"file":    "quays.sail.yaml",
		"source":  heavy,
		"account": "saltmere-lab",
		"region":  "north-fell",
	})
	big := append(append([]byte(`{"stack":"x","source":"`), bytes.Repeat([]byte("# "), 2<<20-100)...), `"}`...)
	way := i % 6
	if only >= 0 {
		way = only
	}
	for n := 0; ctx.Err() == nil; n++ {
		switch way {
		case 0:
			post("/api/v1/session", "",
				fmt.Appendf(nil, `{"name":%q,"password":"guess %d"}`,
					[]string{"ines", "tomas", fmt.Sprint("nobody", n)}[n%3], n))
			tally.signIns.Add(1)
		case 1:
			token := insider
			if n%2 == 0 {
				token = ""
			}
			post("/api/v1/checks", token, big)
			tally.bodies.Add(1)
		case 2:
			t.slow(ctx, dialer, insider, n)
			tally.slow.Add(1)
		case 3:
			t.stream(ctx, client, insider)
			tally.streams.Add(1)
		case 4:
			post("/api/v1/checks", insider, check)
			tally.checks.Add(1)
		case 5:
			t.invent(ctx, client)
			tally.invented.Add(1)
		}
	}
}

// slow holds connections open and says little: in the headers, in the body, and while it
// should read the answer.
func (t *target) slow(ctx context.Context, dialer *net.Dialer, token string, n int) {
	host := strings.TrimPrefix(t.url, "http://")
	var all sync.WaitGroup
	for k := range 6 {
		all.Go(func() {
			c, err := dialer.DialContext(ctx, "tcp", host)
			if err != nil {
				return
			}
			defer c.Close()
			head := []string{"GET /healthz HTTP/1.1\r\nHost: " + host + "\r\n",
				"POST /api/v1/checks HTTP/1.1\r\nHost: " + host + "\r\nAuthorization: Bearer " + token +
					"\r\nContent-Length: 300000\r\n\r\n{",
				"POST /api/v1/session HTTP/1.1\r\nHost: " + host + "\r\nContent-Length: 9000\r\n\r\n{"}[(n+k)%3]
			io.WriteString(c, head)
			for ctx.Err() == nil {
				c.SetDeadline(time.Now().Add(2 * time.Second))
				if _, err := io.WriteString(c, " "); err != nil {
					return
				}
				if _, err := c.Read(make([]byte, 1)); err != nil && !os.IsTimeout(err) {
					return
				}
			}
		})
	}
	all.Wait()
}

// stream opens more streams than one may have, and leaves them without a word.
func (t *target) stream(ctx context.Context, client *http.Client, token string) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	var all sync.WaitGroup
	for range 12 {
		all.Go(func() {
			r, _ := http.NewRequestWithContext(ctx, http.MethodGet, t.url+"/api/v1/stream", nil)
			r.Header.Set("Authorization", "Bearer "+token)
			if res, err := client.Do(r); err == nil {
				io.Copy(io.Discard, res.Body)
				res.Body.Close()
			}
		})
	}
	all.Wait()
}

// invent asks by a method, a path, a host, a user and a token that nobody has heard of, and
// that are others each time: whatever remembers one of them grows for ever.
func (t *target) invent(ctx context.Context, client *http.Client) {
	word := func() string { return fmt.Sprintf("W%x", rand.Uint64()) }
	method, path, host, token := http.MethodGet, "/api/v1/stacks", "", ""
	switch rand.IntN(6) {
	case 0:
		method = strings.ToUpper(word())
	case 1:
		path = "/api/v1/" + word() + "/" + word()
	case 2:
		path = "/" + word() + "?" + word() + "=" + word()
	case 3:
		host = word() + ".example"
	case 4:
		token = word() + word()
	case 5:
		method, path = http.MethodPost, "/api/v1/session"
	}
	r, err := http.NewRequestWithContext(ctx, method, t.url+path, nil)
	if err != nil {
		return
	}
	if method == http.MethodPost {
		body := fmt.Sprintf(`{"name":%q,"password":%q}`, word(), word())
		r.Body, r.ContentLength = io.NopCloser(strings.NewReader(body)), int64(len(body))
		r.Header.Set("Content-Type", "application/json")
	}
	if r.Host = host; token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	if res, err := client.Do(r); err == nil {
		io.Copy(io.Discard, res.Body)
		res.Body.Close()
	}
}
