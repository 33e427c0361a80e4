package httpapi

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"strings"

	"insegna.example/internal/acme/server"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// ACMEServer answers clients of the network that ask CAs of one's own over ACME, at a
// listener of its own (RFC 8555 section 6.1: over https alone), until the context ends.
// It shows the service's own certificate where that covers the host, and else one the CA
// has issued for itself.
func ACMEServer(ctx context.Context, l net.Listener, s *service.Service, pair *Pair, log *slog.Logger) error {
	l = tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
		GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
			if pair != nil && pair.Covers(hello.ServerName) {
				return pair.current()
			}
			return s.ACMECertificate(hello.Context(), hello.ServerName)
		}})
	desk := server.NewDesk(log)
	return Serve(ctx, l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rest, ok := strings.CutPrefix(r.URL.EscapedPath(), "/acme/")
		name, path, in := strings.Cut(rest, "/")
		if !ok || !in {
			http.NotFound(w, r)
			return
		}
		ca, err := s.ACME(r.Context(), name)
		var unknown *service.UnknownError
		switch {
		case errors.As(err, &unknown):
			http.NotFound(w, r)
		case err != nil:
			log.Warn("a CA of one's own cannot be asked over ACME", "ca", name, "error", err)
			http.Error(w, "this CA cannot be asked now", http.StatusServiceUnavailable)
		default:
			desk.Serve(w, r, ca, "/"+path)
		}
	}))
}

// directoryOf is where clients ask a CA.
func (srv *Server) directoryOf(ctx context.Context, name string) (string, error) {
	ca, err := srv.service.ACME(ctx, name)
	if err != nil {
		return "", err
	}
	return ca.Base + "/directory", nil
}

// ListCustomers lists the customers of a CA of one's own.
func (srv *Server) ListCustomers(ctx context.Context, r contract.ListCustomersRequestObject) (contract.ListCustomersResponseObject, error) {
	rows, err := srv.service.Customers(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	at, err := srv.directoryOf(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out := contract.ListCustomers200JSONResponse{Items: []contract.Customer{}, Directory: at}
	for _, v := range rows {
		out.Items = append(out.Items, contract.Customer{Name: v.Name, By: v.By, At: v.At.UTC(), Accounts: v.Accounts})
	}
	return out, nil
}

// AddCustomer makes a customer of a CA of one's own.
func (srv *Server) AddCustomer(ctx context.Context, r contract.AddCustomerRequestObject) (contract.AddCustomerResponseObject, error) {
	at, err := srv.directoryOf(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	mac, err := srv.service.AddCustomer(ctx, r.Name, r.Customer)
	if err != nil {
		return nil, err
	}
	return contract.AddCustomer200JSONResponse{KeyId: r.Customer, Mac: mac, Directory: at}, nil
}

// RemoveCustomer forgets a customer.
func (srv *Server) RemoveCustomer(ctx context.Context, r contract.RemoveCustomerRequestObject) (contract.RemoveCustomerResponseObject, error) {
	return contract.RemoveCustomer204Response{}, srv.service.RemoveCustomer(ctx, r.Name, r.Customer)
}
