package httpapi

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"insegna.example/internal/httpapi/contract"
)

// Bounds of a request's body, in bytes: of most calls, and of those that send
// files.
const (
	bodyLimit = 64 << 10
	fileLimit = 64 << 20
)

// withFiles are the calls that send files.
var withFiles = map[string]bool{"previewEstate": true, "applyEstate": true, "draftEstate": true, "takeCertificate": true, "takeReply": true, "takeAuthority": true, "rollAuthority": true}

// limitOf is how much a call may send.
func limitOf(operation string) int64 {
	if withFiles[operation] {
		return fileLimit
	}
	return bodyLimit
}

// Deadlines of requests: of most calls, and of those that wait for others.
const (
	deadline     = 30 * time.Second
	longDeadline = 5 * time.Minute
)

// takesLong are the calls that wait for servers, CAs or name servers, or handle
// large files.
var takesLong = map[string]bool{"previewEstate": true, "applyEstate": true, "draftEstate": true, "exportEstate": true, "getReport": true, "changeHost": true, "addHost": true, "removeHost": true, "checkMandate": true, "visitMandate": true,
	"agreeToTerms": true, "listCas": true, "previewInstallation": true, "previewMending": true, "previewWave": true, "beginOrder": true,
	"verifyJournal": true,
	"renewSafeKey":  true, "getHostKey": true, "trustHostKey": true, "continueHttps": true, "beginHttps": true}

// deadlineOf is when a call has to be answered.
func deadlineOf(operation string) time.Duration {
	if takesLong[operation] {
		return longDeadline
	}
	return deadline
}

// Bounds of what is done at once: more than that is refused after a short wait
// rather than queued.
const (
	mostAtOnce = 64
	mostBig    = 2 // with files
	shedAfter  = 250 * time.Millisecond
)

// busyProblem is told with when to come again.
func busyProblem() contract.Problem {
	return problem(http.StatusServiceUnavailable, "Busy", "too much is asked of the service at once",
		"try again in a moment")
}

// enter takes one of a number of places, or gives up after a moment.
func enter(ctx context.Context, places chan struct{}) bool {
	select {
	case places <- struct{}{}:
		return true
	default:
	}
	t := time.NewTimer(shedAfter)
	defer t.Stop()
	select {
	case places <- struct{}{}:
		return true
	case <-t.C:
	case <-ctx.Done():
	}
	return false
}

// bounded lets so many requests in at once, and refuses the others with when to
// come again. Streams and signs of life are let in.
func (srv *Server) bounded(c *gin.Context) {
	switch path := c.Request.URL.Path; {
	case !strings.HasPrefix(path, "/api/"), isStream(path), path == "/api/v1/health":
		c.Next()
		return
	}
	if !enter(c.Request.Context(), srv.places) {
		c.Header("Retry-After", "1")
		abort(c, busyProblem())
		return
	}
	defer func() { <-srv.places }()
	c.Next()
}

// limited bounds a call in time and in what it sends, and refuses text that is
// none: broken UTF-8, or NUL, which the records cannot hold. false when it was
// answered.
func (srv *Server) limited(c *gin.Context, operation string, params map[string]string) (done func(), ok bool) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), deadlineOf(operation))
	c.Request = c.Request.WithContext(ctx)
	limit := limitOf(operation)
	if p := badText(c.Request.URL, params); p != nil {
		abort(c, *p)
		return cancel, false
	}
	if c.Request.Body == nil || c.Request.Body == http.NoBody {
		return cancel, true
	}
	if c.Request.ContentLength > limit {
		abort(c, largeProblem(limit))
		return cancel, false
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, limit)
	if withFiles[operation] {
		if !enter(ctx, srv.big) {
			c.Header("Retry-After", "1")
			abort(c, busyProblem())
			return cancel, false
		}
		return func() { <-srv.big; cancel() }, true
	}
	body, err := io.ReadAll(c.Request.Body)
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		abort(c, largeProblem(limit))
		return cancel, false
	case err != nil:
		abort(c, problemOf(&badRequestError{"the request broke off"}))
		return cancel, false
	case !utf8.Valid(body), hasNUL(body):
		abort(c, textProblem("the body"))
		return cancel, false
	}
	c.Request.Body = io.NopCloser(bytes.NewReader(body))
	return cancel, true
}

