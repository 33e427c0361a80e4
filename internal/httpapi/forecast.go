package httpapi

import (
	"context"
	"time"

	"github.com/oapi-codegen/runtime/types"

	"insegna.example/internal/httpapi/contract"
)

// GetForecast gives the renewals of the coming two years.
func (srv *Server) GetForecast(ctx context.Context, _ contract.GetForecastRequestObject) (contract.GetForecastResponseObject, error) {
	v, err := srv.service.Forecast(ctx)
	if err != nil {
		return nil, err
	}
	on := func(day int) types.Date { return types.Date{Time: v.From.Add(time.Duration(day) * 24 * time.Hour)} }
	out := contract.GetForecast200JSONResponse{From: on(0), Mandates: v.Mandates, Items: []contract.Forecast{}}
	for _, f := range v.Forecasts {
		one := contract.Forecast{Limit: f.Limit, Days: f.Days, Peak: f.Peak, PeakOn: on(f.PeakAt), Year: f.Year, Cas: []contract.CALoad{}}
		for _, l := range f.CAs {
			one.Cas = append(one.Cas, contract.CALoad{Ca: l.CA, Year: l.Year, Most: l.Most, MostFrom: on(l.MostAt), Budget: l.Budget, Span: l.Span, Over: l.Over})
		}
		out.Items = append(out.Items, one)
	}
	return out, nil
}
