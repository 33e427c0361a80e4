// Package service holds every verb of the product, once. The HTTP interface,
// the command line and the queued jobs are thin over it.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/google/uuid"
	"github.com/maypok86/otter/v2"

	"insegna.example/internal/core/chain"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/look"
	"insegna.example/internal/safe"
	"insegna.example/internal/store"
	"insegna.example/internal/store/cluster"
	"insegna.example/internal/work"
)

// Version of the program.
const Version = "0.1.0"

// Config says where a service keeps its things and how it looks.
type Config struct {
	Data       string        // directory of the service's own
	Database   string        // DSN; "" starts a PostgreSQL cluster in Data
	Vantage    string        // where this process stands
	Programs   string        // folder of programs that put DNS records up; "" for none
	SafeKey    string        // file with the safe's key; "" is safe.key in Data
	TestLimit  time.Duration // for a server's own configuration test; 0 is 30 s
	Disposable bool          // own cluster without durability, for tests and benchmarks
	Looker     *look.Looker  // nil takes the usual limits
	Kinds      kind.Registry // of server; those of kind/registry when nil
	Log        *slog.Logger  // nil discards

	OrderPatience  time.Duration // for a CA to come to an end; 0 is half an hour
	SpreadPatience time.Duration // for name servers to show a record; 0 is 2 minutes

	Clock func() time.Time // the schedule's, by which surveys are begun; nil takes the system's
}

// base is what every room has: the settings and the records.
type base struct {
	cfg   *Config      // shared by all rooms
	store *store.Store // shared by all rooms
}

// Service is the running product: the rooms, tied together. A room knows those
// it needs, and there is no ring between them. Safe for concurrent use.
type Service struct {
	base
	lock    *os.File         // on the data directory
	dsn     string           // of the database
	cluster *cluster.Cluster // nil with a database of the operator's own
	jobs    *work.Jobs       // stopped before the store is closed

	measured *costly[*Metrics] // for monitoring

	*Declaring
	*Reading
	*Surveying
	*Ordering
	*Installing
	*Visiting
	*Access
	*Following
	*TakingToHTTPS
	*Mending
	*Notifying
	*Issuing
}

// InUseError says that another process works with the same data directory.
type InUseError struct{ Dir string }

// Error names the directory.
func (e *InUseError) Error() string {
	return fmt.Sprintf("the data directory %s is in use by another insegna; stop that one, or choose another with --data",
		e.Dir)
}

// Open starts everything a service needs: its data directory, its database,
// its queue. Close ends it.
func Open(ctx context.Context, cfg Config) (s *Service, err error) {
	s = &Service{base: base{cfg: &cfg}}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	cfg.complete()
	worker, err := s.takeData()
	if err != nil {
		return s, err
	}
	s.dsn = cfg.Database
	if s.dsn == "" {
		if s.cluster, err = cluster.Start(ctx, filepath.Join(cfg.Data, "postgres"),
			cluster.Options{Disposable: cfg.Disposable, Log: cfg.Log}); err != nil {
			return s, err
		}
		s.dsn = s.cluster.DSN()
	}
	if s.store, err = store.Open(ctx, s.dsn); err != nil {
		return s, err
	}
	kept, err := s.openSafe(ctx)
	if err != nil {
		return s, err
	}
	if s.jobs, err = work.New(ctx, s.store.Pool(), worker, cfg.Vantage, cfg.Log); err != nil {
		return s, err
	}
	s.furnish(kept)
	return s, s.jobs.Start(ctx)
}

// complete fills in what is not said.
func (cfg *Config) complete() {
	if cfg.Looker == nil {
		cfg.Looker = look.New()
	}
	if cfg.Kinds == nil {
		cfg.Kinds = registry.Kinds
	}
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	if cfg.TestLimit == 0 {
		cfg.TestLimit = testLimit
	}
	if cfg.Clock == nil {
		cfg.Clock = time.Now
	}
	if cfg.Vantage == "" {
		cfg.Vantage = "inside"
	}
}

