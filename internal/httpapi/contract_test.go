package httpapi_test

import (
	"bytes"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// TestEveryAnswerKeepsToTheContract calls every operation of the contract and
// holds the answer, good or bad, against its schema.
func TestEveryAnswerKeepsToTheContract(t *testing.T) {
	spec, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	require.NoError(t, spec.Validate(t.Context()))
	router, err := gorillamux.NewRouter(spec)
	require.NoError(t, err)
	openapi3filter.RegisterBodyDecoder("application/openmetrics-text", openapi3filter.FileBodyDecoder)
	empty, full := servicetest.Start(t), servicetest.Start(t)
	full.Apply(t, text, pkitest.CA("root", nil))
	full.Survey(t)
	fill(t, full.Database, 3)
	called := map[string]bool{}
	for path, item := range spec.Paths.Map() {
		for method, operation := range item.Operations() {
			if operation.OperationID == "followSurvey" || operation.OperationID == "followEvents" ||
				operation.OperationID == "signOut" || operation.OperationID == "revokeToken" {
				continue // a stream with a test of its own, and what would end the caller
			}
			for name, url := range map[string]string{"empty": empty.URL, "full": full.URL} {
				t.Run(operation.OperationID+" "+name, func(t *testing.T) {
					at := strings.NewReplacer("{id}", "1", "{sha256}", "ffffffff", "{name}", "quay", "{person}", "nobody", "{number}",
						"1", "{host}", "a.test", "{customer}", "x", "{token}", strings.Repeat("A", 43)+".ics").Replace(path)
					called[operation.OperationID] = true
					keeps(t, router, method, url+"/api/v1"+at, bodyFor(operation.OperationID))
				})
			}
		}
	}
	assert.Len(t, called, 125)
	for _, query := range []string{"/certificates?kind=all&in_use=false&limit=2",
		"/findings?state=all&severity=broken&severity=due", "/bindings?verdict=broken&sort=-host&limit=3",
		"/surveys?limit=1", "/servers?read=false&sort=-name", "/findings?server=quay", "/servers/quay/file?path=/x",
		"/servers/quay/answers?host=a.test&at=127.0.0.1:1", "/surveys/1/changes?since=0"} {
		keeps(t, router, "GET", full.URL+"/api/v1"+query, "")
	}
}

func bodyFor(operation string) string {
	switch operation {
	case "startSurvey", "previewMending":
		return "{}"
	case "previewEstate", "applyEstate":
		return `{"file":"e.yaml","text":"estate: x"}`
	case "beginOrder", "previewInstallation", "previewWave":
		return `{"mandate":"x"}`
	case "beginHttps":
		return `{"server":"quay","host":"a.test"}`
	case "addHost":
		return `{"name":"a.test","at":["quay"]}`
	case "changeHost":
		return `{"name":"a.test","at":["quay"],"tags":["x"]}`
	case "draftEstate":
		return `{"names":["a.test"],"zone":"$INCLUDE /etc/passwd"}`
	case "acceptFinding", "addSilence":
		return `{"until":"2020-01-01T00:00:00Z","reason":"because"}`
	case "previewNotice", "testNotice":
		return `{"owner":"nobody"}`
	case "makeFeed":
		return `{"name":"wall","owner":"nobody"}`
	case "addMandate":
		return `{"text":"name: x"}`
	case "agreeToTerms":
		return `{"terms":""}`
	case "addCredential":
		return `{"value":"x"}`
	case "setUp":
		return `{"code":"x","passphrase":"four words at least"}`
	case "signIn":
		return `{"name":"x","passphrase":"x"}`
	case "changePassphrase":
		return `{"before":"x","next":"y"}`
	case "addPerson":
		return `{"name":"x","role":"viewer"}`
	case "trustHostKey":
		return `{"seen":"ssh-ed25519 SHA256:x"}`
	case "makeAuthority":
		return `{"permitted":["crew.test"]}`
	case "signRequest":
		return `{"request":"nonsense"}`
	case "rollAuthority":
		return `{"files":[{"name":"x","content":"bm9uc2Vuc2U="}]}`
	case "planDrill":
		return `{"kind":"ca","what":"harbour","hours":24}`
	case "beginDrill":
		return `{"rehearsal":true}`
	case "revokeOrder":
		return `{"reason":"superseded"}`
	case "revokeIssued":
		return `{"serial":"01"}`
	case "takeCertificate", "takeReply", "takeAuthority":
		return `{"files":[{"name":"x","content":"bm9uc2Vuc2U="}]}`
	case "giveCertificate":
		return `{"form":"pem","reason":"x"}`
	case "markSent":
		return "{}"
	case "takeFromServer":
		return `{"host":"a.test"}`
	case "takeKey":
		return `{"reason":"x"}`
	case "renewSafeKey":
		return `{}`
	case "changePerson":
		return `{"role":"viewer"}`
	case "makeToken":
		return `{"name":"x","scope":"viewer","days":1}`
	}
	return ""
}

func keeps(t *testing.T, router interface {
	FindRoute(*http.Request) (route *routers.Route, params map[string]string, err error)
}, method, url, body string) {
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	data, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Less(t, resp.StatusCode, 500, string(data))
	local, err := http.NewRequestWithContext(t.Context(), method, req.URL.RequestURI(), nil)
	require.NoError(t, err)
	route, params, err := router.FindRoute(local)
	require.NoError(t, err)
	input := &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: local, PathParams: params, Route: route},
		Status:                 resp.StatusCode, Header: resp.Header, Body: io.NopCloser(bytes.NewReader(data)),
		Options: &openapi3filter.Options{IncludeResponseStatus: true},
	}
	openapi3filter.RegisterBodyDecoder("application/problem+json", openapi3filter.JSONBodyDecoder)
	assert.NoError(t, openapi3filter.ValidateResponse(t.Context(), input), string(data))
}

func readUpTo(r io.Reader) ([]byte, error) { return io.ReadAll(io.LimitReader(r, 1<<20)) }
