package httpapi

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// GetHealth says that the process is alive.
func (srv *Server) GetHealth(context.Context,
	contract.GetHealthRequestObject) (contract.GetHealthResponseObject, error) {
	return contract.GetHealth200JSONResponse{Status: contract.HealthStatusOk, Version: service.Version}, nil
}

// GetReady asks the database.
func (srv *Server) GetReady(ctx context.Context,
	_ contract.GetReadyRequestObject) (contract.GetReadyResponseObject, error) {
	if err := srv.service.Ready(ctx); err != nil {
		p := problem(503, "Not ready", "the database does not answer",
			"check that PostgreSQL runs; the service goes on by itself once it does")
		return contract.GetReadydefaultApplicationProblemPlusJSONResponse{Body: p, StatusCode: p.Status}, nil
	}
	return contract.GetReady200JSONResponse{Status: contract.HealthStatusOk, Version: service.Version}, nil
}

// GetEstate gives the declaration in force.
func (srv *Server) GetEstate(ctx context.Context,
	_ contract.GetEstateRequestObject) (contract.GetEstateResponseObject, error) {
	d, e, err := srv.service.Declared(ctx)
	if err != nil {
		return nil, err
	}
	return contract.GetEstate200JSONResponse(estateOf(d, e)), nil
}

// estateFile takes a file with what it mentions.
func (srv *Server) estateFile(ctx context.Context, b *contract.EstateFile) (*service.EstateFile, error) {
	if b.File == "" {
		return nil, &badRequestError{"the body has no file; expected the name of the estate file"}
	}
	switch parts := len(orZero(b.Parts)); {
	case b.Text != "" && parts > 0:
		return nil, &badRequestError{"the body has both text and parts; expected one of them"}
	case b.Text == "" && parts == 0:
		return nil, &badRequestError{"the body has no text; expected the content of " + b.File}
	}
	texts := []string{b.File, b.Text}
	for path, text := range orZero(b.Attachments) {
		texts = append(texts, path, text)
	}
	for _, p := range orZero(b.Parts) {
		texts = append(texts, p.File, p.Text)
	}
	for _, text := range texts {
		if strings.ContainsRune(text, 0) {
			return nil, &textError{b.File}
		}
	}
	f := &service.EstateFile{Name: b.File, Text: []byte(b.Text), Attachments: map[string][]byte{}}
	for _, p := range orZero(b.Parts) {
		f.Parts = append(f.Parts, estate.Text{File: p.File, Data: []byte(p.Text)})
	}
	if b.Attachments != nil {
		for path, text := range *b.Attachments {
			f.Attachments[path] = []byte(text)
		}
	}
	if orZero(b.Here) {
		return f, srv.service.AttachHere(ctx, f)
	}
	return f, nil
}

