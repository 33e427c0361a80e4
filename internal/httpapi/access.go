package httpapi

import (
	"context"
	"errors"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/safe"
	"insegna.example/internal/service"
)

// sessionCookie holds a session's secret. A script cannot read it, and no
// request another site causes carries it.
const sessionCookie = "insegna_session"

// origin is what a handler needs to know of the connection.
type origin struct {
	address string // without the port, for the throttle
	tls     bool   // the request came over TLS
}

// originKey keys the origin in a request's context.
type originKey struct{}

// originOf is where the request came from, as far as it is known.
func originOf(ctx context.Context) origin {
	o, _ := ctx.Value(originKey{}).(origin)
	return o
}

// allow finds out who asks and whether the operation is theirs.
func (srv *Server) allow(c *gin.Context, operation string) error {
	r := c.Request
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	ctx := context.WithValue(r.Context(), originKey{}, origin{host, r.TLS != nil})
	if service.Public(operation) { // also while the database does not answer
		c.Request = r.WithContext(ctx)
		return nil
	}
	var session, token string
	if cookie, err := r.Cookie(sessionCookie); err == nil {
		session = cookie.Value
	}
	if scheme, rest, ok := strings.Cut(r.Header.Get("Authorization"), " "); ok && strings.EqualFold(scheme, "Bearer") {
		token = strings.TrimSpace(rest)
	}
	if session != "" || token != "" {
		caller, err := srv.service.Authenticate(ctx, session, token)
		switch {
		case err == nil:
			ctx = service.WithCaller(ctx, caller)
		case !errors.Is(err, service.ErrNotFound):
			return err
		}
	}
	c.Request = r.WithContext(ctx)
	return service.Permit(ctx, operation)
}

// guard is for calls that are served beside the contract's generated ones.
func (srv *Server) guard(operation string, next gin.HandlerFunc) gin.HandlerFunc {
	return func(c *gin.Context) {
		if err := srv.allow(c, operation); err != nil {
			srv.handlerError(c, err)
			return
		}
		next(c)
	}
}

// cookie writes the session's cookie: not for scripts, for this site alone, and
// over TLS only where the service speaks it. An empty secret takes it away.
func cookie(ctx context.Context, secret string, until time.Time) *string {
	v := http.Cookie{Name: sessionCookie, Value: secret, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: originOf(ctx).tls, Expires: until}
	if secret == "" {
		v.MaxAge = -1
	}
	return ptr(v.String())
}

// signedInOf tells who is signed in, by session or token.
func signedInOf(c *service.Caller) contract.SignedIn {
	out := contract.SignedIn{Person: c.Person.Name, Role: contract.Role(c.Role), Keys: c.Person.Keys}
	if c.Token != nil {
		out.Token, out.ExpiresAt = &c.Token.Name, c.Token.ExpiresAt.UTC()
	} else {
		out.ExpiresAt = c.Session.ExpiresAt.UTC()
	}
	return out
}

// SignIn begins a session.
func (srv *Server) SignIn(ctx context.Context, r contract.SignInRequestObject) (contract.SignInResponseObject, error) {
	c, secret, err := srv.service.SignIn(ctx, r.Body.Name, safe.Secret(r.Body.Passphrase), originOf(ctx).address)
	if err != nil {
		return nil, err
	}
	return contract.SignIn201JSONResponse{Body: signedInOf(c),
		Headers: contract.SignIn201ResponseHeaders{SetCookie: cookie(ctx, secret, c.Session.ExpiresAt)}}, nil
}

// SetUp chooses a passphrase with a one-time link.
func (srv *Server) SetUp(ctx context.Context, r contract.SetUpRequestObject) (contract.SetUpResponseObject, error) {
	p, err := srv.service.SetUp(ctx, r.Body.Code, orZero(r.Body.Name), safe.Secret(r.Body.Passphrase),
		originOf(ctx).address)
	if err != nil {
		return nil, err
	}
	c, secret, err := srv.service.BeginSession(ctx, p, originOf(ctx).address)
	if err != nil {
		return nil, err
	}
	return contract.SetUp201JSONResponse{Body: signedInOf(c),
		Headers: contract.SetUp201ResponseHeaders{SetCookie: cookie(ctx, secret, c.Session.ExpiresAt)}}, nil
}

// GetSession says who is signed in.
func (srv *Server) GetSession(ctx context.Context,
	_ contract.GetSessionRequestObject) (contract.GetSessionResponseObject, error) {
	return contract.GetSession200JSONResponse(signedInOf(service.CallerOf(ctx))), nil
}

// SignOut ends the session.
func (srv *Server) SignOut(ctx context.Context,
	_ contract.SignOutRequestObject) (contract.SignOutResponseObject, error) {
	if err := srv.service.SignOut(ctx); err != nil {
		return nil, err
	}
	return contract.SignOut204Response{
		Headers: contract.SignOut204ResponseHeaders{SetCookie: cookie(ctx, "", time.Time{})}}, nil
}

