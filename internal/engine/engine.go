// Package engine carries runs out: it turns the changes of an accepted proposal
// into calls to the cloud, looks until each resource is proved healthy, and
// records every step before and after it happens.
//
// Order and retries are decided by the pure scheduler in core/schedule; this
// package does the calls and the writing around it. Any number of engines share
// the runs of one database. A run belongs to the engine that holds its claim;
// every write is fenced by the claim's number.
package engine

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"undersail/internal/cloud"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// Config is what an engine works with. Zero times take the usual values.
type Config struct {
	Store *store.Store
	Box   *secret.Box
	// Adapter gives the adapter of an account.
	Adapter func(ctx context.Context, account string) (cloud.Adapter, store.Account, error)
	Log     *slog.Logger
	// ClaimLife is how long a claim lasts without renewal; 10 seconds.
	ClaimLife time.Duration
	// InFlight is how many calls one run makes at a time; 16.
	InFlight int
}

// Engine shares the runs of a database with other engines.
type Engine struct {
	Config
	owner string
	queue *river.Client[pgx.Tx]

	mu        sync.Mutex
	running   map[int64]*execution
	throttled map[string]time.Time // accounts that must wait until then
	stop      context.CancelFunc
	done      sync.WaitGroup
}

// runJob asks for one run to be carried out under a claim number.
type runJob struct {
	Run    int64 `json:"run"`
	Number int64 `json:"number"`
}

// Kind names the job in the queue.
func (runJob) Kind() string { return "run" }

type runWorker struct {
	river.WorkerDefaults[runJob]
	engine *Engine
}

// Timeout is none: a run takes as long as it takes, and the claim decides who
// carries it out.
func (runWorker) Timeout(*river.Job[runJob]) time.Duration { return -1 }

func (w runWorker) Work(ctx context.Context, job *river.Job[runJob]) error {
	return w.engine.carryOut(ctx, job.Args.Run, job.Args.Number)
}

// NextRetry is short: a job fails only when the database was away.
func (runWorker) NextRetry(*river.Job[runJob]) time.Time { return time.Now().Add(2 * time.Second) }

// New makes an engine. It does nothing before Start.
func New(c Config) (*Engine, error) {
	if c.ClaimLife == 0 {
		c.ClaimLife = 10 * time.Second
	}
	if c.InFlight == 0 {
		c.InFlight = 16
	}
	raw := make([]byte, 4)
	rand.Read(raw)
	host, _ := os.Hostname()
	e := &Engine{Config: c, owner: fmt.Sprintf("%s-%d-%s", host, os.Getpid(), hex.EncodeToString(raw)), running: map[int64]*execution{}, throttled: map[string]time.Time{}}
	workers := river.NewWorkers()
	river.AddWorker(workers, &runWorker{engine: e})
	queue, err := river.NewClient(riverpgxv5.New(c.Store.Pool), &river.Config{
		Queues:               map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 500}},
		Workers:              workers,
		JobTimeout:           -1,
		RescueStuckJobsAfter: time.Minute,
		MaxAttempts:          1000,
		FetchCooldown:        50 * time.Millisecond,
		FetchPollInterval:    500 * time.Millisecond,
		SoftStopTimeout:      10 * time.Second,
		Logger:               slog.New(slog.DiscardHandler),
	})
	if err != nil {
		return nil, fmt.Errorf("make job queue: %w", err)
	}
	e.queue = queue
	return e, nil
}

// Enqueue puts a run into the queue within a transaction.
func (e *Engine) Enqueue(ctx context.Context) func(tx pgx.Tx, run, number int64) error {
	return func(tx pgx.Tx, run, number int64) error {
		_, err := e.queue.InsertTx(ctx, tx, runJob{run, number}, nil)
		return err
	}
}

// Grace is how long a run may wait in the queue before it is enqueued again.
const Grace = 20 * time.Second

