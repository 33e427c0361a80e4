package httpapi

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"html/template"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	_ "embed"

	"github.com/gin-gonic/gin"

	"insegna.example/internal/core/authority"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// authorityOf shows a CA of one's own.
func authorityOf(name string, list []service.AuthorityView) contract.Authority {
	out := contract.Authority{Name: name, Certificates: []contract.AuthorityCertificate{}}
	for _, a := range list {
		c := a.Parsed
		out.Certificates = append(out.Certificates, contract.AuthorityCertificate{Number: a.ID, Role: contract.AuthorityCertificateRole(a.Role),
			Subject: c.CommonName(), NotBefore: c.NotBefore.UTC(), NotAfter: c.NotAfter.UTC(), Sha256: c.Fingerprint.String(), Key: c.Key().String(),
			KeyKept: a.Encrypted != nil, Pem: string(certs.PEM(c.Raw)), MadeBy: a.MadeBy, MadeAt: a.MadeAt.UTC(), RetiredAt: inUTC(a.RetiredAt)})
	}
	return out
}

// GetAuthority gives the certificates of a CA of one's own.
func (srv *Server) GetAuthority(ctx context.Context, r contract.GetAuthorityRequestObject) (contract.GetAuthorityResponseObject, error) {
	if _, err := srv.service.Roots(ctx, r.Name); err != nil {
		return nil, err
	}
	list, err := srv.service.Authorities(ctx, r.Name)
	return contract.GetAuthority200JSONResponse(authorityOf(r.Name, list)), err
}

// days is a number of days, 0 where none is given.
func days(n *int) time.Duration { return time.Duration(orZero(n)) * 24 * time.Hour }

// MakeAuthority makes a CA of one's own.
func (srv *Server) MakeAuthority(ctx context.Context, r contract.MakeAuthorityRequestObject) (contract.MakeAuthorityResponseObject, error) {
	b := r.Body
	list, key, err := srv.service.MakeCA(ctx, &service.MakeCA{Name: r.Name, Organization: orZero(b.Organization), Country: orZero(b.Country),
		Key: string(orZero(b.Key)), RootLife: days(b.RootDays), IssuingLife: days(b.IssuingDays), Permitted: orZero(b.Permitted),
		Passphrase: secretOf(b.RootPassphrase)})
	if err != nil {
		return nil, err
	}
	out := contract.MakeAuthority201JSONResponse{Authority: authorityOf(r.Name, list)}
	if key != nil {
		out.RootKey = ptr(string(key))
	}
	return out, nil
}

