package service_test

import (
	"crypto/tls"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// TestHostsNobodyTypedAreLookedAt judges the sites of a server that the estate does not want
// there as it finds them, and watches them all where the server is declared so, for as long
// as it is.
func TestHostsNobodyTypedAreLookedAt(t *testing.T) {
	c := startConfigured(t)
	ended := pkitest.Leaf(c.root, "old.lantern.example", pkitest.Valid(-90*24*time.Hour, -12*24*time.Hour))
	c.write(t, "ended.pem", string(pemOf(ended)))
	c.lay(t, c.leaf, c.leaf)
	pair, own := ended.TLS(), c.leaf.TLS()
	at := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &pair }).Port()
	second := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &own }).Port()
	site := func(port uint16, names, file string) string {
		return fmt.Sprintf("server { listen 127.0.0.1:%d ssl; server_name %s; ssl_certificate %s; ssl_certificate_key ../a.key; }\n", port, names, file)
	}
	c.write(t, "sites/a", site(c.port, host, "../a.pem")+site(at, "old.lantern.example", "ended.pem")+site(second, "fine.lantern.example", "../a.pem")+
		site(1, "dead.lantern.example", "../a.pem"))
	file := func(more string, ports ...uint16) string {
		return fmt.Sprintf("estate: Ferries\naudiences:\n  - name: browsers\n    roots: [root.pem]\nservers:\n  - name: pier\n    kind: nginx\n"+
			"    addresses: [127.0.0.1]\n    ports: %s\n%s    reach: {by: local, configuration: %s/nginx.conf, test: 'true', reload: 'true'}\nhosts:\n  - {name: %s, at: ['pier:%d']}\n",
			strings.ReplaceAll(fmt.Sprint(ports), " ", ", "), more, c.dir, host, c.port)
	}
	found := func() map[string]string {
		out := map[string]string{}
		list, err := c.Client.ListFindingsWithResponse(t.Context(), nil)
		require.NoError(t, err)
		for _, f := range list.JSON200.Items {
			if f.Code == "not-in-estate" {
				out[strings.Fields(strings.TrimPrefix(f.Cause, "pier has a site for "))[0]] = string(f.Severity) + " " + f.Cause
				assert.Contains(t, f.Place, "estate.yaml")
			}
		}
		return out
	}
	c.Apply(t, file("", c.port), c.root)
	c.Survey(t)
	list := found()
	require.Len(t, list, 3)
	assert.Contains(t, list["old.lantern.example,"], "broken pier has a site for old.lantern.example, and the estate does not want it there; found there: the certificate ended 12 days ago")
	assert.Contains(t, list["fine.lantern.example,"], "broken pier has a site for fine.lantern.example")
	assert.Contains(t, list["fine.lantern.example,"], "the certificate does not cover fine.lantern.example")
	assert.Contains(t, list["dead.lantern.example,"], "found there: nothing listens at 127.0.0.1:1")
	count, err := c.Client.GetTodayWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, 3, count.JSON200.Findings.Broken, "it is no mute note")
	figures, err := c.Client.GetMetricsWithResponse(t.Context())
	require.NoError(t, err)
	for _, line := range []string{`insegna_findings{severity="broken"} 3.0`, `insegna_bindings{verdict="agreed"} 1.0`, "insegna_bindings_stale 0.0",
		"insegna_binding_ends_left 0.0", `insegna_surveys_missed{scope="whole estate"} 0.0`, `insegna_jobs{state="retryable"} 0.0`,
		fmt.Sprintf(`insegna_binding_end_timestamp_seconds{host="%s",server="pier",endpoint="127.0.0.1:%d"} %s`, host, c.port,
			strconv.FormatFloat(float64(c.leaf.NotAfter.Unix()), 'g', -1, 64)), "# EOF"} {
		assert.Contains(t, string(figures.Body), "\n"+line+"\n")
	}

	hosts := func() (out []string) {
		e, err := c.Client.GetEstateWithResponse(t.Context())
		require.NoError(t, err)
		for _, h := range e.JSON200.Hosts {
			by := ""
			if h.By != nil {
				by = " by " + *h.By
			}
			out = append(out, h.Name+by)
		}
		return out
	}
	elsewhere := strings.NewReplacer("hosts:\n", fmt.Sprintf("  - {name: quay, addresses: [127.0.0.1], ports: [%d]}\nhosts:\n  - {name: else.lantern.example, at: [quay]}\n", second))
	c.write(t, "sites/b", site(at, "else.lantern.example", "../a.pem"))
	c.Apply(t, elsewhere.Replace(file("    hosts: all\n", c.port, at)), c.root)
	c.Survey(t)
	assert.Equal(t, []string{"else.lantern.example", host, "old.lantern.example by insegna"}, hosts(), "where a person wants one is for that person to say")
	assert.Contains(t, found(), "else.lantern.example,")
	theirs, err := c.Client.ListBindingsWithResponse(t.Context(), &client.ListBindingsParams{Q: new("else.")})
	require.NoError(t, err)
	assert.Len(t, theirs.JSON200.Items, 1)
	require.NoError(t, os.Remove(filepath.Join(c.dir, "sites/b")))
	c.Apply(t, file("    hosts: all\n", c.port, at), c.root)
	c.Survey(t)
	assert.Equal(t, []string{host, "old.lantern.example by insegna"}, hosts(), "at the ports that are declared")
	require.Eventually(t, func() bool {
		list, err := c.Client.ListBindingsWithResponse(t.Context(), &client.ListBindingsParams{Q: new("old.")})
		return err == nil && len(list.JSON200.Items) == 1 && list.JSON200.Items[0].Verdict == client.VerdictBroken
	}, 20*time.Second, 50*time.Millisecond, "it is looked at without being asked")
	assert.NotContains(t, found(), "old.lantern.example,")
	c.Survey(t)
	assert.Len(t, hosts(), 2, "once")
	c.write(t, "sites/a", site(c.port, host, "../a.pem"))
	c.Survey(t)
	assert.Len(t, hosts(), 2, "one whose site is gone stays, and is a finding")
	assert.Contains(t, c.Findings(t), "not-configured old.lantern.example at pier")
	c.Apply(t, file("", c.port, at), c.root)
	assert.Equal(t, []string{host}, hosts())
}

func pemOf(e *pkitest.Entity) []byte {
	return certs.PEM(e.Raw)
}
