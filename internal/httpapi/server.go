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
	"strconv"
	"strings"
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
	service *service.Service // does all the work
	log     *slog.Logger     // for what nobody is told
	console *console         // what is served beside the calls
	pair    *Pair            // nil without TLS
}

// Handler makes the whole HTTP interface; pair is nil on plain http.
func Handler(s *service.Service, pair *Pair, log *slog.Logger) (http.Handler, error) {
	page, err := newConsole()
	if err != nil {
		return nil, err
	}
	srv := &Server{s, log, page, pair}
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
	e.ContextWithFallback = true // handlers see the caller, and the end of the request
	e.Use(srv.recoverer, srv.logger, headers, srv.ownHost)
	e.GET("/api/v1/surveys/:id/events", srv.guard("followSurvey", srv.followSurvey))
	e.GET("/api/v1/events", srv.guard("followEvents", srv.followEvents))
	e.GET("/api/v1/estate/schema", srv.schema)
	g := e.Group("/api/v1", validate)
	options := contract.StrictGinServerOptions{
		RequestErrorHandlerFunc:  func(c *gin.Context, err error) { write(c, problemOf(&badRequestError{err.Error()})) },
		HandlerErrorFunc:         srv.handlerError,
		ResponseErrorHandlerFunc: srv.handlerError,
	}
	contract.RegisterHandlersWithOptions(g, contract.NewStrictHandlerWithOptions(srv, nil, options),
		contract.GinServerOptions{
			ErrorHandler: func(c *gin.Context, err error, _ int) { write(c, problemOf(&badRequestError{err.Error()})) },
		})
	e.NoRoute(srv.noRoute)
	e.NoMethod(func(c *gin.Context) { write(c, methodProblem(c.Request.Method)) })
	return http.NewCrossOriginProtection().Handler(e), nil
}

// noRoute answers calls there are none of with a problem, and everything else
// with the console.
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
	options := &openapi3filter.Options{MultiError: true, KeepValidatedValue: true,
		AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}
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
		if err := srv.allow(c, contractID(route.Operation.OperationID)); err != nil {
			srv.handlerError(c, err)
			c.Abort()
			return
		}
		err = openapi3filter.ValidateRequest(c.Request.Context(),
			&openapi3filter.RequestValidationInput{Request: c.Request, PathParams: params, Route: route, Options: options})
		if err != nil {
			abort(c, validationProblem(err))
			return
		}
		c.Next()
	}, nil
}

// contractID is an operation's id as the contract writes it: the generator
// begins it with a capital.
func contractID(id string) string { return strings.ToLower(id[:1]) + id[1:] }

// headers are the same on every answer.
func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
	if c.Request.TLS != nil {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	c.Next()
}

// ownHost refuses requests that name another host than this one: a page
// elsewhere must not reach the service by pointing its own name here.
func (srv *Server) ownHost(c *gin.Context) {
	host := c.Request.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	if loopback(host) || srv.pair != nil && srv.pair.Covers(host) {
		c.Next()
		return
	}
	p := problem(http.StatusMisdirectedRequest, "Not for this host",
		"the service answers to localhost and loopback addresses only", "open it as http://127.0.0.1 with its port")
	if srv.pair != nil {
		p = problem(http.StatusMisdirectedRequest, "Not for this host",
			"the service answers to the names in its certificate, and to loopback",
			"open it under one of these names, or give it a certificate for this one with --tls-certificate")
	}
	abort(c, p)
}

// logger logs path and status, never a query or a body, which may hold secrets.
func (srv *Server) logger(c *gin.Context) {
	began := time.Now()
	c.Next()
	srv.log.LogAttrs(c.Request.Context(), slog.LevelDebug, "request", slog.String("method", c.Request.Method),
		slog.String("path", c.Request.URL.Path),
		slog.Int("status", c.Writer.Status()), slog.Duration("took", time.Since(began)))
}

// recoverer turns a panic into a problem and a line in the log.
func (srv *Server) recoverer(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			srv.log.Error("a request ended in a panic", "path", c.Request.URL.Path, "panic", fmt.Sprint(r))
			abort(c, internalProblem())
		}
	}()
	c.Next()
}

// handlerError asks an error how it is told.
func (srv *Server) handlerError(c *gin.Context, err error) {
	p := problemOf(err)
	var throttled *service.ThrottledError
	if errors.As(err, &throttled) {
		c.Header("Retry-After", strconv.Itoa(int(throttled.Wait/time.Second)+1))
	}
	if p.Status == http.StatusInternalServerError {
		srv.log.Error("a request failed", "path", c.Request.URL.Path, "error", err)
	}
	write(c, p)
}

// schema gives the schema of estate files, with the kinds this program knows.
func (srv *Server) schema(c *gin.Context) {
	c.Data(http.StatusOK, "application/schema+json", estate.Schema(srv.service.Kinds().Declared()))
}

// Serve answers until the context ends, then lets running requests finish.
func Serve(ctx context.Context, l net.Listener, h http.Handler) error {
	base, cancel := context.WithCancel(context.Background())
	defer cancel()
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		IdleTimeout:    2 * time.Minute,
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
