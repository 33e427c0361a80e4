package service

import (
	"context"
	"errors"
	"time"

	"insegna.example/internal/store"
)

// Today is how things stand.
type Today struct {
	Estate      string              // "" when nothing is applied
	At          time.Time           // when it was put together
	Survey      *store.Survey       // the newest
	Next        *time.Time          // the first that is begun by itself; nil for never
	Stale       int                 // bindings that were looked at longer ago than their schedule allows
	Bindings    store.VerdictCounts // by verdict
	Findings    [4]int              // open ones by severity, worst first
	Accepted    int                 // open ones that are let be
	DueBindings int                 // with a certificate that ends soon
	Worst       []store.Finding     // findings, a few
	Lanes       []store.Lane        // certificates in use by their end
	Density     []store.DayCount    // of ends by day
	InUse       int                 // certificates served at some binding
	Ordered     []*OrderView        // by itself of late, or failed last
	Installed   []*InstallationView // by itself of late, or to be looked at
}

// How much of it is shown at once.
const (
	worstShown = 50
	lanesShown = 24

	toldShown = 8
	toldSince = 7 * 24 * time.Hour
)

// Today gathers how things stand now. With very many records it may be a few
// seconds old.
func (s *Surveying) Today(ctx context.Context) (*Today, error) { return s.today.get(ctx, s.gathered) }

// Since is what happened after a time.
type Since struct {
	Opened, Closed, Issued, Installed, Failed int
}

// Since counts what happened after a time.
func (s *Surveying) Since(ctx context.Context, after time.Time) (*Since, error) {
	n, err := s.store.Happenings(ctx, after)
	return &Since{Opened: n[store.FindingOpened] + n[store.FindingReturned], Closed: n[store.FindingClosed], Issued: n[store.OrderIssued],
		Installed: n[store.Installed], Failed: n[store.OrderFailed] + n[store.CameBack] + n[store.InstallStuck]}, err
}

// gathered works it out.
func (s *Surveying) gathered(ctx context.Context) (*Today, error) {
	t := &Today{At: time.Now().UTC()}
	name, _, err := s.store.DeclaredAs(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return t, nil
	}
	if err != nil {
		return nil, err
	}
	t.Estate = name
	steps := []func() error{
		func() (err error) { t.Survey, err = s.store.LastSurvey(ctx); return },
		func() error {
			w, err := s.Watching(ctx)
			if err != nil {
				return err
			}
			t.Stale = w.Stale
			for i := range w.Parts {
				if next := w.Parts[i].Next.UTC(); !w.Parts[i].Next.IsZero() && (t.Next == nil || next.Before(*t.Next)) {
					t.Next = &next
				}
			}
			return nil
		},
		func() (err error) { t.Bindings, err = s.store.CountBindings(ctx); return },
		func() (err error) { t.Findings, t.Accepted, err = s.store.CountFindings(ctx); return },
		func() (err error) { t.DueBindings, err = s.store.DueBindings(ctx); return },
		func() (err error) {
			t.Worst, _, err = s.store.Findings(ctx, store.FindingFilter{State: "open"},
				store.Page{Sort: "worst", Limit: worstShown})
			return
		},
		func() (err error) { t.Lanes, err = s.store.Lanes(ctx, lanesShown); return },
		func() (err error) { t.Density, err = s.ends.get(ctx); return },
		func() error {
			rows, err := s.store.OrdersToTell(ctx, itself, t.At.Add(-toldSince), toldShown)
			for i := range rows {
				t.Ordered = append(t.Ordered, ViewOrder(&rows[i]))
			}
			return err
		},
		func() error {
			rows, err := s.store.Noteworthy(ctx, itself, t.At.Add(-toldSince), toldShown)
			for i := range rows {
				t.Installed = append(t.Installed, &InstallationView{Installation: &rows[i]})
			}
			return err
		},
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return nil, err
		}
	}
	for _, day := range t.Density {
		t.InUse += day.Count
	}
	return t, nil
}

// sightingsShown bounds the history of one certificate.
const sightingsShown = 500

// changesShown bounds the comparison of two surveys.
const changesShown = 500
