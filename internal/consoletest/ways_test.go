package consoletest

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// TestOtherWaysInTheConsole makes a CA of one's own, has it issue and revoke, carries a
// request out and its reply back, and takes a certificate in.
func TestOtherWaysInTheConsole(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("quay root", nil)
	r.Apply(t, `estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
servers:
  - {name: quay, addresses: [127.0.0.1], ports: [1]}
hosts:
  - {name: a.lantern.example, at: [quay]}
cas:
  - {name: crew, by: private, profiles: [{name: server, names: ["*.crew.example"]}]}
  - {name: desk, by: hand, to: desk@ca.example, reply_days: 5}
mandates:
  - {name: rota, names: [rota.crew.example], ca: crew}
  - {name: slow, names: [b.lantern.example], ca: desk}
`, root)
	p := open(t, r.URL)
	fill := func(field, text string) { // in the place of what stands there
		eval[bool](p, fmt.Sprintf("(f => { f.focus(); f.select(); return true })(document.querySelector(%q))", field))
		p.do(chromedp.SendKeys(chromedp.CSS(field), text))
	}
	yes := func() { eval[bool](p, "window.confirm = () => true, true") }
	p.visit("/mandates", "[aria-label='List of CAs']")
	p.do(chromedp.Click(`//a[contains(., "crew: its certificates")]`))
	p.until(`document.querySelector("[aria-label='Make it']") !== null`)
	p.do(chromedp.SendKeys(chromedp.CSS("input[name=permitted]"), "*.crew.example"))
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Make the CA'] button[type=submit]")))
	p.until(`document.body.innerText.includes("is nothing a CA can be confined to")`)
	fill("input[name=permitted]", "crew.example, 10.0.0.0/8")
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Make the CA'] button[type=submit]")))
	p.until(`document.querySelector("[aria-label='List of its certificates']") !== null`)
	p.until(`document.body.innerText.includes("Nothing yet.")`)
	p.accessible()

	p.visit("/mandates/rota", "[aria-label='Order'] h2")
	yes()
	p.do(chromedp.Click(`//button[.="Order now"]`))
	p.until(`document.body.innerText.includes("its key lie in the safe")`)
	p.visit("/cas/crew", "[aria-label='List of what it has issued'] td")
	assert.Contains(t, p.text(), "rota.crew.example")
	request := func(host string) string {
		der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: []string{host}}, pkitest.NewKey())
		require.NoError(t, err)
		return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}))
	}
	sign := func(host string) {
		fill("textarea[name=request]", request(host))
		p.do(chromedp.Click(`//button[.="Issue"]`))
	}
	sign("a.lantern.example")
	p.until(`document.body.innerText.includes("a.lantern.example is none of *.crew.example")`)
	sign("printer.crew.example")
	p.until(`document.querySelector("[aria-label='Revoke printer.crew.example']") !== null`)
	yes()
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Revoke printer.crew.example']")))
	p.until(`document.querySelector("[aria-label='List of what it has issued']").innerText.includes("superseded")`)
	p.accessible()

	p.visit("/mandates/slow", "[aria-label='Order'] h2")
	yes()
	p.do(chromedp.Click(`//button[.="Order now"]`))
	p.until(`document.querySelector("[aria-label='The certificate request']") !== null`)
	assert.Contains(t, p.text(), "Its request waits to be sent.")
	p.do(chromedp.Click(`//button[.="Keep that it was sent"]`))
	p.until(`document.body.innerText.includes("to desk@ca.example, a reply is expected by")`)
	p.accessible()
	p.size(375, 800)
	assert.LessOrEqual(t, eval[int](p, "document.documentElement.scrollWidth"), 375)
	p.size(1280, 800)
	block, _ := pem.Decode([]byte(eval[string](p, `document.querySelector("[aria-label='The certificate request']").innerText`)))
	require.NotNil(t, block)
	csr, err := x509.ParseCertificateRequest(block.Bytes)
	require.NoError(t, err)
	reply := func(by *pkitest.Entity) string {
		cert := pkitest.Leaf(by, "b.lantern.example")
		der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: cert.SerialNumber, DNSNames: csr.DNSNames, NotBefore: cert.NotBefore,
			NotAfter: cert.NotAfter}, by.X509(), csr.PublicKey, by.Key)
		require.NoError(t, err)
		return string(certs.PEM(der))
	}
	paste := func(text string) {
		fill("[aria-label='Bring a reply back'] textarea", text)
		p.do(chromedp.Click(`//button[.="Bring it back"]`))
	}
	paste(string(certs.PEM(pkitest.Leaf(root, "b.lantern.example").Raw)))
	p.until(`document.body.innerText.includes("is for a key that no request here has")`)
	paste(reply(pkitest.CA("gull", nil)))
	p.until(`document.body.innerText.includes("bring the certificate of gull as well")`)
	paste(reply(root))
	p.until(`document.body.innerText.includes("its key lie in the safe")`)

	leaf := pkitest.Leaf(root, "kiosk.lantern.example")
	w := certs.Written{Form: certs.FormPKCS12, Passphrase: []byte("gull rope"), Old: true}
	data, err := w.Store(leaf.Key, pkitest.List(leaf), rand.Reader)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "kiosk.p12")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	p.visit("/mandates", "[aria-label='List of CAs']")
	p.do(chromedp.Click(`//summary[.="Take in a certificate with its key"]`))
	p.do(chromedp.SetUploadFiles(chromedp.CSS("[aria-label='Take a certificate in'] input[type=file]"), []string{file}))
	p.until(`document.body.innerText.includes("kiosk.p12")`)
	p.do(chromedp.Click(`//button[.="Take it in"]`))
	p.until(`document.body.innerText.includes("kiosk.p12 (a PKCS#12 container) is under a passphrase")`)
	p.do(chromedp.SendKeys(chromedp.CSS("[aria-label='Take a certificate in'] input[name=passphrase]"), "gull rope"), chromedp.Click(`//button[.="Take it in"]`))
	p.until(`document.body.innerText.includes("Taken in as the newest certificate of kiosk.lantern.example")`)
	p.accessible()
	assert.NotContains(t, p.text(), "gull rope")
}
