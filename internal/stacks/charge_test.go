package stacks_test

import (
	"context"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"

	"undersail/internal/engine"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
)

// breaking panics instead of asking a cloud, once it is to.
type breaking struct{ from *atomic.Bool }

func (b breaking) RoundTrip(r *http.Request) (*http.Response, error) {
	if b.from.Load() {
		panic("a fault for the test")
	}
	return http.DefaultTransport.RoundTrip(r)
}

// TestWhatCannotBeLookedAtIsToldAsUnseen: a fault of our own while an account is looked at is no
// reason to tell that nothing of it differs.
func TestWhatCannotBeLookedAtIsToldAsUnseen(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	var from atomic.Bool
	s, _ := r.Start(engine.Config{Transport: breaking{&from}}, nil)
	ctx := context.Background()
	if err := s.Stacks.BeQuiet(ctx, stacks.Quiet{Why: "a copy"}); err != nil {
		t.Fatal(err)
	}
	from.Store(true)
	s.Stacks.LookAtAll(ctx, nil)
	q := s.Stacks.Quiet(ctx)
	if len(q.Differs) != 1 || q.Differs[0].Account != "saltmere-lab" || q.Differs[0].How != "unseen" ||
		!strings.Contains(q.Differs[0].What, "a fault of Under Sail itself") {
		t.Errorf("it is told: %+v", q)
	}
}