// GetRolling tells how a CA of one's own stands between two roots.
func (srv *Server) GetRolling(ctx context.Context, r contract.GetRollingRequestObject) (contract.GetRollingResponseObject, error) {
	v, err := srv.service.Rolling(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out := contract.GetRolling200JSONResponse{Root: v.Root.CommonName(), RootEnds: ptr(v.Root.NotAfter.UTC()), Vouched: v.Vouched, Issued: v.Now, IssuedBefore: v.Old,
		Waiting: list(v.Waiting), Moved: list(v.Moved)}
	if v.Former != nil {
		out.Former = ptr(v.Former.CommonName())
	}
	if v.Old > 0 {
		out.LastEnds = ptr(v.Ends.UTC())
	}
	return out, nil
}

// RollAuthority gives a CA of one's own a new root.
func (srv *Server) RollAuthority(ctx context.Context, r contract.RollAuthorityRequestObject) (contract.RollAuthorityResponseObject, error) {
	b := r.Body
	given := &service.TakeIn{Files: filesOf(orZero(b.Files)), Passphrase: secretOf(b.Passphrase)}
	all, key, err := srv.service.Roll(ctx, &service.MakeCA{Name: r.Name, Key: string(orZero(b.Key)), Passphrase: secretOf(b.RootPassphrase)}, given)
	if err != nil {
		return nil, err
	}
	out := contract.RollAuthority201JSONResponse{Authority: authorityOf(r.Name, all)}
	if key != nil {
		out.RootKey = ptr(string(key))
	}
	return out, nil
}

// EndRolling ends that a former root vouches for the one in force.
func (srv *Server) EndRolling(ctx context.Context, r contract.EndRollingRequestObject) (contract.EndRollingResponseObject, error) {
	all, err := srv.service.EndRolling(ctx, r.Name, orZero(r.Params.Agreed))
	if err != nil {
		return nil, err
	}
	return contract.EndRolling200JSONResponse(authorityOf(r.Name, all)), nil
}

// TakeAuthority takes an existing CA in.
func (srv *Server) TakeAuthority(ctx context.Context, r contract.TakeAuthorityRequestObject) (contract.TakeAuthorityResponseObject, error) {
	b := r.Body
	list, err := srv.service.TakeCA(ctx, r.Name, &service.TakeIn{Files: filesOf(b.Files), Passphrase: secretOf(b.Passphrase), Which: orZero(b.Certificate)})
	if err != nil {
		return nil, err
	}
	return contract.TakeAuthority201JSONResponse(authorityOf(r.Name, list)), nil
}

// ListIssued lists what a CA of one's own has issued.
func (srv *Server) ListIssued(ctx context.Context, r contract.ListIssuedRequestObject) (contract.ListIssuedResponseObject, error) {
	p := pageOf[string](nil, "-at", r.Params.Cursor, r.Params.Limit)
	if p.Cursor != "" {
		text, err := base64.RawURLEncoding.DecodeString(p.Cursor)
		if err != nil {
			return nil, service.ErrCursor
		}
		p.Cursor = string(text)
	}
	rows, next, err := srv.service.IssuedBy(ctx, r.Name, p)
	if err != nil {
		return nil, err
	}
	out := contract.ListIssued200JSONResponse{Items: make([]contract.IssuedByAuthority, len(rows))}
	for i, v := range rows {
		out.Items[i] = contract.IssuedByAuthority{Serial: hex.EncodeToString(v.Serial), Names: list(v.Names), Profile: v.Profile, NotAfter: v.NotAfter.UTC(),
			By: v.By, At: v.At.UTC(), Order: v.OrderID, RevokedAt: inUTC(v.RevokedAt)}
		if v.RevokedAt != nil {
			for word, code := range authority.Reasons {
				if code == v.Reason {
					out.Items[i].Reason = ptr(word)
				}
			}
		}
	}
	if next != nil {
		out.NextCursor = ptr(base64.RawURLEncoding.EncodeToString([]byte(*next)))
	}
	return out, nil
}

// SignRequest issues from a request somebody gave.
func (srv *Server) SignRequest(ctx context.Context, r contract.SignRequestRequestObject) (contract.SignRequestResponseObject, error) {
	c, chain, err := srv.service.SignFor(ctx, r.Name, []byte(r.Body.Request), orZero(r.Body.Profile))
	if err != nil {
		return nil, err
	}
	text := certs.PEM(c.Raw)
	for _, above := range chain {
		text = append(text, certs.PEM(above.Raw)...)
	}
	return contract.SignRequest201JSONResponse{Serial: hex.EncodeToString(c.SerialNumber.Bytes()), NotAfter: c.NotAfter.UTC(), Pem: string(text)}, nil
}

// RevokeIssued revokes a certificate.
func (srv *Server) RevokeIssued(ctx context.Context, r contract.RevokeIssuedRequestObject) (contract.RevokeIssuedResponseObject, error) {
	reason := string(orZero(r.Body.Reason))
	if reason == "" {
		reason = "unspecified"
	}
	return contract.RevokeIssued204Response{}, srv.service.RevokeIssued(ctx, r.Name, r.Body.Serial, reason)
}

// published serves what a CA of one's own publishes to everybody: roots with how to
// trust them, issuers, revocation lists and OCSP answers (RFC 5280, RFC 6960, RFC 5019).
func published(e *gin.Engine, s *service.Service) {
	g := e.Group("/pki/:ca")
	g.GET("/", func(c *gin.Context) { trustPage(c, s) })
	g.GET("/root.pem", func(c *gin.Context) {
		give(c, "application/x-pem-file", func() (out []byte, err error) {
			roots, err := s.Roots(c.Request.Context(), c.Param("ca"))
			for _, r := range roots {
				out = append(out, certs.PEM(r.Raw)...)
			}
			return out, err
		})
	})
	g.GET("/root.der", func(c *gin.Context) {
		give(c, "application/pkix-cert", func() ([]byte, error) {
			roots, err := s.Roots(c.Request.Context(), c.Param("ca"))
			if err != nil {
				return nil, err
			}
			return roots[0].Raw, nil
		})
	})
	number := func(c *gin.Context) int64 {
		id, err := strconv.ParseInt(c.Param("number"), 10, 64)
		if err != nil {
			return 0
		}
		return id
	}
	g.GET("/:number/issuer.der", func(c *gin.Context) {
		give(c, "application/pkix-cert", func() ([]byte, error) { return s.IssuerOf(c.Request.Context(), c.Param("ca"), number(c)) })
	})
	g.GET("/:number/list.crl", func(c *gin.Context) {
		give(c, "application/pkix-crl", func() ([]byte, error) { return s.RevocationList(c.Request.Context(), c.Param("ca"), number(c)) })
	})
	answer := func(c *gin.Context, request []byte) {
		give(c, "application/ocsp-response", func() ([]byte, error) { return s.AnswerOCSP(c.Request.Context(), c.Param("ca"), number(c), request) })
	}
	g.POST("/:number/ocsp", func(c *gin.Context) {
		const most = 8 << 10
		request, err := io.ReadAll(io.LimitReader(c.Request.Body, most))
		if err != nil {
			request = nil
		}
		answer(c, request)
	})
	g.GET("/:number/ocsp/*request", func(c *gin.Context) { // RFC 5019 section 5: base64 in the path
		text, err := url.PathUnescape(strings.TrimPrefix(c.Param("request"), "/"))
		request, wrong := base64.StdEncoding.DecodeString(text)
		if err != nil || wrong != nil {
			request = nil
		}
		answer(c, request)
	})
}

// plain is what a CA of one's own publishes, for the plain listener: clients ask for
// revocation without TLS, which would want revocation asked first.
func plain(s *service.Service) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	e := gin.New()
	e.ContextWithFallback = true
	e.Use(gin.Recovery())
	published(e, s)
	return e
}

