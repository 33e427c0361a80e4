package httpapi

import (
	"context"

	"insegna.example/internal/httpapi/contract"
)

// WithoutCertificate tells what breaks when a certificate of a CA is gone.
func (srv *Server) WithoutCertificate(ctx context.Context, r contract.WithoutCertificateRequestObject) (contract.WithoutCertificateResponseObject, error) {
	v, err := srv.service.Without(ctx, r.Sha256, orZero(r.Params.Audience))
	if err != nil {
		return nil, err
	}
	out := contract.WithoutCertificate200JSONResponse{Certificate: v.Certificate.Fingerprint.String(), Name: v.Certificate.CommonName(), Looked: v.Looked,
		Unread: v.Unread, Items: []contract.Breaks{}}
	if v.Audience != "" {
		out.Audience = &v.Audience
	}
	for _, b := range v.Broken {
		x := contract.Breaks{Hosts: b.Hosts, Bindings: b.Bindings, Audience: b.Audience, Issuer: b.Issuer, Why: b.Why, Helps: list(b.Helps)}
		if b.Mandate != "" {
			x.Mandate = &b.Mandate
		}
		out.Items = append(out.Items, x)
	}
	return out, nil
}
