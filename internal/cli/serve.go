package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"insegna.example/internal/core/check"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/look"
	"insegna.example/internal/service"
)

// serve declares serve's flags; runService does the work.
func (a *app) serve() *cobra.Command {
	o := serviceFlags{looker: look.New()}
	c := &cobra.Command{
		Use: "serve", Short: "Run the service and its console", Args: cobra.NoArgs,
		Long: "Runs the service until it is told to stop (Ctrl-C or SIGTERM). Without --database it starts\n" +
			"a PostgreSQL of its own, with its files and its socket in the data directory.",
		Example: "  insegna serve --data /var/lib/insegna --listen 127.0.0.1:7420\n  insegna serve --apply estate.yaml",
		RunE:    a.run(func(c *cobra.Command, _ []string) error { return a.runService(c.Context(), &o) }),
	}
	f := c.Flags()
	f.StringVar(&o.listen, "listen", DefaultAddress,
		"address to listen at; beyond loopback only with --tls-certificate and --tls-key")
	f.StringVar(&o.certificate, "tls-certificate", "",
		"PEM file with the certificate, and chain, to speak https with; taken in again when it changes")
	f.StringVar(&o.key, "tls-key", "", "PEM file with the key of --tls-certificate")
	f.StringVar(&o.proofs, "proofs", "",
		"address and port to answer CAs' proofs at, for mandates with proof by listener, such as :80")
	f.StringVar(&o.proofsTLS, "proofs-tls", "",
		"address and port to answer CAs' proofs in TLS at, for mandates with proof by tls-alpn, such as :443")
	f.StringVar(&o.acme, "acme", "",
		"address and port where clients of the network ask your own CAs over ACME, such as :7443")
	f.StringVar(&o.cfg.Programs, "programs", "",
		"folder of programs that put DNS records up, for mandates with proof by program, such as /etc/insegna/programs")
	f.StringVar(&o.apply, "apply", "",
		"estate file to apply at the start, unless it would take something away, and to look at: what was found is printed")
	f.StringVar(&o.cfg.Data, "data", dataDir(), "data directory")
	f.StringVar(&o.cfg.Database, "database", os.Getenv("INSEGNA_DATABASE"),
		"PostgreSQL to use instead of an own one, as postgres://...; better set INSEGNA_DATABASE, which no process list shows")
	f.StringVar(&o.cfg.SafeKey, "safe-key", "",
		"file with the key that encrypts secrets, made on the first start; safe.key in the data directory when left out, or "+
			"set INSEGNA_SAFE_KEY")
	f.StringVar(&o.cfg.Vantage, "vantage", "inside", "where this service stands")
	f.StringVar(&o.level, "log-level", "info", "debug, info, warn or error")
	f.DurationVar(&o.looker.ConnectTimeout, "connect-timeout", 4*time.Second, "longest wait for a connection")
	f.DurationVar(&o.looker.HandshakeTimeout, "handshake-timeout", 5*time.Second, "longest wait for a handshake")
	return c
}

// stopped says which listener stopped by itself; nil when it was told to.
func stopped(what string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s stopped: %w; the service stops with it, start it again", what, err)
}

// firstLink prints the one-time link of the first admin, to stdout and not to
// the log, as long as nobody has used one.
func (a *app) firstLink(ctx context.Context, s *service.Service, console string) error {
	code, err := s.FirstInvitation(ctx)
	if err != nil || code == "" {
		return err
	}
	_, err = fmt.Fprintf(a.out,
		"Nobody can sign in yet. This link makes the first admin, once, within three days:\n%s\nOr run: insegna set-up LINK "+
			"--name NAME\n", setUpLink(console, code))
	return err
}

// dataDir is the usual data directory: the system's for root, else the user's.
func dataDir() string {
	if os.Geteuid() == 0 {
		return "/var/lib/insegna"
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "insegna-data"
	}
	return filepath.Join(home, ".local", "share", "insegna")
}

// serviceFlags are the flags of serve.
type serviceFlags struct {
	cfg                                                             service.Config // what the service is opened with
	looker                                                          *look.Looker   // takes the two time limits
	listen, level, certificate, key, proofs, proofsTLS, acme, apply string         // as given on the command line
}

