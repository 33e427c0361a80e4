package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/gin-gonic/gin"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// ptr makes a pointer to a value.
func ptr[T any](v T) *T { return &v }

// badRequestError is a request that the contract lets pass and a handler does not.
type badRequestError struct{ detail string }

// Error is the reason alone.
func (e *badRequestError) Error() string { return e.detail }

// Told implements fault.Error.
func (e *badRequestError) Told() fault.Told {
	return fault.Told{Class: fault.BadRequest, Title: "Bad request"}
}

// textError is for a file that is no text.
type textError struct{ file string }

// Error names it.
func (e *textError) Error() string {
	return e.file + " or what comes with it holds NUL, so it is no text"
}

// Told implements fault.Error.
func (e *textError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Not text", Next: "send UTF-8 without NUL"}
}

// statuses are the HTTP statuses of the classes of errors (RFC 9110 section 15).
var statuses = map[fault.Class]int{
	fault.BadRequest: http.StatusBadRequest, fault.NotTaken: http.StatusUnprocessableEntity,
	fault.NotSignedIn: http.StatusUnauthorized,
	fault.NotAllowed:  http.StatusForbidden, fault.NotFound: http.StatusNotFound, fault.NotNow: http.StatusConflict,
	fault.TooMany: http.StatusTooManyRequests, fault.Busy: http.StatusServiceUnavailable,
}

// endedByCaller is what is written when nobody waits for the answer any more.
const endedByCaller = 499

// problemOf turns an error into a problem document (RFC 9457): errors know how
// they are told. One that does not becomes a 500 that tells nothing of the
// inside.
func problemOf(err error) contract.Problem {
	var faults estate.Errors
	if errors.As(err, &faults) {
		return estateProblem(faults)
	}
	if e := fault.Of(err); e != nil {
		told := e.Told()
		return problem(statuses[told.Class], told.Title, e.Error(), told.Next)
	}
	if why, full := service.DatabaseTrouble(err); why != "" {
		status := http.StatusServiceUnavailable
		if full {
			status = http.StatusInsufficientStorage
		}
		return problem(status, "The database cannot do it now", why,
			"see the service's machine and its log; nothing was changed")
	}
	switch {
	case errors.Is(err, context.Canceled):
		return problem(endedByCaller, "Ended by the caller", "", "")
	case errors.Is(err, context.DeadlineExceeded):
		return problem(http.StatusServiceUnavailable, "Took too long", "the answer was not there in time",
			"ask for less, or try again in a moment")
	}
	return internalProblem()
}

// unreadable is for a body that could not be read as what its call takes.
func unreadable(err error) contract.Problem {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return largeProblem(large.Limit)
	}
	return problemOf(&badRequestError{"the body is not what this call takes: " + err.Error()})
}

// problem makes a problem document (RFC 9457).
func problem(status int, title, detail, next string) contract.Problem {
	p := contract.Problem{Status: status, Title: title}
	if detail != "" {
		p.Detail = &detail
	}
	if next != "" {
		p.Next = &next
	}
	return p
}

// notFoundProblem is for paths there are none of.
func notFoundProblem(detail string) contract.Problem {
	return problem(http.StatusNotFound, "Not found", detail, "")
}

// things are what the paths of the contract name: the word for it, and the command
// that lists them.
var things = map[string][2]string{"servers": {"server", "server list"},
	"certificates": {"certificate", "certificate list"},
	"findings":     {"finding", "finding list --state all"}, "surveys": {"survey", "survey list"},
	"mandates": {"mandate", "mandate list"}, "orders": {"order", "order list"},
	"installations": {"installation", "installation list"}, "https": {"run to https", "https --list"},
	"people": {"person", "person list"}, "tokens": {"token", "token list"},
	"credentials": {"credential", "credential list"},
	"notices":     {"message", "notice list"}, "silences": {"silence that lasts", "notice silence"},
	"feeds": {"address of the calendar", "calendar list"}, "waves": {"wave", "wave list"},
	"cas": {"CA", "ca list"}}

