package httpapi

import (
	"context"
	"maps"
	"slices"
	"time"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// drillHead shows a drill without its work.
func drillHead(d *service.Drill) contract.Drill {
	out := contract.Drill{Number: d.ID, Kind: contract.DrillKind(d.Kind), What: d.What, Hours: float32(time.Duration(d.Within)*time.Second/time.Minute) / 60, By: d.By,
		At: d.At.UTC(), BegunAt: inUTC(d.BegunAt), Rehearsal: d.Rehearsal, Done: float32(d.Plan.Done.Seconds()), Late: d.Plan.Late, Persons: d.Plan.Persons,
		ByCa: []contract.DrillCA{}, Work: []contract.DrillWork{}}
	if d.BegunBy != "" {
		out.BegunBy = &d.BegunBy
	}
	for _, ca := range slices.Sorted(maps.Keys(d.Plan.ByCA)) {
		out.ByCa = append(out.ByCa, contract.DrillCA{Ca: ca, Certificates: d.Plan.ByCA[ca]})
	}
	return out
}

// drillOf shows a drill with what was done.
func drillOf(v *service.DrillView) contract.Drill {
	out := drillHead(v.Drill)
	for _, w := range v.Plan.Work {
		x := contract.DrillWork{Mandate: w.Mandate, Bindings: w.Bindings, Ends: w.Ends.UTC(), Ca: w.CA, Seconds: float32(w.At.Seconds()), Person: w.Person,
			State: contract.DrillWorkStatePlanned}
		if o, begun := v.Orders[w.Mandate]; begun {
			x.Order = o.OrderID
			x.State = contract.DrillWorkStateUnderWay
			words := o.Words
			switch {
			case o.OrderID == nil:
				x.State, words = contract.DrillWorkStateLeft, o.LeftFor
			case o.State == string(contract.OrderStateIssued):
				x.State = contract.DrillWorkStateDone
			case o.State == string(contract.OrderStateFailed):
				x.State = contract.DrillWorkStateFailed
			}
			if words != "" {
				x.Words = &words
			}
		}
		out.Work = append(out.Work, x)
	}
	return out
}

// ListDrills lists the newest drills.
func (srv *Server) ListDrills(ctx context.Context, _ contract.ListDrillsRequestObject) (contract.ListDrillsResponseObject, error) {
	rows, err := srv.service.Drills(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListDrills200JSONResponse{Items: []contract.Drill{}}
	for i := range rows {
		out.Items = append(out.Items, drillHead(&rows[i]))
	}
	return out, nil
}

// PlanDrill plans a drill.
func (srv *Server) PlanDrill(ctx context.Context, r contract.PlanDrillRequestObject) (contract.PlanDrillResponseObject, error) {
	v, err := srv.service.PlanDrill(ctx, string(r.Body.Kind), r.Body.What, time.Duration(float64(r.Body.Hours)*float64(time.Hour)))
	if err != nil {
		return nil, err
	}
	return contract.PlanDrill201JSONResponse(drillOf(v)), nil
}

// GetDrill gives one drill.
func (srv *Server) GetDrill(ctx context.Context, r contract.GetDrillRequestObject) (contract.GetDrillResponseObject, error) {
	v, err := srv.service.Drill(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.GetDrill200JSONResponse(drillOf(v)), nil
}

// BeginDrill has a plan done.
func (srv *Server) BeginDrill(ctx context.Context, r contract.BeginDrillRequestObject) (contract.BeginDrillResponseObject, error) {
	v, err := srv.service.BeginDrill(ctx, r.Number, r.Body.Rehearsal)
	if err != nil {
		return nil, err
	}
	return contract.BeginDrill200JSONResponse(drillOf(v)), nil
}
