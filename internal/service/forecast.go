package service

import (
	"context"
	"errors"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/store"
)

// Foreseen is the load of the coming two years, as things are and under each coming
// limit of public certificates.
type Foreseen struct {
	From      time.Time // its first day
	Mandates  int       // that are renewed by themselves and have a certificate
	Forecasts []lifetime.Forecast
}

// Forecast works out how many renewals each day of two years brings, and whether the
// CAs' budgets carry them.
func (s *Ordering) Forecast(ctx context.Context) (*Foreseen, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoEstate
	} else if err != nil {
		return nil, err
	}
	rows, err := s.store.Renewing(ctx)
	if err != nil {
		return nil, err
	}
	budgets := map[string]lifetime.Budgeted{}
	limited := map[string]bool{estate.HandMade: true}
	for i := range e.CAs {
		ca := &e.CAs[i]
		limited[ca.Name] = ca.By != estate.ByPrivate
		if ca.Budget.Certificates > 0 {
			budgets[ca.Name] = lifetime.Budgeted(ca.Budget)
		}
	}
	list := make([]lifetime.Renewing, len(rows))
	for i, r := range rows {
		list[i] = lifetime.Renewing{CA: r.CA, Next: r.Next, Life: time.Duration(r.Life) * time.Second, Early: time.Duration(r.RenewDays) * lifetime.Day,
			Public: limited[r.CA]}
	}
	from := time.Now().UTC().Truncate(lifetime.Day)
	return &Foreseen{From: from, Mandates: len(list), Forecasts: lifetime.ForecastAll(list, budgets, from)}, nil
}