// missingProblem names what there is none of, by the path that was asked.
func missingProblem(path string, param func(string) string) contract.Problem {
	parts := strings.Split(strings.TrimPrefix(path, "/api/v1/"), "/")
	thing, known := things[parts[0]]
	if !known || len(parts) < 2 || !strings.HasPrefix(parts[1], ":") {
		return notFoundProblem("nothing is stored under that name or number")
	}
	value := param(parts[1][1:])
	if _, err := strconv.ParseInt(value, 10, 64); err != nil {
		value = strconv.Quote(value)
	}
	return problem(http.StatusNotFound, "Not found", fmt.Sprintf("there is no %s %s", thing[0], value),
		"see which there are: insegna "+thing[1])
}

// methodProblem is for methods a path does not have.
func methodProblem(method string) contract.Problem {
	return problem(http.StatusMethodNotAllowed, "Method not allowed", "this call does not take "+method, "")
}

// internalProblem tells nothing of what went wrong inside: that is for the log,
// not for whoever asks.
func internalProblem() contract.Problem {
	return problem(http.StatusInternalServerError, "Internal error", "the request could not be carried out",
		"see the service's log for the reason")
}

// estateProblem lists every error of an estate file with its place.
func estateProblem(faults estate.Errors) contract.Problem {
	p := problem(http.StatusUnprocessableEntity, "What was sent has faults",
		fmt.Sprintf("%d found; nothing was changed", len(faults)), "mend the places named and send it again")
	list := make([]contract.ProblemError, len(faults))
	for i, f := range faults {
		at := f.Place.File
		if f.Place.Line > 0 {
			at = f.Place.Full()
		}
		list[i] = contract.ProblemError{Place: &at, Message: f.Message}
		if f.Expected != "" {
			list[i].Expected = ptr(f.Expected)
		}
	}
	p.Errors = &list
	return p
}

// validationProblem tells which parameter or field breaks which rule of the
// contract, never the value sent.
func validationProblem(err error) contract.Problem {
	var list []contract.ProblemError
	for _, e := range flatten(err) {
		list = append(list, validationError(e))
	}
	p := problem(http.StatusBadRequest, "Bad request", "the request does not keep to the contract",
		"mend what is named, and send it again")
	p.Errors = &list
	return p
}

// flatten takes the errors of a request's validation apart.
func flatten(err error) []error {
	// Not errors.As: that would look through the request error, which knows the parameter.
	if many, ok := err.(openapi3.MultiError); ok {
		var out []error
		for _, e := range many {
			out = append(out, flatten(e)...)
		}
		return out
	}
	return []error{err}
}

// validationError turns the validator's words into ours: which field, what was
// expected.
func validationError(err error) contract.ProblemError {
	out := contract.ProblemError{Message: "does not keep to the contract"}
	var request *openapi3filter.RequestError
	if errors.As(err, &request) {
		switch {
		case request.Parameter != nil:
			out.Place = ptr(request.Parameter.In + " parameter " + request.Parameter.Name)
		case request.RequestBody != nil:
			out.Place = ptr("body")
		}
		if request.Err == nil && request.Reason != "" {
			out.Message = request.Reason
		}
	}
	var schema *openapi3.SchemaError
	if errors.As(err, &schema) && request != nil {
		if path := schema.JSONPointer(); len(path) > 0 && request.Parameter == nil {
			out.Place = ptr("body field " + strings.Join(path, "."))
		}
		out.Message = "breaks the rule " + schema.SchemaField
		if p := request.Parameter; p != nil && schema.SchemaField == "enum" && p.Schema != nil && p.Schema.Value != nil {
			out.Expected = ptr("one of " + strings.Trim(fmt.Sprint(p.Schema.Value.Enum), "[]"))
		}
	}
	return out
}

// abort ends a request with a problem.
func abort(c *gin.Context, p contract.Problem) {
	write(c, p)
	c.Abort()
}

// write writes a problem document with its media type.
func write(c *gin.Context, p contract.Problem) {
	body, err := json.Marshal(p)
	if err != nil {
		c.Status(http.StatusInternalServerError)
		return
	}
	c.Header("Cache-Control", "no-store")
	if p.Status == http.StatusUnauthorized {
		c.Header("WWW-Authenticate", `Bearer realm="insegna"`)
	}
	if p.Status == http.StatusRequestEntityTooLarge {
		c.Header("Connection", "close") // the rest of the body is not read
	}
	c.Data(p.Status, "application/problem+json", body)
}
