package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/core/names"
)

// inspected is one object of a file, for output.
type inspected struct {
	File    string    `json:"file"`                // as given
	Line    int       `json:"line,omitempty"`      // where it begins
	Kind    string    `json:"kind"`                // certificate, CA certificate, private key, or what else it is
	Said    string    `json:"said,omitempty"`      // of what is no certificate
	Name    string    `json:"name,omitempty"`      // common name
	Names   []string  `json:"names,omitempty"`     // it covers
	Issuer  string    `json:"issuer,omitempty"`    // common name
	Ends    time.Time `json:"not_after,omitzero"`  // last moment of its validity
	Begins  time.Time `json:"not_before,omitzero"` // first moment of its validity
	Key     string    `json:"key,omitempty"`       // kind and size
	Sha256  string    `json:"sha256,omitempty"`    // of the DER
	Problem string    `json:"problem,omitempty"`   // why it cannot be read

	public *certs.Fingerprint // of a key, or of a certificate's
}

// inspection is the document of inspect.
type inspection struct {
	Objects  []inspected `json:"objects"`  // in the order of the files
	Findings []fileIll   `json:"findings"` // worst first
}

// fileIll is a finding about a file.
type fileIll struct {
	File     string         `json:"file"`     // as given
	Code     string         `json:"code"`     // of the rule
	Severity check.Severity `json:"severity"` // broken, due, weak or note
	Cause    string         `json:"cause"`    // one sentence
	Remedy   string         `json:"remedy"`   // the next step
}

// inspect judges files as if they were served, with the same rules as a survey.
func (a *app) inspect() *cobra.Command {
	var host string
	var roots []string
	c := &cobra.Command{Use: "inspect FILE... (or - for standard input)",
		Short: "Say what is in certificate files and whether they are put together well", Args: cobra.MinimumNArgs(1),
		Long: "Reads certificates and chains in PEM or DER, without a service, and says what else lies in a file.\n" +
			"With --roots each file is judged as a served list, with --host its first certificate must cover that\n" +
			"host. A private key is held against the first certificate of its file, and of all files that hold no\n" +
			"key. Files that cannot be read are named at the end; the others are judged.",
		Example: "  insegna inspect .demo/pier-1/booking.pem --host booking.lanterncoast.example",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if err := a.checkFailAt(); err != nil {
				return err
			}
			if host != "" {
				h, err := names.Host(host)
				if err != nil {
					return usage{err}
				}
				host = h
			}
			judge := check.NewJudge(nil, chain.NewKnown())
			if len(roots) > 0 {
				var err error
				if judge, err = judgeBy(roots); err != nil {
					return err
				}
			}
			var all inspection
			var unread []error
			for _, path := range args {
				unread = append(unread, all.file(c.Context(), path, judge, host))
			}
			all.pair()
			if len(all.Objects) == 0 {
				return errors.Join(unread...)
			}
			err := a.showInspection(&all)
			if lost := errors.Join(unread...); lost != nil {
				return lost
			}
			return err
		})}
	c.Flags().StringVar(&host, "host", "", "host the first certificate of each file must cover")
	c.Flags().StringSliceVar(&roots, "roots", nil, "files of trusted roots to judge the chain by")
	a.failAtFlag(c)
	return c
}

// file reads one file; a key among the certificates is told, never shown.
func (in *inspection) file(ctx context.Context, path string, judge *check.Judge, host string) error {
	data, err := inputOf(ctx, path)
	if err != nil {
		return fmt.Errorf("cannot read a certificate file: %w", err)
	}
	items, err := certs.Describe(data)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	var list [][]byte
	for _, it := range items {
		in.Objects = append(in.Objects, objectOf(path, it))
		for _, c := range it.Other.Contains {
			in.Objects = append(in.Objects,
				objectOf(path, certs.Item{Kind: certs.KindCertificate, Line: it.Line, Certificate: c}))
			list = append(list, c.Raw)
		}
		if it.Certificate != nil {
			list = append(list, it.Certificate.Raw)
		}
	}
	if len(list) == 0 {
		return nil
	}
	for _, f := range judge.Inspect(list, host, time.Now()).Findings {
		in.Findings = append(in.Findings, fileIll{path, string(f.Code), f.Severity, f.Cause, f.Remedy})
	}
	return nil
}

