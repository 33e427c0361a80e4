// Package httpapi serves the contract (api/openapi.yaml), the event stream and
// the embedded console with Gin.
//
// It is thin: every verb is in service. Requests are checked against the
// contract before a handler sees them; errors become problem documents in one
// place (problem.go).
package httpapi

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"syscall"
	"time"

	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/gin-gonic/gin"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// bodyLimit is the most a request may hold: an estate file with attachments.
const bodyLimit = 32 << 20

// Server answers HTTP for one service.
type Server struct {
	service *service.Service
	log     *slog.Logger
	console *console
}

// Handler makes the whole HTTP interface.
func Handler(s *service.Service, log *slog.Logger) (http.Handler, error) {
	page, err := newConsole()
	if err != nil {
		return nil, err
	}
	srv := &Server{s, log, page}
	validate, err := srv.validator()
	if err != nil {
		return nil, err
	}
	gin.SetMode(gin.ReleaseMode)
	e := gin.New()
	if err := e.SetTrustedProxies(nil); err != nil {
		return nil, err
	}
	e.HandleMethodNotAllowed = true
	e.Use(srv.recoverer, srv.logger, headers, localOnly)
	e.GET("/api/v1/surveys/:id/events", srv.followSurvey)
	e.GET("/api/v1/estate/schema", srv.schema)
	g := e.Group("/api/v1", validate)
	options := contract.StrictGinServerOptions{
		RequestErrorHandlerFunc:  func(c *gin.Context, err error) { write(c, problemOf(&badRequestError{err.Error()})) },
		HandlerErrorFunc:         srv.handlerError,
		ResponseErrorHandlerFunc: srv.handlerError,
	}
	contract.RegisterHandlersWithOptions(g, contract.NewStrictHandlerWithOptions(srv, nil, options), contract.GinServerOptions{
		ErrorHandler: func(c *gin.Context, err error, _ int) { write(c, problemOf(&badRequestError{err.Error()})) },
	})
	e.NoRoute(srv.noRoute)
	e.NoMethod(func(c *gin.Context) { write(c, methodProblem(c.Request.Method)) })
	return http.NewCrossOriginProtection().Handler(e), nil
}

func (srv *Server) noRoute(c *gin.Context) {
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		write(c, notFoundProblem("no such call: "+c.Request.URL.Path))
		return
	}
	srv.console.serve(c)
}

// validator checks each request against the contract.
func (srv *Server) validator() (gin.HandlerFunc, error) {
	spec, err := contract.GetSpec()
	if err != nil {
		return nil, err
	}
	router, err := gorillamux.NewRouter(spec)
	if err != nil {
		return nil, err
	}
	options := &openapi3filter.Options{MultiError: true, KeepValidatedValue: true, AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}
	return func(c *gin.Context) {
		c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, bodyLimit)
		route, params, err := router.FindRoute(c.Request)
		if errors.Is(err, routers.ErrMethodNotAllowed) {
			abort(c, methodProblem(c.Request.Method))
			return
		} else if err != nil {
			abort(c, notFoundProblem("no such call: "+c.Request.URL.Path))
			return
		}
		err = openapi3filter.ValidateRequest(c.Request.Context(), &openapi3filter.RequestValidationInput{Request: c.Request, PathParams: params, Route: route, Options: options})
		if err != nil {
			abort(c, validationProblem(err))
			return
		}
		c.Next()
	}, nil
}

// headers are the same on every answer.
func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	c.Next()
}

// localOnly refuses requests that name another host than this machine: with
// nobody signed in, a page elsewhere must not reach the service by pointing
// its own name at loopback.
func localOnly(c *gin.Context) {
	host := c.Request.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	addr, err := netip.ParseAddr(strings.Trim(host, "[]"))
	if host == "localhost" || err == nil && addr.IsLoopback() {
		c.Next()
		return
	}
	abort(c, contract.Problem{Status: http.StatusMisdirectedRequest, Title: "Not for this host",
		Detail: ptr("the service answers to localhost and loopback addresses only"), Next: ptr("open it as http://127.0.0.1 with its port")})
}

func (srv *Server) logger(c *gin.Context) {
	began := time.Now()
	c.Next()
	srv.log.LogAttrs(c.Request.Context(), slog.LevelDebug, "request", slog.String("method", c.Request.Method), slog.String("path", c.Request.URL.Path),
		slog.Int("status", c.Writer.Status()), slog.Duration("took", time.Since(began)))
}

func (srv *Server) recoverer(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			srv.log.Error("a request ended in a panic", "path", c.Request.URL.Path, "panic", fmt.Sprint(r))
			abort(c, internalProblem())
		}
	}()
	c.Next()
}

func (srv *Server) handlerError(c *gin.Context, err error) {
	p := problemOf(err)
	if p.Status == http.StatusInternalServerError {
		srv.log.Error("a request failed", "path", c.Request.URL.Path, "error", err)
	}
	write(c, p)
}

func (srv *Server) schema(c *gin.Context) {
	c.Data(http.StatusOK, "application/schema+json", estate.Schema)
}

// ListenError says why the service cannot listen.
type ListenError struct {
	Address string
	Err     error
}

func (e *ListenError) Error() string {
	if errors.Is(e.Err, syscall.EADDRINUSE) {
		return fmt.Sprintf("the address %s is in use by another program; stop that one, or choose another with --listen", e.Address)
	}
	return fmt.Sprintf("cannot listen at %s: %s; expected a loopback address and a free port, such as 127.0.0.1:7420", e.Address, e.Err)
}

func (e *ListenError) Unwrap() error { return e.Err }

// Listen opens the service's port; only loopback is allowed, since nobody
// signs in yet.
func Listen(address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, &ListenError{address, errors.New("no host and port")}
	}
	if ip, err := netip.ParseAddr(host); host != "localhost" && (err != nil || !ip.IsLoopback()) {
		return nil, &ListenError{address, errors.New("not a loopback address")}
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, &ListenError{address, err}
	}
	return l, nil
}

// Serve answers until the context ends, then lets running requests finish.
func Serve(ctx context.Context, l net.Listener, h http.Handler) error {
	base, cancel := context.WithCancel(context.Background())
	defer cancel()
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10, BaseContext: func(net.Listener) context.Context { return base }}
	done := make(chan error, 1)
	go func() { done <- server.Serve(l) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	cancel() // ends event streams
	stop, cancelStop := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancelStop()
	return server.Shutdown(stop)
}
