// Package jobs is the work that goes on in the background of all nodes: River spreads it over them by way of their database, and
// gives what a node has left to another.
package jobs

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"echolane/core/policy"
	"echolane/service/panics"
	"echolane/service/records"
)

// Jobs are this node's part in them. Safe for concurrent use.
type Jobs struct {
	o      Options
	pool   *pgxpool.Pool
	client *river.Client[pgx.Tx]
	stop   context.CancelFunc
	ended  sync.WaitGroup
	told   chan struct{} // there is something new to do
}

// Options are what Jobs work with; all are needed.
type Options struct {
	DatabaseURL string
	Store       *records.Store
	Maker       Maker
	Weigher     Weigher
	// Sites finds a site's settings by its name, nil where there is none.
	Sites func(name string) *policy.SiteSettings
	// Ready reports whether the database is there and its schema up to date.
	Ready  func() bool
	Log    *slog.Logger
	Panics *panics.Catcher
}

const (
	connections  = 4
	warmAtOnce   = 2 // warmings that a node works on
	jobTime      = 45 * time.Second
	stuckAfter   = 90 * time.Second // a job that a node left is given to another
	lookEvery    = 10 * time.Second // for what nobody works on
	stopTime     = 10 * time.Second
	migratePause = time.Second
)

// New makes this node's part. Start has it begin.
func New(o Options) (*Jobs, error) {
	config, err := pgxpool.ParseConfig(o.DatabaseURL)
	if err != nil {
		return nil, fmt.Errorf("read the database's URL: %w", err)
	}
	config.MaxConns = connections
	pool, err := pgxpool.NewWithConfig(context.Background(), config) // which doesn't connect yet
	if err != nil {
		return nil, fmt.Errorf("open the database for jobs: %w", err)
	}
	j := &Jobs{o: o, pool: pool, told: make(chan struct{}, 1)}
	workers := river.NewWorkers()
	river.AddWorker(workers, &warmWorker{jobs: j})
	river.AddWorker(workers, &weighWorker{jobs: j})
	quiet := slog.New(&louder{o.Log.Handler()})
	if j.client, err = river.NewClient(riverpgxv5.New(pool), &river.Config{
		Queues:  map[string]river.QueueConfig{warmQueue: {MaxWorkers: warmAtOnce}, weighQueue: {MaxWorkers: weighAtOnce}},
		Workers: workers, Logger: quiet, JobTimeout: jobTime, RescueStuckJobsAfter: stuckAfter, CompletedJobRetentionPeriod: time.Hour,
		CancelledJobRetentionPeriod: time.Hour, DiscardedJobRetentionPeriod: 24 * time.Hour, SoftStopTimeout: stopTime,
	}); err != nil {
		pool.Close()
		return nil, fmt.Errorf("open jobs: %w", err)
	}
	return j, nil
}

// louder lets through what an operator should hear of.
type louder struct{ slog.Handler }

func (l *louder) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && l.Handler.Enabled(ctx, level)
}
func (l *louder) WithAttrs(a []slog.Attr) slog.Handler { return &louder{l.Handler.WithAttrs(a)} }
func (l *louder) WithGroup(name string) slog.Handler   { return &louder{l.Handler.WithGroup(name)} }

// Start begins to work, as soon as the database is there. It doesn't block.
func (j *Jobs) Start() {
	ctx, stop := context.WithCancel(context.Background())
	j.stop = stop
	j.o.Panics.Go(&j.ended, "work on jobs", func() {
		for !j.begin(ctx) {
			select {
			case <-ctx.Done():
				return
			case <-time.After(migratePause):
			}
		}
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			j.o.Panics.Run("look for warmings", func() error { j.lookForWarmings(ctx); return nil })
			j.o.Panics.Run("look for weigh-ins", func() error { j.lookForWeighings(ctx); return nil })
			select {
			case <-ctx.Done():
				return
			case <-j.told:
			case <-tick.C:
			}
		}
	})
}

// begin brings River's own tables up to date and starts its work.
func (j *Jobs) begin(ctx context.Context) bool {
	if !j.o.Ready() {
		return false
	}
	migrator, err := rivermigrate.New(riverpgxv5.New(j.pool), &rivermigrate.Config{Logger: slog.New(&louder{j.o.Log.Handler()})})
	if err == nil {
		err = j.alone(ctx, func(ctx context.Context) error {
			_, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil)
			return err
		})
	}
	if err == nil {
		err = j.client.Start(ctx)
	}
	if err != nil && ctx.Err() == nil {
		j.o.Log.Warn("jobs can't begin yet", "error", err)
	}
	return err == nil
}

// alone runs do on one node at a time.
func (j *Jobs) alone(ctx context.Context, do func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	c, err := j.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	own := c.Hijack() // the lock ends with the connection, whatever becomes of the database
	defer func() {
		closing, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		own.Close(closing)
	}()
	if _, err := own.Exec(ctx, `SELECT pg_advisory_lock(hashtext('echolane jobs'))`); err != nil {
		return err
	}
	return do(ctx)
}

// Close ends the work. What isn't done is left to other nodes, or to the next start.
func (j *Jobs) Close() {
	if j.stop != nil {
		j.stop()
		j.ended.Wait() // so that it doesn't begin meanwhile
		ctx, cancel := context.WithTimeout(context.Background(), stopTime)
		j.client.StopAndCancel(ctx)
		cancel()
	}
	j.pool.Close()
}
