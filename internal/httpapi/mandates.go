package httpapi

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/safe"
	"insegna.example/internal/service"
)

// budgetOf shows what of a budget is used.
func budgetOf(b service.Budget) contract.Budget {
	return contract.Budget{Certificates: b.Certificates, Days: b.Days, Used: b.Used}
}

// caAccount shows an account; a rest the CA asked for only while it lasts.
func caAccount(a *service.Account) *contract.CAAccount {
	if a == nil {
		return nil
	}
	out := &contract.CAAccount{Url: a.URL, Terms: a.Terms, AgreedBy: a.AgreedBy, AgreedAt: a.AgreedAt.UTC()}
	if a.RestUntil != nil && time.Now().Before(*a.RestUntil) {
		until := a.RestUntil.UTC()
		out.RestsUntil, out.RestsWhy = &until, &a.RestWhy
	}
	return out
}

// caOf shows a CA with its accounts at both directories.
func caOf(v *service.CAView) contract.CA {
	a := v.ACME
	if a == nil {
		a = &estate.ACME{}
	}
	out := contract.CA{Name: v.Name, By: contract.CABy(v.By), Directory: a.Directory, TestDirectory: a.TestDirectory, Terms: v.Terms,
		Trouble: v.Trouble, Identities: list(v.Identity), ExternalAccount: v.External,
		Contact: list(a.Contact), Profiles: list(v.Profiles), Account: caAccount(v.Account), TestAccount: caAccount(v.Test),
		Budget: budgetOf(v.Budget)}
	if at := v.Folder(); at != "" {
		out.Directory = at + "/directory"
	}
	if v.TestTerms != "" && v.TestTerms != v.Terms {
		out.TestTerms = &v.TestTerms
	}
	return out
}

// list is never null in JSON.
func list(l []string) []string {
	if l == nil {
		return []string{}
	}
	return l
}

// ListCas lists the CAs of the estate.
func (srv *Server) ListCas(ctx context.Context,
	_ contract.ListCasRequestObject) (contract.ListCasResponseObject, error) {
	views, err := srv.service.CAs(ctx)
	out := contract.ListCas200JSONResponse{Items: make([]contract.CA, len(views))}
	for i := range views {
		out.Items[i] = caOf(&views[i])
	}
	return out, err
}

// AgreeToTerms makes the accounts at a CA.
func (srv *Server) AgreeToTerms(ctx context.Context,
	r contract.AgreeToTermsRequestObject) (contract.AgreeToTermsResponseObject, error) {
	v, err := srv.service.Agree(ctx, r.Name, r.Body.Terms, orZero(r.Body.TestTerms))
	if err != nil {
		return nil, err
	}
	return contract.AgreeToTerms200JSONResponse(caOf(v)), nil
}

// ListCredentials lists names.
func (srv *Server) ListCredentials(ctx context.Context,
	_ contract.ListCredentialsRequestObject) (contract.ListCredentialsResponseObject, error) {
	rows, err := srv.service.Credentials(ctx)
	out := contract.ListCredentials200JSONResponse{Items: make([]contract.Credential, len(rows))}
	for i, s := range rows {
		out.Items[i] = contract.Credential{Name: s.Name, ChangedAt: s.ChangedAt.UTC()}
	}
	return out, err
}

// AddCredential keeps a credential.
func (srv *Server) AddCredential(ctx context.Context,
	r contract.AddCredentialRequestObject) (contract.AddCredentialResponseObject, error) {
	return contract.AddCredential204Response{}, srv.service.AddCredential(ctx, r.Name, safe.Secret(r.Body.Value))
}

// RemoveCredential forgets a credential.
func (srv *Server) RemoveCredential(ctx context.Context,
	r contract.RemoveCredentialRequestObject) (contract.RemoveCredentialResponseObject, error) {
	return contract.RemoveCredential204Response{}, srv.service.RemoveCredential(ctx, r.Name)
}

