package service_test

import (
	"crypto/tls"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// TestAHostIsTakenIn takes hosts into the estate beside its file, several at once: they are
// looked at, stay when the file is applied anew, are the file's once that declares them, and
// go with their server, which is said before.
func TestAHostIsTakenIn(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("root", nil)
	leaf := pkitest.Leaf(root, "a.lantern.example").TLS()
	at := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &leaf })
	file := func(more string) string {
		return fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: quay, "+
			"addresses: [127.0.0.1], ports: [%d]}\nhosts:\n  - {name: a.lantern.example, at: [quay]}\n%s", at.Port(), more)
	}
	r.Apply(t, file(""), root)
	r.Survey(t)
	require.Empty(t, r.Findings(t))
	add := func(name string, at ...string) (int, string) {
		v, err := r.Client.AddHostWithResponse(t.Context(), client.HostRequest{Name: name, At: at})
		require.NoError(t, err)
		return v.StatusCode(), string(v.Body)
	}
	hosts := func() (out []string) {
		e, err := r.Client.GetEstateWithResponse(t.Context())
		require.NoError(t, err)
		for _, h := range e.JSON200.Hosts {
			by := "file"
			if h.By != nil {
				by = *h.By
			}
			out = append(out, h.Name+" "+by)
		}
		return out
	}
	var group sync.WaitGroup
	var mu sync.Mutex
	taken := 0
	for i := range 6 {
		group.Go(func() {
			for code := 409; code == 409; { // somebody else was quicker
				code, _ = add(fmt.Sprintf("h%d.lantern.example", i), "quay")
				if code == 201 {
					mu.Lock()
					taken++
					mu.Unlock()
				}
			}
		})
	}
	group.Wait()
	assert.Equal(t, 6, taken)
	assert.Len(t, hosts(), 7, "none is lost")
	code, said := add("BÜRO.lantern.example", fmt.Sprintf("quay:%d", at.Port()))
	require.Equal(t, 201, code, said)
	for i := range 5 {
		gone, err := r.Client.RemoveHostWithResponse(t.Context(), fmt.Sprintf("h%d.lantern.example", i))
		require.NoError(t, err)
		require.Equal(t, 204, gone.StatusCode())
	}
	assert.Equal(t, []string{"a.lantern.example file", "h5.lantern.example keeper", "xn--bro-hoa.lantern.example keeper"}, hosts())
	r.Survey(t)
	assert.ElementsMatch(t, []string{"other-site-answers h5.lantern.example at quay", "other-site-answers xn--bro-hoa.lantern.example at quay"}, r.Findings(t))

	for _, c := range [][3]string{{"a.lantern.example", "quay", "is declared in the estate file, at estate.yaml:7"},
		{"h5.lantern.example", "quay", "is taken in already, by keeper"}, {"b.lantern.example", "pier", "unknown server"},
		{"b.lantern.example", "quay:1", "has no port 1"}, {"not a name", "quay", "is not a host name"}} {
		code, said := add(c[0], c[1])
		assert.GreaterOrEqual(t, code, 400)
		assert.Contains(t, said, c[2])
	}
	for name, part := range map[string]string{"a.lantern.example": "take it out there", "nobody.example": "nobody.example"} {
		refused, err := r.Client.RemoveHostWithResponse(t.Context(), name)
		require.NoError(t, err)
		assert.Contains(t, string(refused.Body), part)
	}

	r.Apply(t, file("  - {name: h5.lantern.example, at: [quay]}\n"), root)
	assert.Equal(t, []string{"a.lantern.example file", "h5.lantern.example file", "xn--bro-hoa.lantern.example keeper"}, hosts())
	r.Apply(t, file(""), root)
	assert.Len(t, hosts(), 2, "what was the file's goes with it")
	moved := strings.NewReplacer("name: quay", "name: pier", "[quay]", "[pier]").Replace(file(""))
	preview, err := r.Client.PreviewEstateWithResponse(t.Context(), servicetest.File(moved, root))
	require.NoError(t, err)
	var gone []string
	for _, c := range preview.JSON200.Changes {
		if c.Change == client.EstateChangeChangeGone {
			gone = append(gone, c.Kind+" "+c.Name)
		}
	}
	assert.Equal(t, []string{"server quay", "host xn--bro-hoa.lantern.example"}, gone)
	r.Apply(t, moved, root)
	assert.Equal(t, []string{"a.lantern.example file"}, hosts())
}
