package httpapi

import (
	"context"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// safeOf shows how the safe stands.
func safeOf(v *service.SafeState) contract.SafeState {
	return contract.SafeState{Key: v.Key, Source: v.Source, Secrets: v.Secrets, Left: v.Left}
}

// GetSafe says how the safe stands.
func (srv *Server) GetSafe(ctx context.Context, _ contract.GetSafeRequestObject) (contract.GetSafeResponseObject,
	error) {
	v, err := srv.service.Safe(ctx)
	if err != nil {
		return nil, err
	}
	return contract.GetSafe200JSONResponse(safeOf(v)), nil
}

// RenewSafeKey encrypts a part of what is left with the newest key.
func (srv *Server) RenewSafeKey(ctx context.Context,
	r contract.RenewSafeKeyRequestObject) (contract.RenewSafeKeyResponseObject, error) {
	v, err := srv.service.RenewSafeKey(ctx, orZero(r.Body.Begin))
	if err != nil {
		return nil, err
	}
	return contract.RenewSafeKey200JSONResponse(safeOf(v)), nil
}

// TakeKey takes a private key out of the safe.
func (srv *Server) TakeKey(ctx context.Context, r contract.TakeKeyRequestObject) (contract.TakeKeyResponseObject,
	error) {
	key, err := srv.service.TakeKey(ctx, r.Number, r.Body.Reason)
	if err != nil {
		return nil, err
	}
	return contract.TakeKey200JSONResponse{Key: string(key)}, nil
}