// orderOf shows an order.
func orderOf(v *service.OrderView) contract.Order {
	out := contract.Order{Number: v.ID, Mandate: v.Mandate.Name, Ca: v.CA, Rehearsal: v.Rehearsal,
		Names: list(v.Spec.Names), State: contract.OrderState(v.State), Url: v.URL, By: v.By,
		BegunAt: v.CreatedAt.UTC(), Steps: []contract.OrderStep{}, Way: contract.OrderWayOrdered, Waits: v.Waits,
		SentAt: inUTC(v.SentAt), ExpectedAt: inUTC(v.ExpectedAt), KeyGoneAt: inUTC(v.KeyGoneAt), RevokedAt: inUTC(v.RevokedAt)}
	if v.Spec.KeyOn != "" {
		out.KeyOn = &v.Spec.KeyOn
	}
	if v.RevokedFor != "" {
		out.RevokedFor = &v.RevokedFor
	}
	if v.Way != "" {
		out.Way = contract.OrderWay(v.Way)
	}
	if text := service.RequestOf(v.Order); text != "" {
		out.Request = &text
	}
	if v.SentTo != "" {
		out.SentTo = &v.SentTo
	}
	if v.FinishedAt != nil {
		out.FinishedAt = ptr(v.FinishedAt.UTC())
	}
	if v.Leaf != nil {
		out.Certificate, out.NotAfter = ptr(hex.EncodeToString(v.Leaf)), ptr(v.NotAfter.UTC())
	}
	if f := v.Failure; f != nil {
		out.Failure = &contract.OrderFailure{Kind: f.Kind, Words: f.Words, Advice: f.Advice}
		if !f.Again.IsZero() {
			out.Failure.Again = ptr(f.Again.UTC())
		}
	}
	for _, s := range v.Steps {
		out.Steps = append(out.Steps,
			contract.OrderStep{Step: s.Step, Outcome: contract.OrderStepOutcome(s.Outcome), Words: s.Words, At: s.At.UTC()})
	}
	return out
}

// orderIn is an order as a part of its mandate.
func orderIn(m *service.MandateView, o *service.Order) *contract.Order {
	if o == nil {
		return nil
	}
	row := *o
	row.Mandate, row.Spec = m.Mandate, m.Mandate.Spec
	return ptr(orderOf(service.ViewOrder(&row)))
}

// mandateOf shows a mandate with the server or folder its proof goes to.
func (srv *Server) mandateOf(ctx context.Context, v *service.MandateView) contract.Mandate {
	s := v.Spec
	out := contract.Mandate{Name: v.Name, Names: list(s.Names), Ca: v.CA, Otherwise: list(s.Otherwise), Profile: s.Profile, KeyOn: s.KeyOn, Proof: contract.MandateProof(cmp.Or(s.Proof.By, "none")),
		Key: s.Key, Install: texts(s.Install), RenewDays: s.RenewDays,
		MadeBy: v.MadeBy, NextWhy: v.NextWhy, Failures: v.Failures, Budget: budgetOf(v.Budget),
		RehearsedOn: []contract.Installation{}, Trail: []contract.TrailEntry{}}
	switch s.Proof.By {
	case "http":
		out.ProofAt = strings.Join(s.Proof.Servers, ", ")
	case "dns":
		out.ProofAt = s.Proof.Server
	case "program":
		out.ProofAt = s.Proof.Program
	case "call":
		out.ProofAt = s.Proof.URL
	}
	if v.Generation != nil {
		if d, _, err := srv.service.Declared(ctx); err == nil {
			out.Place = fmt.Sprintf("%s:%d", d.File, v.Line)
		}
	}
	if v.NextAt != nil {
		out.NextAt = ptr(v.NextAt.UTC())
	}
	out.Last, out.Rehearsed, out.InForce = orderIn(v, v.Last), orderIn(v, v.Rehearsed), orderIn(v, v.InForce)
	out.InstalledOn, out.SeenAt = list(v.InUse.Installed), v.InUse.Seen
	return out
}

// ListMandates lists mandates by name.
func (srv *Server) ListMandates(ctx context.Context,
	r contract.ListMandatesRequestObject) (contract.ListMandatesResponseObject, error) {
	p := pageOf[string](nil, "name", r.Params.Cursor, r.Params.Limit)
	after, err := base64.RawURLEncoding.DecodeString(p.Cursor)
	if err != nil {
		return nil, service.ErrCursor
	}
	views, err := srv.service.Mandates(ctx, orZero(r.Params.Q), string(after), p.Limit+1)
	if err != nil {
		return nil, err
	}
	out := contract.ListMandates200JSONResponse{Items: []contract.Mandate{}}
	if len(views) > p.Limit {
		views = views[:p.Limit]
		out.NextCursor = ptr(base64.RawURLEncoding.EncodeToString([]byte(views[p.Limit-1].Name)))
	}
	for i := range views {
		out.Items = append(out.Items, srv.mandateOf(ctx, &views[i]))
	}
	return out, nil
}

