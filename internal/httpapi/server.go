// Package httpapi serves the contract (api/openapi.yaml), the event stream and
// the embedded console with Gin.
//
// It is thin: every verb is in service. Requests are checked against the
// contract before a handler sees them; errors become problem documents in one
// place (problem.go).
package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"
	"github.com/klauspost/compress/gzip"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// Server answers HTTP for one service.
type Server struct {
	service *service.Service // does all the work
	log     *slog.Logger     // for what nobody is told
	console *console         // what is served beside the calls
	pair    *Pair            // nil without TLS
	places  chan struct{}    // one for each request that is worked on
	big     chan struct{}    // one for each of them that sends files
}

// Handler makes the whole HTTP interface; pair is nil on plain http.
func Handler(s *service.Service, pair *Pair, log *slog.Logger) (http.Handler, error) {
	page, err := newConsole()
	if err != nil {
		return nil, err
	}
	srv := &Server{service: s, log: log, console: page, pair: pair, places: make(chan struct{}, mostAtOnce),
		big: make(chan struct{}, mostBig)}
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
	e.Use(srv.recoverer, srv.logger, headers, srv.ownHost, srv.bounded)
	e.GET("/api/v1/surveys/:id/events", srv.guard("followSurvey", srv.followSurvey))
	e.GET("/api/v1/events", srv.guard("followEvents", srv.followEvents))
	e.GET("/api/v1/estate/schema", srv.schema)
	g := e.Group(apiBase, tagged, validate)
	options := contract.StrictGinServerOptions{
		RequestErrorHandlerFunc:  func(c *gin.Context, err error) { write(c, unreadable(err)) },
		HandlerErrorFunc:         srv.handlerError,
		ResponseErrorHandlerFunc: srv.handlerError,
	}
	contract.RegisterHandlersWithOptions(g, contract.NewStrictHandlerWithOptions(srv,
		[]contract.StrictMiddlewareFunc{ofTheirOwn}, options),
		contract.GinServerOptions{
			ErrorHandler: func(c *gin.Context, err error, _ int) { write(c, problemOf(&badRequestError{err.Error()})) },
		})
	published(e, s)
	e.NoRoute(srv.noRoute)
	e.NoMethod(func(c *gin.Context) { write(c, methodProblem(c.Request.Method)) })
	from := http.NewCrossOriginProtection()
	from.SetDenyHandler(http.HandlerFunc(refuseForeign))
	squeeze, err := gzhttp.NewWrapper(gzhttp.MinSize(1024), gzhttp.CompressionLevel(gzip.BestSpeed), gzhttp.ContentTypes([]string{"application/json",
		"application/problem+json", "application/schema+json"}))
	if err != nil {
		return nil, err
	}
	whole := from.Handler(e)
	squeezed := squeeze(whole)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if isStream(r.URL.Path) {
			whole.ServeHTTP(w, r)
			return
		}
		squeezed.ServeHTTP(w, r)
	}), nil
}

// isStream says whether an answer comes bit by bit.
func isStream(path string) bool { return strings.HasSuffix(path, "/events") }

// refuseForeign refuses what a page of another site asked for.
func refuseForeign(w http.ResponseWriter, _ *http.Request) {
	body, err := json.Marshal(problem(http.StatusForbidden, "Not from another site",
		"a page of another site asked for this", "open the console, or use the command line with a token"))
	if err != nil {
		body = nil
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusForbidden)
	_, _ = w.Write(body)
}

// noRoute answers calls there are none of with a problem, and everything else
// with the console.
func (srv *Server) noRoute(c *gin.Context) {
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		write(c, notFoundProblem("no such call: "+c.Request.URL.Path))
		return
	}
	status := http.StatusOK
	if !srv.console.has(c.Request.URL.Path) {
		if status = http.StatusNotFound; !byPerson(c) {
			write(c, notFoundProblem("no such page or call: "+c.Request.URL.Path))
			return
		}
	}
	srv.console.serve(c, status)
}

// forPrograms are paths nobody goes to with a browser.
var forPrograms = map[string]bool{"/metrics": true, "/healthz": true}