// ChangePassphrase changes one's own.
func (srv *Server) ChangePassphrase(ctx context.Context,
	r contract.ChangePassphraseRequestObject) (contract.ChangePassphraseResponseObject, error) {
	err := srv.service.ChangePassphrase(ctx, safe.Secret(r.Body.Before), safe.Secret(r.Body.Next),
		originOf(ctx).address)
	return contract.ChangePassphrase204Response{}, err
}

// personOf says whether a passphrase was chosen, never which.
func personOf(p *service.Person) contract.Person {
	return contract.Person{Name: p.Name, Role: contract.Role(p.Role), AddedAt: p.AddedAt.UTC(), SetUp: p.Passphrase != "",
		Keys: p.Keys}
}

// ListPeople lists everybody.
func (srv *Server) ListPeople(ctx context.Context,
	_ contract.ListPeopleRequestObject) (contract.ListPeopleResponseObject, error) {
	list, err := srv.service.People(ctx)
	out := contract.ListPeople200JSONResponse{Items: make([]contract.Person, len(list))}
	for i := range list {
		out.Items[i] = personOf(&list[i])
	}
	return out, err
}

// AddPerson adds somebody.
func (srv *Server) AddPerson(ctx context.Context,
	r contract.AddPersonRequestObject) (contract.AddPersonResponseObject, error) {
	p, i, err := srv.service.AddPerson(ctx, r.Body.Name, service.Role(r.Body.Role))
	if err != nil {
		return nil, err
	}
	return contract.AddPerson201JSONResponse{Name: p.Name, Code: i.Code, ExpiresAt: i.ExpiresAt}, nil
}

// InvitePerson gives a new one-time link.
func (srv *Server) InvitePerson(ctx context.Context,
	r contract.InvitePersonRequestObject) (contract.InvitePersonResponseObject, error) {
	i, err := srv.service.InvitePerson(ctx, r.Person)
	return contract.InvitePerson201JSONResponse{Name: r.Person, Code: i.Code, ExpiresAt: i.ExpiresAt}, err
}

// ChangePerson gives somebody another role, or the permission to take private keys
// out.
func (srv *Server) ChangePerson(ctx context.Context,
	r contract.ChangePersonRequestObject) (contract.ChangePersonResponseObject, error) {
	var p *service.Person
	var err error
	if r.Body.Role != nil {
		p, err = srv.service.ChangePerson(ctx, r.Person, service.Role(*r.Body.Role))
	}
	if r.Body.Keys != nil && err == nil {
		p, err = srv.service.LetTakeKeys(ctx, r.Person, *r.Body.Keys)
	}
	switch {
	case err != nil:
		return nil, err
	case p == nil:
		return nil, &badRequestError{"nothing is changed; expected role or keys"}
	}
	return contract.ChangePerson200JSONResponse(personOf(p)), nil
}

// RemovePerson ends somebody's access.
func (srv *Server) RemovePerson(ctx context.Context,
	r contract.RemovePersonRequestObject) (contract.RemovePersonResponseObject, error) {
	return contract.RemovePerson204Response{}, srv.service.RemovePerson(ctx, r.Person)
}

// tokenOf tells a token without its secret, which is not stored.
func tokenOf(t *service.Token) contract.Token {
	out := contract.Token{Id: t.ID, Name: t.Name, Person: t.Person.Name, Scope: contract.Role(t.Scope),
		MadeAt: t.MadeAt.UTC(), ExpiresAt: t.ExpiresAt.UTC()}
	if t.UsedAt != nil {
		out.UsedAt = ptr(t.UsedAt.UTC())
	}
	return out
}

// ListTokens lists tokens without their secrets.
func (srv *Server) ListTokens(ctx context.Context,
	_ contract.ListTokensRequestObject) (contract.ListTokensResponseObject, error) {
	list, err := srv.service.Tokens(ctx)
	out := contract.ListTokens200JSONResponse{Items: make([]contract.Token, len(list))}
	for i := range list {
		out.Items[i] = tokenOf(&list[i])
	}
	return out, err
}

// MakeToken makes a token.
func (srv *Server) MakeToken(ctx context.Context,
	r contract.MakeTokenRequestObject) (contract.MakeTokenResponseObject, error) {
	t, secret, err := srv.service.MakeToken(ctx, r.Body.Name, service.Role(r.Body.Scope),
		time.Duration(r.Body.Days)*24*time.Hour)
	if err != nil {
		return nil, err
	}
	return contract.MakeToken201JSONResponse{Token: tokenOf(t), Secret: secret}, nil
}

// RevokeToken ends a token.
func (srv *Server) RevokeToken(ctx context.Context,
	r contract.RevokeTokenRequestObject) (contract.RevokeTokenResponseObject, error) {
	return contract.RevokeToken204Response{}, srv.service.RevokeToken(ctx, r.Id)
}
