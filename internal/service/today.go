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
	Bindings    store.VerdictCounts // by verdict
	Findings    [4]int              // open ones by severity, worst first
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
		func() (err error) { t.Bindings, err = s.store.CountBindings(ctx); return },
		func() (err error) { t.Findings, err = s.store.CountFindings(ctx); return },
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
