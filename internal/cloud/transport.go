package cloud

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strconv"
	"sync/atomic"
	"time"

	"undersail/internal/reach"
)

// Limiter bounds the calls of an account. Wait returns when the next one may be
// made; Refused tells that the cloud refused one because there were too many,
// and for how long it wants none.
type Limiter interface {
	Wait(ctx context.Context) error
	Refused(wait time.Duration)
}

// Transport is how every adapter reaches its cloud: each request waits for the
// account's limiter, is metered, and is told to Observe.
type Transport struct {
	Base    http.RoundTripper
	Limiter Limiter
	// Observe hears of each request; class is the status in hundreds, such as
	// 2xx, or "none" for one without an answer. It may be nil.
	Observe func(method, class string, took time.Duration)
}

// NewClient gives an HTTP client for an adapter. A limiter of nil bounds nothing.
func NewClient(t Transport) *http.Client {
	if t.Base == nil {
		t.Base = &http.Transport{MaxIdleConnsPerHost: 64, IdleConnTimeout: 30 * time.Second}
	}
	return &http.Client{Transport: t, CheckRedirect: reach.Redirects}
}

// answerWithin bounds one request and its answer. Waiting for the limiter comes
// before it: a request that waits long has not been made yet.
const answerWithin = 20 * time.Second

// RoundTrip carries out one request.
func (t Transport) RoundTrip(r *http.Request) (*http.Response, error) {
	meter, _ := r.Context().Value(meterKey{}).(*Meter)
	if t.Limiter != nil {
		began := time.Now()
		if err := t.Limiter.Wait(r.Context()); err != nil {
			return nil, &Error{Class: Transient, Message: "no call was made: " + err.Error(), Cause: err}
		}
		if meter != nil {
			meter.waited.Add(int64(time.Since(began)))
		}
	}
	began := time.Now()
	ctx, cancel := context.WithTimeout(r.Context(), answerWithin)
	res, err := t.Base.RoundTrip(r.WithContext(ctx))
	var refused *reach.Refused
	if errors.As(err, &refused) { // nothing was called
		err = &Error{
			Class:   Invalid,
			Message: refused.Why,
			Remedy:  "give a public address, or ask whoever runs this service to open that one",
			Cause:   err,
		}
	}
	if err != nil {
		cancel()
	} else {
		res.Body = &bounded{res.Body, cancel}
	}
	class := "none"
	if err == nil {
		class = strconv.Itoa(res.StatusCode/100) + "xx"
		if wait, too := tooMany(res); too {
			class = "refused"
			if t.Limiter != nil {
				t.Limiter.Refused(wait)
			}
		}
	}
	if meter != nil {
		meter.calls.Add(1)
	}
	if t.Observe != nil {
		t.Observe(r.Method, class, time.Since(began))
	}
	return res, err
}

// bounded is a body that gives up its time limit when it is closed.
type bounded struct {
	io.ReadCloser
	cancel context.CancelFunc
}

func (b *bounded) Close() error {
	defer b.cancel()
	return b.ReadCloser.Close()
}

// tooMany recognises the ways in which clouds refuse calls that come too often.
func tooMany(res *http.Response) (time.Duration, bool) {
	after := res.Header.Get("Retry-After")
	if res.StatusCode != http.StatusTooManyRequests &&
		(res.StatusCode != http.StatusServiceUnavailable || after == "") {
		return 0, false
	}
	seconds, err := strconv.Atoi(after)
	if err != nil {
		seconds = 1
	}
	return time.Duration(seconds) * time.Second, true
}

// Meter counts what the calls under a context did.
type Meter struct{ waited, calls atomic.Int64 }

type meterKey struct{}

// WithMeter gives a context under which calls are metered.
func WithMeter(ctx context.Context) (context.Context, *Meter) {
	m := &Meter{}
	return context.WithValue(ctx, meterKey{}, m), m
}

// Waited is the time spent in waiting for the limiter, Calls the requests made.
func (m *Meter) Waited() time.Duration { return time.Duration(m.waited.Load()) }
func (m *Meter) Calls() int64          { return m.calls.Load() }
