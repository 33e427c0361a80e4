// Package cli is the command line (Cobra). It talks to a service through the
// generated client; visit, inspect and convert also work without one.
//
// Every command prints a human table by default, JSON or CSV on request;
// progress goes to stderr. Exit codes: 0 fine, 1 failed, 2 wrong use, 3
// findings at or above --fail-at.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"insegna.example/client"
	"insegna.example/internal/core/check"
	"insegna.example/internal/service"
)

// Exit codes.
const (
	exitFine, exitFailed, exitUsage, exitFindings = 0, 1, 2, 3
)

// DefaultAddress is where a service listens and a client looks for it.
const DefaultAddress = "127.0.0.1:7420"

// app holds what all commands share.
type app struct {
	out, err io.Writer // stdout and stderr
	address  string    // of the service
	output   string    // table, json or csv
	failAt   string    // severity from which findings fail the command; "" for none
	color    bool      // the terminal takes it
	width    int       // of the terminal on stdout, in characters; 0 when it is none
	terminal bool      // stderr is one, so a bar can be drawn
	utc      bool      // times are written in UTC
	anchors  string    // file of roots to trust the service by; "" for the machine's
}

// failure marks an error of the work, as against one of use.
type failure struct{ error }

// Unwrap gives the cause.
func (f failure) Unwrap() error { return f.error }

// usage is an error of use found by a command itself.
type usage struct{ error }

// findingsError says that findings at or above --fail-at are there.
type findingsError struct{ at string }

// Error says which severity was reached.
func (e findingsError) Error() string { return "there are findings at or above " + e.at }

// Main runs the command line and gives the exit code.
func Main() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // whatever the first signal does not end, the second does
	a := &app{out: os.Stdout, err: os.Stderr}
	_, plain := os.LookupEnv("NO_COLOR")
	_, force := os.LookupEnv("FORCE_COLOR")
	a.color = force || !plain && term.IsTerminal(int(os.Stdout.Fd()))
	a.terminal = term.IsTerminal(int(os.Stderr.Fd()))
	if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil {
		a.width = max(w, 60)
	}
	err := a.root().ExecuteContext(ctx)
	return a.exit(err)
}

// exit turns how a command ended into its exit code, and says why on stderr.
func (a *app) exit(err error) int {
	var failed failure
	var wrong usage
	var found findingsError
	switch {
	case err == nil:
		return exitFine
	case errors.As(err, &found):
		return exitFindings
	case errors.As(err, &wrong), !errors.As(err, &failed):
		fmt.Fprintf(a.err, "insegna: %s\n", clean(err.Error()))
		fmt.Fprintln(a.err, "For how a command is used, add --help to it.")
		return exitUsage
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(a.err, "insegna: stopped")
		return exitFailed
	}
	lines := strings.Split(err.Error(), "\n")
	for i, l := range lines {
		lines[i] = clean(l)
	}
	fmt.Fprintf(a.err, "insegna: %s\n", strings.Join(lines, "\n         "))
	return exitFailed
}