// byPerson says whether a path is asked for by a browser, which shows the console's
// own page for places there are none of.
func byPerson(c *gin.Context) bool {
	return strings.Contains(c.GetHeader("Accept"), "text/html") && !forPrograms[c.Request.URL.Path]
}

// validator checks each request against the contract.
func (srv *Server) validator() (gin.HandlerFunc, error) {
	spec, err := contract.GetSpec()
	if err != nil {
		return nil, err
	}
	// Requests use nothing that OpenAPI 3.0 does not know. As 3.1 the library would compile
	// the schema of every parameter anew for every request.
	spec.OpenAPI = "3.0.4"
	routes := routesOf(spec)
	options := &openapi3filter.Options{MultiError: true, KeepValidatedValue: true,
		AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}
	fileOptions := *options
	fileOptions.ExcludeRequestBody = true // what may be large is read once, by its handler
	return func(c *gin.Context) {
		route := routes[c.Request.Method+" "+c.FullPath()]
		if route == nil {
			abort(c, notFoundProblem("no such call: "+c.Request.URL.Path))
			return
		}
		params := make(map[string]string, len(c.Params))
		for _, p := range c.Params {
			params[p.Key] = p.Value
		}
		operation := contractID(route.Operation.OperationID)
		if err := srv.allow(c, operation); err != nil {
			srv.handlerError(c, err)
			c.Abort()
			return
		}
		done, ok := srv.limited(c, operation, params)
		defer done()
		if !ok {
			return
		}
		options := options
		if withFiles[operation] {
			options = &fileOptions
		}
		err := openapi3filter.ValidateRequest(c.Request.Context(),
			&openapi3filter.RequestValidationInput{Request: c.Request, PathParams: params, Route: route, Options: options})
		if err != nil {
			abort(c, validationProblem(err))
			return
		}
		c.Next()
	}, nil
}

// apiBase is the path every call begins with.
const apiBase = "/api/v1"

// routesOf finds the operation of a call by its method and its path as the router has
// matched it.
func routesOf(spec *openapi3.T) map[string]*routers.Route {
	out := map[string]*routers.Route{}
	as := strings.NewReplacer("{", ":", "}", "")
	for path, item := range spec.Paths.Map() {
		for method, operation := range item.Operations() {
			out[method+" "+apiBase+as.Replace(path)] = &routers.Route{Spec: spec, Path: path, PathItem: item, Method: method, Operation: operation}
		}
	}
	return out
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
	if loopback(host) || strings.HasPrefix(c.Request.URL.Path, "/pki/") || srv.pair != nil && srv.pair.Covers(host) {
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

// spoken is a path for the log: the address of a calendar is a secret.
func spoken(path string) string {
	const calendar = "/api/v1/calendar/"
	if strings.HasPrefix(path, calendar) {
		return calendar + "..."
	}
	return path
}

// logger logs path and status, never a query or a body, which may hold secrets.
func (srv *Server) logger(c *gin.Context) {
	began := time.Now()
	c.Next()
	srv.log.LogAttrs(c.Request.Context(), slog.LevelDebug, "request", slog.String("method", c.Request.Method),
		slog.String("path", spoken(c.Request.URL.Path)),
		slog.Int("status", c.Writer.Status()), slog.Duration("took", time.Since(began)))
}

// recoverer turns a panic into a problem and a line in the log.
func (srv *Server) recoverer(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			srv.log.Error("a request ended in a panic", "path", spoken(c.Request.URL.Path), "panic", fmt.Sprint(r))
			abort(c, internalProblem())
		}
	}()
	c.Next()
}

// handlerError asks an error how it is told.
func (srv *Server) handlerError(c *gin.Context, err error) {
	p := problemOf(err)
	if errors.Is(err, service.ErrNotFound) {
		p = missingProblem(c.FullPath(), c.Param)
	}
	var throttled *service.ThrottledError
	switch {
	case errors.As(err, &throttled):
		c.Header("Retry-After", strconv.Itoa(int(throttled.Wait/time.Second)+1))
	case p.Status == http.StatusServiceUnavailable:
		c.Header("Retry-After", "2")
	}
	if p.Status >= http.StatusInternalServerError && fault.Of(err) == nil { // what is shed is no fault
		srv.log.Error("a request failed", "path", spoken(c.Request.URL.Path), "error", err)
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
