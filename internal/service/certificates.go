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

// CertificateDetail is one certificate with everything known of it.
type CertificateDetail struct {
	store.Certificate
	Parsed    *certs.Certificate      // the certificate itself
	Views     []AudienceView          // of every audience
	Sightings []store.Sighting        // where and when it was served
	Files     []store.ServerPlacement // it lies in
	Findings  []store.Finding         // open ones it is concerned in
	Rhythm    *lifetime.Rhythm        // how those before it were replaced; nil where that is not known
}

// AudienceView is what one audience makes of a certificate as it is served.
type AudienceView struct {
	Audience string     // by name
	Trusted  bool       // a path is valid now
	Path     []PathLink // leaf first; when not trusted, as far as a path leads
	Failures []string   // why not
}

// PathLink is one certificate of a path.
type PathLink struct {
	Certificate            *certs.Certificate // one of the path
	Served, Anchor, Stored bool               // by the server; the path's end; known to the store
}

// AmbiguousError says that a prefix fits more than one certificate.
type AmbiguousError struct{ Prefix string }

// Error asks for more digits instead of choosing one.
func (e *AmbiguousError) Error() string {
	return fmt.Sprintf("more than one certificate has a fingerprint beginning with %s; give more digits", e.Prefix)
}

// Told implements fault.Error.
func (e *AmbiguousError) Told() fault.Told {
	return fault.Told{Class: fault.NotNow, Title: "Ambiguous fingerprint", Next: "give more digits"}
}

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
	shown, err := s.store.ShownAt(ctx, d.Sha256)
	if err != nil {
		return nil, err
	}
	if _, history, err := followed(shown); err == nil { // what cannot be read has no rhythm
		if r, ok := lifetime.RhythmOf(history); ok {
			d.Rhythm = &r
		}
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

// viewOf is the path for an audience as it stands now; when none is valid, the
// first one that was built, with why it is not.
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

// markStored says of each link whether its own page exists.
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

// DaysLeft counts the days a certificate still has now.
func DaysLeft(notAfter time.Time) int { return lifetime.DaysLeft(notAfter, time.Now()) }
