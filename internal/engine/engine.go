// Package engine carries runs out: it turns the changes of an accepted proposal
// into calls to the cloud, looks until each resource is proved healthy, and
// records every step before and after it happens.
//
// Order and retries are decided by the pure scheduler in core/schedule; this
// package does the calls and the writing around it. Any number of engines share
// the runs of one database. A run belongs to the engine that holds its claim;
// every write is fenced by the claim's number. All times are on the database's
// clock, which [Engine.Now] estimates.
package engine

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"undersail/internal/cloud"
	"undersail/internal/fault"
	"undersail/internal/reach"
	"undersail/internal/sealed"
	"undersail/internal/store"
)

// Config is what an engine works with. Zero values take the usual ones.
type Config struct {
	Store *store.Store
	// Sealed has the secrets; Agreed reads what was agreed to with the proposal of a run and
	// since, after holding the seals of both against them.
	Sealed *sealed.Sealed
	Agreed func(p store.Proposal, r store.Run) (sealed.Agreement, error)
	// Adapter gives the adapter of an account.
	Adapter func(ctx context.Context, account string) (cloud.Adapter, store.Account, error)
	// Undo is asked to undo a run that failed and was to be undone then. It is
	// called again until it succeeds.
	Undo func(ctx context.Context, run int64) error
	Log  *slog.Logger
	// ClaimLife is how long a claim lasts without renewal; 10 seconds.
	ClaimLife time.Duration
	// InFlight is how many calls one run makes at a time; 16.
	InFlight int
	// CallRate is how many calls a second an account is tried with until its cloud
	// has shown what it takes; 20.
	CallRate float64
	// Deeds keeps outside of the database what is done in clouds; nil keeps nothing.
	Deeds *Deeds
	// Retention is how long things are kept after they are over.
	Retention store.Retention
	Metrics   *Metrics
	// Reach says which addresses clouds and machines may have; nil opens public ones.
	Reach *reach.Policy
	// Transport is how clouds are reached; nil is the usual way, as Reach allows.
	Transport http.RoundTripper
}

// Engine shares the runs of a database with other engines.
type Engine struct {
	Config
	owner string
	queue *river.Client[pgx.Tx]
	clock clock

	mu       sync.Mutex
	running  map[int64]*execution
	declined map[int64]time.Time
	limits   map[string]*limiter
	stop     []context.CancelFunc // sweeping first, then the rest
	done     sync.WaitGroup
	quiet    atomic.Bool
	jump     jump
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
	err := w.engine.carryOut(ctx, job.Args.Run, job.Args.Number)
	if err != nil {
		w.engine.Log.Warn("a run was not carried out to its end here", "run", job.Args.Run, "error", err)
	}
	return err
}

// NextRetry is short: a job fails only when the database was away.
func (w runWorker) NextRetry(*river.Job[runJob]) time.Time {
	return w.engine.Now().Add(2 * time.Second)
}

// undoJob asks for a failed run to be undone.
type undoJob struct {
	Run int64 `json:"run"`
}

// Kind names the job in the queue.
func (undoJob) Kind() string { return "undo" }

type undoWorker struct {
	river.WorkerDefaults[undoJob]
	engine *Engine
}

func (w undoWorker) Work(ctx context.Context, job *river.Job[undoJob]) error {
	if w.engine.Undo == nil {
		return nil
	}
	err := w.engine.Undo(ctx, job.Args.Run)
	if err != nil {
		w.engine.Log.Warn("a failed run could not be undone yet", "run", job.Args.Run, "error", err)
	}
	return err
}

// NextRetry is short: what keeps a run from being undone is most often a cloud
// that does not answer.
func (w undoWorker) NextRetry(*river.Job[undoJob]) time.Time {
	return w.engine.Now().Add(5 * time.Second)
}

// New makes an engine. It does nothing before Start.
func New(c Config) (*Engine, error) {
	if c.ClaimLife == 0 {
		c.ClaimLife = 10 * time.Second
	}
	if c.InFlight == 0 {
		c.InFlight = 16
	}
	if c.CallRate == 0 {
		c.CallRate = 20
	}
	if c.Metrics == nil {
		c.Metrics = NewMetrics()
	}
	if c.Transport == nil {
		t := c.Reach.Transport()
		t.MaxIdleConnsPerHost, t.IdleConnTimeout = 64, 30*time.Second
		c.Transport = t
	}
	raw := make([]byte, 4)
	rand.Read(raw)
	host, _ := os.Hostname()
	e := &Engine{Config: c, owner: fmt.Sprintf("%s-%d-%s", host, os.Getpid(), hex.EncodeToString(raw)),
		running: map[int64]*execution{}, declined: map[int64]time.Time{}, limits: map[string]*limiter{}}
	workers := river.NewWorkers()
	river.AddWorker(workers, &runWorker{engine: e})
	river.AddWorker(workers, &undoWorker{engine: e})
	queue, err := river.NewClient(riverpgxv5.New(c.Store.Pool), &river.Config{
		Queues:               map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 500}},
		Workers:              workers,
		JobTimeout:           -1,
		RescueStuckJobsAfter: time.Minute,
		MaxAttempts:          1000,
		FetchCooldown:        50 * time.Millisecond,
		FetchPollInterval:    500 * time.Millisecond,
		SoftStopTimeout:      10 * time.Second,
		Logger:               slog.New(queueLog{c.Log.With("part", "queue").Handler()}),
	})
	if err != nil {
		return nil, fmt.Errorf("make job queue: %w", err)
	}
	e.queue = queue
	return e, nil
}

