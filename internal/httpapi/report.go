package httpapi

import (
	"bytes"
	"cmp"
	"context"
	_ "embed"
	"encoding/csv"
	"encoding/hex"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"time"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/notice"
	"insegna.example/internal/service"
)

// GetReport gives the estate on a day.
func (srv *Server) GetReport(ctx context.Context, r contract.GetReportRequestObject) (contract.GetReportResponseObject, error) {
	day := ""
	if r.Params.Day != nil {
		day = r.Params.Day.Format(time.DateOnly)
	}
	v, err := srv.service.Report(ctx, day)
	if err != nil {
		return nil, err
	}
	format := contract.GetReportParamsFormatJson
	if r.Params.Format != nil {
		format = *r.Params.Format
	}
	name := "insegna-" + v.At.Format(time.DateOnly)
	switch format {
	case contract.GetReportParamsFormatHtml:
		text, err := reportPage(v)
		return document{text, "text/html; charset=utf-8", name + ".html"}, err
	case contract.GetReportParamsFormatCsv:
		part := contract.GetReportParamsPartBindings
		if r.Params.Part != nil {
			part = *r.Params.Part
		}
		text, err := reportRows(v, part)
		return document{text, "text/csv; charset=utf-8", name + "-" + string(part) + ".csv"}, err
	}
	return contract.GetReport200JSONResponse(reportOf(v)), nil
}

// document is a reply that is read, printed or kept.
type document struct {
	text       []byte
	kind, name string
}

// VisitGetReportResponse implements contract.GetReportResponseObject. Nothing in it may be
// fetched or run.
func (d document) VisitGetReportResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", d.kind)
	w.Header().Set("Content-Disposition", `inline; filename="`+d.name+`"`)
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; sandbox allow-modals")
	_, err := w.Write(d.text)
	return err
}

// reportOf shows a report to programs.
func reportOf(r *service.Report) contract.Report {
	out := contract.Report{Estate: r.Estate, At: r.At.UTC(), MadeAt: r.Made.UTC(), AllBindings: r.All, InUse: r.InUse, Ended: r.Ended,
		Open: severityCounts(r.Open, 0), Bindings: make([]contract.ReportBinding, len(r.Bindings)),
		Findings: make([]contract.ReportFinding, len(r.Findings))}
	for i := range r.Bindings {
		b := &r.Bindings[i]
		out.Bindings[i] = contract.ReportBinding{Host: b.Host, Server: b.Server, Endpoint: endpoint(b.Address, b.Port), Outcome: b.Outcome,
			Certificate: fingerprint(b.Sha256), CommonName: optional(b.CommonName), Issuer: optional(b.Issuer), NotAfter: b.NotAfter,
			Since: b.Since.UTC(), Belongs: belongsOf(b.GroupName, b.Owner, nil)}
		if b.Severity != nil {
			out.Bindings[i].Severity = ptr(contract.Severity(service.Worst(b.Severity)))
		}
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		out.Findings[i] = contract.ReportFinding{Id: f.ID, Code: string(f.Code), Severity: contract.Severity(check.Severities[f.Severity]),
			What: foundAt(f), Owner: optional(f.Owner), Cause: f.Cause, Remedy: f.Remedy, OpenedAt: f.OpenedAt.UTC(), ClosedAt: f.ClosedAt,
			Days: openDays(f, r.At)}
		if f.AcceptedUntil != nil {
			out.Findings[i].Acceptance = &contract.Acceptance{Until: f.AcceptedUntil.UTC(), By: f.AcceptedBy, Reason: f.AcceptedReason, At: f.AcceptedAt.UTC()}
			out.Open.Accepted++
		}
	}
	out.Each, out.Renewed, out.Due = make([]contract.ReportDay, len(r.Each)), make([]contract.ReportRenewal, len(r.Renewed)), make([]contract.ReportDue, len(r.Due))
	for i, d := range r.Each {
		out.Each[i] = contract.ReportDay{Day: d.Day.UTC(), Broken: d.Broken, Due: d.Due, Weak: d.Weak, Note: d.Note}
	}
	for i := range r.Renewed {
		v := &r.Renewed[i]
		out.Renewed[i] = contract.ReportRenewal{At: v.At.UTC(), By: v.By, Mandate: v.Mandate, NotAfter: v.NotAfter, Server: v.Server, State: v.State,
			Words: optional(v.Words)}
	}
	for i := range r.Due {
		d := &r.Due[i]
		out.Due[i] = contract.ReportDue{Bindings: d.Bindings, CommonName: d.CommonName, DaysLeft: daysFrom(r.At, d.NotAfter), Hosts: d.Hosts, Issuer: d.Issuer,
			NotAfter: d.NotAfter, Sha256: *fingerprint(d.Sha256)}
	}
	return out
}

