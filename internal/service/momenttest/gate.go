// Package momenttest lets two people do something at once, in every order that there is: one
// is held at each of its reads, looks at the cloud, locks and commits in turn while the other
// does all of theirs. Afterwards the cloud, the records and what both were told are held
// against each other.
package momenttest

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"sync"
)

type gateKey struct{}

// gate holds what is done with a context at one of its points.
type gate struct {
	stop int    // the point, from 1 on; none is 0
	text string // or how the point begins

	mu     sync.Mutex
	points int
	at     string
	// backends are the server's processes that made its queries so far.
	backends []int32
	reached  chan struct{}
	goOn     chan struct{}
}

func newGate(stop int, text string) *gate {
	return &gate{stop: stop, text: text, reached: make(chan struct{}), goOn: make(chan struct{})}
}

func (g *gate) of(ctx context.Context) context.Context { return context.WithValue(ctx, gateKey{}, g) }

// pass counts a point, and waits at the one to stop at. A query says by which of the server's
// processes it is made.
func pass(ctx context.Context, what string, by ...uint32) {
	g, _ := ctx.Value(gateKey{}).(*gate)
	if g == nil {
		return
	}
	g.mu.Lock()
	g.points++
	stops := g.points == g.stop || g.text != "" && g.at == "" && strings.HasPrefix(what, g.text)
	if stops {
		g.at = what
	}
	for _, backend := range by {
		g.backends = append(g.backends, int32(backend))
	}
	g.mu.Unlock()
	if stops {
		close(g.reached)
		<-g.goOn
	}
}

// by gives the server's processes that made its queries so far.
func (g *gate) by() []int32 {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Clone(g.backends)
}

// gatedCloud makes the calls to clouds points.
type gatedCloud struct{ base http.RoundTripper }

func (t gatedCloud) RoundTrip(r *http.Request) (*http.Response, error) {
	pass(r.Context(), r.Method+" "+r.URL.Path)
	return t.base.RoundTrip(r)
}