// give answers with what is published, or says that there is none.
func give(c *gin.Context, kind string, get func() ([]byte, error)) {
	data, err := get()
	var unknown *service.UnknownError
	switch {
	case errors.Is(err, service.ErrNotFound), errors.As(err, &unknown):
		write(c, notFoundProblem("no CA publishes this: "+c.Request.URL.Path))
	case err != nil:
		_ = c.Error(err)
		write(c, problem(http.StatusServiceUnavailable, "Not now", "this cannot be published now", "try again later"))
	default:
		c.Header("Cache-Control", "public, max-age=300")
		c.Data(http.StatusOK, kind, data)
	}
}

//go:embed trust.html
var trustText string

// trustTemplate tells how to trust a root.
var trustTemplate = template.Must(template.New("trust").Parse(trustText))

// trustPage tells people how their machines come to trust a root.
func trustPage(c *gin.Context, s *service.Service) {
	name := c.Param("ca")
	roots, err := s.Roots(c.Request.Context(), name)
	if err != nil {
		write(c, notFoundProblem("no CA publishes this: "+c.Request.URL.Path))
		return
	}
	root := roots[0]
	c.Header("Content-Type", "text/html; charset=utf-8")
	c.Header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	if err := trustTemplate.Execute(c.Writer, map[string]any{"Name": name, "Root": root.CommonName(), "Until": root.NotAfter.UTC().Format("2 January 2006"),
		"Print": strings.ToUpper(spaced(root.Fingerprint.String())), "Base": base(c) + "/pki/" + url.PathEscape(name), "More": len(roots) - 1}); err != nil {
		_ = c.Error(err)
	}
}

// base is how the service was reached.
func base(c *gin.Context) string {
	if c.Request.TLS != nil {
		return "https://" + c.Request.Host
	}
	return "http://" + c.Request.Host
}

// spaced parts a fingerprint into bytes.
func spaced(hex string) string {
	var parts []string
	for ; len(hex) >= 2; hex = hex[2:] {
		parts = append(parts, hex[:2])
	}
	return strings.Join(parts, ":")
}
