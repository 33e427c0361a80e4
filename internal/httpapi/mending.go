package httpapi

import (
	"context"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// PreviewMending works out how findings are mended.
func (srv *Server) PreviewMending(ctx context.Context,
	r contract.PreviewMendingRequestObject) (contract.PreviewMendingResponseObject, error) {
	plan, err := srv.service.PreviewMending(ctx, &service.MendRequest{Findings: orZero(r.Body.Findings),
		Server: orZero(r.Body.Server), Code: orZero(r.Body.Code), Host: orZero(r.Body.Host),
		Rehearsal: orZero(r.Body.Rehearse), Also: orZero(r.Body.Also), Days: r.Body.StrictDays})
	if err != nil {
		return nil, err
	}
	out := contract.PreviewMending201JSONResponse{Installations: []contract.Installation{},
		Renewals: []contract.Renewal{}, Taken: []contract.TakenHost{}, Left: []contract.LeftFinding{}}
	for _, v := range plan.Installations {
		out.Installations = append(out.Installations, installationOf(v))
	}
	for i := range plan.Taken {
		h := &plan.Taken[i]
		out.Taken = append(out.Taken, contract.TakenHost{About: refOf(&h.FindingRef), Host: h.Name, At: h.At})
	}
	for i := range plan.Renewals {
		r := &plan.Renewals[i]
		about := make([]contract.FindingRef, len(r.Findings))
		for n := range r.Findings {
			about[n] = refOf(&r.Findings[n])
		}
		out.Renewals = append(out.Renewals, contract.Renewal{Host: r.Host, Server: r.Server, Mandate: r.Mandate,
			Findings: about})
	}
	for i := range plan.Left {
		l := &plan.Left[i]
		out.Left = append(out.Left, contract.LeftFinding{About: refOf(&l.FindingRef), Reason: l.Reason, Next: l.Next})
	}
	return out, nil
}

// refOf names a finding.
func refOf(f *service.FindingRef) contract.FindingRef {
	return contract.FindingRef{Finding: f.Number, Code: string(f.Code), Host: f.Host, Server: f.Server}
}