// GetMandate gives one mandate.
func (srv *Server) GetMandate(ctx context.Context,
	r contract.GetMandateRequestObject) (contract.GetMandateResponseObject, error) {
	v, err := srv.service.Mandate(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	m := srv.mandateOf(ctx, v)
	rehearsed, err := srv.service.RehearsedOn(ctx, v)
	if err != nil {
		return nil, err
	}
	for _, i := range rehearsed {
		m.RehearsedOn = append(m.RehearsedOn, installationOf(i))
	}
	trail, err := srv.service.Trail(ctx, v)
	for _, e := range trail {
		out := contract.TrailEntry{Step: contract.TrailEntryStep(e.Step), Outcome: contract.TrailEntryOutcome(e.Outcome),
			Where: e.Where, Words: e.Words}
		if !e.At.IsZero() {
			out.At = ptr(e.At.UTC())
		}
		if e.Order != 0 {
			out.Order = &e.Order
		}
		if e.Installation != 0 {
			out.Installation = &e.Installation
		}
		m.Trail = append(m.Trail, out)
	}
	return contract.GetMandate200JSONResponse(m), err
}

// AddMandate makes a mandate.
func (srv *Server) AddMandate(ctx context.Context,
	r contract.AddMandateRequestObject) (contract.AddMandateResponseObject, error) {
	v, also, err := srv.service.AddMandate(ctx, []byte(r.Body.Text))
	if err != nil {
		return nil, err
	}
	m := srv.mandateOf(ctx, v)
	if len(also) > 0 {
		m.Also = &also
	}
	return contract.AddMandate201JSONResponse(m), nil
}

// RemoveMandate ends a mandate.
func (srv *Server) RemoveMandate(ctx context.Context,
	r contract.RemoveMandateRequestObject) (contract.RemoveMandateResponseObject, error) {
	return contract.RemoveMandate204Response{}, srv.service.RemoveMandate(ctx, r.Name, orZero(r.Params.Used))
}

// DraftMandate works out names.
func (srv *Server) DraftMandate(ctx context.Context,
	r contract.DraftMandateRequestObject) (contract.DraftMandateResponseObject, error) {
	d, err := srv.service.DraftMandate(ctx, orZero(r.Params.Server), orZero(r.Params.Site))
	if err != nil {
		return nil, err
	}
	return contract.DraftMandate200JSONResponse{Names: d.Names, Advice: list(d.Advice), Text: d.Text}, nil
}

// trialOf shows what a pre-flight tried.
func trialOf(t *service.Trial) contract.Trial {
	return contract.Trial{Ca: t.CA, Name: t.Name, Step: contract.TrialStep(t.Step), Code: t.Code, Seen: t.Seen, Spot: t.Spot, Remedy: t.Remedy}
}

// CheckMandate tries what the CA will try.
func (srv *Server) CheckMandate(ctx context.Context,
	r contract.CheckMandateRequestObject) (contract.CheckMandateResponseObject, error) {
	trials, err := srv.service.CheckMandate(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out := contract.CheckMandate200JSONResponse{Items: make([]contract.Trial, len(trials)), Well: true}
	for i, t := range trials {
		out.Items[i] = trialOf(&t)
		out.Well = out.Well && t.Well()
	}
	return out, nil
}

// VisitMandate walks a visitor's way.
func (srv *Server) VisitMandate(ctx context.Context,
	r contract.VisitMandateRequestObject) (contract.VisitMandateResponseObject, error) {
	reports, err := srv.service.VisitMandate(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out := contract.VisitMandate200JSONResponse{Items: make([]contract.Visit, len(reports)), Well: true}
	for i, report := range reports {
		v := contract.Visit{Host: report.Host, At: report.At, Steps: make([]contract.VisitStep, len(report.Steps)),
			Well: true}
		for n, s := range report.Steps {
			v.Steps[n] = contract.VisitStep{Step: contract.VisitStepStep(s.Step), Endpoint: s.Endpoint, Fine: s.Fine,
				Seen: s.Seen, Expected: s.Expected, Do: s.Do}
			v.Well = v.Well && s.Fine
		}
		out.Items[i], out.Well = v, out.Well && v.Well
	}
	return out, nil
}

// ListOrders lists orders.
func (srv *Server) ListOrders(ctx context.Context,
	r contract.ListOrdersRequestObject) (contract.ListOrdersResponseObject, error) {
	p := pageOf[string](nil, "-id", r.Params.Cursor, r.Params.Limit)
	before, err := p.Before()
	if err != nil {
		return nil, err
	}
	if orZero(r.Params.Waiting) {
		views, err := srv.service.Waiting(ctx)
		out := contract.ListOrders200JSONResponse{Items: []contract.Order{}}
		for _, v := range views {
			if m := orZero(r.Params.Mandate); m == "" || m == v.Mandate.Name {
				v.Request = nil
				out.Items = append(out.Items, orderOf(v))
			}
		}
		return out, err
	}
	views, err := srv.service.Orders(ctx, orZero(r.Params.Mandate), before, p.Limit+1)
	if err != nil {
		return nil, err
	}
	out := contract.ListOrders200JSONResponse{Items: []contract.Order{}}
	if len(views) > p.Limit {
		views = views[:p.Limit]
		out.NextCursor = ptr(p.After(views[p.Limit-1].ID))
	}
	for _, v := range views {
		out.Items = append(out.Items, orderOf(v))
	}
	return out, nil
}

// BeginOrder begins an order.
func (srv *Server) BeginOrder(ctx context.Context,
	r contract.BeginOrderRequestObject) (contract.BeginOrderResponseObject, error) {
	o, err := srv.service.OrderInstallable(ctx, r.Body.Mandate, orZero(r.Body.Rehearsal), orZero(r.Body.Anyway))
	if err != nil {
		return nil, err
	}
	v, err := srv.service.Order(ctx, o.ID)
	if err != nil {
		return nil, err
	}
	return contract.BeginOrder201JSONResponse(orderOf(v)), nil
}

// GetOrder gives one order with its steps.
func (srv *Server) GetOrder(ctx context.Context,
	r contract.GetOrderRequestObject) (contract.GetOrderResponseObject, error) {
	v, err := srv.service.Order(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.GetOrder200JSONResponse(orderOf(v)), nil
}

// GetOrderCertificate gives the certificate an order brought.
func (srv *Server) GetOrderCertificate(ctx context.Context,
	r contract.GetOrderCertificateRequestObject) (contract.GetOrderCertificateResponseObject, error) {
	v, err := srv.service.Order(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	if v.Chain == nil {
		return nil, &service.RefusedError{Reason: fmt.Sprintf("order %d has brought no certificate", r.Number),
			Next: fmt.Sprintf("see how it stands: insegna order show %d", r.Number)}
	}
	return contract.GetOrderCertificate200JSONResponse{Sha256: hex.EncodeToString(v.Leaf), Chain: string(v.Chain)}, nil
}

// Proofs answers the files CAs ask for (RFC 8555 section 8.3), and nothing
// else. It is meant for a port of its own.
func Proofs(s *service.Service) http.Handler {
	open := plain(s)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/pki/") {
			open.ServeHTTP(w, r)
			return
		}
		token, ok := strings.CutPrefix(r.URL.Path, proof.WellKnown)
		host := r.Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		host = strings.Trim(host, "[]") // of an IPv6 address (RFC 3986 section 3.2.2)
		if a, err := netip.ParseAddr(host); err == nil {
			host = a.String()
		}
		if !ok || token == "" || len(token) > 600 || r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.NotFound(w, r)
			return
		}
		text, err := s.Answering(r.Context(), host, token)
		if errors.Is(err, service.ErrNotFound) {
			http.NotFound(w, r)
			return
		} else if err != nil {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Header().Set("Cache-Control", "no-store")
		http.ServeContent(w, r, "", time.Time{}, strings.NewReader(text))
	})
}

// ProofsTLS answers CAs that look for proofs in TLS (RFC 8737) at a listener, until
// the context ends.
func ProofsTLS(ctx context.Context, l net.Listener, s *service.Service) error {
	return proof.ServeALPN(ctx, l, s.AnsweringTLS)
}
