// Package work runs queued jobs on the database (River).
//
// It knows how jobs are stored, retried and rescued. What there is to do
// registers itself by the type of its arguments (Handle), and what comes again
// and again is a list (Every). Start more processes on one database and they
// share the work: one queue a vantage.
package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

// Args are what a job is about: a struct that is stored as JSON. Kind names the
// job in the queue and never changes.
type Args interface{ Kind() string }

// Queue is where jobs wait for a worker.
type Queue string

// The queues.
const (
	Looks    Queue = "vantage" // of endpoints, one queue a vantage
	Readings Queue = "reads"   // of servers' configurations, one a vantage: servers are mostly waited for
	Orders   Queue = "orders"  // CAs are waited for even more: an order is a second of waiting at least
	Messages Queue = "notices" // to people and programs, whose servers may let them wait
)

// atOnce is how many jobs of a queue one process does side by side.
var atOnce = map[Queue]int{Looks: 8, Readings: 16, Orders: 500, Messages: 20}

// Later is an error that asks for another turn at a time.
type Later struct{ At time.Time }

// Error is met only when nobody asks for the type: it is no failure.
func (e *Later) Error() string { return "goes on at " + e.At.UTC().Format(time.RFC3339) }

// Tx is a transaction jobs are added in, committed with all else of it.
type Tx interface{ Pgx() pgx.Tx }

// Limits of a job. One that takes longer goes on in another turn, since its
// progress is stored; one whose worker died is taken over a little later.
const (
	turn   = 2 * time.Minute
	rescue = turn + 30*time.Second
	// fetchCooldown is the least time between two looks into the queue; a survey
	// has two steps that follow each other, and nobody should wait for them.
	fetchCooldown = 10 * time.Millisecond
)

// Jobs is the queue. Kinds of job are registered before it starts; then it is
// safe for concurrent use.
type Jobs struct {
	pool     *pgxpool.Pool               // jobs are queued in its transactions
	worker   string                      // name of this process, for the records
	vantage  string                      // queues of looks are kept apart by it
	log      *slog.Logger                // for jobs that fail
	workers  *river.Workers              // handlers, by the type of their arguments
	options  map[string]river.InsertOpts // by kind of job
	periodic []*river.PeriodicJob        // in the order they were added
	client   *river.Client[pgx.Tx]       // nil until the start
}

// New makes the queue's tables where they are missing. worker must be unique
// among running processes and the same after a restart.
func New(ctx context.Context, pool *pgxpool.Pool, worker, vantage string, log *slog.Logger) (*Jobs, error) {
	log = slog.New(atLeastWarn{log.Handler()})
	m, err := rivermigrate.New(riverpgxv5.New(pool), &rivermigrate.Config{Logger: log})
	if err != nil {
		return nil, err
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return nil, fmt.Errorf("bringing the job queue's schema up to date: %w", err)
	}
	return &Jobs{pool: pool, worker: worker, vantage: vantage, log: log, workers: river.NewWorkers(),
		options: map[string]river.InsertOpts{}}, nil
}

// name is what a queue is called in the database.
func (j *Jobs) name(q Queue) string {
	if q == Orders || q == Messages {
		return string(q)
	}
	return string(q) + "_" + j.vantage
}

// Handle registers what is done for jobs with arguments of type A. It may be
// called again for work that was begun before; after so many tries that failed
// the job is given up.
func Handle[A Args](j *Jobs, q Queue, tries int, do func(context.Context, A) error) {
	var none A
	j.options[none.Kind()] = river.InsertOpts{Queue: j.name(q), MaxAttempts: tries}
	river.AddWorker(j.workers, river.WorkFunc(func(ctx context.Context, job *river.Job[A]) error {
		return orLater(ownTurn(ctx, do(ctx, job.Args)))
	}))
}