// Enqueue puts a run into the queue within a transaction.
func (e *Engine) Enqueue(ctx context.Context) store.Enqueue {
	return func(tx pgx.Tx, run, number int64) (int64, error) {
		if e.quiet.Load() {
			return 0, ErrQuiet
		}
		job, err := insert(ctx, e.queue, tx, runJob{run, number})
		if err != nil {
			return 0, fmt.Errorf("enqueue run %d: %w", run, err)
		}
		return job, nil
	}
}

// insert puts a job into the queue that may be taken at once by the database's clock: the
// queue names the moment by that of the service, which may be ahead of it.
func insert(ctx context.Context, queue *river.Client[pgx.Tx], tx pgx.Tx, args river.JobArgs) (int64, error) {
	inserted, err := queue.InsertTx(ctx, tx, args, nil)
	if err != nil {
		return 0, err
	}
	_, err = queue.JobRetryTx(ctx, tx, inserted.Job.ID)
	return inserted.Job.ID, err
}

// Grace is how long a run may be on its way from the queue to its owner.
const Grace = 20 * time.Second

// ErrQuiet says that the engine begins nothing, since its database may be a copy, or behind.
var ErrQuiet = errors.New("the service is quiet")

// BeQuiet reads the database's clock and lets the engine begin nothing, until Start.
func (e *Engine) BeQuiet(ctx context.Context) error {
	e.quiet.Store(true)
	now, err := e.Store.Now(ctx)
	if err != nil {
		return fmt.Errorf("read the database's clock: %w", err)
	}
	e.clock.set(now)
	return nil
}

// Start begins to take runs, until Stop.
func (e *Engine) Start(ctx context.Context) error {
	now, err := e.Store.Now(ctx)
	if err != nil {
		return fmt.Errorf("read the database's clock: %w", err)
	}
	e.clock.set(now)
	e.quiet.Store(false)
	working, stop := context.WithCancel(ctx)
	sweeping, stopSweeping := context.WithCancel(ctx)
	e.stop = []context.CancelFunc{stopSweeping, stop}
	if err := e.queue.Start(working); err != nil {
		return fmt.Errorf("start job queue: %w", err)
	}
	e.done.Go(func() { e.every(working, e.ClaimLife*3/10, e.renew) })
	e.done.Go(func() { e.every(working, time.Second, e.share) })
	e.done.Go(func() { e.every(sweeping, e.ClaimLife/5, e.sweep) })
	e.done.Go(func() { e.every(sweeping, time.Hour, e.forget) })
	return nil
}

// Stop lets the calls in flight return, records what they came to, and gives up
// the claims, so that another engine can go on at once.
func (e *Engine) Stop(ctx context.Context) error {
	if e.stop == nil {
		return nil
	}
	e.stop[0]() // a run that is given up must not be taken back
	e.mu.Lock()
	for _, x := range e.running {
		x.leave()
	}
	e.mu.Unlock()
	err := e.queue.Stop(ctx)
	e.stop[1]()
	e.done.Wait()
	return err
}

func (e *Engine) every(ctx context.Context, gap time.Duration, f func(context.Context) error) {
	tick := time.NewTicker(gap)
	defer tick.Stop()
	for {
		// The database may be away for minutes: hold, and go on.
		if err := fault.Caught(func() error { return f(ctx) }); err != nil && ctx.Err() == nil {
			fault.Log(e.Log, slog.LevelWarn, "engine housekeeping", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// forget removes what is older than its retention.
func (e *Engine) forget(ctx context.Context) error {
	n, err := e.Store.Forget(ctx, e.Retention)
	if n > 0 {
		e.Log.Info("removed what is older than its retention", "rows", n)
	}
	return err
}

// Now is the database's clock, as far as this process knows it.
func (e *Engine) Now() time.Time { return e.clock.now() }

// clock estimates the database's clock from the process's. It is read anew with
// every renewal of claims.
type clock struct {
	mu     sync.Mutex
	offset time.Duration
}

func (c *clock) set(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.offset = time.Until(now)
}

func (c *clock) now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Now().Add(c.offset)
}
