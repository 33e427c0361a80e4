package httpapi

import (
	"context"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/safe"
	"insegna.example/internal/service"
)

// filesOf are files that somebody sent.
func filesOf(list []contract.GivenFile) []service.NamedFile {
	out := make([]service.NamedFile, len(list))
	for i, f := range list {
		out[i] = service.NamedFile{Name: f.Name, Data: f.Content}
	}
	return out
}

// secretOf is a passphrase that somebody sent; nil for none.
func secretOf(text *string) *safe.Secret {
	if text == nil {
		return nil
	}
	s := safe.Secret(*text)
	return &s
}

// TakeCertificate takes in a certificate with its key.
func (srv *Server) TakeCertificate(ctx context.Context, r contract.TakeCertificateRequestObject) (contract.TakeCertificateResponseObject, error) {
	b := r.Body
	v, words, err := srv.service.TakeIn(ctx, &service.TakeIn{Files: filesOf(b.Files), Passphrase: secretOf(b.Passphrase),
		Which: orZero(b.Certificate), Mandate: orZero(b.Mandate), Name: orZero(b.Name)})
	if err != nil {
		return nil, err
	}
	return contract.TakeCertificate201JSONResponse{Order: orderOf(v), Words: list(words)}, nil
}

// TakeFromServer takes in what a server has.
func (srv *Server) TakeFromServer(ctx context.Context, r contract.TakeFromServerRequestObject) (contract.TakeFromServerResponseObject, error) {
	b := r.Body
	v, words, err := srv.service.TakeFrom(ctx, r.Name, b.Host, &service.TakeIn{Mandate: orZero(b.Mandate), Name: orZero(b.Name), Passphrase: secretOf(b.Passphrase)})
	if err != nil {
		return nil, err
	}
	return contract.TakeFromServer201JSONResponse{Order: orderOf(v), Words: list(words)}, nil
}

// TakeReply takes what a CA sent back.
func (srv *Server) TakeReply(ctx context.Context, r contract.TakeReplyRequestObject) (contract.TakeReplyResponseObject, error) {
	v, err := srv.service.Reply(ctx, &service.TakeIn{Files: filesOf(r.Body.Files), Passphrase: secretOf(r.Body.Passphrase)}, orZero(r.Body.Order))
	if err != nil {
		return nil, err
	}
	return contract.TakeReply200JSONResponse(orderOf(v)), nil
}

// MarkSent keeps that a request was sent.
func (srv *Server) MarkSent(ctx context.Context, r contract.MarkSentRequestObject) (contract.MarkSentResponseObject, error) {
	v, err := srv.service.MarkSent(ctx, r.Number, orZero(r.Body.To), r.Body.ExpectedAt)
	if err != nil {
		return nil, err
	}
	return contract.MarkSent200JSONResponse(orderOf(v)), nil
}

// EndOrder ends an order that waits for a person.
func (srv *Server) EndOrder(ctx context.Context, r contract.EndOrderRequestObject) (contract.EndOrderResponseObject, error) {
	v, err := srv.service.GiveUp(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	return contract.EndOrder200JSONResponse(orderOf(v)), nil
}

// GiveCertificate hands out a certificate with its key.
func (srv *Server) GiveCertificate(ctx context.Context, r contract.GiveCertificateRequestObject) (contract.GiveCertificateResponseObject, error) {
	b := r.Body
	g := &service.Give{Apart: orZero(b.Apart), Root: orZero(b.WithRoot), Reason: b.Reason}
	g.Form, g.Old, g.Alias = certs.Form(b.Form), orZero(b.Old), orZero(b.Alias)
	if b.Passphrase != nil {
		g.Passphrase = append([]byte{}, *b.Passphrase...)
	}
	files, err := srv.service.GiveOut(ctx, r.Number, g)
	if err != nil {
		return nil, err
	}
	out := contract.GiveCertificate200JSONResponse{Files: []contract.GivenFile{}}
	for _, f := range files {
		out.Files = append(out.Files, contract.GivenFile{Name: f.Name, Content: f.Data})
	}
	return out, nil
}

// inUTC is a time that may not be known, in UTC.
func inUTC(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	return ptr(t.UTC())
}