// Every lets a registered job be done at the start and again after each while,
// by one process at a time.
func (j *Jobs) Every(each time.Duration, args Args) {
	j.periodic = append(j.periodic,
		river.NewPeriodicJob(river.PeriodicInterval(each), func() (river.JobArgs, *river.InsertOpts) {
			o := j.options[args.Kind()]
			o.UniqueOpts = river.UniqueOpts{ByArgs: true, ByPeriod: each / 2}
			return args, &o
		}, &river.PeriodicJobOpts{RunOnStart: true}))
}

// Start begins working. What this very worker had begun before it died is
// taken up at once.
func (j *Jobs) Start(ctx context.Context) (err error) {
	queues := map[string]river.QueueConfig{}
	for q, n := range atOnce {
		queues[j.name(q)] = river.QueueConfig{MaxWorkers: n}
	}
	j.client, err = river.NewClient(riverpgxv5.New(j.pool), &river.Config{
		ID: j.worker, Workers: j.workers, Logger: j.log, Queues: queues, PeriodicJobs: j.periodic,
		JobTimeout: turn, RescueStuckJobsAfter: rescue, FetchCooldown: fetchCooldown,
	})
	if err != nil {
		return err
	}
	if _, err := j.pool.Exec(ctx, `update river_job set state = 'available', scheduled_at = now()
		where state = 'running' and attempted_by[array_upper(attempted_by, 1)] = $1`, j.worker); err != nil {
		return err
	}
	return j.client.Start(ctx)
}

// Stop ends the work: running jobs are told to stop and are taken up by the
// next start.
func (j *Jobs) Stop(ctx context.Context) error {
	if j.client == nil {
		return nil
	}
	return j.client.StopAndCancel(ctx)
}

// Add queues jobs of a registered kind, committed with tx.
func Add[A Args](ctx context.Context, j *Jobs, tx Tx, list ...A) error {
	return AddSpread(ctx, j, tx, 0, list...)
}

// AddSpread is Add, with a while between one job and the next.
func AddSpread[A Args](ctx context.Context, j *Jobs, tx Tx, apart time.Duration, list ...A) error {
	now := time.Now()
	params := make([]river.InsertManyParams, len(list))
	for i, a := range list {
		o := j.options[a.Kind()]
		if apart > 0 && i > 0 {
			o.ScheduledAt = now.Add(time.Duration(i) * apart)
		}
		params[i] = river.InsertManyParams{Args: a, InsertOpts: &o}
	}
	_, err := j.client.InsertManyFastTx(ctx, tx.Pgx(), params)
	return err
}

// Waiting counts the jobs that are not done, by what they wait for: available, running,
// retryable or scheduled.
func (j *Jobs) Waiting(ctx context.Context) (map[string]int, error) {
	out := map[string]int{"available": 0, "running": 0, "retryable": 0, "scheduled": 0}
	rows, err := j.pool.Query(ctx, `select state::text, count(*) from river_job where state in ('available', 'running', 'retryable', 'scheduled') group by state`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var state string
		var n int
		if err := rows.Scan(&state, &n); err != nil {
			return nil, err
		}
		out[state] = n
	}
	return out, rows.Err()
}

// At queues a job of a registered kind for a time.
func (j *Jobs) At(ctx context.Context, at time.Time, args Args) error {
	o := j.options[args.Kind()]
	o.ScheduledAt = at
	_, err := j.client.Insert(ctx, args, &o)
	return err
}

// atLeastWarn keeps the queue's everyday messages out of the log.
type atLeastWarn struct{ slog.Handler }

// Enabled implements slog.Handler.
func (h atLeastWarn) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && h.Handler.Enabled(ctx, l)
}

// ownTurn turns the end of a job's time into another turn.
func ownTurn(ctx context.Context, err error) error {
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return river.JobSnooze(0)
	}
	return err
}

// orLater turns the wish for another turn at a time into that turn.
func orLater(err error) error {
	var later *Later
	if errors.As(err, &later) {
		return river.JobSnooze(max(time.Until(later.At), 0))
	}
	return err
}