// PreviewEstate says what a file would change.
func (srv *Server) PreviewEstate(ctx context.Context,
	r contract.PreviewEstateRequestObject) (contract.PreviewEstateResponseObject, error) {
	f, err := srv.estateFile(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	c, err := srv.service.PreviewEstate(ctx, f)
	if err != nil {
		return nil, err
	}
	return contract.PreviewEstate200JSONResponse(changesOf(c)), nil
}

// ApplyEstate puts a file in force.
func (srv *Server) ApplyEstate(ctx context.Context,
	r contract.ApplyEstateRequestObject) (contract.ApplyEstateResponseObject, error) {
	f, err := srv.estateFile(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	c, err := srv.service.ApplyEstate(ctx, f)
	if err != nil {
		return nil, err
	}
	return contract.ApplyEstate200JSONResponse(changesOf(c)), nil
}

// ExportEstate gives the estate as a file to be applied elsewhere.
func (srv *Server) ExportEstate(ctx context.Context, _ contract.ExportEstateRequestObject) (contract.ExportEstateResponseObject, error) {
	v, err := srv.service.ExportEstate(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ExportEstate200JSONResponse{File: v.Name, Text: string(v.Text), Files: map[string]string{}, Hosts: v.Hosts, Mandates: v.Mandates}
	for path, data := range v.Files {
		out.Files[path] = string(data)
	}
	return out, nil
}

// AddHost takes a host into the estate.
func (srv *Server) AddHost(ctx context.Context, r contract.AddHostRequestObject) (contract.AddHostResponseObject, error) {
	text, err := json.Marshal(r.Body)
	if err != nil {
		return nil, err
	}
	h, err := srv.service.AddHost(ctx, text)
	if err != nil {
		return nil, err
	}
	return contract.AddHost201JSONResponse(hostOf(h)), nil
}

// ChangeHost makes a host another.
func (srv *Server) ChangeHost(ctx context.Context, r contract.ChangeHostRequestObject) (contract.ChangeHostResponseObject, error) {
	if r.Body.Name != r.Host {
		return nil, &badRequestError{fmt.Sprintf("the body is about %q and the address about %q", r.Body.Name, r.Host)}
	}
	text, err := json.Marshal(r.Body)
	if err != nil {
		return nil, err
	}
	h, err := srv.service.ChangeHost(ctx, text)
	if err != nil {
		return nil, err
	}
	return contract.ChangeHost200JSONResponse(hostOf(h)), nil
}

// DraftEstate drafts an estate file.
func (srv *Server) DraftEstate(ctx context.Context, r contract.DraftEstateRequestObject) (contract.DraftEstateResponseObject, error) {
	b := r.Body
	req := &service.DraftRequest{Name: orZero(b.Name), Roots: orZero(b.Roots), Public: orZero(b.Public), Zone: orZero(b.Zone), List: orZero(b.Names),
		HostKeys: orZero(b.HostKeys)}
	req.Here, req.Mains, req.Servers, req.Configurations = orZero(b.Here), orZero(b.Mains), orZero(b.Servers), orZero(b.Configurations)
	req.Certificates, req.Transfers, req.Ranges, req.Allow = orZero(b.Certificates), orZero(b.Transfers), orZero(b.Ranges), orZero(b.Allow)
	req.Key, req.KnownHosts, req.Origin = orZero(b.Key), orZero(b.KnownHosts), orZero(b.Origin)
	for _, p := range orZero(b.Ports) {
		req.Ports = append(req.Ports, uint16(p)) // within the contract's bounds
	}
	d, err := srv.service.DraftEstate(ctx, req)
	if err != nil {
		return nil, err
	}
	out := contract.DraftEstate200JSONResponse{Text: d.Text, Watched: d.Watched, Doubted: d.Doubted, Servers: d.Servers}
	out.Changes = []contract.DraftChange{}
	for _, c := range append(d.New, d.Gone...) {
		out.Changes = append(out.Changes, contract.DraftChange{Is: contract.DraftChangeIs(c.Is), Host: c.Host, At: c.At, From: c.From})
	}
	return out, nil
}

// RemoveHost lets a host go that was taken in.
func (srv *Server) RemoveHost(ctx context.Context, r contract.RemoveHostRequestObject) (contract.RemoveHostResponseObject, error) {
	return contract.RemoveHost204Response{}, srv.service.RemoveHost(ctx, r.Host)
}

// GetToday says how things stand.
func (srv *Server) GetToday(ctx context.Context,
	r contract.GetTodayRequestObject) (contract.GetTodayResponseObject, error) {
	t, err := srv.service.Today(ctx)
	if err != nil {
		return nil, err
	}
	out := srv.todayOf(ctx, t)
	if at := r.Params.Since; at != nil {
		n, err := srv.service.Since(ctx, at.UTC())
		if err != nil {
			return nil, err
		}
		out.Since = &contract.Since{At: at.UTC(), Opened: n.Opened, Closed: n.Closed, Issued: n.Issued, Installed: n.Installed, Failed: n.Failed}
	}
	return contract.GetToday200JSONResponse(out), nil
}

// pageOf fills in what a request leaves out.
func pageOf[S ~string](sort *S, usual string, cursor *string, limit *int) service.Page {
	p := service.Page{Sort: usual, Limit: 100}
	if sort != nil {
		p.Sort = string(*sort)
	}
	if cursor != nil {
		p.Cursor = *cursor
	}
	if limit != nil {
		p.Limit = *limit
	}
	return p
}

// orZero reads an optional value.
func orZero[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

// optional leaves out what is empty.
func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// ListBindings lists bindings by host.
func (srv *Server) ListBindings(ctx context.Context,
	r contract.ListBindingsRequestObject) (contract.ListBindingsResponseObject, error) {
	f := service.BindingFilter{Query: orZero(r.Params.Q), Server: orZero(r.Params.Server),
		Among: among(r.Params.Group, r.Params.Owner, r.Params.Tag)}
	for _, v := range orZero(r.Params.Verdict) {
		f.Verdicts = append(f.Verdicts, string(v))
	}
	if r.Params.Certificate != nil {
		f.Leaf, _ = hex.DecodeString(*r.Params.Certificate) // the contract's pattern
	}
	list, next, err := srv.service.Bindings(ctx, f, pageOf(r.Params.Sort, "host", r.Params.Cursor, r.Params.Limit))
	if err != nil {
		return nil, err
	}
	counts, err := srv.service.CountBindings(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListBindings200JSONResponse{Items: make([]contract.Binding, len(list)), NextCursor: optional(next),
		Counts: verdictCounts(counts),
		Total:  counts.Agreed + counts.AtOdds + counts.Broken + counts.Unknown}
	for i := range list {
		out.Items[i] = bindingOf(&list[i])
	}
	return out, nil
}

// ListCertificates lists certificates met.
func (srv *Server) ListCertificates(ctx context.Context,
	r contract.ListCertificatesRequestObject) (contract.ListCertificatesResponseObject, error) {
	f := service.CertificateFilter{Query: orZero(r.Params.Q), InUse: r.Params.InUse,
		Among: among(r.Params.Group, r.Params.Owner, r.Params.Tag)}
	now := time.Now().UTC()
	if d := r.Params.DaysLeftMax; d != nil {
		f.EndsBefore = ptr(lastMoment(now, *d))
	}
	if d := r.Params.DaysLeftMin; d != nil {
		f.EndsAt = ptr(now.Add(time.Duration(*d) * lifetime.Day))
	}
	switch orZero(r.Params.Kind) {
	case contract.ListCertificatesParamsKindAll:
	case contract.ListCertificatesParamsKindCa:
		f.CA = ptr(true)
	default:
		f.CA = ptr(false)
	}
	list, next, err := srv.service.Certificates(ctx, f, pageOf(r.Params.Sort, "ends", r.Params.Cursor, r.Params.Limit))
	if err != nil {
		return nil, err
	}
	out := contract.ListCertificates200JSONResponse{Items: make([]contract.Certificate, len(list)),
		NextCursor: optional(next)}
	for i := range list {
		out.Items[i] = certificateOf(&list[i], namesInList)
	}
	return out, nil
}

// lastMoment is the latest end a certificate can have with that many days left.
func lastMoment(now time.Time, days int) time.Time {
	switch {
	case days == -1:
		return now
	case days < 0:
		return now.Add(time.Duration(days) * lifetime.Day)
	}
	return now.Add(time.Duration(days+1)*lifetime.Day - time.Second)
}

// GetCertificate gives one certificate with everything known of it.
func (srv *Server) GetCertificate(ctx context.Context,
	r contract.GetCertificateRequestObject) (contract.GetCertificateResponseObject, error) {
	d, err := srv.service.Certificate(ctx, r.Sha256)
	if err != nil {
		return nil, err
	}
	return contract.GetCertificate200JSONResponse(srv.detailOf(ctx, d)), nil
}

// ListFindings lists findings.
func (srv *Server) ListFindings(ctx context.Context,
	r contract.ListFindingsRequestObject) (contract.ListFindingsResponseObject, error) {
	f := service.FindingFilter{Query: orZero(r.Params.Q), Server: orZero(r.Params.Server), State: "open",
		Among: among(r.Params.Group, r.Params.Owner, r.Params.Tag)}
	if code := orZero(r.Params.Code); code != "" {
		f.Codes = []check.Code{check.Code(code)}
	}
	if r.Params.State != nil {
		f.State = string(*r.Params.State)
	}
	for _, s := range orZero(r.Params.Severity) {
		f.Severities = append(f.Severities, check.Severity(s).Rank())
	}
	list, next, err := srv.service.Findings(ctx, f, pageOf(r.Params.Sort, "worst", r.Params.Cursor, r.Params.Limit))
	if err != nil {
		return nil, err
	}
	counts, accepted, err := srv.service.CountFindings(ctx)
	if err != nil {
		return nil, err
	}
	return contract.ListFindings200JSONResponse{Items: srv.findingsOf(ctx, list), NextCursor: optional(next),
		Counts: severityCounts(counts, accepted)}, nil
}

// AcceptFinding lets a finding be until a day.
func (srv *Server) AcceptFinding(ctx context.Context,
	r contract.AcceptFindingRequestObject) (contract.AcceptFindingResponseObject, error) {
	f, err := srv.service.AcceptFinding(ctx, r.Id, r.Body.Until, r.Body.Reason)
	if err != nil {
		return nil, err
	}
	return contract.AcceptFinding200JSONResponse(srv.findingsOf(ctx, []service.Finding{*f})[0]), nil
}

// EndAcceptance opens a finding again.
func (srv *Server) EndAcceptance(ctx context.Context,
	r contract.EndAcceptanceRequestObject) (contract.EndAcceptanceResponseObject, error) {
	f, err := srv.service.EndAcceptance(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return contract.EndAcceptance200JSONResponse(srv.findingsOf(ctx, []service.Finding{*f})[0]), nil
}

// among is what a list is asked for by what things belong to.
func among(groups *contract.OfGroup, owners *contract.OfOwner, tags *contract.OfTag) estate.Among {
	return estate.Among{Groups: orZero(groups), Owners: orZero(owners), Tags: orZero(tags)}
}

// GetFinding gives one finding.
func (srv *Server) GetFinding(ctx context.Context,
	r contract.GetFindingRequestObject) (contract.GetFindingResponseObject, error) {
	list, _, err := srv.service.Findings(ctx, service.FindingFilter{State: "all", ID: r.Id},
		service.Page{Sort: "worst", Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, service.ErrNotFound
	}
	return contract.GetFinding200JSONResponse(srv.findingsOf(ctx, list)[0]), nil
}

// ListSurveys lists surveys, newest first.
func (srv *Server) ListSurveys(ctx context.Context,
	r contract.ListSurveysRequestObject) (contract.ListSurveysResponseObject, error) {
	p := pageOf[string](nil, "-id", r.Params.Cursor, r.Params.Limit)
	before, err := p.Before()
	if err != nil {
		return nil, err
	}
	list, err := srv.service.Surveys(ctx, before, p.Limit+1)
	if err != nil {
		return nil, err
	}
	var out contract.ListSurveys200JSONResponse
	if len(list) > p.Limit {
		list = list[:p.Limit]
		out.NextCursor = ptr(p.After(list[p.Limit-1].ID))
	}
	out.Items = make([]contract.Survey, len(list))
	for i := range list {
		out.Items[i] = surveyOf(&list[i])
	}
	return out, nil
}

// GetSchedule tells what is looked at by itself.
func (srv *Server) GetSchedule(ctx context.Context, _ contract.GetScheduleRequestObject) (contract.GetScheduleResponseObject, error) {
	w, err := srv.service.Watching(ctx)
	if err != nil {
		return nil, err
	}
	return contract.GetSchedule200JSONResponse(scheduleOf(w)), nil
}

// StartSurvey begins a survey.
func (srv *Server) StartSurvey(ctx context.Context,
	r contract.StartSurveyRequestObject) (contract.StartSurveyResponseObject, error) {
	v, err := srv.service.StartSurvey(ctx, service.Scope{Host: orZero(r.Body.Host), Server: orZero(r.Body.Server),
		Group: orZero(r.Body.Group)})
	if err != nil {
		return nil, err
	}
	return contract.StartSurvey201JSONResponse(surveyOf(v)), nil
}

// GetSurvey gives one survey.
func (srv *Server) GetSurvey(ctx context.Context,
	r contract.GetSurveyRequestObject) (contract.GetSurveyResponseObject, error) {
	v, err := srv.service.Survey(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return contract.GetSurvey200JSONResponse(surveyOf(v)), nil
}

// GetSurveyChanges says what changed.
func (srv *Server) GetSurveyChanges(ctx context.Context,
	r contract.GetSurveyChangesRequestObject) (contract.GetSurveyChangesResponseObject, error) {
	c, err := srv.service.SurveyChanges(ctx, r.Id, r.Params.Since)
	if err != nil {
		return nil, err
	}
	out := contract.GetSurveyChanges200JSONResponse{Survey: c.Survey, Since: c.Since, Clipped: c.Clipped,
		Changes: make([]contract.SurveyChange, len(c.Changes)),
		Opened:  srv.findingsOf(ctx, c.Opened), Closed: srv.findingsOf(ctx, c.Closed)}
	for i := range c.Changes {
		out.Changes[i] = changeOf(&c.Changes[i])
	}
	return out, nil
}

// fingerprint writes a SHA-256 in hexadecimal.
func fingerprint(raw []byte) *string {
	if len(raw) == 0 {
		return nil
	}
	return ptr(hex.EncodeToString(raw))
}

// pemOf writes one certificate.
func pemOf(der []byte) string { return string(certs.PEM(der)) }
