package service_test

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
)

// TestAnEstateOfSeveralFiles applies a folder, takes a host in beside it, changes that, writes
// it all as one file, and applies that elsewhere: nothing is lost on the way.
func TestAnEstateOfSeveralFiles(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("root", nil)
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("root.pem", string(certs.PEM(root.Raw)))
	write("1.yaml", "estate: Ferries # ours\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: quay, addresses: [127.0.0.1], ports: [1]}\n")
	write("2.yaml", "groups:\n  - {name: sales}\nhosts:\n  - {name: a.lantern.example, at: [quay]}\n")
	write("3.yml", "hosts:\n\n  - {name: b.lantern.example, at: [quay], group: sales}\n")
	write("notes.txt", "hosts: broken [")
	apply := func(r *servicetest.Running) *client.EstateChanges {
		f, err := service.LoadEstateFile(dir, os.ReadFile)
		require.NoError(t, err)
		require.Len(t, f.Parts, 3)
		body := `{"file":` + quoted(dir) + `,"text":"","attachments":{"root.pem":` + quoted(string(f.Attachments["root.pem"])) + `},"parts":[`
		for i, p := range f.Parts {
			body += map[bool]string{true: ","}[i > 0] + `{"file":` + quoted(p.File) + `,"text":` + quoted(string(p.Data)) + `}`
		}
		resp, err := r.Client.ApplyEstateWithBodyWithResponse(t.Context(), "application/json", strings.NewReader(body+"]}"))
		require.NoError(t, err)
		require.NotNil(t, resp.JSON200, string(resp.Body))
		return resp.JSON200
	}
	assert.True(t, apply(r).Applied)
	assert.False(t, apply(r).Applied, "the same again")
	host := func(name string) client.EstateHost {
		resp, err := r.Client.GetEstateWithResponse(t.Context())
		require.NoError(t, err)
		for _, h := range resp.JSON200.Hosts {
			if h.Name == name {
				return h
			}
		}
		require.Fail(t, "the estate has no "+name)
		return client.EstateHost{}
	}
	b := host("b.lantern.example")
	assert.Equal(t, filepath.Join(dir, "3.yml")+" 3", *b.File+" "+string(rune('0'+b.Line)))
	r.Survey(t)
	list, err := r.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{Group: &[]string{"sales"}})
	require.NoError(t, err)
	require.NotEmpty(t, list.JSON200.Items)
	assert.True(t, strings.HasPrefix(list.JSON200.Items[0].Place, dir+"/"), list.JSON200.Items[0].Place)

	add, err := r.Client.AddHostWithResponse(t.Context(), client.HostRequest{Name: "made.lantern.example", At: []string{"quay"}, Tags: &[]string{"new"}})
	require.NoError(t, err)
	require.NotNil(t, add.JSON201, string(add.Body))
	b = host("b.lantern.example") // still there
	for name, want := range map[string]string{"b.lantern.example": "is declared in the estate file, at " + dir, "lost.lantern.example": "there is no host"} {
		bad, err := r.Client.ChangeHostWithResponse(t.Context(), name, client.HostRequest{Name: name, At: []string{"quay"}})
		require.NoError(t, err)
		assert.Contains(t, string(bad.Body), want)
	}
	strange, err := r.Client.ChangeHostWithResponse(t.Context(), "made.lantern.example", client.HostRequest{Name: "made.lantern.example", At: []string{"quay"}, Group: ptr("freight")})
	require.NoError(t, err)
	assert.Contains(t, string(strange.Body), `unknown group`)
	change, err := r.Client.ChangeHostWithResponse(t.Context(), "made.lantern.example", client.HostRequest{Name: "made.lantern.example", At: []string{"quay:1"}, Group: ptr("sales")})
	require.NoError(t, err)
	require.NotNil(t, change.JSON200, string(change.Body))

	out, err := r.Client.ExportEstateWithResponse(t.Context())
	require.NoError(t, err)
	require.NotNil(t, out.JSON200, string(out.Body))
	assert.Equal(t, 1, out.JSON200.Hosts)
	assert.Contains(t, out.JSON200.Text, "# taken in by keeper")
	other := servicetest.Start(t)
	files := out.JSON200.Files
	done, err := other.Client.ApplyEstateWithResponse(t.Context(), client.EstateFile{File: out.JSON200.File, Text: out.JSON200.Text, Attachments: &files})
	require.NoError(t, err)
	require.NotNil(t, done.JSON200, string(done.Body))
	there, err := other.Client.GetEstateWithResponse(t.Context())
	require.NoError(t, err)
	var names []string
	for _, h := range there.JSON200.Hosts {
		names = append(names, h.Name+" "+strings.Join(h.At, ",")+" "+strings.Join(groupsOf(h), ","))
	}
	assert.Equal(t, []string{"a.lantern.example quay ", "b.lantern.example quay sales", "made.lantern.example quay:1 sales"}, names)

	// What goes is told, and a broken file changes nothing.
	require.NoError(t, os.Remove(filepath.Join(dir, "3.yml")))
	write("3.yaml", "hosts: [")
	_, err = (&service.EstateFile{}).Parse(nil)
	require.Error(t, err)
	f, err := service.LoadEstateFile(dir, os.ReadFile)
	require.NoError(t, err)
	_, err = f.Parse(r.Service.Kinds().Declared())
	assert.ErrorContains(t, err, filepath.Join(dir, "3.yaml"))
	_, err = service.LoadEstateFile(t.TempDir(), os.ReadFile)
	assert.ErrorContains(t, err, "has no estate file; expected files called *.yaml")
}