// hasNUL says whether a string of a JSON document holds a NUL.
func hasNUL(body []byte) bool {
	if !bytes.Contains(body, []byte(`\u0000`)) {
		return bytes.IndexByte(body, 0) >= 0
	}
	d := json.NewDecoder(bytes.NewReader(body))
	for {
		t, err := d.Token()
		if err != nil {
			return false // what is no JSON is refused as such
		}
		if s, ok := t.(string); ok && strings.ContainsRune(s, 0) {
			return true
		}
	}
}

// badText finds what is no text in an address; nil when all of it is.
func badText(u *url.URL, params map[string]string) *contract.Problem {
	broken := func(s string) bool { return !utf8.ValidString(s) || strings.ContainsRune(s, 0) }
	if broken(u.Path) {
		return ptr(textProblem("the path"))
	}
	for name, v := range params {
		if plain, err := url.PathUnescape(v); err != nil || broken(plain) {
			return ptr(textProblem("path parameter " + name))
		}
	}
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return ptr(problem(http.StatusBadRequest, "Bad request", "the query cannot be read",
			"write special characters as % and two hexadecimal digits"))
	}
	for name, list := range query {
		for _, v := range append(list, name) {
			if broken(v) {
				return ptr(textProblem("query parameter " + strconv.QuoteToASCII(name)))
			}
		}
	}
	return nil
}

// textProblem is for what is no text.
func textProblem(where string) contract.Problem {
	return problem(http.StatusUnprocessableEntity, "Not text", where+" is no text: it holds NUL or broken UTF-8",
		"send UTF-8 without NUL")
}

// largeProblem is for a body over its limit.
func largeProblem(limit int64) contract.Problem {
	text := fmt.Sprintf("%d KB", limit>>10)
	if limit >= 1<<20 {
		text = fmt.Sprintf("%d MB", limit>>20)
	}
	return problem(http.StatusRequestEntityTooLarge, "Too large", "this call takes "+text+" at most", "")
}

// ofTheirOwn gives handlers a context of their own: the framework uses its own
// again as soon as a request is answered, while the database's driver may still
// look at it.
func ofTheirOwn(next contract.StrictHandlerFunc, _ string) contract.StrictHandlerFunc {
	return func(c *gin.Context, request any) (any, error) { return next(c.Copy(), request) }
}

// tagged writes answers with a mark of their content, and answers who has that
// already with nothing but the mark (RFC 9110 section 8.8.3).
func tagged(c *gin.Context) {
	if c.Request.Method != http.MethodGet {
		c.Next()
		return
	}
	w := &heldWriter{ResponseWriter: c.Writer, status: http.StatusOK}
	c.Writer = w
	func() {
		defer func() { c.Writer = w.ResponseWriter }() // also for who answers after a panic
		c.Next()
	}()
	if w.status == http.StatusOK && w.body.Len() > 0 {
		sum := sha256.Sum256(w.body.Bytes())
		tag := `W/"` + base64.RawURLEncoding.EncodeToString(sum[:12]) + `"`
		c.Header("ETag", tag)
		c.Header("Cache-Control", "private, no-cache")
		if strings.Contains(c.GetHeader("If-None-Match"), tag) {
			c.Writer.Header().Del("Content-Type")
			c.Writer.Header().Del("Content-Length")
			c.Writer.WriteHeader(http.StatusNotModified)
			c.Writer.WriteHeaderNow()
			return
		}
	}
	c.Writer.WriteHeader(w.status)
	_, _ = c.Writer.Write(w.body.Bytes())
}

// heldWriter keeps an answer until all of it is there.
type heldWriter struct {
	gin.ResponseWriter
	status int
	body   bytes.Buffer
}

// WriteHeader implements http.ResponseWriter.
func (w *heldWriter) WriteHeader(status int) { w.status = status }

// WriteHeaderNow implements gin.ResponseWriter.
func (*heldWriter) WriteHeaderNow() {}

// Write implements io.Writer.
func (w *heldWriter) Write(p []byte) (int, error) { return w.body.Write(p) }

// WriteString implements io.StringWriter.
func (w *heldWriter) WriteString(s string) (int, error) { return w.body.WriteString(s) }

// Status implements gin.ResponseWriter.
func (w *heldWriter) Status() int { return w.status }

// Size implements gin.ResponseWriter.
func (w *heldWriter) Size() int { return w.body.Len() }

// Written implements gin.ResponseWriter.
func (w *heldWriter) Written() bool { return w.body.Len() > 0 }

// Flush implements http.Flusher: nothing is sent before its end.
func (*heldWriter) Flush() {}
