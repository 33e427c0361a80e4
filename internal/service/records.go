package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/store"
)

// Today is how things stand.
type Today struct {
	Estate      string // "" when nothing is applied
	At          time.Time
	Survey      *store.Survey // the newest
	Bindings    store.VerdictCounts
	Findings    [4]int
	DueBindings int
	Worst       []store.Finding
	Lanes       []store.Lane
	Density     []store.DayCount
	InUse       int
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

// Today gathers how things stand now.
func (s *Surveying) Today(ctx context.Context) (*Today, error) {
	t := &Today{At: time.Now().UTC()}
	d, err := s.store.Declared(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return t, nil
	}
	if err != nil {
		return nil, err
	}
	t.Estate = d.Name
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
		func() (err error) { t.Density, err = s.store.Density(ctx); return },
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
				v, err := viewInstallation(&rows[i])
				if err != nil {
					return err
				}
				t.Installed = append(t.Installed, v)
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

// CertificateDetail is one certificate with everything known of it.
type CertificateDetail struct {
	store.Certificate
	Parsed    *certs.Certificate
	Views     []AudienceView
	Sightings []store.Sighting
	Files     []store.ServerPlacement
	Findings  []store.Finding
}

// AudienceView is what one audience makes of a certificate as it is served.
type AudienceView struct {
	Audience string
	Trusted  bool
	Path     []PathLink // leaf first; when not trusted, as far as a path leads
	Failures []string
}

// PathLink is one certificate of a path.
type PathLink struct {
	Certificate            *certs.Certificate
	Served, Anchor, Stored bool
}

// AmbiguousError says that a prefix fits more than one certificate.
type AmbiguousError struct{ Prefix string }

func (e *AmbiguousError) Error() string {
	return fmt.Sprintf("more than one certificate has a fingerprint beginning with %s; give more digits", e.Prefix)
}

// Told implements fault.Error.
func (e *AmbiguousError) Told() fault.Told {
	return fault.Told{Class: fault.NotNow, Title: "Ambiguous fingerprint", Next: "give more digits"}
}

const sightingsShown = 500

// Certificate gives one certificate by its fingerprint or the beginning of it.
// The error is store.ErrNotFound or an *AmbiguousError.
func (s *Surveying) Certificate(ctx context.Context, prefix string) (*CertificateDetail, error) {
	list, err := s.store.CertificatesWithPrefix(ctx, prefix)
	if err != nil {
		return nil, err
	}
	switch len(list) {
	case 0:
		return nil, store.ErrNotFound
	case 2:
		return nil, &AmbiguousError{prefix}
	}
	d := &CertificateDetail{Certificate: list[0]}
	if d.Parsed, err = certs.Parse(d.Der); err != nil {
		return nil, err
	}
	if d.Files, err = s.reading.Placements(ctx, d.Sha256); err != nil {
		return nil, err
	}
	if d.Sightings, err = s.store.SightingsOf(ctx, d.Sha256, sightingsShown); err != nil {
		return nil, err
	}
	if d.Findings, _, err = s.store.Findings(ctx, store.FindingFilter{State: "open", Leaf: d.Sha256},
		store.Page{Sort: "worst", Limit: worstShown}); err != nil {
		return nil, err
	}
	d.Views, err = s.views(ctx, d)
	return d, err
}

// views asks every audience about the list this certificate was last served
// with, or about the certificate alone.
func (s *Surveying) views(ctx context.Context, d *CertificateDetail) ([]AudienceView, error) {
	judge, err := s.declaring.currentJudge(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	ders, err := s.store.ServedWith(ctx, d.Sha256)
	if err != nil {
		return nil, err
	}
	if len(ders) == 0 {
		ders = [][]byte{d.Der}
	}
	now := time.Now()
	var out []AudienceView
	for _, v := range judge.Ask(ders) {
		out = append(out, viewOf(v, ders, now))
	}
	return out, s.markStored(ctx, out)
}

func viewOf(v check.View, served [][]byte, now time.Time) AudienceView {
	view := AudienceView{Audience: v.Audience.Name}
	best := v.Result.Best(now)
	view.Trusted = best != nil
	if best == nil {
		for _, f := range v.Result.Why(now) {
			view.Failures = append(view.Failures, f.String())
		}
	}
	if best == nil && len(v.Result.Paths) > 0 {
		best = &v.Result.Paths[0]
	}
	if best == nil {
		return view
	}
	for _, c := range best.Certs {
		link := PathLink{Certificate: c, Anchor: v.Audience.Has(c)}
		for _, der := range served {
			link.Served = link.Served || string(der) == string(c.Raw)
		}
		view.Path = append(view.Path, link)
	}
	return view
}

func (s *Surveying) markStored(ctx context.Context, views []AudienceView) error {
	var prints [][]byte
	for _, v := range views {
		for _, l := range v.Path {
			prints = append(prints, l.Certificate.Fingerprint[:])
		}
	}
	if len(prints) == 0 {
		return nil
	}
	stored, err := s.store.Stored(ctx, prints)
	for _, v := range views {
		for i := range v.Path {
			f := v.Path[i].Certificate.Fingerprint
			v.Path[i].Stored = stored[string(f[:])]
		}
	}
	return err
}

// SurveyChanges are what changed in a survey, or since an earlier one.
type SurveyChanges struct {
	Survey, Since  int64
	Changes        []store.Change
	Opened, Closed []store.Finding
	Clipped        bool
}

const changesShown = 500

// SurveyChanges compares the state after a survey with the one after an
// earlier survey; since nil means the survey before.
func (s *Surveying) SurveyChanges(ctx context.Context, survey int64, since *int64) (*SurveyChanges, error) {
	if _, err := s.store.Survey(ctx, survey); err != nil {
		return nil, err
	}
	out := &SurveyChanges{Survey: survey}
	if since != nil {
		out.Since = *since
	} else if before, err := s.store.Surveys(ctx, survey, 1); err != nil {
		return nil, err
	} else if len(before) > 0 {
		out.Since = before[0].ID
	}
	if out.Since >= survey {
		return nil, &OrderError{survey, out.Since}
	}
	var err error
	if out.Changes, err = s.store.Changes(ctx, out.Since, survey, changesShown+1); err != nil {
		return nil, err
	}
	page := store.Page{Sort: "worst", Limit: changesShown}
	var moreOpened, moreClosed string
	if out.Opened, moreOpened, err = s.store.Findings(ctx,
		store.FindingFilter{State: "all", OpenedAfter: &out.Since, UpTo: survey}, page); err != nil {
		return nil, err
	}
	if out.Closed, moreClosed, err = s.store.Findings(ctx,
		store.FindingFilter{State: "all", ClosedAfter: &out.Since, UpTo: survey}, page); err != nil {
		return nil, err
	}
	out.Clipped = moreOpened+moreClosed != "" || len(out.Changes) > changesShown
	out.Changes = out.Changes[:min(len(out.Changes), changesShown)]
	return out, nil
}

// OrderError says that the survey to compare with is not an earlier one.
type OrderError struct{ Survey, Since int64 }

func (e *OrderError) Error() string {
	return fmt.Sprintf("survey %d is not earlier than survey %d; give the earlier one as since", e.Since, e.Survey)
}

// Told implements fault.Error.
func (e *OrderError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Wrong order", Next: ""}
}

// DaysLeft counts the days a certificate still has now.
func DaysLeft(notAfter time.Time) int { return lifetime.DaysLeft(notAfter, time.Now()) }