func quoted(s string) string {
	b, _ := json.Marshal(s) // a string is always JSON
	return string(b)
}

func groupsOf(h client.EstateHost) []string {
	if h.Belongs == nil || h.Belongs.Group == nil {
		return nil
	}
	return []string{*h.Belongs.Group}
}

// TestTheServiceDraftsAndReadsWhatADraftNames drafts from a zone that is sent along, refuses
// what would read files for it, and applies a file whose roots lie on its machine.
func TestTheServiceDraftsAndReadsWhatADraftNames(t *testing.T) {
	r := servicetest.Start(t)
	root := filepath.Join(t.TempDir(), "root.pem")
	require.NoError(t, os.WriteFile(root, certs.PEM(pkitest.CA("root", nil).Raw), 0o600))
	zone := "$ORIGIN lantern.example.\n$TTL 60\nwww IN A 127.0.0.9\n"
	draft := func(body client.DraftRequest) *client.DraftEstateResponse {
		body.Roots = &[]string{root}
		resp, err := r.Client.DraftEstateWithResponse(t.Context(), body)
		require.NoError(t, err)
		return resp
	}
	d := draft(client.DraftRequest{Zone: &zone, Ports: &[]int{1}})
	require.NotNil(t, d.JSON200, string(d.Body))
	assert.Contains(t, d.JSON200.Text, "www.lantern.example")
	assert.Equal(t, 1, d.JSON200.Doubted, "nothing listens there")
	for text, says := range map[string]string{"$include /etc/passwd\n": "the zone includes other files", "www IN A nonsense\n": "at line: 1"} {
		bad := draft(client.DraftRequest{Zone: &text})
		assert.NotEqual(t, http.StatusOK, bad.StatusCode())
		assert.Contains(t, string(bad.Body), says)
	}
	bad := draft(client.DraftRequest{Ranges: &[]string{"10.0.0.0/8"}})
	assert.Contains(t, string(bad.Body), "allow")
	bad = draft(client.DraftRequest{Servers: &[]string{"marit@127.0.0.1:1"}})
	assert.Contains(t, string(bad.Body), "127.0.0.1:1")

	text := "estate: Ferries\naudiences:\n  - {name: browsers, roots: [" + root + "]}\nservers:\n  - {name: quay, addresses: [127.0.0.1], ports: [1]}\nhosts:\n  - {name: a.lantern.example, at: [quay]}\n"
	apply := func(text string, here bool) *client.ApplyEstateResponse {
		resp, err := r.Client.ApplyEstateWithResponse(t.Context(), client.EstateFile{File: "console.yaml", Text: text, Here: &here})
		require.NoError(t, err)
		return resp
	}
	assert.Contains(t, string(apply(text, false).Body), "cannot read "+root)
	require.NotNil(t, apply(text, true).JSON200)
	require.NoError(t, os.Remove(root))
	assert.NotNil(t, apply(text+"  - {name: b.lantern.example, at: [quay]}\n", true).JSON200, "as it is in force")
	assert.Contains(t, string(apply(strings.Replace(text, root, "/etc/shadow", 1), true).Body), "/etc/shadow")
}