// furnish makes the rooms, each with what it needs, and registers their jobs.
func (s *Service) furnish(kept *safe.Safe) {
	s.measured = newCostly[*Metrics]()
	s.Access = &Access{base: s.base, throttle: newThrottle(), hashing: newHashing(), still: newStill()}
	s.Declaring = &Declaring{base: s.base}
	s.Reading = &Reading{base: s.base, declaring: s.Declaring, listed: newCostlyBy[serverPage](),
		recent: map[string]recentReading{},
		known:  otter.Must(&otter.Options[int64, *configuration]{MaximumSize: keptConfigurations}),
		whole:  otter.Must(&otter.Options[int64, *wholeReading]{MaximumSize: keptWhole})}
	pool := look.NewPool(s.cfg.Looker, s.Access.asked)
	s.Reading.look = pool.Look
	s.Surveying = &Surveying{base: s.base, declaring: s.Declaring, reading: s.Reading, pool: pool,
		jobs: s.jobs, today: newCostly[*Today](),
		ends: &marked[[]store.DayCount]{turn: make(chan struct{}, 1), marks: s.store.ShownMark, worked: s.store.Density}}
	s.Issuing = newIssuing(s.base, s.Declaring, kept)
	s.Ordering = &Ordering{base: s.base, declaring: s.Declaring, reading: s.Reading, safe: kept, cas: newCAs(),
		jobs: s.jobs, issuing: s.Issuing, paths: chain.NewBuilder(chain.NewKnown())}
	s.Installing = &Installing{base: s.base, declaring: s.Declaring, surveying: s.Surveying, ordering: s.Ordering,
		jobs: s.jobs}
	s.Visiting = &Visiting{base: s.base, declaring: s.Declaring, ordering: s.Ordering}
	s.Following = &Following{base: s.base, surveys: map[int64]map[chan *Survey]bool{}, events: map[chan *Events]bool{}}
	s.TakingToHTTPS = &TakingToHTTPS{base: s.base, reading: s.Reading, surveying: s.Surveying, ordering: s.Ordering,
		installing: s.Installing,
		jobs:       s.jobs}
	s.Mending = &Mending{base: s.base, declaring: s.Declaring, reading: s.Reading, surveying: s.Surveying, ordering: s.Ordering,
		installing: s.Installing, tried: map[int64]time.Time{}}
	s.Notifying = &Notifying{base: s.base, declaring: s.Declaring, ordering: s.Ordering, surveying: s.Surveying, jobs: s.jobs}
	s.Declaring.applied = func() { s.Surveying.today.forget(); s.Surveying.ends.forget(); s.Reading.listed.forget() }
	s.Ordering.ended, s.Ordering.ready = s.Installing.installIssued, s.Installing.readyOn
	s.Surveying.register()
	s.Ordering.register()
	s.Installing.register()
	s.TakingToHTTPS.register()
	s.Notifying.register()
	work.Handle(s.jobs, work.Looks, 1, func(ctx context.Context, _ dueJob) error { return s.BeginDue(ctx) })
	s.jobs.Every(dueEach, dueJob{})
}

// dueEach is how often it is seen what is due.
const dueEach = time.Minute

// dueJob sees what is due.
type dueJob struct{}

// Kind implements work.Args.
func (dueJob) Kind() string { return "mandates_due" }

// eventsKept is how long what happened is kept for those who read it late.
const eventsKept = 90 * 24 * time.Hour

// BeginDue begins what is due, also by what its CA says now, installs what was
// renewed, and forgets what happened long ago. Asking comes last: a CA may let
// it wait.
func (s *Service) BeginDue(ctx context.Context) error {
	if err := s.Ordering.beginDue(ctx); err != nil {
		return err
	}
	return errors.Join(s.Installing.InstallDue(ctx), s.Mending.mendDue(ctx), s.Notifying.tellOwn(ctx), s.Ordering.askAgain(ctx),
		s.store.DropEvents(ctx, time.Now().Add(-eventsKept)))
}

// Close ends the work and everything that was started. Work that was begun is
// taken up by the next start.
func (s *Service) Close() {
	if s.jobs != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		if err := s.jobs.Stop(ctx); err != nil {
			s.cfg.Log.Warn("work did not stop in time; it is taken up by the next start", "error", err)
		}
		cancel()
	}
	if s.store != nil {
		s.store.Close()
	}
	if s.cluster != nil {
		s.cluster.Stop()
	}
	if s.lock != nil {
		_ = s.lock.Close()
	}
}

// layout is the version of the data directory's form.
const layout = "1"

// takeData makes the data directory, locks it, and gives the worker's name
// that is kept there.
func (s *Service) takeData() (worker string, err error) {
	dir := s.cfg.Data
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return "", fmt.Errorf("cannot make the data directory: %w; choose another with --data", err)
	}
	if s.lock, err = os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return "", fmt.Errorf("cannot use the data directory: %w; choose another with --data", err)
	}
	if err := syscall.Flock(int(s.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return "", &InUseError{dir}
	}
	if has, err := keep(filepath.Join(dir, "version"), func() string { return layout }); err != nil {
		return "", err
	} else if has != layout {
		return "", fmt.Errorf("the data directory %s has the form %q, this program knows %q; use the version of insegna "+
			"that made it, or choose another directory with --data", dir, has, layout)
	}
	return keep(filepath.Join(dir, "worker"), uuid.NewString)
}

// keep reads a one-line file, or makes it.
func keep(path string, fresh func() string) (string, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		text = []byte(fresh())
		err = os.WriteFile(path, append(text, '\n'), 0o600)
	}
	return strings.TrimSpace(string(text)), err
}

// Lost is closed when the service's own database has ended for good; LostWhy says
// why. nil, which never comes, with a database of the operator's own.
func (s *Service) Lost() <-chan struct{} {
	if s.cluster == nil {
		return nil
	}
	return s.cluster.Ended()
}

// LostWhy says why the service's own database ended for good.
func (s *Service) LostWhy() error { return s.cluster.Err() }

// Ready asks whether the database answers.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }

// DatabaseAddress is where the records are, with the password: for programs that
// measure, never to be shown.
func (s *Service) DatabaseAddress() string { return s.dsn }

// Kinds are the kinds of server it knows.
func (s *Service) Kinds() kind.Registry { return s.cfg.Kinds }

// Vantage is where this service looks from.
func (s *Service) Vantage() string { return s.cfg.Vantage }
