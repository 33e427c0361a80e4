package look

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"syscall"
)

// Bounds of one request.
const (
	headerLimit = 64 << 10
	bodyLimit   = 64 << 10 // read and let go, so that the other side is done
)

// Answer is what one request was answered with.
type Answer struct {
	Status   int    // of HTTP
	Location string // as sent
	Server   string // header, made harmless
	HSTS     string // header Strict-Transport-Security (RFC 6797)
}

// ErrNobody says that nothing listens there.
var ErrNobody = errors.New("nothing listens there")

// Ask sends one GET for a host to an endpoint, without following redirects and
// without judging the certificate, with the same TLS offer as a look. The scheme is "http" or "https", target a
// path with its query.
func (l *Looker) Ask(ctx context.Context, endpoint netip.AddrPort, scheme, host, target string) (*Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, l.ConnectTimeout+l.HandshakeTimeout)
	defer cancel()
	dialer := &net.Dialer{Timeout: l.ConnectTimeout}
	transport := &http.Transport{DisableKeepAlives: true, MaxResponseHeaderBytes: headerLimit,
		TLSHandshakeTimeout: l.HandshakeTimeout, TLSClientConfig: config(host), ForceAttemptHTTP2: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return dialer.DialContext(ctx, "tcp", endpoint.String())
		}}
	defer transport.CloseIdleConnections()
	at := url.URL{Scheme: scheme, Host: host}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String()+target, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "insegna")
	resp, err := transport.RoundTrip(req)
	if errors.Is(err, syscall.ECONNREFUSED) {
		return nil, ErrNobody
	} else if err != nil {
		return nil, err
	}
	defer func() { _ = resp.Body.Close() }()
	_, _ = io.CopyN(io.Discard, resp.Body, bodyLimit)
	return &Answer{resp.StatusCode, resp.Header.Get("Location"), resp.Header.Get("Server"),
		resp.Header.Get("Strict-Transport-Security")}, nil
}