// root puts all commands together.
func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "insegna",
		Short: "Keeps the right certificate at every endpoint of an estate",
		Long: "Insegna inventories the TLS certificates of an estate, judges chains, names and dates,\n" +
			"and says for every host at every endpoint what is wanted and what visitors are served.\n\n" +
			"Start a service with: insegna serve. Without one, visit, inspect and convert work by themselves.",
		SilenceErrors: true, SilenceUsage: true,
	}
	root.SetOut(a.out)
	root.SetErr(a.err)
	f := root.PersistentFlags()
	f.StringVar(&a.address, "service", envOr("INSEGNA_SERVICE", "http://"+DefaultAddress),
		"address of the service, or set INSEGNA_SERVICE")
	f.StringVar(&a.anchors, "service-ca", os.Getenv("INSEGNA_SERVICE_CA"),
		"PEM file with the CA of an https service, when the system does not trust it, or set INSEGNA_SERVICE_CA")
	f.StringVarP(&a.output, "output", "o", "table", "table, json or csv")
	f.BoolVar(&a.utc, "utc", false, "write times in UTC, in place of this machine's zone")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.utc {
			zone = time.UTC
		}
		switch a.output {
		case "table", "json", "csv":
			return nil
		}
		return usage{fmt.Errorf("unknown output %q; expected table, json or csv", a.output)}
	}
	root.AddCommand(a.serve(), a.today(), a.notices(), a.report(), a.calendar(), a.estate(), a.survey(), a.bindings(), a.servers(), a.certificates(),
		a.host(), a.findings(), a.mandates(), a.orders(), a.https(), a.install(), a.installations(), a.waves(), a.cas(), a.accounts(), a.drills(), a.credentials(),
		a.journal(), a.safe(), a.people(), a.tokens(), a.setUp(), a.signIn(), a.signOut(), a.whoAmI(), a.recover(),
		a.visit(), a.inspect(), a.convert(),
		&cobra.Command{Use: "version", Short: "Print the version", Args: cobra.NoArgs,
			RunE: a.run(func(*cobra.Command, []string) error {
				_, err := fmt.Fprintln(a.out, "insegna", service.Version)
				return err
			})})
	a.complete(root)
	return root
}

// group makes a command that only holds others: called by itself it explains
// them, called with an unknown word it says so.
func group(use, short string, commands ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	c.AddCommand(commands...)
	return c
}

// run marks what a command's work gives as a failure, so that only errors of
// use keep the exit code for them.
func (a *app) run(f func(*cobra.Command, []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		err := f(c, args)
		var wrong usage
		var found findingsError
		if err == nil || errors.As(err, &wrong) || errors.As(err, &found) {
			return err
		}
		return failure{err}
	}
}

// failAtFlag adds the flag by which pipelines fail on findings.
func (a *app) failAtFlag(c *cobra.Command) {
	c.Flags().StringVar(&a.failAt, "fail-at", "",
		"exit with 3 when there is a finding of this severity or worse: broken, due, weak, note")
}

// failOn gives the exit for findings, when --fail-at asks for it.
func (a *app) failOn(worst []check.Severity) error {
	if a.failAt == "" {
		return nil
	}
	limit := check.Severity(a.failAt).Rank()
	for _, s := range worst {
		if s.Rank() <= limit {
			return findingsError{a.failAt}
		}
	}
	return nil
}

// checkFailAt refuses an unknown severity before any work is done.
func (a *app) checkFailAt() error {
	if a.failAt != "" && check.Severity(a.failAt).Rank() < 0 {
		return usage{fmt.Errorf("unknown severity %q for --fail-at; expected broken, due, weak or note", a.failAt)}
	}
	return nil
}

// envOr reads a setting from the environment.
func envOr(key, usual string) string {
	if v := os.Getenv(key); v != "" {
		return v
	}
	return usual
}

// calls is where the service's calls are.
func (a *app) calls() string { return strings.TrimSuffix(a.address, "/") + "/api/v1" }

// client gives the calls of the service, made as whoever is signed in.
func (a *app) client() (*client.ClientWithResponses, error) {
	caller, err := a.caller()
	if err != nil {
		return nil, err
	}
	return client.NewClientWithResponses(a.calls(), client.WithHTTPClient(caller))
}

// unreachable says what to do when the service does not answer.
func (a *app) unreachable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	why := err.Error()
	if errors.Is(err, syscall.ECONNREFUSED) {
		why = "nothing listens there"
	}
	return fmt.Errorf("cannot reach the service at %s: %s; start it with: insegna serve, or name another with --service",
		a.address, why)
}

// problemError writes a problem document as an error of one or more lines.
func problemError(p *client.Problem) error {
	text := p.Title
	if p.Detail != nil {
		text = *p.Detail
	}
	if p.Errors != nil {
		for _, e := range *p.Errors {
			line := e.Message
			if e.Place != nil {
				line = *e.Place + ": " + line
			}
			if e.Expected != nil {
				line += "; expected " + *e.Expected
			}
			text += "\n" + line
		}
	}
	if p.Next != nil {
		text += "\n" + *p.Next
	}
	return errors.New(text)
}
