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
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"
	"github.com/maypok86/otter/v2"

	"insegna.example/internal/acme"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/core/trust"
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
	SafeKey    string        // file with the safe's key; "" is safe.key in Data
	TestLimit  time.Duration // for a server's own configuration test; 0 is 30 s
	Disposable bool          // own cluster without durability, for tests and benchmarks
	Looker     *look.Looker
	Kinds      kind.Registry // of server; those of kind/registry when nil
	Log        *slog.Logger

	OrderPatience  time.Duration // for a CA to come to an end; 0 is half an hour
	SpreadPatience time.Duration // for name servers to show a record; 0 is 2 minutes
}

// Service is the running product. Safe for concurrent use.
type Service struct {
	cfg     Config
	lock    *os.File
	cluster *cluster.Cluster
	store   *store.Store
	jobs    *work.Jobs
	pool    *look.Pool

	safe     *safe.Safe
	throttle *throttle
	cas      cas
	swept    sync.Once
	readings *otter.Cache[int64, *configuration] // by number of the reading

	mu       sync.Mutex
	judged   int64 // declaration the judge was made for
	judge    *check.Judge
	parsed   int64 // declaration the estate was parsed from
	declared *estate.Estate
}

// InUseError says that another process works with the same data directory.
type InUseError struct{ Dir string }

func (e *InUseError) Error() string {
	return fmt.Sprintf("the data directory %s is in use by another insegna; stop that one, or choose another with --data", e.Dir)
}

// Open starts everything a service needs: its data directory, its database,
// its queue. Close ends it.
func Open(ctx context.Context, cfg Config) (s *Service, err error) {
	s = &Service{cfg: cfg}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	if cfg.Looker == nil {
		s.cfg.Looker = look.New()
	}
	if cfg.Kinds == nil {
		s.cfg.Kinds = registry.Kinds
	}
	if cfg.TestLimit == 0 {
		s.cfg.TestLimit = testLimit
	}
	if cfg.Vantage == "" {
		s.cfg.Vantage = "inside"
	}
	s.pool = look.NewPool(s.cfg.Looker)
	s.throttle = newThrottle()
	s.cas.clients, s.cas.made = map[string]*acme.Client{}, map[string]int64{}
	s.readings = otter.Must(&otter.Options[int64, *configuration]{MaximumSize: keptConfigurations})
	worker, err := s.takeData()
	if err != nil {
		return s, err
	}
	dsn := cfg.Database
	if dsn == "" {
		if s.cluster, err = cluster.Start(ctx, filepath.Join(cfg.Data, "postgres"), cluster.Options{Disposable: cfg.Disposable}); err != nil {
			return s, err
		}
		dsn = s.cluster.DSN()
	}
	if s.store, err = store.Open(ctx, dsn); err != nil {
		return s, err
	}
	if s.safe, err = s.openSafe(ctx); err != nil {
		return s, err
	}
	handlers := work.Handlers{Read: s.readServer, Shard: s.lookShard, Finish: s.finishSurvey, Order: s.runOrder, Install: s.runInstallation, Due: s.BeginDue}
	if s.jobs, err = work.New(ctx, s.store.Pool(), worker, s.cfg.Vantage, handlers, s.cfg.Log); err != nil {
		return s, err
	}
	return s, s.jobs.Start(ctx)
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
		return "", fmt.Errorf("the data directory %s has the form %q, this program knows %q; use the version of insegna that made it, or choose another directory with --data", dir, has, layout)
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

// Ready asks whether the database answers.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }

// Store gives reading access to the records.
func (s *Service) Store() *store.Store { return s.store }

// Kinds are the kinds of server it knows.
func (s *Service) Kinds() kind.Registry { return s.cfg.Kinds }

// Vantage is where this service looks from.
func (s *Service) Vantage() string { return s.cfg.Vantage }

// currentJudge gives the judge for the declaration in force, made once for
// each: its audiences, and the intermediates declared or met before.
func (s *Service) currentJudge(ctx context.Context) (*check.Judge, error) {
	e, id, err := s.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.judge != nil && s.judged == id {
		return s.judge, nil
	}
	known := chain.NewKnown(e.Intermediates...)
	err = s.store.CACertificates(ctx, func(der []byte) {
		if c, err := certs.Parse(der); err == nil {
			known.Add(c)
		}
	})
	if err != nil {
		return nil, err
	}
	s.judge, s.judged = check.NewJudge(Audiences(e), known), id
	return s.judge, nil
}

// estateInForce gives the estate in force with its number, parsed once for
// each declaration. It is not to be changed.
func (s *Service) estateInForce(ctx context.Context) (*estate.Estate, int64, error) {
	id, err := s.store.DeclaredID(ctx)
	if err != nil {
		return nil, 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.declared != nil && s.parsed == id {
		return s.declared, id, nil
	}
	d, err := s.store.Declared(ctx)
	if err != nil {
		return nil, 0, err
	}
	e, err := d.Estate(s.cfg.Kinds.Declared())
	if err != nil {
		return nil, 0, err
	}
	s.declared, s.parsed = e, d.ID
	return e, d.ID, nil
}

// Audiences makes the trust view of an estate's audiences.
func Audiences(e *estate.Estate) []*trust.Audience {
	list := make([]*trust.Audience, len(e.Audiences))
	for i, a := range e.Audiences {
		list[i] = trust.NewAudience(a.Name, a.Public, a.Anchors)
	}
	return list
}

// ErrNoEstate says that nothing has been applied yet.
var ErrNoEstate = fault.New(fault.NotNow, "No estate", "no estate has been applied yet; write an estate file and run: insegna estate apply FILE", "apply an estate file first")

// StartSurvey begins a survey of the estate or a part of it.
func (s *Service) StartSurvey(ctx context.Context, scope store.Scope) (*store.Survey, error) {
	if _, err := s.store.Declared(ctx); errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoEstate
	} else if err != nil {
		return nil, err
	}
	v, err := s.store.StartSurvey(ctx, scope, s.cfg.Vantage, time.Now().UTC(), s.enqueue(scope))
	if errors.Is(err, store.ErrNothing) {
		return nil, &ScopeError{scope}
	}
	return v, err
}

// ScopeError says that a survey's scope holds nothing to look at.
type ScopeError struct{ Scope store.Scope }

func (e *ScopeError) Error() string {
	if e.Scope == (store.Scope{}) {
		return "the estate holds no endpoint with a host; add hosts to the estate file"
	}
	return fmt.Sprintf("the estate has no %s; expected a host or server of the estate file, see: insegna estate show", e.Scope)
}

// Told implements fault.Error.
func (e *ScopeError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Nothing to look at", Next: "name a host or server of the estate"}
}