// foundAt says where a finding was.
func foundAt(f *service.FindingThen) string {
	switch {
	case f.Address != "":
		return cmp.Or(f.Host, "without SNI") + " at " + f.Server + " " + endpoint(f.Address, f.Port)
	case f.Server != "":
		return f.Server
	}
	return "Insegna itself"
}

// openDays is how long a finding had been open.
func openDays(f *service.FindingThen, at time.Time) int { return daysFrom(f.OpenedAt, at) }

// daysFrom is how many whole days lie between two times.
func daysFrom(from, to time.Time) int { return int(to.Sub(from) / lifetime.Day) }

// reportRows writes a part of a report as CSV (RFC 4180).
func reportRows(r *service.Report, part contract.GetReportParamsPart) ([]byte, error) {
	stamp := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	var rows [][]string
	switch part {
	case contract.GetReportParamsPartFindings:
		rows = append(rows, []string{"finding", "severity", "code", "where", "owner", "cause", "remedy", "opened", "closed", "days open", "accepted until"})
		for i := range r.Findings {
			f := &r.Findings[i]
			rows = append(rows, []string{fmt.Sprint(f.ID), string(check.Severities[f.Severity]), string(f.Code), foundAt(f), f.Owner, f.Cause, f.Remedy,
				stamp(&f.OpenedAt), stamp(f.ClosedAt), fmt.Sprint(openDays(f, r.At)), stamp(f.AcceptedUntil)})
		}
	case contract.GetReportParamsPartRenewed:
		rows = append(rows, []string{"at", "mandate", "server", "by", "state", "ends", "words"})
		for i := range r.Renewed {
			v := &r.Renewed[i]
			rows = append(rows, []string{stamp(&v.At), v.Mandate, v.Server, v.By, v.State, stamp(v.NotAfter), v.Words})
		}
	case contract.GetReportParamsPartDue:
		rows = append(rows, []string{"ends", "days left", "certificate", "issuer", "sha256", "bindings", "hosts"})
		for i := range r.Due {
			d := &r.Due[i]
			rows = append(rows, []string{stamp(&d.NotAfter), fmt.Sprint(daysFrom(r.At, d.NotAfter)), d.CommonName, d.Issuer, hex.EncodeToString(d.Sha256),
				fmt.Sprint(d.Bindings), strings.Join(d.Hosts, " ")})
		}
	default:
		rows = append(rows, []string{"host", "server", "endpoint", "group", "owner", "severity", "outcome", "certificate", "issuer", "ends", "sha256", "since"})
		for i := range r.Bindings {
			b := &r.Bindings[i]
			rows = append(rows, []string{b.Host, b.Server, endpoint(b.Address, b.Port), b.GroupName, b.Owner, string(service.Worst(b.Severity)), b.Outcome, b.CommonName,
				b.Issuer, stamp(b.NotAfter), hex.EncodeToString(b.Sha256), stamp(&b.Since)})
		}
	}
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	for _, row := range rows {
		for i, cell := range row { // a spreadsheet would carry it out
			if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
				row[i] = "'" + cell
			}
		}
		_ = w.Write(row) // into memory
	}
	w.Flush()
	return out.Bytes(), w.Error()
}

//go:embed report.html
var reportText string

// reportTemplate writes the page. Everything in it is escaped.
var reportTemplate = template.Must(template.New("report").Funcs(template.FuncMap{
	"day": func(t any) string {
		if p, is := t.(*time.Time); is {
			t = *p
		}
		return t.(time.Time).Format("2 January 2006")
	},
	"moment":  func(t time.Time) string { return t.Format("2 January 2006, 15:04 MST") },
	"at":      foundAt,
	"capital": notice.Capital,
	"days":    daysText,
	"rank":    func(rank int) string { return string(check.Severities[rank]) },
	"worst":   func(rank *int) string { return string(service.Worst(rank)) },
	"end_":    func(b service.BindingThen) string { return endpoint(b.Address, b.Port) },
	"join":    func(list []string) string { return strings.Join(list, ", ") },
	"minus":   func(a, b int) int { return a - b },
}).Parse(reportText))

