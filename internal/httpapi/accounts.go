package httpapi

import (
	"context"
	"strings"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// ListAccounts lists the accounts at CAs.
func (srv *Server) ListAccounts(ctx context.Context, _ contract.ListAccountsRequestObject) (contract.ListAccountsResponseObject, error) {
	rows, err := srv.service.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListAccounts200JSONResponse{Items: []contract.Account{}}
	for _, v := range rows {
		a := contract.Account{Ca: v.CA, Directory: v.Directory, Url: v.URL, Test: v.Test, Declared: v.Known, AgreedBy: v.AgreedBy,
			AgreedAt: v.AgreedAt.UTC(), Contact: v.Contact, ContactDeclared: strings.Join(v.Declared, ", "), RestsUntil: inUTC(v.RestUntil),
			EndedAt: inUTC(v.EndedAt)}
		if v.NextKey != nil {
			a.KeyOpen = ptr(true)
		}
		out.Items = append(out.Items, a)
	}
	return out, nil
}

// TellContact tells a CA the contact of the estate file.
func (srv *Server) TellContact(ctx context.Context, r contract.TellContactRequestObject) (contract.TellContactResponseObject, error) {
	return contract.TellContact204Response{}, srv.service.TellContact(ctx, r.Name)
}

// RollKey gives the accounts at a CA new keys.
func (srv *Server) RollKey(ctx context.Context, r contract.RollKeyRequestObject) (contract.RollKeyResponseObject, error) {
	return contract.RollKey204Response{}, srv.service.RollKey(ctx, r.Name)
}

// EndAccount deactivates the accounts at a CA.
func (srv *Server) EndAccount(ctx context.Context, r contract.EndAccountRequestObject) (contract.EndAccountResponseObject, error) {
	return contract.EndAccount204Response{}, srv.service.EndAccount(ctx, r.Name, orZero(r.Params.Used))
}

// RevokeOrder takes a certificate back at its CA.
func (srv *Server) RevokeOrder(ctx context.Context, r contract.RevokeOrderRequestObject) (contract.RevokeOrderResponseObject, error) {
	v, err := srv.service.RevokeOrder(ctx, r.Number, service.Revoke{Reason: string(r.Body.Reason), ByKey: orZero(r.Body.ByKey), Replace: orZero(r.Body.Replace)})
	if err != nil {
		return nil, err
	}
	out := contract.RevokeOrder200JSONResponse{Order: orderOf(v.OrderView), Next: v.Next}
	if v.Left != "" {
		out.Left = &v.Left
	}
	return out, nil
}
