package httpapi

import (
	"context"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// installationOf shows an installation as its destination planned it: acts and
// files, whichever it has.
func installationOf(v *service.InstallationView) contract.Installation {
	out := contract.Installation{Number: v.ID, Mandate: v.Mandate.Name, Rehearsal: v.Rehearsal, Server: v.Server,
		Mends: []contract.Mend{}, Survey: v.SurveyID,
		Acts: []contract.InstallationAct{}, Files: []contract.FileChange{}, Bindings: []contract.InstallationBinding{},
		Notes: list(v.Notes), State: contract.InstallationState(v.State), AskedBack: v.AskedBack, Reason: v.Reason,
		Advice: v.Advice,
		By:     v.By, PreviewedAt: v.CreatedAt.UTC(), Steps: []contract.OrderStep{}}
	if v.MandateID != 0 {
		out.Order = &v.OrderID
	}
	if v.Leaf != "" {
		out.Certificate = &v.Leaf
	}
	for _, f := range v.Mends {
		out.Mends = append(out.Mends, contract.Mend{Finding: f.Finding, Code: f.Code, Host: f.Host, Does: f.Does})
	}
	for _, a := range v.Plan.Acts {
		out.Acts = append(out.Acts, contract.InstallationAct{Does: a.Does, What: a.What})
	}
	if v.StartedAt != nil {
		out.StartedAt = ptr(v.StartedAt.UTC())
	}
	if v.FinishedAt != nil {
		out.FinishedAt = ptr(v.FinishedAt.UTC())
	}
	for i := range v.Plan.Files {
		f := &v.Plan.Files[i]
		out.Files = append(out.Files, contract.FileChange{Path: f.Path, Diff: service.Diff(f)})
	}
	for _, d := range v.Bindings {
		out.Bindings = append(out.Bindings,
			contract.InstallationBinding{Host: d.Host, Address: d.At.String(), Before: d.Before,
				Neighbour: d.Neighbour, Plain: optional(d.Plain), Header: optional(d.Header)})
	}
	for _, s := range v.Steps {
		out.Steps = append(out.Steps,
			contract.OrderStep{Step: s.Step, Outcome: contract.OrderStepOutcome(s.Outcome), Words: s.Words, At: s.At.UTC()})
	}
	return out
}

// ListInstallations lists installations.
func (srv *Server) ListInstallations(ctx context.Context,
	r contract.ListInstallationsRequestObject) (contract.ListInstallationsResponseObject, error) {
	p := pageOf[string](nil, "-id", r.Params.Cursor, r.Params.Limit)
	before, err := p.Before()
	if err != nil {
		return nil, err
	}
	views, err := srv.service.Installations(ctx, orZero(r.Params.Mandate), before, p.Limit+1)
	if err != nil {
		return nil, err
	}
	out := contract.ListInstallations200JSONResponse{Items: []contract.Installation{}}
	if len(views) > p.Limit {
		views = views[:p.Limit]
		out.NextCursor = ptr(p.After(views[p.Limit-1].ID))
	}
	for _, v := range views {
		out.Items = append(out.Items, installationOf(v))
	}
	return out, nil
}

// PreviewInstallation works out what changes.
func (srv *Server) PreviewInstallation(ctx context.Context,
	r contract.PreviewInstallationRequestObject) (contract.PreviewInstallationResponseObject, error) {
	v, err := srv.service.PreviewInstallation(ctx, r.Body.Mandate, orZero(r.Body.Server), orZero(r.Body.Also))
	if err != nil {
		return nil, err
	}
	return contract.PreviewInstallation201JSONResponse(installationOf(v)), nil
}

// GetInstallation gives one with its steps.
func (srv *Server) GetInstallation(ctx context.Context,
	r contract.GetInstallationRequestObject) (contract.GetInstallationResponseObject, error) {
	v, err := srv.service.Installation(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.GetInstallation200JSONResponse(installationOf(v)), nil
}

// BeginInstallation carries a preview out.
func (srv *Server) BeginInstallation(ctx context.Context,
	r contract.BeginInstallationRequestObject) (contract.BeginInstallationResponseObject, error) {
	v, err := srv.service.BeginInstallation(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.BeginInstallation200JSONResponse(installationOf(v)), nil
}

// ReturnInstallation takes one back.
func (srv *Server) ReturnInstallation(ctx context.Context,
	r contract.ReturnInstallationRequestObject) (contract.ReturnInstallationResponseObject, error) {
	v, err := srv.service.ReturnInstallation(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.ReturnInstallation200JSONResponse(installationOf(v)), nil
}