// daysText says a number of days.
func daysText(n int) string {
	switch n {
	case 0:
		return "less than a day"
	case 1:
		return "1 day"
	}
	return fmt.Sprintf("%d days", n)
}

// printed is what the page has room for, of each list; CSV and JSON have the rest.
const printed = 1000

// reportView is a report on a page, with its pictures worked out.
type reportView struct {
	*service.Report
	Bindings                   []service.BindingThen
	Findings                   []reportFinding
	DueRows                    []reportDue
	LeftBindings, LeftFindings int // that are not on the page
	Weeks                      []bar
	Days                       []stack
	Most, MostWeek             int // of a day, of a week
	OpenAll, Agreed, DueAll    int
	Past                       bool    // it is of a day that has passed
	Unlooked                   float64 // width of the days on which nothing had been looked at
}

type reportFinding struct {
	*service.FindingThen
	Days int
}

type reportDue struct {
	*service.DueCertificate
	Left int
}

// bar is one of a picture's.
type bar struct {
	X, Y, H float64
	N       int
	Title   string
}

// stack is a day's open findings, the worst lowest.
type stack struct {
	X                        float64
	BrokenY, BrokenH         float64
	DueY, DueH, RestY, RestH float64
	Title                    string
}

// The pictures' measures.
const (
	pictureHeight = 120.0
	dayWidth      = 7.0
	weekWidth     = 48.0
)

// reportPage writes a report as a page that can be printed, on its own.
func reportPage(r *service.Report) ([]byte, error) {
	v := &reportView{Report: r, Bindings: r.Bindings[:min(len(r.Bindings), printed)], DueAll: len(r.Due), Past: r.Made.Sub(r.At) > time.Minute}
	v.LeftBindings = r.All - len(v.Bindings)
	for i := range r.Bindings {
		if r.Bindings[i].Severity == nil {
			v.Agreed++
		}
	}
	for _, n := range r.Open {
		v.OpenAll += n
	}
	for i := range r.Findings[:min(len(r.Findings), printed)] {
		v.Findings = append(v.Findings, reportFinding{&r.Findings[i], openDays(&r.Findings[i], r.At)})
	}
	v.LeftFindings = v.OpenAll - len(v.Findings)
	for i := range r.Due[:min(len(r.Due), printed)] {
		v.DueRows = append(v.DueRows, reportDue{&r.Due[i], daysFrom(r.At, r.Due[i].NotAfter)})
	}
	for _, d := range r.Each {
		v.Most = max(v.Most, d.Broken+d.Due+d.Weak+d.Note)
	}
	for i, d := range r.Each {
		if r.Since == nil || d.Day.Before(*r.Since) {
			v.Unlooked = float64(i+1) * dayWidth
		}
		scale := pictureHeight / float64(max(v.Most, 1))
		s := stack{X: float64(i) * dayWidth, BrokenH: float64(d.Broken) * scale, DueH: float64(d.Due) * scale, RestH: float64(d.Weak+d.Note) * scale,
			Title: fmt.Sprintf("%s: %d broken, %d due, %d weak, %d note", d.Day.In(r.At.Location()).Format("2 January"), d.Broken, d.Due, d.Weak, d.Note)}
		s.BrokenY = pictureHeight - s.BrokenH
		s.DueY = s.BrokenY - s.DueH
		s.RestY = s.DueY - s.RestH
		v.Days = append(v.Days, s)
	}
	for _, n := range r.Weeks {
		v.MostWeek = max(v.MostWeek, n)
	}
	for i, n := range r.Weeks {
		h := float64(n) * pictureHeight / float64(max(v.MostWeek, 1))
		from := r.At.AddDate(0, 0, 7*i)
		v.Weeks = append(v.Weeks, bar{X: float64(i) * weekWidth, Y: pictureHeight - h, H: h, N: n, Title: from.Format("2 Jan")})
	}
	var out bytes.Buffer
	err := reportTemplate.Execute(&out, v)
	return out.Bytes(), err
}