// inputOf reads a file, a pipe or, for "-", standard input. A signal ends the
// wait for what never comes.
func inputOf(ctx context.Context, path string) ([]byte, error) {
	type input struct {
		data []byte
		err  error
	}
	got := make(chan input, 1)
	go func() {
		var in input
		if path == "-" {
			in.data, in.err = readAtMost(os.Stdin, certs.ReadLimit+1)
		} else {
			in.data, in.err = readFile(path, certs.ReadLimit)
		}
		got <- in
	}()
	select {
	case in := <-got:
		return in.data, in.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// pair holds every private key against the certificate it should belong to: the
// first of its own file, else those that come first in the other files.
func (in *inspection) pair() {
	firsts, order := map[string]*inspected{}, []string{}
	for i := range in.Objects {
		o := &in.Objects[i]
		if _, met := firsts[o.File]; !met && o.public != nil && o.Key != "" {
			firsts[o.File] = o
			order = append(order, o.File)
		}
	}
	for i := range in.Objects {
		o := &in.Objects[i]
		if o.Kind != string(certs.KindKey) || o.public == nil {
			continue
		}
		against := order
		if _, own := firsts[o.File]; own {
			against = []string{o.File}
		}
		if len(against) == 0 {
			continue
		}
		for _, file := range against {
			if c := firsts[file]; *c.public == *o.public {
				o.Said = "belongs to the certificate for " + c.Name + " in " + file
			}
		}
		if o.Said == "" {
			o.Said = "✗ belongs to none of the certificates"
			in.Findings = append(in.Findings, fileIll{o.File, string(check.KeyOfAnotherCertificate), check.Broken,
				fmt.Sprintf("the key at line %d belongs to none of the certificates that come first in %s", o.Line,
					strings.Join(against, ", ")), "put key and certificate together that belong together"})
		}
	}
}

// objectOf tells one block of a file.
func objectOf(path string, it certs.Item) inspected {
	o := inspected{File: path, Line: it.Line, Kind: string(it.Kind)}
	if it.Kind == certs.KindOther && it.Label != "" {
		o.Kind = strings.ToLower(it.Label)
	}
	o.Said, o.public, o.Ends = it.Other.Said, it.Other.Public, it.Other.Ends
	if it.Err != nil {
		o.Problem = it.Err.Error()
	}
	if c := it.Certificate; c != nil {
		if o.Kind = "certificate"; c.IsCA {
			o.Kind = "CA certificate"
		}
		o.Name, o.Names, o.Issuer, o.Begins, o.Ends = c.CommonName(), c.Names(), c.IssuerName(), c.NotBefore, c.NotAfter
		o.Key, o.Sha256 = c.Key().String(), c.Fingerprint.String()
		public := c.Public()
		o.public = &public
	}
	return o
}

// showInspection lists what was found, then what is wrong with it.
func (a *app) showInspection(in *inspection) error {
	err := print(a, in, in.Objects, []column[inspected]{
		{head: "Where", width: 26, cell: func(o inspected) string { return fmt.Sprintf("%s:%d", o.File, o.Line) }},
		{head: "What", width: 12, cell: func(o inspected) string { return o.Kind }},
		{head: "For", width: 26, cell: func(o inspected) string {
			if o.Problem != "" {
				return "✗ " + o.Problem
			}
			if o.Said != "" {
				return o.Said
			}
			if len(o.Names) > 0 {
				return strings.Join(o.Names, ", ")
			}
			return o.Name
		}},
		{head: "From", width: 16, cell: func(o inspected) string { return o.Issuer }},
		{head: "Ends", width: 10, cell: func(o inspected) string {
			if o.Ends.IsZero() {
				return ""
			}
			return day(o.Ends) + "\n" + left(lifetime.DaysLeft(o.Ends, time.Now()))
		}, raw: func(o inspected) string { return o.Ends.UTC().Format(time.RFC3339) }},
	})
	if err != nil {
		return err
	}
	if a.output == "table" && len(in.Findings) > 0 {
		a.say("")
		if err := print(a, nil, in.Findings, []column[fileIll]{
			{head: "Severity", cell: func(f fileIll) string { return marks[string(f.Severity)] }},
			{head: "Finding", cell: func(f fileIll) string { return f.Code }},
			{head: "File", width: 24, cell: func(f fileIll) string { return f.File }},
			{head: "Cause and remedy", width: 38, cell: func(f fileIll) string { return f.Cause + " → " + f.Remedy }},
		}); err != nil {
			return err
		}
	}
	var worst []check.Severity
	for _, f := range in.Findings {
		worst = append(worst, f.Severity)
	}
	for _, o := range in.Objects {
		if o.Problem != "" {
			worst = append(worst, check.Broken)
		}
	}
	return a.failOn(worst)
}