// runService runs the service until it is told to stop.
func (a *app) runService(ctx context.Context, o *serviceFlags) error {
	var l slog.Level
	if err := l.UnmarshalText([]byte(o.level)); err != nil {
		return usage{fmt.Errorf("unknown log level %q; expected debug, info, warn or error", o.level)}
	}
	cfg := o.cfg
	cfg.Log = slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: l}))
	cfg.Looker = o.looker
	if (o.certificate == "") != (o.key == "") {
		return usage{errors.New("--tls-certificate and --tls-key belong together; give both or none")}
	}
	var file *service.EstateFile
	if o.apply != "" {
		var err error
		if file, err = loadEstate(o.apply); err != nil {
			return err
		}
		if _, err := file.Parse(registry.Kinds.Declared()); err != nil {
			return err // with places, before anything is started
		}
	}
	var pair *httpapi.Pair
	if o.certificate != "" {
		var err error
		if pair, err = httpapi.OpenPair(o.certificate, o.key); err != nil {
			return err
		}
	}
	listener, err := httpapi.Listen(o.listen, pair)
	if err != nil {
		return err
	}
	defer func() { _ = listener.Close() }()
	s, err := service.Open(ctx, cfg)
	if err != nil {
		return err
	}
	defer s.Close()
	h, err := httpapi.Handler(s, pair, cfg.Log)
	if err != nil {
		return err
	}
	console := "http://" + httpapi.Reached(listener.Addr(), nil)
	if pair != nil {
		console = "https://" + httpapi.Reached(listener.Addr(), pair)
	}
	if err := a.firstLink(ctx, s, console); err != nil {
		return err
	}
	both, ctx := errgroup.WithContext(ctx)
	if file != nil {
		survey, err := a.applyAtStart(ctx, s, file)
		if err != nil {
			return err
		}
		both.Go(func() error { return a.tellFound(ctx, s, survey, console) })
	}
	if o.proofs != "" {
		at, err := net.Listen("tcp", o.proofs)
		if err != nil {
			return fmt.Errorf("cannot answer proofs at %s: %w; choose another address with --proofs", o.proofs, err)
		}
		both.Go(func() error { return stopped("the listener for proofs", httpapi.Serve(ctx, at, httpapi.Proofs(s))) })
	}
	if o.proofsTLS != "" {
		at, err := net.Listen("tcp", o.proofsTLS)
		if err != nil {
			return fmt.Errorf("cannot answer proofs in TLS at %s: %w; choose another address with --proofs-tls", o.proofsTLS, err)
		}
		both.Go(func() error { return stopped("the listener for proofs in TLS", httpapi.ProofsTLS(ctx, at, s)) })
	}
	if o.acme != "" {
		at, err := net.Listen("tcp", o.acme)
		if err != nil {
			return fmt.Errorf("cannot answer ACME clients at %s: %w; choose another address with --acme", o.acme, err)
		}
		both.Go(func() error {
			return stopped("the listener for ACME clients", httpapi.ACMEServer(ctx, at, s, pair, cfg.Log))
		})
	}
	cfg.Log.Info("serving", "console", console, "data", cfg.Data, "vantage", s.Vantage())
	both.Go(func() error { return stopped("the console's listener", httpapi.Serve(ctx, listener, h)) })
	both.Go(func() error {
		select {
		case <-s.Lost():
			return fmt.Errorf("the service stops: %w", s.LostWhy())
		case <-ctx.Done():
			return nil
		}
	})
	err = both.Wait()
	cfg.Log.Info("stopping")
	return err
}

// applyAtStart puts an estate file in force and begins a survey; 0 where the file is in force
// already, or would take something away: then what is in force stays, for what serves a whole
// estate does not stay down for one file.
func (a *app) applyAtStart(ctx context.Context, s *service.Service, file *service.EstateFile) (survey int64, err error) {
	changes, err := s.PreviewEstate(ctx, file)
	if err != nil {
		return 0, err
	}
	for _, c := range changes.Changes {
		if c.Is == "gone" {
			a.say("%s is not applied: it would take away %s %s, which is in force and stays so. If that is meant: insegna estate apply %[1]s",
				file.Name, c.Kind, c.Name)
			return 0, nil
		}
	}
	if len(changes.Changes) == 0 {
		a.say("%s is in force already.", file.Name)
		return 0, nil
	}
	if changes, err = s.ApplyEstate(ctx, file); err != nil {
		return 0, err
	}
	v, err := s.StartSurvey(ctx, service.Scope{})
	if err != nil {
		return 0, err
	}
	a.say("Applied %s: %s. Looking at %s.", file.Name, plural(len(changes.Changes), "change"), plural(v.Targets, "target"))
	return v.ID, nil
}

// How what was found at the start is told.
const (
	foundEach  = 300 * time.Millisecond // between two looks whether the survey has ended
	foundShown = 12                     // findings
)

// tellFound waits for the end of a survey and tells the worst of what it has found. Trouble
// with that is told by the service's log, and ends nothing.
func (a *app) tellFound(ctx context.Context, s *service.Service, survey int64, console string) error {
	for survey > 0 {
		v, err := s.Survey(ctx, survey)
		if err != nil {
			return nil //nolint:nilerr // the service is told to stop, or its database rests
		}
		if v.FinishedAt == nil {
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(foundEach):
			}
			continue
		}
		counts, _, err := s.CountFindings(ctx)
		if err != nil {
			return nil //nolint:nilerr // the same
		}
		list, _, err := s.Findings(ctx, service.FindingFilter{State: "open"}, service.Page{Sort: "worst", Limit: foundShown})
		if err != nil {
			return nil //nolint:nilerr // the same
		}
		a.say("\nLooked in %s. Open findings: %d broken, %d due, %d weak, %d note.\n", v.FinishedAt.Sub(v.CreatedAt).Round(10*time.Millisecond), counts[0],
			counts[1], counts[2], counts[3])
		for i := range list {
			f := &list[i]
			mark := marks[string(check.Severities[f.Severity])]
			if f.Server == "" { // what several servers have in common
				a.note(mark, f.Cause)
			} else {
				a.note(mark, fmt.Sprintf("%s on %s: %s", cmp.Or(f.Host, "the server as a whole"), f.Server, f.Cause))
			}
			a.note("", "→ "+f.Remedy)
		}
		a.say("\nAll of it: %s, once somebody can sign in.", console)
		return nil
	}
	return nil
}
