package service_test

import (
	"io"
	"io/fs"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/place"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
)

// barge is a kind of server made up for this test: its configuration is one file
// that holds the name of one site at port 8443.
type barge struct{}

func (barge) Read(fsys fs.FS, main string) (*kind.Reading, error) {
	name, err := fs.ReadFile(fsys, main[1:])
	if err != nil {
		return nil, err
	}
	at := kind.Place{File: main, Line: 1}
	return &kind.Reading{Kind: "barge", Main: main, Files: []kind.File{{Path: main, Text: string(name), InForce: true}},
		Listeners: []kind.Listener{{Place: at, Protocol: kind.HTTP, Address: netip.MustParseAddrPort("127.0.0.1:8443"),
			TLS: true, Sites: []int{0}}},
		Sites: []kind.Site{{Place: at, Protocol: kind.HTTP,
			Names: []kind.Name{{Place: at, Text: string(name), Covers: []string{string(name)}}}}}}, nil
}

func (barge) Answers(r *kind.Reading) kind.Answers { return answers{r} }

type answers struct{ r *kind.Reading }

func (a answers) Answer(string, netip.AddrPort) kind.Answer {
	return kind.Answer{Listener: &a.r.Listeners[0], Site: &a.r.Sites[0], Shown: &a.r.Sites[0], Named: true,
		Why: "a barge has one site"}
}
func (answers) Plain(string, netip.AddrPort, string) (kind.Step, bool) { return kind.Step{}, false }
func (answers) Elsewhere(string) []place.Place                         { return nil }
func (answers) Idle(string) []*kind.Site                               { return nil }

// TestAKindIsOneLine registers a made-up kind in one line: schema, contract and
// the console's list have it, its configuration is read, and what it lacks is
// said to be not possible yet.
func TestAKindIsOneLine(t *testing.T) {
	kinds := append(kind.Registry{{Declared: estate.Kind{Name: "barge", Reached: true, Main: "/etc/barge"},
		Title: "barges", Reader: barge{}}}, registry.Kinds...)
	r := servicetest.Start(t, func(c *service.Config) { c.Kinds = kinds })
	main := filepath.Join(t.TempDir(), "barge.conf")
	require.NoError(t, os.WriteFile(main, []byte("a.lantern.example"), 0o644))
	r.Apply(t, "estate: Barges\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: tug, kind: "+
		"barge, addresses: [127.0.0.1], ports: [8443], reach: {by: local, configuration: "+main+"}}\n"+
		"hosts:\n  - {name: a.lantern.example, at: [tug]}\ncas:\n  - {name: harbour, directory: https://127.0.0.1:1/d}\n"+
		"mandates:\n  - {name: a, names: [a.lantern.example], ca: harbour, proof: {by: listener}, install: [tug]}\n",
		pkitest.CA("root", nil))
	r.Survey(t)

	resp, err := http.Get(r.URL + "/api/v1/estate/schema")
	require.NoError(t, err)
	schema, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Contains(t, string(schema), `{"enum": ["barge", "nginx",`)
	list, err := r.Client.ListKindsWithResponse(t.Context())
	require.NoError(t, err)
	assert.Equal(t, client.Kind{Name: "barge", Title: "barges", Can: []string{"reading its configuration"},
		Cannot: []string{"installing certificates"}}, list.JSON200.Items[0])
	sites, err := r.Client.ListSitesWithResponse(t.Context(), "tug", nil)
	require.NoError(t, err)
	require.NotNil(t, sites.JSON200, string(sites.Body))
	assert.Equal(t, []string{"a.lantern.example"}, sites.JSON200.Items[0].Names)
	open := r.Findings(t)
	assert.Contains(t, open, "test-not-run  at tug", "what a kind's test says is not known")

	var installed int
	r.Query(t, "insert into orders (mandate_id, ca, rehearsal, spec, state, chain, by, created_at, finished_at) select "+
		"id, ca, false, spec, 'issued', ''::bytea, 'x', now(), now() from mandates returning id", &installed)
	refused, err := r.Client.PreviewInstallationWithResponse(t.Context(), client.InstallationRequest{Mandate: "a"})
	require.NoError(t, err)
	require.Equal(t, 409, refused.StatusCode(), string(refused.Body))
	assert.Contains(t, *refused.ApplicationproblemJSONDefault.Detail,
		"installing certificates is not possible for barges yet")
	wrong, err := r.Client.PreviewEstateWithResponse(t.Context(),
		servicetest.File("estate: x\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: tug, kind: "+
			"edge, addresses: [127.0.0.1], reach: {by: local}}\nhosts:\n  - {name: a.lantern.example, at: [tug]}\n",
			pkitest.CA("root", nil)))
	require.NoError(t, err)
	assert.Contains(t, string(wrong.Body), "a server of kind barge, nginx")
}
