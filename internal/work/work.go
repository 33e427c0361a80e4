// Package work runs queued jobs on the database (River): the shards of a
// survey and what ends it, orders of certificates, installations, and the look
// for what is due.
//
// It knows how jobs are stored, retried and rescued; what they do is given to
// it as functions. Start more processes on one database and they share the
// work: one queue a vantage.
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

// Shard names a part of a survey.
type Shard struct {
	Survey int64  `json:"survey"`
	Number int    `json:"number"`
	Host   string `json:"host,omitempty"`   // the survey's scope
	Server string `json:"server,omitempty"` // the survey's scope
}

// Kind names the job in the queue.
func (Shard) Kind() string { return "survey_shard" }

// Read names a server whose configuration a survey has to read.
type Read struct {
	Survey int64  `json:"survey"`
	Name   string `json:"name"`             // of the server
	Host   string `json:"host,omitempty"`   // the survey's scope
	Server string `json:"server,omitempty"` // the survey's scope
}

// Kind names the job in the queue.
func (Read) Kind() string { return "survey_read" }

// Finish ends a survey whose shards are done.
type Finish struct {
	Survey int64 `json:"survey"`
}

// Kind names the job in the queue.
func (Finish) Kind() string { return "survey_finish" }

// Order names an order of a certificate.
type Order struct {
	Number int64 `json:"number"`
}

// Kind names the job in the queue.
func (Order) Kind() string { return "order" }

// Install names an installation.
type Install struct {
	Number int64 `json:"number"`
}

// Kind names the job in the queue.
func (Install) Kind() string { return "installation" }

// Due looks for mandates that are due.
type Due struct{}

// Kind names the job in the queue.
func (Due) Kind() string { return "mandates_due" }

// Later is an error that asks for another turn at a time.
type Later struct{ At time.Time }

func (e *Later) Error() string { return "goes on at " + e.At.UTC().Format(time.RFC3339) }

// Handlers are what the jobs do. Each may be called again for work that was
// begun before.
type Handlers struct {
	Read   func(context.Context, Read) error
	Shard  func(context.Context, Shard) error
	Finish func(context.Context, int64) error
	Order  func(context.Context, int64) error
	// Install carries an installation out.
	Install func(context.Context, int64) error
	Due     func(context.Context) error
}

// Limits of a job. A shard that takes longer goes on in another turn, since
// its progress is stored; one whose worker died is taken over a little later.
const (
	turn         = 2 * time.Minute
	rescue       = turn + 30*time.Second
	shardsAtOnce = 8
	readsAtOnce  = 16  // servers are mostly waited for
	ordersAtOnce = 500 // CAs even more: an order is a second of waiting at least
	dueEach      = time.Minute
	// fetchCooldown is the least time between two looks into the queue; a survey
	// has two steps that follow each other, and nobody should wait for them.
	fetchCooldown = 10 * time.Millisecond
)

const ordersQueue = "orders"

// Jobs is the queue. Safe for concurrent use.
type Jobs struct {
	client *river.Client[pgx.Tx]
	pool   *pgxpool.Pool
	worker string
	queue  string
	reads  string // queue of readings
}

