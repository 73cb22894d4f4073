package cloudtest

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
)

// Faults is a way to a cloud that misbehaves when it is told to, whatever cloud it is.
type Faults struct {
	Base http.RoundTripper
	// Creates tells the calls that make something.
	Creates func(*http.Request) bool

	mu   sync.Mutex
	next string
	seen func(*http.Request)
	// left counts down the changing calls until one is cut; after says that it is sent and
	// its answer lost. dead says that it was cut, and that nothing gets through any more.
	left  int
	after bool
	dead  bool
}

// Cut lets a number of changing calls through and cuts the next one, before it is sent or
// after; from then on nothing gets through until Mend.
func (f *Faults) Cut(through int, after bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.left, f.after, f.dead = through+1, after, false
}

// Mend lets everything through again, and says whether something was cut.
func (f *Faults) Mend() (was bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	was = f.dead
	f.left, f.dead = 0, false
	return was
}

// cut tells what becomes of a call.
func (f *Faults) cut(r *http.Request) (send, lose bool) {
	if f.dead {
		return false, false
	}
	if r.Method == http.MethodGet || f.left == 0 || strings.HasSuffix(r.URL.Path, "/auth/tokens") ||
		strings.HasSuffix(r.URL.Path, "/sign-in/token") {
		return true, false
	}
	if f.left--; f.left > 0 {
		return true, false
	}
	f.dead = true
	return f.after, true
}

var errCut = errors.New("the process was killed")

// Plan makes the next creating call go wrong: lose-answer, server-error or throttle.
func (f *Faults) Plan(kind string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.next = kind
}

// Watch has every call told to somebody before it is made.
func (f *Faults) Watch(seen func(*http.Request)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.seen = seen
}

// RoundTrip passes a call on, or lets it go wrong.
func (f *Faults) RoundTrip(r *http.Request) (*http.Response, error) {
	f.mu.Lock()
	kind := ""
	if f.next != "" && f.Creates(r) {
		kind, f.next = f.next, ""
	}
	seen := f.seen
	send, lose := f.cut(r)
	f.mu.Unlock()
	if !send {
		return nil, errCut
	}
	if seen != nil {
		seen(r)
	}
	switch kind {
	case "server-error":
		return f.answer(r, http.StatusServiceUnavailable, nil), nil
	case "throttle":
		return f.answer(r, http.StatusTooManyRequests, http.Header{"Retry-After": {"1"}}), nil
	}
	res, err := f.Base.RoundTrip(r)
	if lose && err == nil {
		res.Body.Close()
		return nil, errCut
	}
	if kind == "lose-answer" && err == nil {
		res.Body.Close()
		return nil, fmt.Errorf("the answer was lost: %w", io.ErrUnexpectedEOF)
	}
	return res, err
}

func (f *Faults) answer(r *http.Request, status int, header http.Header) *http.Response {
	if r.Body != nil {
		io.Copy(io.Discard, r.Body)
		r.Body.Close()
	}
	if header == nil {
		header = http.Header{}
	}
	return &http.Response{
		StatusCode: status,
		Status:     http.StatusText(status),
		Proto:      "HTTP/1.1",
		ProtoMajor: 1,
		ProtoMinor: 1,
		Header:     header,
		Body:       io.NopCloser(strings.NewReader("")),
		Request:    r,
	}
}
