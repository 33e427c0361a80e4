package consoletest

import (
	"crypto/tls"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// TestWhatIsToComeInTheConsole foresees renewals, plans a drill and has it done, asks
// what breaks without an intermediate, takes a certificate out with its key, and rolls
// the CA over.
func TestWhatIsToComeInTheConsole(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("quay root", nil)
	middle := pkitest.CA("quay middle", root)
	leaf := pkitest.Leaf(middle, "a.lantern.example")
	shown := leaf.TLS(middle)
	at := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &shown })
	r.Apply(t, fmt.Sprintf(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
servers:
  - {name: quay, addresses: [127.0.0.1], ports: [%d]}
hosts:
  - {name: a.lantern.example, at: [quay]}
cas:
  - {name: crew, by: private, budget: {certificates: 2, days: 90}, profiles: [{name: server, days: 30}]}
  - {name: gull, by: private}
mandates:
  - {name: rota, names: [rota.crew.example], ca: crew, otherwise: [gull]}
  - {name: galley, names: [galley.crew.example], ca: crew}
`, at.Port()), root)
	r.Survey(t)
	p := open(t, r.URL)
	p.visit("/foresee", "main h1")
	p.until(`document.body.innerText.includes("Nothing renews itself yet")`)
	p.accessible()
	for _, ca := range []string{"crew", "gull"} {
		made, err := r.Client.MakeAuthorityWithResponse(t.Context(), ca, client.AuthorityWish{})
		require.NoError(t, err)
		require.NotNil(t, made.JSON201, string(made.Body))
	}
	for _, m := range []string{"rota", "galley"} {
		p.visit("/mandates/"+m, "[aria-label='Order'] h2")
		eval[bool](p, "window.confirm = () => true, true")
		p.do(chromedp.Click(`//button[.="Order now"]`))
		p.until(`document.body.innerText.includes("its key lie in the safe")`)
		assert.NotContains(t, p.text(), "Take it out, with its key", "who may not take keys sees no such form")
	}

	p.visit("/foresee", "figure svg path")
	assert.Regexp(t, `^2 certificates that renew themselves: \d+ renewals in the coming year, at most \d on one day; the budget of crew does not carry it$`, eval[string](p, "document.querySelector('h1').innerText"))
	assert.Contains(t, p.text(), "2 in 90 days: not enough on")
	bars := `document.querySelector("figure svg path").getAttribute("d").split("M").length - 1 + document.querySelectorAll("figure svg path.most[d^=M]").length`
	days := eval[int](p, bars)
	assert.Greater(t, days, 20, "a bar for each day with something to renew")
	p.do(chromedp.Click(`//button[.="If lives end at 47 days"]`))
	p.until(`location.search === "?limit=47" && document.querySelector("tr[aria-current]").innerText.startsWith("47 days")`)
	p.accessible()
	p.size(375, 800)
	assert.LessOrEqual(t, eval[int](p, "document.documentElement.scrollWidth"), 375)
	p.size(1280, 800)

	p.do(chromedp.SendKeys(chromedp.CSS("input[name=what]"), "crow"), chromedp.Click(`//button[.="Plan it"]`))
	p.until(`document.querySelector("form[aria-label='Plan a drill'] [role=alert]")?.innerText.includes("crow") ?? false`)
	eval[bool](p, `(f => { f.focus(); f.select(); return true })(document.querySelector("input[name=what]"))`)
	p.do(chromedp.SendKeys(chromedp.CSS("input[name=what]"), "crew"), chromedp.Click(`//button[.="Plan it"]`))
	p.until(`location.pathname === "/drills/1" && document.querySelector("[aria-label='List of the work']") !== null`)
	for _, part := range []string{"Drill 1: the CA crew is gone", "1 certificate would be replaced after", "gull gives 1", "its mandate names no other CA"} {
		assert.Contains(t, p.text(), part)
	}
	p.accessible()
	eval[bool](p, "window.confirm = text => text === 'Order 1 certificate now, and install them?', true")
	p.do(chromedp.Click(`//button[.="Do it"]`))
	p.until(`document.body.innerText.includes("All 1 replaced")`)
	p.visit("/foresee", "[aria-label='List of drills'] td")
	assert.Contains(t, p.text(), "ca crew, within 24 h")

	list, err := r.Client.ListCertificatesWithResponse(t.Context(), &client.ListCertificatesParams{Q: ptr("quay middle")})
	require.NoError(t, err)
	p.visit("/certificates/"+certs.FingerprintOf(middle.Raw).String(), "main h1")
	require.NotEmpty(t, list.JSON200.Items)
	p.do(chromedp.Click(`//a[.="What breaks without it"]`))
	p.until(`document.querySelector("h1")?.innerText === "Without quay middle, 1 binding breaks"`)
	assert.Contains(t, p.text(), "a.lantern.example")
	p.accessible()

	keys := true
	_, err = r.Client.ChangePersonWithResponse(t.Context(), servicetest.Keeper, client.PersonChange{Keys: &keys})
	require.NoError(t, err)
	p.visit("/mandates/galley", "[aria-label='Order'] h2")
	eval[bool](p, `URL.createObjectURL = (blob) => { blob.text().then((v) => { window.saved = v }); return "" }, HTMLAnchorElement.prototype.click = () => {}, true`)
	p.do(chromedp.Click(`//summary[.="Take it out, with its key"]`), chromedp.SendKeys(chromedp.CSS("input[name=reason]"), "moves to the galley"))
	p.do(chromedp.Click(`//button[.="With the root at its end"]`))
	p.accessible()
	p.do(chromedp.Click(`//button[.="Save it"]`))
	p.until(`document.body.innerText.includes("Saved: ") && window.saved !== undefined`)
	assert.Equal(t, 3, strings.Count(eval[string](p, "window.saved"), "BEGIN CERTIFICATE"), "its own, the CA's, and the root")
	assert.Equal(t, 1, strings.Count(eval[string](p, "window.saved"), "PRIVATE KEY-----\n")/2, "one key")
	p.visit("/journal", "table")
	assert.Contains(t, p.text(), "moves to the galley")

	p.visit("/cas/crew", "[aria-label='Roll over'] h2")
	eval[bool](p, "window.confirm = () => true, true")
	p.do(chromedp.Click(`//button[.="Make the next root"]`))
	p.until(`document.querySelector("[aria-label='Roll over']").innerText.includes("vouches for it, and servers send that along")`)
	p.accessible()
	p.do(chromedp.Click(`//button[.="End the way by the former root"]`))
	p.until(`document.querySelector("[aria-label='Roll over']").innerText.includes("Rolling over makes a new root")`)
}

func ptr[T any](v T) *T { return &v }
