package httpapi

import (
	"context"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// httpsOf shows a run with how far it is and what it waits for.
func (srv *Server) httpsOf(v *service.HTTPSRun) contract.HttpsRun {
	out := contract.HttpsRun{Number: v.ID, Server: v.Server, Host: v.Host, State: contract.HttpsRunState(v.State),
		Mandate: v.Mandate, Names: list(v.Names), Advice: list(v.Advice),
		Draft: v.Draft, Trials: []contract.Trial{}, Order: v.OrderID, Installation: v.InstallationID, Reason: v.Reason,
		Next: v.Next, By: v.By, BegunAt: v.CreatedAt.UTC()}
	for _, t := range v.Trials {
		tried := service.Trial(t)
		out.Trials = append(out.Trials, trialOf(&tried))
	}
	if v.Widens != nil {
		out.Widens = &v.Widens
	}
	if v.Preparation != nil {
		out.Preparation = srv.preparationOf(v)
	}
	if v.FinishedAt != nil {
		out.FinishedAt = ptr(v.FinishedAt.UTC())
	}
	return out
}

// preparationOf shows what is changed before a CA is asked.
func (srv *Server) preparationOf(v *service.HTTPSRun) *contract.HttpsPreparation {
	p := v.Preparation
	out := &contract.HttpsPreparation{Acts: []contract.InstallationAct{}, Files: []contract.FileChange{},
		Notes: list(p.Notes), Steps: []contract.OrderStep{}}
	plan, err := srv.service.PlanOf(v)
	if err != nil {
		return out
	}
	for _, a := range plan.Acts {
		out.Acts = append(out.Acts, contract.InstallationAct{Does: a.Does, What: a.What})
	}
	for i := range plan.Files {
		out.Files = append(out.Files, contract.FileChange{Path: plan.Files[i].Path, Diff: service.Diff(&plan.Files[i])})
	}
	for _, s := range p.Steps {
		out.Steps = append(out.Steps,
			contract.OrderStep{Step: s.Step, Outcome: contract.OrderStepOutcome(s.Outcome), Words: s.Words, At: s.At.UTC()})
	}
	return out
}

// ListHttps lists runs.
func (srv *Server) ListHttps(ctx context.Context,
	r contract.ListHttpsRequestObject) (contract.ListHttpsResponseObject, error) {
	p := pageOf[string](nil, "-id", r.Params.Cursor, r.Params.Limit)
	before, err := p.Before()
	if err != nil {
		return nil, err
	}
	runs, err := srv.service.HTTPSRuns(ctx, before, p.Limit+1)
	if err != nil {
		return nil, err
	}
	out := contract.ListHttps200JSONResponse{Items: []contract.HttpsRun{}}
	if len(runs) > p.Limit {
		runs = runs[:p.Limit]
		out.NextCursor = ptr(p.After(runs[p.Limit-1].ID))
	}
	for i := range runs {
		out.Items = append(out.Items, srv.httpsOf(&runs[i]))
	}
	return out, nil
}

// BeginHttps works out what taking a site to https needs.
func (srv *Server) BeginHttps(ctx context.Context,
	r contract.BeginHttpsRequestObject) (contract.BeginHttpsResponseObject, error) {
	v, err := srv.service.BeginHTTPS(ctx, r.Body.Server, r.Body.Host, orZero(r.Body.Mandate), orZero(r.Body.Also))
	if err != nil {
		return nil, err
	}
	return contract.BeginHttps201JSONResponse(srv.httpsOf(v)), nil
}

// GetHttps tells how far a site is.
func (srv *Server) GetHttps(ctx context.Context,
	r contract.GetHttpsRequestObject) (contract.GetHttpsResponseObject, error) {
	v, err := srv.service.HTTPS(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.GetHttps200JSONResponse(srv.httpsOf(v)), nil
}

// ContinueHttps agrees to what it waits for.
func (srv *Server) ContinueHttps(ctx context.Context,
	r contract.ContinueHttpsRequestObject) (contract.ContinueHttpsResponseObject, error) {
	v, err := srv.service.ContinueHTTPS(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.ContinueHttps200JSONResponse(srv.httpsOf(v)), nil
}
