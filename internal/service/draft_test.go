package service_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
)

// draft asks for a mandate's names; words is what a refusal says.
func (c *configured) draft(t *testing.T, server, site string) (d client.MandateDraft, words string) {
	params := &client.DraftMandateParams{}
	if server != "" {
		params.Server = &server
	}
	if site != "" {
		params.Site = &site
	}
	got, err := c.Client.DraftMandateWithResponse(t.Context(), params)
	require.NoError(t, err)
	if got.JSON200 == nil {
		require.Less(t, got.StatusCode(), 500, string(got.Body))
		return d, string(got.Body)
	}
	return *got.JSON200, ""
}

// TestNamesAreWorkedOut drafts mandates from sites of every kind and from what
// no certificate covers, and makes one of what was drafted.
func TestNamesAreWorkedOut(t *testing.T) {
	c := startConfigured(t)
	c.look(t)
	site := func(names string) string {
		return fmt.Sprintf("server { listen 127.0.0.1:80; server_name %s; root /srv; }\n", names)
	}
	c.write(t, "sites/b",
		site("lantern.example fähre.lantern.example 127.0.0.1 _ localhost ~^(?<x>.+)\\.pier\\.example$ LANTERN.example")+
			site("*.tide.example deep.down.tide.example")+
			site("www.harbour.example")+
			site("\"\" _")+
			site("a.quay.example b.quay.example c.quay.example d.quay.example .wide.example"))
	text := fmt.Sprintf("estate: Ferries\naudiences:\n  - name: browsers\n    roots: [root.pem]\nservers:\n  - {name: "+
		"pier, kind: nginx, addresses: [127.0.0.1], ports: [%d], reach: {by: local, configuration: %s/nginx.conf, test: "+
		"'true', reload: 'true'}}\n"+
		"hosts:\n  - {name: %s, at: [pier]}\n  - {name: new.lantern.example, at: [pier]}\n  - {name: newer.lantern.example, "+
		"at: [pier]}\ncas:\n  - {name: harbour, directory: 'https://127.0.0.1:1/directory'}\n", c.port, c.dir, host)
	c.Apply(t, text, c.root)
	c.Survey(t)

	for site, want := range map[string]struct{ names, proof, advice string }{
		host: {host, "{by: http, servers: [pier]}", ""},
		"lantern.example": {"lantern.example xn--fhre-loa.lantern.example", "{by: http, servers: [pier]}",
			"lantern.example is there and www.lantern.example is not; visitors type both"},
		"deep.down.tide.example": {
			"*.tide.example deep.down.tide.example", "by: dns",
			"*.tide.example covers one label only, so deep.down.tide.example has to stand beside it"},
		"www.harbour.example": {
			"www.harbour.example", "{by: http, servers: [pier]}", "www.harbour.example is there and harbour.example is not"},
		"a.quay.example": {"a.quay.example b.quay.example c.quay.example d.quay.example wide.example *.wide.example",
			"by: dns", "4 names stand under quay.example; *.quay.example would cover them"},
	} {
		d, words := c.draft(t, "pier", site)
		require.Empty(t, words, site)
		assert.ElementsMatch(t, strings.Fields(want.names), d.Names, site)
		assert.Contains(t, strings.Join(d.Advice, "\n"), want.advice, site)
		assert.Contains(t, d.Text, want.proof, site)
		made, err := c.Client.AddMandateWithResponse(t.Context(), client.MandateText{Text: d.Text})
		require.NoError(t, err)
		require.NotNil(t, made.JSON201, "what is drafted can be made: %s\n%s", d.Text, made.Body)
		assert.ElementsMatch(t, d.Names, made.JSON201.Names)
	}
	split := func(name string) *client.AddMandateResponse {
		made, err := c.Client.AddMandateWithResponse(t.Context(), client.MandateText{Text: "{name: " + name +
			", names: [a.tide.example, b.tide.example, c.tide.example, d.tide.example, e.tide.example], at_most: 2, ca: harbour, proof: {by: http, servers: [pier]}}"})
		require.NoError(t, err)
		return made
	}
	made := split("tides")
	require.NotNil(t, made.JSON201, string(made.Body))
	assert.Equal(t, []string{"tides-2", "tides-3"}, *made.JSON201.Also)
	assert.Equal(t, []string{"a.tide.example", "b.tide.example"}, made.JSON201.Names)
	last, err := c.Client.GetMandateWithResponse(t.Context(), "tides-3")
	require.NoError(t, err)
	assert.Equal(t, []string{"e.tide.example"}, last.JSON200.Names)
	ended, err := c.Client.RemoveMandateWithResponse(t.Context(), "tides", &client.RemoveMandateParams{})
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, ended.StatusCode())
	assert.Equal(t, http.StatusConflict, split("tides").StatusCode(), "another has the name of a part")
	first, err := c.Client.GetMandateWithResponse(t.Context(), "tides")
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotFound, first.StatusCode(), "all are made, or none")

	d, words := c.draft(t, "", "")
	require.Empty(t, words)
	assert.ElementsMatch(t, []string{"new.lantern.example", "newer.lantern.example"}, d.Names,
		"what no certificate covers")
	d, _ = c.draft(t, "pier", "LANTERN.example")
	assert.Contains(t, d.Advice, `~^(?<x>.+)\.pier\.example$ is a pattern, left out: add the names it stands for`)
	_, words = c.draft(t, "pier", c.dir+"/sites/b:4")
	assert.Contains(t, words, "has a name to order a certificate for")
	_, words = c.draft(t, "pier", "no.such.example")
	assert.Contains(t, words, "see its sites: insegna server sites pier")
	_, words = c.draft(t, "nowhere", "a.quay.example")
	assert.Contains(t, words, "nowhere")
}
