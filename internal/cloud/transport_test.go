package cloud

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"
)

// gate lets calls wait and hears of refusals.
type gate struct {
	wait    time.Duration
	err     error
	refused []time.Duration
}

func (g *gate) Wait(context.Context) error { time.Sleep(g.wait); return g.err } // as long as a test says
func (g *gate) Refused(d time.Duration)    { g.refused = append(g.refused, d) }

// answers gives one answer to every request.
type answers struct {
	status int
	header http.Header
	calls  int
}

func (a *answers) RoundTrip(r *http.Request) (*http.Response, error) {
	a.calls++
	return &http.Response{
		StatusCode: a.status,
		Header:     a.header,
		Body:       io.NopCloser(strings.NewReader("{}")),
		Request:    r,
	}, nil
}

func TestTheTransportWaitsMetersAndHearsOfRefusals(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		status int
		header http.Header
		class  string
		wait   time.Duration
	}{
		{200, nil, "2xx", 0},
		{404, nil, "4xx", 0},
		{503, nil, "5xx", 0},
		{429, http.Header{"Retry-After": {"7"}}, "refused", 7 * time.Second},
		{429, nil, "refused", time.Second},
		{503, http.Header{"Retry-After": {"2"}}, "refused", 2 * time.Second},
	} {
		g, seen := &gate{wait: 5 * time.Millisecond}, ""
		client := NewClient(Transport{
			Base:    &answers{status: c.status, header: c.header},
			Limiter: g,
			Observe: func(_, class string, _ time.Duration) { seen = class },
		})
		ctx, meter := WithMeter(context.Background())
		req, _ := http.NewRequestWithContext(ctx, http.MethodGet, "http://cloud.example/", nil)
		res, err := client.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		var told time.Duration
		if len(g.refused) > 0 {
			told = g.refused[0]
		}
		if seen != c.class || told != c.wait || meter.Calls() != 1 || meter.Waited() < 5*time.Millisecond {
			t.Errorf("%d %v: observed %s, refused for %s, %d calls, waited %s", c.status, c.header, seen, told,
				meter.Calls(), meter.Waited())
		}
	}
}

func TestACallThatTheLimitKeptBackWasNotMade(t *testing.T) {
	t.Parallel()
	base := &answers{status: 200}
	client := NewClient(Transport{Base: base, Limiter: &gate{err: context.Canceled}})
	req, _ := http.NewRequest(http.MethodPut, "http://cloud.example/", nil)
	_, err := client.Do(req)
	if !Refusal(err) || ClassOf(err) != Transient || !errors.Is(err, context.Canceled) || base.calls != 0 {
		t.Errorf("%v, %d calls", err, base.calls)
	}
}
