package httpapi

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"

	"insegna.example/internal/core/check"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// GetMetrics gives figures in OpenMetrics.
func (srv *Server) GetMetrics(ctx context.Context, _ contract.GetMetricsRequestObject) (contract.GetMetricsResponseObject, error) {
	m, err := srv.service.Metrics(ctx)
	if err != nil {
		return nil, err
	}
	text, err := openMetrics(m)
	if err != nil {
		return nil, err
	}
	return metricsText(text), nil
}

// metricsText is a reply of figures.
type metricsText []byte

// VisitGetMetricsResponse implements contract.GetMetricsResponseObject.
func (text metricsText) VisitGetMetricsResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	_, err := w.Write(text)
	return err
}

// gauge is one figure with what is said of it.
type gauge struct {
	family dto.MetricFamily
}

// newGauge begins a family of figures.
func newGauge(name, help, unit string) *gauge {
	g := &gauge{dto.MetricFamily{Name: ptr("insegna_" + name), Help: &help, Type: dto.MetricType_GAUGE.Enum()}}
	if unit != "" {
		g.family.Unit = &unit
	}
	return g
}

// is adds a figure; labels are names and values in turn.
func (g *gauge) is(value float64, labels ...string) *gauge {
	m := &dto.Metric{Gauge: &dto.Gauge{Value: &value}}
	for i := 0; i+1 < len(labels); i += 2 {
		m.Label = append(m.Label, &dto.LabelPair{Name: &labels[i], Value: ptr(strings.ToValidUTF8(labels[i+1], "\uFFFD"))})
	}
	g.family.Metric = append(g.family.Metric, m)
	return g
}

// at is a moment as a figure.
func (g *gauge) at(t time.Time, labels ...string) *gauge {
	const thousandth = 1000
	return g.is(float64(t.UnixMilli())/thousandth, labels...)
}

// openMetrics writes the figures.
func openMetrics(m *service.Metrics) ([]byte, error) {
	findings := newGauge("findings", "open findings by severity", "")
	for i, severity := range check.Severities {
		findings.is(float64(m.Findings[i]), "severity", string(severity))
	}
	bindings := newGauge("bindings", "bindings by verdict", "").is(float64(m.Bindings.Broken), "verdict", "broken").
		is(float64(m.Bindings.AtOdds), "verdict", "at-odds").is(float64(m.Bindings.Unknown), "verdict", "unknown").is(float64(m.Bindings.Agreed), "verdict", "agreed")
	last := newGauge("survey_begun_timestamp_seconds", "when a survey was begun last, by what it looks at", "seconds")
	next := newGauge("survey_next_timestamp_seconds", "when one is begun by itself, by what it looks at", "seconds")
	missed := newGauge("surveys_missed", "surveys of the schedule that did not come before the next, by what they look at", "")
	for i := range m.Parts {
		p := &m.Parts[i]
		if !p.Last.IsZero() {
			last.at(p.Last, "scope", p.Scope.String())
		}
		if !p.Next.IsZero() {
			next.at(p.Next, "scope", p.Scope.String())
		}
		missed.is(float64(p.Missed), "scope", p.Scope.String())
	}
	ends := newGauge("binding_end_timestamp_seconds", "when the certificate served at a binding ends, those that end first", "seconds")
	for i := range m.Ends {
		e := &m.Ends[i]
		ends.at(e.Ends, "host", e.Host, "server", e.Server, "endpoint", endpoint(e.Address, e.Port))
	}
	mandates := newGauge("mandate_end_timestamp_seconds", "when the certificate in force of a mandate ends", "seconds")
	failed := newGauge("mandate_failed", "whether the last order of a mandate failed", "")
	for i := range m.Mandates {
		v := &m.Mandates[i]
		if v.NotAfter != nil {
			mandates.at(*v.NotAfter, "mandate", v.Name, "ca", v.CA)
		}
		value := 0.0
		if v.Failed {
			value = 1
		}
		failed.is(value, "mandate", v.Name, "ca", v.CA)
	}
	budget := newGauge("ca_budget_left", "certificates a CA still gives within its budget", "")
	for i := range m.CAs {
		budget.is(float64(m.CAs[i].Budget.Left()), "ca", m.CAs[i].Name)
	}
	jobs := newGauge("jobs", "queued work that is not done, by what it waits for", "")
	for _, state := range []string{"available", "retryable", "running", "scheduled"} {
		jobs.is(float64(m.Jobs[state]), "state", state)
	}
	var out bytes.Buffer
	for _, g := range []*gauge{findings, newGauge("findings_accepted", "open findings that are let be until a day", "").is(float64(m.Accepted)), bindings, newGauge("bindings_stale", "bindings that were looked at longer ago than the schedule allows", "").is(float64(m.Stale)),
		last, next, missed, ends, newGauge("binding_ends_left", "bindings with a certificate that are not told one by one", "").is(float64(m.EndsLeft)),
		mandates, failed, budget, jobs, newGauge("notices_undelivered", "messages to owners that do not arrive", "").is(float64(m.Undelivered)), newGauge("gathered_timestamp_seconds", "when these figures were put together", "seconds").at(m.At)} {
		if len(g.family.Metric) == 0 {
			continue
		}
		if _, err := expfmt.MetricFamilyToOpenMetrics(&out, &g.family); err != nil {
			return nil, fmt.Errorf("writing metrics: %w", err)
		}
	}
	_, err := expfmt.FinalizeOpenMetrics(&out)
	return slices.Clip(out.Bytes()), err
}
