package httpapi

import (
	"context"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// waveOf shows a wave with the installations of its servers.
func waveOf(v *service.WaveView) contract.Wave {
	out := contract.Wave{Number: v.ID, Mandate: v.Mandate.Name, Order: v.OrderID, Groups: [][]contract.WaveServer{},
		There: list(v.There), State: contract.WaveState(v.State), Reason: v.Reason, Advice: v.Advice, By: v.By,
		PreviewedAt: v.CreatedAt.UTC()}
	if v.StartedAt != nil {
		out.StartedAt = ptr(v.StartedAt.UTC())
	}
	if v.FinishedAt != nil {
		out.FinishedAt = ptr(v.FinishedAt.UTC())
	}
	for _, group := range v.Groups {
		var servers []contract.WaveServer
		for _, name := range group {
			s := contract.WaveServer{Server: name}
			if i := v.Installations[name]; i != nil {
				s.Installation = ptr(installationOf(i))
			}
			servers = append(servers, s)
		}
		out.Groups = append(out.Groups, servers)
	}
	return out
}

// ListWaves lists waves.
func (srv *Server) ListWaves(ctx context.Context,
	r contract.ListWavesRequestObject) (contract.ListWavesResponseObject, error) {
	p := pageOf[string](nil, "-id", r.Params.Cursor, r.Params.Limit)
	before, err := p.Before()
	if err != nil {
		return nil, err
	}
	views, err := srv.service.Waves(ctx, orZero(r.Params.Mandate), before, p.Limit+1)
	if err != nil {
		return nil, err
	}
	out := contract.ListWaves200JSONResponse{Items: []contract.Wave{}}
	if len(views) > p.Limit {
		views = views[:p.Limit]
		out.NextCursor = ptr(p.After(views[p.Limit-1].ID))
	}
	for _, v := range views {
		out.Items = append(out.Items, waveOf(v))
	}
	return out, nil
}

// PreviewWave works out what changes on every server.
func (srv *Server) PreviewWave(ctx context.Context,
	r contract.PreviewWaveRequestObject) (contract.PreviewWaveResponseObject, error) {
	v, err := srv.service.PreviewWave(ctx, r.Body.Mandate, orZero(r.Body.Also))
	if err != nil {
		return nil, err
	}
	return contract.PreviewWave201JSONResponse(waveOf(v)), nil
}

// GetWave gives one with its installations.
func (srv *Server) GetWave(ctx context.Context,
	r contract.GetWaveRequestObject) (contract.GetWaveResponseObject, error) {
	v, err := srv.service.Wave(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.GetWave200JSONResponse(waveOf(v)), nil
}

// BeginWave carries a preview out.
func (srv *Server) BeginWave(ctx context.Context,
	r contract.BeginWaveRequestObject) (contract.BeginWaveResponseObject, error) {
	v, err := srv.service.BeginWave(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.BeginWave200JSONResponse(waveOf(v)), nil
}

// ReturnWave takes one back.
func (srv *Server) ReturnWave(ctx context.Context,
	r contract.ReturnWaveRequestObject) (contract.ReturnWaveResponseObject, error) {
	v, err := srv.service.ReturnWave(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.ReturnWave200JSONResponse(waveOf(v)), nil
}

// KeepWave leaves one that stopped as it is.
func (srv *Server) KeepWave(ctx context.Context,
	r contract.KeepWaveRequestObject) (contract.KeepWaveResponseObject, error) {
	v, err := srv.service.KeepWave(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.KeepWave200JSONResponse(waveOf(v)), nil
}