// New makes the queue's tables where they are missing. worker must be unique
// among running processes and the same after a restart.
func New(ctx context.Context, pool *pgxpool.Pool, worker, vantage string, h Handlers, log *slog.Logger) (*Jobs, error) {
	driver := riverpgxv5.New(pool)
	m, err := rivermigrate.New(driver, &rivermigrate.Config{Logger: slog.New(atLeastWarn{log.Handler()})})
	if err != nil {
		return nil, err
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return nil, fmt.Errorf("bringing the job queue's schema up to date: %w", err)
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[Shard]) error {
		return ownTurn(ctx, h.Shard(ctx, j.Args))
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[Read]) error {
		return ownTurn(ctx, h.Read(ctx, j.Args))
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[Finish]) error {
		return h.Finish(ctx, j.Args.Survey)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[Order]) error {
		return orLater(ownTurn(ctx, h.Order(ctx, j.Args.Number)))
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[Install]) error {
		return orLater(ownTurn(ctx, h.Install(ctx, j.Args.Number)))
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[Due]) error { return h.Due(ctx) }))
	queue, reads := "vantage_"+vantage, "reads_"+vantage
	client, err := river.NewClient(driver, &river.Config{
		ID: worker, Workers: workers, Logger: slog.New(atLeastWarn{log.Handler()}),
		Queues: map[string]river.QueueConfig{queue: {MaxWorkers: shardsAtOnce}, reads: {MaxWorkers: readsAtOnce}, ordersQueue: {MaxWorkers: ordersAtOnce}},
		PeriodicJobs: []*river.PeriodicJob{river.NewPeriodicJob(river.PeriodicInterval(dueEach), func() (river.JobArgs, *river.InsertOpts) {
			return Due{}, &river.InsertOpts{Queue: queue, MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByArgs: true, ByPeriod: dueEach / 2}}
		}, &river.PeriodicJobOpts{RunOnStart: true})},
		JobTimeout: turn, RescueStuckJobsAfter: rescue, FetchCooldown: fetchCooldown,
	})
	if err != nil {
		return nil, err
	}
	return &Jobs{client, pool, worker, queue, reads}, nil
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

// Start begins working. What this very worker had begun before it died is
// taken up at once.
func (j *Jobs) Start(ctx context.Context) error {
	if _, err := j.pool.Exec(ctx, `update river_job set state = 'available', scheduled_at = now()
		where state = 'running' and attempted_by[array_upper(attempted_by, 1)] = $1`, j.worker); err != nil {
		return err
	}
	return j.client.Start(ctx)
}

// Stop ends the work: running jobs are told to stop and are taken up by the
// next start.
func (j *Jobs) Stop(ctx context.Context) error { return j.client.StopAndCancel(ctx) }

// AddDue queues a look for what is due at a time.
func (j *Jobs) AddDue(ctx context.Context, at time.Time) error {
	_, err := j.client.Insert(ctx, Due{}, &river.InsertOpts{Queue: j.queue, MaxAttempts: 1, ScheduledAt: at})
	return err
}

// AddShards queues the shards 0 to n-1 of a survey, committed with tx.
func (j *Jobs) AddShards(ctx context.Context, tx pgx.Tx, s Shard, n int) error {
	params := make([]river.InsertManyParams, n)
	for i := range params {
		s.Number = i
		params[i] = river.InsertManyParams{Args: s, InsertOpts: &river.InsertOpts{Queue: j.queue}}
	}
	_, err := j.client.InsertManyFastTx(ctx, tx, params)
	return err
}

// AddReads queues the reading of servers by name, committed with tx.
func (j *Jobs) AddReads(ctx context.Context, tx pgx.Tx, r Read, names []string) error {
	params := make([]river.InsertManyParams, len(names))
	for i, name := range names {
		r.Name = name
		params[i] = river.InsertManyParams{Args: r, InsertOpts: &river.InsertOpts{Queue: j.reads}}
	}
	_, err := j.client.InsertManyFastTx(ctx, tx, params)
	return err
}

// AddOrders queues orders by number, committed with tx.
func (j *Jobs) AddOrders(ctx context.Context, tx pgx.Tx, numbers []int64) error {
	params := make([]river.InsertManyParams, len(numbers))
	for i, n := range numbers {
		params[i] = river.InsertManyParams{Args: Order{n}, InsertOpts: &river.InsertOpts{Queue: ordersQueue, MaxAttempts: 100}}
	}
	_, err := j.client.InsertManyFastTx(ctx, tx, params)
	return err
}

// AddInstallation queues an installation, committed with tx.
func (j *Jobs) AddInstallation(ctx context.Context, tx pgx.Tx, number int64) error {
	_, err := j.client.InsertTx(ctx, tx, Install{number}, &river.InsertOpts{Queue: ordersQueue, MaxAttempts: 100})
	return err
}

// AddFinish queues the end of a survey, committed with tx.
func (j *Jobs) AddFinish(ctx context.Context, tx pgx.Tx, survey int64) error {
	_, err := j.client.InsertTx(ctx, tx, Finish{survey}, &river.InsertOpts{Queue: j.queue, Priority: 1})
	return err
}
