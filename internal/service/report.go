package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/store"
)

// What a report lists.
type (
	BindingThen = store.BindingThen
	FindingThen = store.FindingThen
)

// Report is the estate on a day, for others.
type Report struct {
	Estate   string     // its name
	At       time.Time  // the state is of; in the zone of the service's machine
	Made     time.Time  // it was written
	Since    *time.Time // something was looked at first; nil for never
	Bindings []store.BindingThen
	All      int // bindings there were
	Findings []store.FindingThen
	Open     [4]int         // findings by severity, worst first
	Each     []store.OpenOn // the days up to it
	Renewed  []store.RenewedThen
	Due      []DueCertificate // in use then, that end within DueWithin
	Ended    int              // in use then, that had ended
	InUse    int              // certificates
	Weeks    []int            // of those in use, how many end in each week from then on
}

// DueCertificate is a certificate that ends soon, and where it was in use.
type DueCertificate struct {
	CommonName, Issuer string
	Sha256             []byte
	NotAfter           time.Time
	Hosts              []string // some of them
	Bindings           int
}

// What a report goes back and ahead.
const (
	ReportDays      = 90                // findings are counted for
	RenewedWithin   = 30 * lifetime.Day // before it
	DueWithin       = 90 * lifetime.Day // after it
	reportWeeks     = 13                // that ends are counted by
	reportBindings  = 100_000           // looked through at most
	reportFindings  = 5000              // listed at most
	reportRenewed   = 2000              // listed at most
	reportDueListed = 2000              // listed at most
	reportHosts     = 6                 // named for a certificate
	longestBack     = 10 * 365 * 24 * time.Hour
)

// DayError says that there is no report of a day.
type DayError struct{ words string }

// Error says why.
func (e *DayError) Error() string { return e.words }

// Told implements fault.Error.
func (e *DayError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "No such day", Next: "give a day from the first survey to today, such as " + time.Now().Format(time.DateOnly)}
}

// Report says how the estate was at the end of a day, or is now for today or "".
func (s *Surveying) Report(ctx context.Context, day string) (*Report, error) {
	now := s.cfg.Clock()
	at := now
	if day != "" {
		begins, err := time.ParseInLocation(time.DateOnly, day, now.Location())
		if err != nil {
			return nil, &DayError{fmt.Sprintf("%q is no day", day)}
		}
		end := begins.AddDate(0, 0, 1).Add(-time.Second)
		switch {
		case begins.After(now):
			return nil, &DayError{day + " is yet to come"}
		case now.Sub(begins) > longestBack:
			return nil, &DayError{"nothing is known of " + day}
		case end.Before(now):
			at = end
		}
	}
	name, _, err := s.store.DeclaredAs(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoEstate
	} else if err != nil {
		return nil, err
	}
	r := &Report{Estate: name, At: at, Made: now}
	for _, step := range []func() error{
		func() (err error) { r.Since, err = s.store.FirstLook(ctx); return },
		func() (err error) { r.Bindings, r.All, err = s.store.BindingsThen(ctx, at, reportBindings); return },
		func() (err error) { r.Findings, r.Open, err = s.store.FindingsThen(ctx, at, reportFindings); return },
		func() (err error) { r.Each, err = s.store.OpenEach(ctx, at, ReportDays); return },
		func() (err error) {
			r.Renewed, err = s.store.RenewedBetween(ctx, at.Add(-RenewedWithin), at, reportRenewed)
			return
		},
	} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	r.due()
	return r, nil
}

// due gathers the certificates in use, and those that end soon.
func (r *Report) due() {
	at := map[string]int{}
	seen := map[string]bool{}
	r.Weeks = make([]int, reportWeeks)
	for i := range r.Bindings {
		b := &r.Bindings[i]
		if b.NotAfter == nil {
			continue
		}
		key := string(b.Sha256)
		left := b.NotAfter.Sub(r.At)
		if !seen[key] {
			seen[key] = true
			r.InUse++
			if week := int(left / (7 * lifetime.Day)); left < 0 {
				r.Ended++
			} else if week < reportWeeks {
				r.Weeks[week]++
			}
		}
		if left < 0 || left > DueWithin {
			continue
		}
		n, is := at[key]
		if !is {
			if len(r.Due) == reportDueListed {
				continue
			}
			n = len(r.Due)
			at[key] = n
			r.Due = append(r.Due, DueCertificate{CommonName: b.CommonName, Issuer: b.Issuer, Sha256: b.Sha256, NotAfter: b.NotAfter.UTC()})
		}
		d := &r.Due[n]
		if d.Bindings++; len(d.Hosts) < reportHosts && (len(d.Hosts) == 0 || d.Hosts[len(d.Hosts)-1] != b.Host) {
			d.Hosts = append(d.Hosts, b.Host)
		}
	}
	slices.SortStableFunc(r.Due, func(a, b DueCertificate) int { return a.NotAfter.Compare(b.NotAfter) })
}

// Worst says how bad it was at a binding; "" for nothing.
func Worst(severity *int) check.Severity {
	if severity == nil {
		return ""
	}
	return check.Severities[*severity]
}
