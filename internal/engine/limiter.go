package engine

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"undersail/internal/cloud"
)

// limiter bounds the calls that this replica makes in one account: its share of
// the account's rate, which all replicas settle once a second in the database.
type limiter struct {
	account string
	engine  *Engine
	bucket  *rate.Limiter

	mu      sync.Mutex
	until   time.Time // no calls before
	wanted  float64   // calls since the last sharing
	waiting int
	refused bool
	idle    int // sharings without demand
}

var _ cloud.Limiter = (*limiter)(nil)

// Limiter gives the limiter of an account, the same one for all who call there.
func (e *Engine) Limiter(account string) cloud.Limiter {
	e.mu.Lock()
	defer e.mu.Unlock()
	l := e.limits[account]
	if l == nil {
		l = &limiter{account: account, engine: e, bucket: rate.NewLimiter(rate.Limit(e.CallRate), burstOf(e.CallRate))}
		e.limits[account] = l
	}
	return l
}

// Client gives the HTTP client for an account's adapter: its calls are limited
// over all runs and replicas, and counted.
func (e *Engine) Client(account string) *http.Client {
	return cloud.NewClient(cloud.Transport{Base: e.Transport, Limiter: e.Limiter(account),
		Observe: func(method, class string, took time.Duration) { e.Metrics.Call(account, method, class, took) }})
}

// burstOf lets calls that come together leave together, a quarter of a second's
// worth at most.
func burstOf(perSecond float64) int { return max(2, int(perSecond/4)) }

// Wait returns when the next call may be made.
func (l *limiter) Wait(ctx context.Context) error {
	began := time.Now()
	l.mu.Lock()
	l.wanted++
	l.waiting++
	l.mu.Unlock()
	defer func() {
		l.mu.Lock()
		l.waiting--
		l.mu.Unlock()
		l.engine.Metrics.limitWait.WithLabelValues(l.account).Observe(time.Since(began).Seconds())
	}()
	for {
		l.mu.Lock()
		wait := time.Until(l.until)
		l.mu.Unlock()
		if wait <= 0 {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
	}
	return l.bucket.Wait(ctx)
}

// Refused tells that the cloud refused a call because there were too many.
func (l *limiter) Refused(wait time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.refused = true
	if until := time.Now().Add(wait); until.After(l.until) {
		l.until = until
	}
	l.engine.Metrics.refused.WithLabelValues(l.account).Inc()
}

// share settles with the other replicas what this one may do in each account
// for the next second.
func (e *Engine) share(ctx context.Context) error {
	e.mu.Lock()
	all := make([]*limiter, 0, len(e.limits))
	for _, l := range e.limits {
		all = append(all, l)
	}
	e.mu.Unlock()
	for _, l := range all {
		if err := l.share(ctx); err != nil {
			return fmt.Errorf("share the limit of account %s: %w", l.account, err)
		}
	}
	return nil
}

func (l *limiter) share(ctx context.Context) error {
	l.mu.Lock()
	demand, refused, until := l.wanted+float64(l.waiting), l.refused, time.Until(l.until)
	l.wanted, l.refused = 0, false
	if l.idle++; demand > 0 || refused {
		l.idle = 0
	}
	idle := l.idle
	l.mu.Unlock()
	if idle > 3 {
		return nil // nobody has called for a while
	}
	share, err := l.engine.Store.ShareLimit(ctx, l.account, l.engine.owner, demand, l.engine.CallRate, refused,
		max(0, until))
	if err != nil {
		return fmt.Errorf("sharing the limit of the account: %w", err)
	}
	l.bucket.SetLimit(rate.Limit(max(share.Rate, 0.1)))
	l.bucket.SetBurst(burstOf(share.Rate))
	l.engine.Metrics.rate.WithLabelValues(l.account).Set(share.Rate)
	l.mu.Lock()
	defer l.mu.Unlock()
	if at := time.Now().Add(share.Wait); share.Wait > 0 && at.After(l.until) {
		l.until = at
	}
	return nil
}