// Start begins to take runs, until Stop.
func (e *Engine) Start(ctx context.Context) error {
	ctx, e.stop = context.WithCancel(ctx)
	if err := e.queue.Start(ctx); err != nil {
		return fmt.Errorf("start job queue: %w", err)
	}
	e.done.Go(func() { e.every(ctx, e.ClaimLife*3/10, e.renew) })
	e.done.Go(func() { e.every(ctx, e.ClaimLife/5, e.sweep) })
	return nil
}

// Stop lets the calls in flight return, records what they came to, and gives up
// the claims, so that another engine can go on at once.
func (e *Engine) Stop(ctx context.Context) error {
	e.mu.Lock()
	for _, x := range e.running {
		x.leave()
	}
	e.mu.Unlock()
	err := e.queue.Stop(ctx)
	e.stop()
	e.done.Wait()
	return err
}

func (e *Engine) every(ctx context.Context, gap time.Duration, f func(context.Context) error) {
	tick := time.NewTicker(gap)
	defer tick.Stop()
	for {
		// The database may be away for minutes: hold, and go on.
		if err := f(ctx); err != nil && ctx.Err() == nil {
			e.Log.Warn("engine housekeeping", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// renew keeps the claims of all runs of this engine, tells runs of a wish to
// stop, and leaves runs that another engine has taken over.
func (e *Engine) renew(ctx context.Context) error {
	mine, err := e.Store.RenewClaims(ctx, e.owner, e.ClaimLife)
	if err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for id, x := range e.running {
		stop, held := mine[id]
		if !held && time.Since(x.claimed) > time.Second {
			x.leave()
		}
		if stop {
			x.askStop()
		}
	}
	return nil
}

func (e *Engine) sweep(ctx context.Context) error {
	n, err := e.Store.SweepClaims(ctx, Grace, e.Enqueue(ctx))
	if n > 0 {
		e.Log.Info("took over runs whose owner is gone", "runs", n)
	}
	return err
}

// throttle makes every run of an account wait until a moment; with the zero time
// it only tells until when the account must wait already.
func (e *Engine) throttle(account string, until time.Time) time.Time {
	e.mu.Lock()
	defer e.mu.Unlock()
	if until.After(e.throttled[account]) {
		e.throttled[account] = until
	}
	return e.throttled[account]
}

// AskStop passes a wish to stop on at once when the run is carried out here;
// elsewhere it is seen with the next renewal.
func (e *Engine) AskStop(run int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if x := e.running[run]; x != nil {
		x.askStop()
	}
}

// carryOut claims a run and carries it out to its end, or until it is left.
func (e *Engine) carryOut(ctx context.Context, id, number int64) error {
	got, err := e.Store.Claim(ctx, id, number, e.owner, e.ClaimLife)
	if err != nil || !got {
		return err
	}
	x, err := e.prepare(ctx, id, number)
	if err != nil {
		return e.giveUp(ctx, id, number, err)
	}
	e.mu.Lock()
	e.running[id] = x
	e.mu.Unlock()
	defer func() {
		e.mu.Lock()
		delete(e.running, id)
		e.mu.Unlock()
	}()
	err = x.carryOut(ctx)
	if errors.Is(err, store.ErrFenced) {
		return nil // another engine carries it on
	}
	if errors.Is(err, errLeft) {
		return e.Store.ReleaseClaim(context.WithoutCancel(ctx), id, number)
	}
	return err
}

// giveUp ends a run that cannot even be prepared.
func (e *Engine) giveUp(ctx context.Context, id, number int64, cause error) error {
	if cloud.ClassOf(cause).Passing() && !errors.Is(cause, errUnreadable) {
		e.Log.Warn("run cannot be prepared yet", "run", id, "error", cause)
		return cause // the queue tries again
	}
	w := &store.Write{Run: id, Claim: number, Events: []store.Event{{Kind: "run", State: "failed", Text: "the run cannot be carried out: " + cause.Error()}}}
	w.RunState("failed", cause.Error())
	return e.Store.Commit(ctx, w)
}

var (
	errLeft       = errors.New("the run was left to another engine")
	errUnreadable = errors.New("the proposal cannot be read")
)
