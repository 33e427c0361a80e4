package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/gin-gonic/gin"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
	"insegna.example/internal/store"
)

func ptr[T any](v T) *T { return &v }

// badRequestError is a request that the contract lets pass and a handler does not.
type badRequestError struct{ detail string }

func (e *badRequestError) Error() string { return e.detail }

// problemOf turns an error into a problem document (RFC 9457). What it does
// not know becomes a 500 that tells nothing of the inside.
func problemOf(err error) contract.Problem {
	var faults estate.Errors
	var scope *service.ScopeError
	var order *service.OrderError
	var ambiguous *service.AmbiguousError
	var bad *badRequestError
	var unread *service.NotReadError
	var unknown *service.UnknownServerError
	var endpoint *service.BadEndpointError
	var host *names.HostError
	var access *service.AccessError
	var throttled *service.ThrottledError
	var passphrase *service.PassphraseError
	var name *service.NameError
	var token *service.TokenError
	var refused *service.RefusedError
	var nothing *service.UnknownError
	var budget *service.BudgetError
	var rest *service.RestError
	switch {
	case errors.As(err, &refused):
		return problem(http.StatusConflict, "Not possible now", err.Error(), refused.Next)
	case errors.As(err, &nothing):
		return notFoundProblem(err.Error())
	case errors.As(err, &budget):
		return problem(http.StatusConflict, "Budget spent", err.Error(), "wait until the oldest of them leaves the window, or rehearse instead")
	case errors.As(err, &rest):
		return problem(http.StatusConflict, "The CA limits its rate", err.Error(), "wait until then, or order from another CA; what serves goes on serving")
	case errors.Is(err, store.ErrMandateTaken), errors.Is(err, store.ErrMandateOfFile), errors.Is(err, store.ErrOrderRunning),
		errors.Is(err, store.ErrInstallationRunning), errors.Is(err, store.ErrInstallationBegun), errors.Is(err, store.ErrNotReturnable):
		return problem(http.StatusConflict, "Not possible now", err.Error(), "")
	case errors.As(err, &access) && access.Caller == nil:
		return problem(http.StatusUnauthorized, "Not signed in", err.Error(), "sign in, or show a token: insegna sign-in")
	case errors.As(err, &access):
		return problem(http.StatusForbidden, "Not allowed", err.Error(), "ask an admin for the role, or use a token with the scope")
	case errors.Is(err, service.ErrSignIn):
		return problem(http.StatusUnauthorized, "Not signed in", err.Error(), "try again; an admin can give you a new one-time link: insegna person invite NAME")
	case errors.As(err, &throttled):
		return problem(http.StatusTooManyRequests, "Too many attempts", err.Error(), "")
	case errors.As(err, &passphrase), errors.As(err, &name), errors.As(err, &token):
		return problem(http.StatusUnprocessableEntity, "Not taken", err.Error(), "")
	case errors.Is(err, store.ErrInvitation):
		return problem(http.StatusUnprocessableEntity, "Link not valid", err.Error(), "ask an admin for a new one; the first admin's is printed when the service starts")
	case errors.Is(err, store.ErrNameTaken), errors.Is(err, store.ErrLastAdmin):
		return problem(http.StatusConflict, "Not possible", err.Error(), "")
	case errors.As(err, &unknown):
		return notFoundProblem(err.Error())
	case errors.As(err, &unread):
		return problem(http.StatusConflict, "Not read", err.Error(), "")
	case errors.As(err, &endpoint), errors.As(err, &host):
		return problem(http.StatusBadRequest, "Bad request", err.Error(), "")
	case errors.As(err, &faults):
		return estateProblem(faults)
	case errors.Is(err, service.ErrNoEstate):
		return problem(http.StatusConflict, "No estate", err.Error(), "apply an estate file first")
	case errors.As(err, &scope):
		return problem(http.StatusUnprocessableEntity, "Nothing to look at", err.Error(), "name a host or server of the estate")
	case errors.As(err, &order):
		return problem(http.StatusUnprocessableEntity, "Wrong order", err.Error(), "")
	case errors.As(err, &ambiguous):
		return problem(http.StatusConflict, "Ambiguous fingerprint", err.Error(), "give more digits")
	case errors.Is(err, store.ErrCursor):
		return problem(http.StatusBadRequest, "Bad cursor", err.Error(), "")
	case errors.Is(err, store.ErrNotFound):
		return notFoundProblem("nothing is stored under that name or number")
	case errors.As(err, &bad):
		return problem(http.StatusBadRequest, "Bad request", bad.detail, "")
	case errors.Is(err, context.Canceled):
		return problem(499, "Ended by the caller", "", "")
	}
	return internalProblem()
}

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

func notFoundProblem(detail string) contract.Problem {
	return problem(http.StatusNotFound, "Not found", detail, "")
}

func methodProblem(method string) contract.Problem {
	return problem(http.StatusMethodNotAllowed, "Method not allowed", "this call does not take "+method, "")
}

func internalProblem() contract.Problem {
	return problem(http.StatusInternalServerError, "Internal error", "the request could not be carried out", "see the service's log for the reason")
}

func estateProblem(faults estate.Errors) contract.Problem {
	p := problem(http.StatusUnprocessableEntity, "What was sent has faults", fmt.Sprintf("%d found; nothing was changed", len(faults)), "mend the places named and send it again")
	list := make([]contract.ProblemError, len(faults))
	for i, f := range faults {
		at := f.Place.File
		if f.Place.Line > 0 {
			at = f.Place.String()
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
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return problem(http.StatusRequestEntityTooLarge, "Too large", fmt.Sprintf("a request may hold %d MB at most", bodyLimit>>20), "")
	}
	var list []contract.ProblemError
	for _, e := range flatten(err) {
		list = append(list, validationError(e))
	}
	p := problem(http.StatusBadRequest, "Bad request", "the request does not keep to the contract", "see api/openapi.yaml for what this call takes")
	p.Errors = &list
	return p
}

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

func abort(c *gin.Context, p contract.Problem) {
	write(c, p)
	c.Abort()
}

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
