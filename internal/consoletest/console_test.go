// Package consoletest drives the console in headless Chromium.
package consoletest

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/demo"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/endpoint"
)

var browser context.Context

func TestMain(m *testing.M) {
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox,
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1"),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("no-pings", true), chromedp.Env("TZ=UTC", "LANG=C.UTF-8"))
	actx, stop := chromedp.NewExecAllocator(context.Background(), opts...)
	var cancel context.CancelFunc
	browser, cancel = chromedp.NewContext(actx)
	_ = cancel
	if err := chromedp.Do(browser); err != nil {
		fmt.Fprintln(os.Stderr, "cannot start /usr/bin/chromium; install Debian's package chromium:", err)
		os.Exit(1)
	}
	defer stop()
	servicetest.Main(m)
}

// page is a tab on one service that fails its test on any console error and
// on any request beyond the service.
type page struct {
	t   *testing.T
	ctx context.Context
	url string

	quiet bool // what the browser complains about is expected
}

// open opens a tab in which the keeper is signed in.
func open(t *testing.T, url string) *page {
	p := atTheDoor(t, url)
	_, err := chromedp.Call(p.ctx, network.SetCookie,
		network.SetCookieParams{Name: "insegna_session", Value: servicetest.Session(t, url), URL: url})
	require.NoError(t, err)
	return p
}

// atTheDoor opens a tab in which nobody is signed in.
func atTheDoor(t *testing.T, url string) *page {
	ctx, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	ctx, stop := context.WithTimeout(ctx, 5*time.Minute)
	t.Cleanup(func() { stop(); cancel() })
	messages := chromedp.Console(ctx)
	var mu sync.Mutex
	var ills []string
	note := func(s string) { mu.Lock(); ills = append(ills, s); mu.Unlock() }
	go func() {
		for m, err := range messages {
			if text := fmt.Sprintf("%+v", m); err == nil && strings.Contains(text, "rror") &&
				!strings.Contains(text, "status of 4") {
				note(text)
			}
		}
	}()
	require.NoError(t, chromedp.Listen(ctx, func(ev any) {
		sent, ok := ev.(*network.EventRequestWillBeSent)
		if !ok {
			return
		}
		if u := sent.Request.URL; !strings.HasPrefix(u, url) && !strings.HasPrefix(u, "data:") &&
			!strings.HasPrefix(u, "blob:") {
			note("a request beyond the service: " + u)
		}
	}))
	p := &page{t: t, ctx: ctx, url: url}
	t.Cleanup(func() {
		mu.Lock()
		defer mu.Unlock()
		if !p.quiet {
			assert.Empty(t, ills)
		}
	})
	p.size(1280, 800)
	return p
}

func (p *page) do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.ctx, actions...))
}

func (p *page) size(w, h int64) { p.do(chromedp.EmulateViewport(w, h)) }

func (p *page) visit(path, wait string) {
	p.t.Helper()
	p.do(chromedp.Navigate(p.url+path), chromedp.WaitVisible(chromedp.CSS(wait)))
	eval[bool](p, `document.fonts.ready.then(() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => done(true)))))`)
}

func eval[T any](p *page, js string) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](js, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	return v
}

// until waits for a condition in the page.
func (p *page) until(js string) {
	p.t.Helper()
	for end := time.Now().Add(90 * time.Second); !eval[bool](p, js); time.Sleep(30 * time.Millisecond) {
		if time.Now().After(end) {
			require.FailNow(p.t, js+" never came to be; the page says:\n"+p.text())
		}
	}
}

func (p *page) text() string { return eval[string](p, "document.body.innerText") }

// keys presses keys one after the other.
func (p *page) keys(list ...string) {
	p.t.Helper()
	for _, k := range list {
		p.do(chromedp.KeyEvent(k))
	}
}

var axe = sync.OnceValue(func() string {
	js, err := os.ReadFile(filepath.Join("..", "..", "console", "node_modules", "axe-core", "axe.min.js"))
	if err != nil {
		panic(err)
	}
	return string(js)
})

// accessible runs axe-core on the page as it stands, or on one part of it.
func (p *page) accessible(part ...string) {
	p.t.Helper()
	where := "document"
	if len(part) > 0 {
		where = fmt.Sprintf("%q", part[0])
	}
	found := eval[string](p,
		axe()+`;axe.run(`+where+
			`).then(r => JSON.stringify(r.violations.map(v => [v.id, v.nodes.slice(0, 3).map(n => n.html + ' ' + n.failureSummary)])))`)
	assert.JSONEq(p.t, "[]", found)
}

func demoService(t *testing.T) *servicetest.Running {
	e, err := demo.Start(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(e.Stop)
	r := servicetest.Start(t)
	r.ApplyFile(t, e.File)
	r.Survey(t)
	return r
}

func TestTheConsoleOnTheDemoEstate(t *testing.T) {
	r := demoService(t)
	certificates, err := r.Client.ListCertificatesWithResponse(t.Context(), &client.ListCertificatesParams{})
	require.NoError(t, err)
	first := certificates.JSON200.Items[0].Sha256
	pages := []struct{ path, wait, says string }{
		{"/", "section li h3", "13 bindings are broken, 5 need you by a known date, 16 agree."},
		{"/bindings", "[aria-label='Bindings by host']", "35 bindings, 30 hosts, 6 servers"},
		{"/certificates", "[role=gridcell]", "32 certificates met"},
		{"/certificates/" + first, "section[aria-label^='Chain for']", "booking.lanterncoast.example"},
		{"/servers", "[aria-label='Servers']", "6 servers: 6 read, 5 with something broken"},
		{"/servers/pier-1", "[aria-label='Sites'] table", "14 sites at 7 listeners"},
		{"/servers/quay-lb", "[aria-label='Sites'] table", "7 sites at 4 listeners"},
		{"/servers/pier-1/text", "ol[aria-label$='nginx.conf']", "include sites-enabled/*;"},
		{"/servers/nowhere", "main h1", "No such server"},
		{"/surveys", "table", "1 survey"},
		{"/journal", "table", "The journal is whole: "},
		{"/mandates", "[aria-label='Mandates']", "6 mandates: 0 seen by visitors, 0 failed, 6 not there yet"},
		{"/mandates/timetable", "[aria-label='Order'] h2", "Never ordered"},
		{"/mandates/nothing", "main h1", "No such mandate"},
		{"/cas/crew", "[aria-label='Make it']", "crew has not been made yet"},
		{"/settings", "[aria-label='List of people']", "You are keeper, admin"},
		{"/surveys/1", "table", "Survey 1: 54 of 58 answered with a certificate"},
		{"/findings", "main ul li h3", "34 open findings"},
		{"/findings?group=freight", "main ul li h3", "cargo.lanterncoast.example"},
		{"/findings/1", "main ul li h3", "Finding 1"},
		{"/findings/99999", "main h1", "there is no finding 99999"},
		{"/notices", "[aria-label='List of owners']", "3 owners told of what is wrong"},
		{"/estate", "[aria-label='List of hosts']", "30 hosts on 6 servers"},
		{"/nowhere", "main h1", "No such page"},
		{"/certificates/0000000000", "main h1", "No such certificate"},
	}
	for _, c := range pages {
		t.Run("opens "+c.path, func(t *testing.T) {
			p := open(t, r.URL)
			p.visit(c.path, c.wait)
			p.until(fmt.Sprintf("document.body.innerText.includes(%q)", c.says))
			assert.Contains(t, p.text(), c.says)
			p.accessible()
			for _, width := range []int64{1280, 375} {
				p.size(width, 800)
				assert.LessOrEqual(t, eval[int](p, "document.documentElement.scrollWidth"), int(width), "no sideways scrolling")
			}
			_, err := chromedp.Call(p.ctx, emulation.SetEmulatedMedia,
				emulation.SetEmulatedMediaParams{
					Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: "dark"}}})
			require.NoError(t, err)
			p.accessible()
		})
	}

	t.Run("shows what stands behind a server, what lies on it and what changed", func(t *testing.T) {
		p := open(t, r.URL)
		p.visit("/servers/freight-1?q=tracking", "[aria-label='Sites'] table")
		p.until(`document.querySelector("[aria-label='Sites']").innerText.includes("over TLS and verified")`)
		p.until(`document.querySelector("[aria-label='Sites'] .bad").innerText.includes("its certificate ended on")`)
		p.visit("/servers/pier-1?unused=true", "[aria-label='Table of files']")
		p.until(`document.querySelectorAll("[aria-label='Table of files'] tbody tr").length === 2`)
		files := eval[string](p, `document.querySelector("[aria-label='Table of files']").innerText`)
		assert.Contains(t, files, "everybody on the machine may read it (0644)")
		assert.Contains(t, files, "can go")
		p.until(`document.querySelector("[aria-label='What changed']").innerText.includes("It has read the same")`)
		p.accessible()
	})

	t.Run("lets a finding be, and opens it again", func(t *testing.T) {
		p := open(t, r.URL)
		p.visit("/findings?q=crane&severity=due", "main ul li h3")
		p.do(chromedp.Click(chromedp.CSS("button[aria-label^='Accept key-of-another-certificate']")))
		p.until(`document.querySelector("[role=dialog] input[name=reason]") !== null`)
		p.do(chromedp.SendKeys(chromedp.CSS("[role=dialog] input[name=reason]"), "the crane is sold"))
		p.do(chromedp.Click(chromedp.CSS("[role=dialog] button[type=submit]")))
		p.until(`document.body.innerText.includes("No finding fits")`)
		p.visit("/findings?state=accepted", "main ul li h3")
		p.until(`document.body.innerText.includes("by keeper: the crane is sold")`)
		p.visit("/", "section li h3")
		p.until(`document.body.innerText.includes("and 1 accepted")`)
		p.visit("/findings?state=accepted", "main ul li h3")
		p.do(chromedp.Click(chromedp.CSS("button[aria-label^='Open again: key-of-another-certificate']")))
		p.until(`document.body.innerText.includes("No finding fits")`)
	})

	t.Run("shows what an owner would be told", func(t *testing.T) {
		p := open(t, r.URL)
		p.visit("/notices", "[aria-label='List of owners']")
		p.do(chromedp.Click(chromedp.CSS("button[aria-label='Preview of what freight-desk would be told']")))
		p.until(`!!document.querySelector("[aria-label='Preview']")?.innerText.includes("tracking.lanterncoast.example at freight-1")`)
		assert.NotContains(t, eval[string](p, `document.querySelector("[aria-label='Preview']").innerText`), "kiosk-admin")
		p.accessible()
		p.visit("/settings", "[aria-label='Calendar']")
		p.do(chromedp.Click(`//summary[.="Make an address"]`))
		p.do(chromedp.SendKeys(chromedp.CSS("form[aria-label='Make an address'] input[name=name]"), "the wall"))
		p.do(chromedp.Click(`//button[.="Make it" and ancestor::form[@aria-label="Make an address"]]`))
		p.until(`!!document.querySelector("[aria-label='Calendar'] code")?.innerText.endsWith(".ics")`)
		at := eval[string](p, `document.querySelector("[aria-label='Calendar'] code").innerText`)
		resp, err := servicetest.Anonymous.Get(at)
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		assert.Equal(t, "text/calendar; charset=utf-8", resp.Header.Get("Content-Type"))
	})

	t.Run("takes a host in, changes it and lets it go", func(t *testing.T) {
		p := open(t, r.URL)
		p.visit("/estate", "[aria-label='List of hosts']")
		p.do(chromedp.Click(`//summary[.="Take a host in"]`))
		field := func(name, text string) {
			p.do(chromedp.SendKeys(chromedp.CSS("form input[name="+name+"]"), text))
		}
		field("name", "pop-up.lanterncoast.example")
		field("at", "nowhere:8443")
		p.do(chromedp.Click(chromedp.CSS("form[aria-label='Take a host in'] button[type=submit]")))
		p.until(`!!document.querySelector("form .says")?.innerText.includes("unknown server")`)
		eval[any](p, `document.querySelector("form input[name=at]").select()`)
		field("at", "pier-1:8443")
		p.do(chromedp.Click(chromedp.CSS("form[aria-label='Take a host in'] button[type=submit]")))
		p.until(`document.body.innerText.includes("taken in by keeper")`)
		p.do(chromedp.Click(chromedp.CSS("button[aria-label='Change pop-up.lanterncoast.example']")))
		p.until(`document.querySelector("form[aria-label^='Change pop-up'] input[name=tags]") !== null`)
		p.do(chromedp.SendKeys(chromedp.CSS("form[aria-label^='Change pop-up'] input[name=tags]"), "summer"))
		p.do(chromedp.Click(chromedp.CSS("form[aria-label^='Change pop-up'] button[type=submit]")))
		p.until(`[...document.querySelectorAll("[aria-label='List of hosts'] tr")].some((r) => r.innerText.includes("pop-up") && r.innerText.includes("summer"))`)
		eval[any](p, `(window.confirm = () => true, 1)`)
		p.do(chromedp.Click(chromedp.CSS("button[aria-label='Let it go: pop-up.lanterncoast.example']")))
		p.until(`!document.body.innerText.includes("pop-up.lanterncoast.example")`)
		p.do(chromedp.Click(`//summary[.="Change it here"]`))
		p.do(chromedp.Click(`//button[.="What it changes"]`))
		p.until(`document.body.innerText.includes("It declares what is in force already.")`)
		p.accessible()
	})

	t.Run("filters, and keeps the filter in the address", func(t *testing.T) {
		p := open(t, r.URL)
		p.visit("/bindings", "[aria-label='Bindings by host']")
		p.do(chromedp.Click(`//button[.="broken"]`))
		p.until(`document.querySelectorAll("[aria-label='Bindings by host'] button").length === 13`)
		assert.Contains(t, eval[string](p, "location.search"), "verdict=broken")
		p.visit("/bindings?verdict=at-odds&q=booking", "[aria-label='Bindings by host']")
		p.until(`document.querySelectorAll("[aria-label='Bindings by host'] button").length === 1`)
		assert.Contains(t,
			eval[string](p, "document.querySelector('main svg[aria-label*=booking]').getAttribute('aria-label')"),
			"booking.lanterncoast.example: at odds; wanted agrees, configured and served differ")
		p.visit("/certificates?within=7", "[role=gridcell]")
		assert.Contains(t, p.text(), "6 certificates that fit")
		p.visit("/certificates?q=nothing-like-it", "h2")
		assert.Contains(t, p.text(), "No certificate fits")
	})

	t.Run("leads from a finding to the line that causes it", func(t *testing.T) {
		p := open(t, r.URL)
		p.visit("/servers/freight-1", "[aria-label='Findings'] a")
		p.do(chromedp.Click(`(//section[@aria-label="Findings"]//a[contains(@href, "crane")])[1]`))
		p.until(`document.querySelector("li.here")?.innerText.includes("SSLCertificateKeyFile crane.key") ?? false`)
		assert.Contains(t, p.text(), "key-of-another-certificate: the key ")
		p.accessible()
	})

	t.Run("says which site answers for a name, and why", func(t *testing.T) {
		p := open(t, r.URL)
		p.visit("/servers/kiosk-gw", "[aria-label='Host name']")
		p.do(chromedp.SendKeys(`//input[@aria-label="Host name"]`, "moorings.lanterncoast.example"+kb.Enter))
		p.until(`document.querySelector("[aria-label='Answers']")?.innerText.includes("it is the only site at") ?? false`)
		assert.Contains(t, eval[string](p, "location.search"), "host=moorings")
		p.visit("/servers/pier-2?force=false", "[aria-label='Sites'] table")
		assert.Contains(t, eval[string](p, `document.querySelector("[aria-label='Sites'] tbody").innerText`),
			"not switched on")
	})

	t.Run("works by keyboard only", func(t *testing.T) {
		p := open(t, r.URL)
		p.visit("/", "section li h3")
		p.keys("/", kb.Backspace) // the protocol types the slash even though the page refuses it
		assert.Equal(t, "Find a host, server or address",
			eval[string](p, "document.activeElement.getAttribute('aria-label')"))
		p.keys(strings.Split("moorings", "")...)
		p.keys(kb.Enter)
		p.until(`location.pathname === "/bindings" && document.querySelectorAll("[aria-label='Bindings by host'] button").length === 1`)
		p.tabTo(`document.activeElement.closest("[aria-label='Bindings by host']")`)
		p.keys(kb.Enter)
		p.until(`document.querySelector("[role=dialog]")?.innerText.includes("another site answers")`)
		p.accessible("[role=dialog]")
		p.keys(kb.Escape)
		p.until(`!document.querySelector("[role=dialog]")`)
		p.visit("/certificates", "[role=gridcell]")
		p.tabTo(`document.activeElement.closest("[role=grid]")`)
		p.keys(kb.ArrowDown)
		p.until(`document.activeElement.closest("[role=row]")?.innerText.includes("lanterncoast")`)
		p.keys(kb.Enter)
		p.until(`/^\/certificates\/[0-9a-f]{64}$/.test(location.pathname)`)
	})
}

// tabTo presses Tab until a condition on the focus holds.
func (p *page) tabTo(js string) {
	p.t.Helper()
	for range 40 {
		if eval[bool](p, "!!("+js+")") {
			return
		}
		p.keys(kb.Tab)
	}
	require.Fail(p.t, "Tab never reaches "+js)
}

// TestALiveSurvey starts a survey in the page and follows it: a silent
// endpoint holds it for a second.
func TestALiveSurvey(t *testing.T) {
	r := servicetest.Start(t)
	p := open(t, r.URL)
	p.visit("/", "main h1")
	assert.Contains(t, p.text(), "No estate yet")
	p.accessible()

	silent, err := endpoint.Start("127.0.0.1:0", endpoint.Silent)
	require.NoError(t, err)
	t.Cleanup(silent.Close)
	root := pkitest.CA("root", nil)
	pair := pkitest.Leaf(root, "a.lantern.example").TLS()
	good := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &pair })
	_, dead, _ := strings.Cut(silent.Address(), ":")
	r.Apply(t, fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: "+
		"quay, addresses: [127.0.0.1], ports: [%d, %s]}\nhosts:\n  - {name: a.lantern.example, at: [quay]}\n", good.Port(),
		dead), root)

	p.visit("/", "main h2")
	assert.Contains(t, p.text(), "Nothing has been looked at yet")
	p.visit("/surveys", "main h2")
	p.do(chromedp.Click(`//button[.="Survey the estate now"]`))
	p.until(`document.querySelector("[role=progressbar]")?.getAttribute("aria-valuenow") === "2"`)
	p.until(`!document.querySelector("[role=progressbar]") && document.querySelector("[aria-label=Surveys] table")?.innerText.includes("finished")`)
	p.until(`document.querySelector("[aria-label=Schedule] table")?.innerText.includes("whole estate\t6h")`)
	p.visit("/", "section li h3")
	var shown []string
	require.NoError(t,
		json.Unmarshal(
			[]byte(eval[string](p, `JSON.stringify([...document.querySelectorAll("li code")].map(e => e.innerText))`)), &shown))
	assert.Equal(t, []string{"silent"}, shown)
}

// TestACertificatesPage reads the picture of a chain, the places of use and
// the findings, and follows a link up the chain.
func TestACertificatesPage(t *testing.T) {
	r := demoService(t)
	find := func(q string) client.Certificate {
		resp, err := r.Client.ListCertificatesWithResponse(t.Context(), &client.ListCertificatesParams{Q: &q})
		require.NoError(t, err)
		require.Len(t, resp.JSON200.Items, 1)
		return resp.JSON200.Items[0]
	}
	p := open(t, r.URL)
	p.visit("/certificates/"+find("roster").Sha256, "section[aria-label^='Chain for']")
	chain := eval[string](p, `document.querySelector("[aria-label='Chain for in-house']").innerText`)
	assert.Contains(t, chain, "Clients (in-house) trust it.")
	assert.Contains(t, chain, "Lantern Coast Crew CA\nnot sent by the server")
	assert.Contains(t, chain, "Lantern Coast Crew Root\nanchor")
	browsers := eval[string](p, `document.querySelector("[aria-label='Chain for browsers']").innerText`)
	assert.Contains(t, browsers, "Clients (browsers) do not trust it.")
	assert.Contains(t, p.text(), "chain-incomplete")

	p.visit("/certificates/"+find("tickets").Sha256, "section[aria-label^='Chain for']")
	assert.Equal(t, 3,
		eval[int](p,
			`[...document.querySelectorAll("[aria-label='Sightings'] tbody tr")].filter(r => r.innerText.includes("tickets.")).length`))
	assert.Contains(t,
		eval[string](p, `document.querySelector("[role=img][aria-label^='Valid from']").getAttribute("aria-label")`),
		"46 days left")
	p.do(chromedp.Click(`//section[@aria-label="Chain for browsers"]//a[.="Harbour Light Issuing CA 2"]`))
	p.until(`document.querySelector("h1")?.innerText === "Harbour Light Issuing CA 2"`)
	assert.Contains(t, p.text(), "None: it is no certificate for a host.")
}

// TestTablesSortChooseColumnsAndSave works the certificates' table.
func TestTablesSortChooseColumnsAndSave(t *testing.T) {
	r := demoService(t)
	p := open(t, r.URL)
	first := `(document.querySelector("[role=row][aria-rowindex='2']")?.innerText ?? "")`
	p.visit("/certificates", "[role=gridcell]")
	assert.Contains(t, eval[string](p, first), "booking.lanterncoast.example")
	p.do(chromedp.Click(`//*[@role="columnheader"][contains(., "Ends")]`))
	p.until(first + `.includes("lost-property")`)
	assert.Contains(t, eval[string](p, "location.search"), "sort=-ends")
	assert.Equal(t, "descending",
		eval[string](p,
			`document.querySelector("[role=columnheader][aria-sort]:not([aria-sort=none])").getAttribute("aria-sort")`))

	p.do(chromedp.Click(`//button[starts-with(normalize-space(.), "Columns")]`),
		chromedp.WaitVisible(chromedp.CSS("[role=menu]")))
	p.do(chromedp.Click(`//*[starts-with(@role, "menuitem")][contains(., "SHA-256")]`))
	p.keys(kb.Escape)
	p.until(`[...document.querySelectorAll("[role=columnheader]")].some(h => h.innerText.includes("SHA-256"))`)

	// What is saved is caught on its way to the disk.
	eval[bool](p,
		`(() => { const make = URL.createObjectURL; URL.createObjectURL = b => { b.text().then(t => { window.saved = t }); return make(b) }; HTMLAnchorElement.prototype.click = () => {}; return true })()`)
	p.do(chromedp.Click(`//button[.="Save as CSV"]`))
	p.until(`typeof window.saved === "string"`)
	lines := strings.Split(strings.TrimSpace(eval[string](p, "window.saved")), "\r\n")
	assert.Len(t, lines, 33, "every certificate and the heads")
	assert.True(t, strings.HasPrefix(lines[0], "Names,Issuer,Ends"))
}

// TestThousandsOfCertificates holds that the table draws what is in sight only.
func TestThousandsOfCertificates(t *testing.T) {
	r := servicetest.Start(t)
	var n int
	r.Query(t, `with made as (insert into certificates (sha256, der, common_name, issuer, names, not_before, not_after, key, serial, is_ca, first_seen)
		select sha256(i::text::bytea), '', 'h' || i, 'Harbour CA', jsonb_build_array('h' || i || '.lantern.example'), now() - interval '1 day', now() + i * interval '1 hour', 'ECDSA P-256', '1', false, now()
		from generate_series(1, 3000) i returning 1) select count(*) from made`, &n)
	require.Equal(t, 3000, n)
	p := open(t, r.URL)
	p.visit("/certificates", "[role=gridcell]")
	assert.Contains(t, p.text(), "500 certificates and more met")
	assert.Less(t, eval[int](p, `document.querySelectorAll("[role=row]").length`), 60)
	p.do(chromedp.Click(`//button[.="Load 500 more"]`))
	p.until(`document.querySelector("h1").innerText.startsWith("1,000 certificates and more")`)
	p.visit("/certificates?q=h2999.", "[role=gridcell]")
	assert.Contains(t, p.text(), "1 certificate that fit")
}

// TestServersFilterSortAndSave works on the list of servers.
func TestServersFilterSortAndSave(t *testing.T) {
	r := demoService(t)
	p := open(t, r.URL)
	p.visit("/servers", "[aria-label='Servers']")
	names := `[...document.querySelectorAll("[aria-label='Servers'] h2")].map(e => e.innerText).join(" ")`
	assert.Equal(t, "crew-gw freight-1 kiosk-gw pier-1 pier-2 quay-lb", eval[string](p, names))
	p.do(chromedp.Click(`//button[.="Name A to Z"]`))
	p.until(names + ` === "quay-lb pier-2 pier-1 kiosk-gw freight-1 crew-gw"`)
	p.do(chromedp.Click(`//button[.="not read"]`))
	p.until("document.body.innerText.includes('No server fits')")
	assert.Contains(t, eval[string](p, "location.search"), "read=false")
	p.visit("/servers?q=pier&sort=-name", "[aria-label='Servers']")
	assert.Equal(t, "pier-2 pier-1", eval[string](p, names))
	assert.Contains(t, p.text(), "2 servers that fit: 2 read, 2 with something broken")
	assert.Contains(t, p.text(), "9 bindings: 1 broken, 3 at odds, 5 agreed")
	eval[bool](p,
		`(() => { const make = URL.createObjectURL; URL.createObjectURL = b => { b.text().then(t => { window.saved = t }); return make(b) }; HTMLAnchorElement.prototype.click = () => {}; return true })()`)
	p.do(chromedp.Click(`//button[.="Save as CSV"]`))
	p.until(`typeof window.saved === "string"`)
	assert.Contains(t, eval[string](p, "window.saved"), "pier-1,nginx,local,9,1,3,14,11,0,12,")
	p.visit("/servers?q=nothing-like-it", "h2")
	assert.Contains(t, p.text(), "No server fits")

	t.Run("a file is chosen by keyboard", func(t *testing.T) {
		p := open(t, r.URL)
		p.visit("/servers/pier-2/text", "ol[aria-label$='nginx.conf']")
		p.tabTo(`document.activeElement.getAttribute("aria-haspopup") === "listbox"`)
		p.keys(kb.Enter)
		p.until(`!!document.querySelector("[role=option]")`)
		p.accessible("[role=listbox]")
		p.keys(kb.End, kb.Enter)
		p.until(`document.body.innerText.includes("Not switched on")`)
		assert.Contains(t, p.text(), "Written, tested, and never linked into sites-enabled.")
		assert.Contains(t, p.text(), "site-not-enabled: the site for events.lanterncoast.example")
	})
}

// TestAServerThatCannotBeReadSaysWhy shows the trouble on both pages, and that
// reading again mends them.
func TestAServerThatCannotBeReadSaysWhy(t *testing.T) {
	r := servicetest.Start(t)
	dir := t.TempDir()
	r.Apply(t, fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: "+
		"pier, kind: nginx, addresses: [127.0.0.1], ports: [1], reach: {by: local, configuration: %s/nginx.conf, test: "+
		"'true'}}\nhosts:\n  - {name: a.lantern.example, at: [pier]}\n", dir), pkitest.CA("root", nil))
	p := open(t, r.URL)
	p.visit("/servers/pier", "main h1")
	assert.Contains(t, p.text(), "Its configuration was not read yet; the next survey does.")
	r.Survey(t)
	p.visit("/servers", "[aria-label='Servers']")
	assert.Contains(t, p.text(), "Not read just now: its main file cannot be read: "+dir+"/nginx.conf: no such file.")
	p.visit("/servers/pier", "[aria-label='Findings']")
	assert.Contains(t, p.text(), "Not read just now: its main file cannot be read")
	p.accessible()
	p.visit("/servers/pier/text", "main h1")
	assert.Contains(t, p.text(), "The configuration of pier is not known.")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "nginx.conf"),
		[]byte("http {\n  server { listen 1 ssl; server_name a.lantern.example; ssl_certificate gone.pem; "+
			"ssl_certificate_key gone.key; }\n  server { listen 1 ssl; server_name a.lantern.example; }\n}\n"), 0o600))
	p.visit("/servers/pier", "[aria-label='Findings']")
	p.do(chromedp.Click(`//button[.="Read and look again"]`))
	p.until(`document.querySelector("[aria-label='Sites'] tbody")?.innerText.includes("no such file") ?? false`)
	p.until(`document.body.innerText.includes("1 problem in the configuration")`)
	assert.Contains(t, p.text(), "the name a.lantern.example at *:1 is ignored")
	assert.Contains(t, p.text(), "the server does not run")
	p.accessible()
}

// TestLightAndDarkAndNoService turns the scheme, and shows what is said when
// the service is gone.
func TestLightAndDarkAndNoService(t *testing.T) {
	r := demoService(t)
	p := open(t, r.URL)
	p.visit("/", "section li h3")
	ground := `getComputedStyle(document.body).backgroundColor`
	light := eval[string](p, ground)
	p.do(chromedp.Click(`//button[.="Dark"]`))
	p.until(ground + ` !== ` + fmt.Sprintf("%q", light))
	p.visit("/bindings", "[aria-label='Bindings by host']")
	assert.NotEqual(t, light, eval[string](p, ground), "the choice is kept")
	p.do(chromedp.Click(`//button[.="Light"]`))
	p.until(ground + ` === ` + fmt.Sprintf("%q", light))

	p.do(chromedp.Navigate(r.URL+"/surveys/1?since=0"), chromedp.WaitVisible(chromedp.CSS("[aria-label=Changes]")))
	assert.Contains(t, p.text(), "never looked at")
	p.quiet = true // the browser's own complaints about what follows are no ills
	r.Stop()
	p.do(chromedp.Click(`//nav//a[.="Certificates"]`), chromedp.WaitVisible(chromedp.CSS("main [role=alert]")))
	assert.Contains(t, p.text(), "Check that insegna serve is running, then try again.")
}

// TestLookingAgainMendsThePage repairs a fault of the demo's kind, presses the
// button of its finding, and sees it go by itself.
func TestLookingAgainMendsThePage(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("root", nil)
	bad, good := pkitest.Leaf(root, "b.lantern.example").TLS(), pkitest.Leaf(root, "a.lantern.example").TLS()
	var mu sync.Mutex
	served := &bad
	at := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { mu.Lock(); defer mu.Unlock(); return served })
	r.Apply(t, fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: "+
		"quay, addresses: [127.0.0.1], ports: [%d]}\nhosts:\n  - {name: a.lantern.example, at: [quay]}\n", at.Port()), root)
	r.Survey(t)
	p := open(t, r.URL)
	p.visit("/", "section li h3")
	assert.Contains(t, p.text(), "1 binding is broken, 0 agree.")
	mu.Lock()
	served = &good
	mu.Unlock()
	p.do(chromedp.Click(`//button[@aria-label="Look again at a.lantern.example"]`))
	p.until(`document.querySelector("h1")?.innerText.startsWith("Nothing is broken, 1 agrees")`)
}

// TestAFindingIsMendedInTheConsole presses the button of a finding, agrees to the plan, and
// sees the finding go; a viewer has no such button.
func TestAFindingIsMendedInTheConsole(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755)) // workers of another user read there
	e, err := demo.Start(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(e.Stop)
	r := servicetest.Start(t)
	r.ApplyFile(t, e.File)
	r.Survey(t)
	p := open(t, r.URL)
	const button = `//button[@aria-label="Mend chain-incomplete of roster.lanterncoast.example"]`
	const planned = `[...document.querySelectorAll("[aria-label='Mends itself'] a")].map((a) => a.pathname).join(" ")`
	p.visit("/", "section li h3")
	p.do(chromedp.WaitVisible(button), chromedp.Click(button), chromedp.WaitVisible(chromedp.CSS("[aria-label='What changes']")))
	assert.Contains(t, p.text(), "One finding mended on pier-2")
	assert.Contains(t, p.text(), "roster.lanterncoast.example, chain-incomplete: write the list in "+e.Dir+"/pier-2/roster.pem")
	assert.Contains(t, p.text(), "+(certificate: Lantern Coast Crew CA, from Lantern Coast Crew Root")
	p.do(chromedp.Click(`//button[.="Mend this"]`))
	p.until(`document.body.innerText.includes("new everywhere: what lies on pier-2 is what visitors get")`)
	require.Eventually(t, func() bool {
		return !slices.Contains(r.Findings(t), "chain-incomplete roster.lanterncoast.example at pier-2")
	}, time.Minute, 100*time.Millisecond)
	p.visit("/", "section li h3")
	p.do(chromedp.Click(`//button[.="Mend what mends itself"]`), chromedp.WaitVisible(chromedp.CSS("[aria-label='Mends itself'] li")))
	p.accessible()
	for _, part := range []string{"mend themselves on 4 servers", "need a certificate first", "are for a person", "write the list in " + e.Dir,
		"webcam.lanterncoast.example", "which CA its visitors (in-house) trust issues it, no mandate says"} {
		assert.Contains(t, p.text(), part)
	}
	worked := eval[string](p, planned)
	for seen := false; !seen; { // a survey that the page follows to its end makes no other plan of the one that is shown
		eval[bool](p, `setInterval(() => { window.followed ||= /reading,|surveying,/.test(document.querySelector("header").innerText) }, 20) > 0`)
		r.Survey(t)
		seen = eval[bool](p, "window.followed === true")
	}
	p.until(`!/reading,|surveying,/.test(document.querySelector("header").innerText)`)
	time.Sleep(time.Second)
	require.Equal(t, worked, eval[string](p, planned))
	p.do(chromedp.Click(`//button[.="Mend on all 4 servers"]`))
	p.until(`[...document.querySelectorAll("[aria-label='Mends itself'] > ul > li")].every(l => l.innerText.includes("new everywhere"))`)
	require.Eventually(t, func() bool {
		left := strings.Join(r.Findings(t), "\n")
		return !strings.Contains(left, "redirect-") && !strings.Contains(left, "chain-") && strings.Contains(left, "self-signed")
	}, time.Minute, 100*time.Millisecond)
	p.visit("/mending?code=not-in-estate", "[aria-label='Taken into the estate'] li")
	assert.Contains(t, p.text(), "1 host is to be taken in.")
	p.do(chromedp.Click(`//button[.="Take it in"]`))
	p.until(`document.body.innerText.includes("taken in; survey")`)
	require.Eventually(t, func() bool { return !strings.Contains(strings.Join(r.Findings(t), " "), "not-in-estate") }, time.Minute,
		100*time.Millisecond)
	p.visit("/mending?server=kiosk-gw", "[aria-label='Needs a certificate first'] li")
	p.do(chromedp.Click(`(//button[.="Take it to a new certificate"])[1]`))
	p.until(`document.querySelector("[aria-label='Needs a certificate first'] [role=alert]") !== null || location.pathname.startsWith("/https/")`)
}

// TestTheDoor signs in, keeps out, sets up by a link, and shows a viewer less
// than an admin.
func TestTheDoor(t *testing.T) {
	r := servicetest.Start(t)
	p := atTheDoor(t, r.URL)
	p.quiet = true // the browser notes each 401
	p.visit("/settings", "form[aria-label='Sign in']")
	p.accessible()
	enter := func(name, passphrase string) {
		p.do(chromedp.Focus(chromedp.CSS("input[name=name]")))
		eval[bool](p, "document.querySelectorAll('input').forEach(i => i.select()), true")
		p.do(chromedp.SendKeys(chromedp.CSS("input[name=name]"), name),
			chromedp.SendKeys(chromedp.CSS("input[name=passphrase]"), passphrase), chromedp.KeyEvent(kb.Enter))
	}
	enter("keeper", "not the passphrase")
	p.until("document.querySelector('[role=alert]')?.innerText.includes('name or passphrase is wrong') ?? false")
	p.visit("/settings", "form[aria-label='Sign in']")
	enter("keeper", servicetest.KeeperPassphrase)
	p.do(chromedp.WaitVisible(chromedp.CSS("[aria-label='List of people']")))

	p.do(chromedp.Click(`//summary[.="Add somebody"]`),
		chromedp.SendKeys(chromedp.CSS("form[aria-label='Add somebody'] input[name=name]"), "vito"),
		chromedp.KeyEvent(kb.Enter))
	p.until("document.querySelector('[role=status] code')?.innerText.includes('/set-up#') ?? false")
	p.accessible()
	link := eval[string](p, "document.querySelector('[role=status] code').innerText")
	p.do(chromedp.Click(`//summary[.="Make a token"]`),
		chromedp.SendKeys(chromedp.CSS("form[aria-label='Make a token'] input[name=name]"), "night report"),
		chromedp.KeyEvent(kb.Enter))
	p.until("document.body.innerText.includes('insegna_')")
	p.do(chromedp.Click(`//button[.="Sign out"]`), chromedp.WaitVisible(chromedp.CSS("form[aria-label='Sign in']")))

	p.visit(strings.TrimPrefix(link, r.URL), "form[aria-label='Set up']")
	p.do(chromedp.SendKeys(chromedp.CSS("input[name=passphrase]"), "gull rope lamp pier"), chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS("nav")))
	p.visit("/settings", "[aria-label='List of people']")
	assert.Contains(t, p.text(), "You are vito, viewer")
	assert.False(t, eval[bool](p, "!!document.querySelector('[aria-label=\"Remove keeper\"]')"), "people are an admin's")
	assert.NotContains(t, p.text(), "night report", "a token is its person's")
	p.accessible()
}

// TestSettings changes roles, links, tokens and the passphrase, and ends access.
func TestSettings(t *testing.T) {
	r := servicetest.Start(t)
	r.Enter(t, "tove", client.RoleOperator)
	p := open(t, r.URL)
	p.quiet = true // the browser notes each refusal
	p.visit("/settings", "[aria-label='List of people']")
	row := func(name string) string {
		return fmt.Sprintf(
			`([...document.querySelectorAll("[aria-label='List of people'] tr, [aria-label='List of tokens'] tr")].find(r => r.innerText.startsWith(%q))?.innerText ?? "")`, name)
	}
	p.until(row("tove") + `.includes("has a passphrase")`)
	press := func(label string) { p.do(chromedp.Click(`//button[@aria-label="` + label + `"]`)) }
	choose := func(person, role string) {
		p.do(chromedp.Click(`//tr[td[1]="`+person+`"]//button[@aria-haspopup="listbox"]`),
			chromedp.Click(`//*[@role="option"][contains(., "`+role+`")]`))
	}
	choose("tove", "viewer")
	p.until(row("tove") + `.includes("viewer")`)
	choose("keeper", "viewer")
	p.until(`document.querySelector("[role=alert]")?.innerText.includes("admin") ?? false`)
	p.until(row("keeper") + `.includes("admin")`)

	eval[bool](p, "window.confirm = text => text.startsWith('A new link ends the sessions and tokens of tove'), true")
	press("New link for tove")
	p.until(`document.querySelector("[role=status] code")?.innerText.includes("/set-up#") ?? false`)
	p.do(chromedp.Click(`//button[.="I have it"]`))
	p.until(`!document.querySelector("[role=status] code")`)
	assert.NotContains(t, p.text(), "/set-up#", "shown once")

	p.do(chromedp.Click(`//summary[.="Make a token"]`),
		chromedp.SendKeys(chromedp.CSS("form[aria-label='Make a token'] input[name=name]"), "night report"),
		chromedp.KeyEvent(kb.Enter))
	p.until(`document.querySelector("[role=status] code")?.innerText.startsWith("insegna_") ?? false`)
	p.until(row("night report") + `.includes("never")`)
	eval[bool](p, "window.confirm = () => false, true")
	press("Revoke night report of keeper")
	assert.NotEmpty(t, eval[string](p, row("night report")), "it asks first")
	eval[bool](p, "window.confirm = text => text.startsWith('Revoke the token night report of keeper?'), true")
	press("Revoke night report of keeper")
	p.until(row("night report") + ` === ""`)

	p.do(chromedp.Click(`//summary[.="Change your passphrase"]`))
	change := func(before, next string) {
		eval[bool](p,
			`document.querySelectorAll("form[aria-label='Change your passphrase'] input").forEach(i => i.select()), true`)
		p.do(chromedp.SendKeys(chromedp.CSS("input[name=before]"), before),
			chromedp.SendKeys(chromedp.CSS("input[name=next]"), next), chromedp.KeyEvent(kb.Enter))
	}
	change(servicetest.KeeperPassphrase, "short")
	p.until(`document.querySelector("form[aria-label='Change your passphrase'] [role=alert]")?.innerText.includes("12 characters") ?? false`)
	p.accessible()

	eval[bool](p, "window.confirm = () => false, true")
	press("Remove tove")
	eval[bool](p, "window.confirm = text => text.startsWith('End the access of tove'), true")
	p.until(row("tove") + ` !== ""`)
	press("Remove tove")
	p.until(row("tove") + ` === ""`)
	p.size(375, 800)
	assert.LessOrEqual(t, eval[int](p, "document.documentElement.scrollWidth"), 375)
	var left int
	r.Query(t, "select count(*) from sessions s join people p on p.id = s.person_id where p.name = 'tove'", &left)
	assert.Zero(t, left)
}

// TestMandatesInTheConsole agrees to a CA's terms, tries a mandate that is
// blocked and one that is not, follows the order's steps, and makes another one.
func TestMandatesInTheConsole(t *testing.T) {
	dir, err := os.MkdirTemp("", "insegna-console-") // where nginx, as nobody, can read
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	e, err := demo.Start(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(e.Stop)
	r := servicetest.Start(t)
	r.ApplyFile(t, e.File)
	r.Survey(t)
	secret, err := os.ReadFile(e.TSIGFile())
	require.NoError(t, err)
	_, err = r.Client.AddCredentialWithResponse(t.Context(), "harbour-tsig", client.CredentialValue{Value: string(secret)})
	require.NoError(t, err)
	p := open(t, r.URL)
	var rolled int
	p.visit("/mandates", "[aria-label='Mandates']")
	p.do(chromedp.Click(`//button[.="I have read them and agree"]`))
	p.until("document.body.innerText.includes('keeper agreed to its terms')")
	p.until(`document.querySelector("[aria-label='List of accounts']")?.innerText.includes("certificates@lanterncoast.example") ?? false`)
	eval[bool](p, "window.confirm = text => text.startsWith('Give the accounts at harbour-light new keys?'), true")
	p.do(chromedp.Click(`//button[@aria-label="New key for the account at harbour-light"]`))
	p.until("document.querySelector(\"[aria-label='New key for the account at harbour-light']\")?.disabled === false")
	r.Query(t, "select count(*) from journal where action = 'account.key'", &rolled)
	assert.Equal(t, 2, rolled, "also at its test directory")
	p.do(chromedp.Click(`//h2/a[.="timetable"]`), chromedp.Click(`//button[.="Pre-flight"]`))
	p.until("document.querySelector('[aria-label=Pre-flight]')?.innerText.includes('path-redirected') ?? false")
	assert.Contains(t, p.text(), "pier-1/sites-enabled/timetable:14")
	assert.Contains(t, p.text(), "the CA was not asked")
	p.accessible()
	p.visit("/mandates/seafront", "[aria-label='Order'] h2")
	eval[bool](p, "window.confirm = () => false, true")
	p.do(chromedp.Click(`//button[.="Order now"]`))
	assert.Contains(t, p.text(), "Never ordered", "it asks first")
	eval[bool](p, "window.confirm = text => text.startsWith('Order a certificate of seafront from harbour-light'), true")
	p.do(chromedp.Click(`//button[.="Order now"]`))
	p.until("document.body.innerText.includes('lie in the safe')")
	for _, step := range []string{"key", "order", "proof", "validation", "withdraw", "request", "certificate"} {
		assert.Contains(t, p.text(), step)
	}
	p.until("document.body.innerText.includes('lies in the safe, installed nowhere, until')")
	p.accessible()
	p.size(375, 800)
	assert.LessOrEqual(t, eval[int](p, "document.documentElement.scrollWidth"), 375)
	p.size(1280, 800)

	p.visit("/mandates", "[aria-label='Mandates']")
	p.do(chromedp.Click(`//summary[.="Work out the names"]`),
		chromedp.SendKeys(chromedp.CSS("input[name=server]"), "pier-1"),
		chromedp.SendKeys(chromedp.CSS("input[name=site]"), "menu.lanterncoast.example"), chromedp.KeyEvent(kb.Enter))
	p.until("document.querySelector('[aria-label=\"Make a mandate\"] textarea')?.value.includes('menu.lanterncoast.example') ?? false")
	p.accessible()
	p.do(chromedp.Click(`//button[.="Make it"]`))
	p.until("document.body.innerText.includes('6 mandates')")
	fromPlainToHTTPS(t, p, r)
	aWave(t, p)
}

// aWave takes the booking's certificate to its balancer and the nodes behind it, and
// back from all of them.
func aWave(t *testing.T, p *page) {
	p.visit("/mandates/booking", "[aria-label='Order'] h2")
	eval[bool](p, "window.confirm = () => true, true")
	p.do(chromedp.Click(`//button[.="Order now"]`))
	p.until("document.body.innerText.includes('lie in the safe')")
	p.do(chromedp.Click(`//button[.="Preview everywhere, in a wave"]`))
	p.until("document.querySelectorAll(\"[aria-label='Groups in their order'] > li\").length === 3")
	for _, want := range []string{"booking on 3 servers, in a wave", "previewed; nothing was changed", "waits for its turn",
		"through the runtime socket", "booking.both", "+    ssl_certificate "} {
		assert.Contains(t, p.text(), want)
	}
	p.accessible()
	p.do(chromedp.Click(`//button[.="Begin this wave"]`))
	p.until("document.body.innerText.includes('new on every server')")
	order := `[...document.querySelectorAll("[aria-label='Groups in their order'] h2")].map((h) => h.innerText).join(" ")`
	assert.Equal(t, "✓ pier-1 ✓ pier-2 ✓ quay-lb", eval[string](p, order))
	p.accessible()
	p.size(375, 800)
	assert.LessOrEqual(t, eval[int](p, "document.documentElement.scrollWidth"), 375)
	p.size(1280, 800)
	eval[bool](p, "window.confirm = text => text.startsWith('Make every server as it was before wave'), true")
	p.do(chromedp.Click(`//button[.="Go back everywhere"]`))
	p.until("document.body.innerText.includes('old on every server, as before')")
	p.visit("/mandates/booking", "[aria-label='List of waves']")
	assert.Contains(t, p.text(), "pier-1, then pier-2, then quay-lb")
	p.accessible()
}

// fromPlainToHTTPS takes the demo's plain site to https: mandate, order,
// preview with its diff, installation with live steps, and the way back.
func fromPlainToHTTPS(t *testing.T, p *page, r *servicetest.Running) {
	made, err := r.Client.AddMandateWithResponse(t.Context(),
		client.MandateText{Text: "name: deck-plans\nnames: [deck-plans.lanterncoast.example]\nca: harbour-light\nproof: " +
			"{by: http, servers: [pier-1]}\ninstall: [pier-1]\n"})
	require.NoError(t, err)
	require.NotNil(t, made.JSON201, string(made.Body))
	p.visit("/mandates/deck-plans", "[aria-label='Installations'] h2")
	assert.NotContains(t, p.text(), "Preview on pier-1", "there is nothing to install yet")
	eval[bool](p, "window.confirm = () => true, true")
	p.do(chromedp.Click(`//button[.="Order now"]`))
	p.until("document.body.innerText.includes('lie in the safe')")
	p.do(chromedp.Click(`//button[.="Preview on pier-1"]`))
	p.until("document.body.innerText.includes('previewed; nothing was changed')")
	for _, want := range []string{"+    ssl_certificate ", "return 301 https://$host:8446$request_uri;",
		"anchorage.lanterncoast.example: chain-missing-on-disk", "now: nothing yet → versions/"} {
		assert.Contains(t, p.text(), want)
	}
	p.accessible()
	p.do(chromedp.Click(`//button[.="Install this"]`))
	p.until("document.body.innerText.includes('new everywhere')")
	for _, step := range []string{"stage", "test", "switch", "reload", "look"} {
		assert.Contains(t, p.text(), step)
	}
	p.accessible()
	p.size(375, 800)
	assert.LessOrEqual(t, eval[int](p, "document.documentElement.scrollWidth"), 375)
	p.size(1280, 800)
	number := eval[string](p, "location.pathname")
	p.visit("/mandates/deck-plans", "[aria-label='Trail'] li")
	p.until(`["ordered", "proved", "issued", "installed", "reloaded", "from inside"].every((s) => document.querySelector("[aria-label='Trail']").innerText.includes(s))`)
	p.do(chromedp.Click(`//button[.="Visit"]`))
	p.until("document.body.innerText.includes('all is well on a visitor')")
	assert.Contains(t, p.text(), "status 301 to https://deck-plans.lanterncoast.example:8446/")
	p.accessible()
	p.size(375, 800)
	assert.LessOrEqual(t, eval[int](p, "document.documentElement.scrollWidth"), 375)
	p.size(1280, 800)
	p.visit(number, "[aria-label='Steps']")
	eval[bool](p, "window.confirm = () => true, true")
	p.do(chromedp.Click(`//button[.="Take it back"]`))
	p.until("document.body.innerText.includes('old everywhere: taken back by keeper')")
	p.visit("/mandates/deck-plans", "[aria-label='List of installations']")
	assert.Contains(t, p.text(), "old everywhere")
	p.do(chromedp.Click(`//button[.="Rehearse"]`))
	p.until("document.querySelector(\"[aria-label='The mandate']\").innerText.includes('pier-1: rehearsed: staged, its " +
		"own test of the copy passes; nothing was changed')")
	p.accessible()
	inOneGo(p)
}

// inOneGo takes the site to https from its server's page: asked before it is
// ordered and before the server is changed.
func inOneGo(p *page) {
	p.visit("/servers/pier-1?q=deck-plans", "[aria-label='Take to https: deck-plans.lanterncoast.example']")
	p.accessible()
	p.do(chromedp.Click(`//button[.="Take to https"]`))
	p.until("document.body.innerText.includes('nothing was made, ordered or changed yet')")
	p.accessible()
	p.do(chromedp.Click(`//button[.="Order"]`))
	p.until("document.body.innerText.includes('the server was not changed yet')")
	p.until("document.body.innerText.includes('return 301 https://$host:8446$request_uri;')")
	p.accessible()
	p.visit("/mandates", "[aria-label='List of sites taken to https']")
	assert.Contains(p.t, p.text(), "waits for you")
	p.do(chromedp.Click(`//a[.="deck-plans.lanterncoast.example"]`),
		chromedp.Click(`//button[.="Install this on pier-1"]`))
	p.until("document.body.innerText.includes('done: visitors get the certificate')")
	p.until("document.querySelector('[aria-label=Installation]')?.innerText.includes('the new certificate is seen') ?? " +
		"false")
	assert.NotContains(p.t, p.text(), "What will change")
	p.size(375, 800)
	assert.LessOrEqual(p.t, eval[int](p, "document.documentElement.scrollWidth"), 375)
	p.size(1280, 800)
	p.accessible()
}

// TestWhatIsTypedAndSavedIsWhole types into a search box faster than lists come,
// saves a list of which a part is shown, and lets requests fail.
func TestWhatIsTypedAndSavedIsWhole(t *testing.T) {
	r := servicetest.Start(t)
	var text strings.Builder
	text.WriteString("estate: Ferries\naudiences: [{name: browsers, roots: [root.pem]}]\n" +
		"servers: [{name: quay, addresses: [127.0.0.1], ports: [1]}]\nhosts:\n")
	for n := range 450 {
		fmt.Fprintf(&text, "  - {name: h%d.lantern.example, at: [quay]}\n", n)
	}
	r.Apply(t, text.String(), pkitest.CA("root", nil))
	r.Survey(t)
	p := open(t, r.URL)
	p.visit("/bindings", "[aria-label='Bindings by host']")
	p.do(chromedp.Focus(chromedp.CSS("input[type=search]")))
	const typed = "h44.lantern.example"
	for _, c := range typed {
		p.do(chromedp.KeyEvent(string(c)))
	}
	p.keys(kb.Home, "x", kb.Backspace, "h", kb.Delete)
	box := `document.querySelector("input[type=search]")`
	assert.Equal(t, typed, eval[string](p, box+".value"), "no character is lost")
	assert.Equal(t, 1, eval[int](p, box+".selectionStart"), "and the caret stays where it was put")
	p.until(`document.querySelectorAll("[aria-label='Bindings by host'] > li").length === 1`)
	assert.Contains(t, eval[string](p, "location.search"), "q=h44.lantern.example")
	assert.Equal(t, 1, eval[int](p, box+".selectionStart"))
	eval[bool](p, "history.pushState({}, '', '/bindings'), dispatchEvent(new PopStateEvent('popstate')), true")
	p.until(box + `.value === ""`)
	p.until(`document.querySelectorAll("[aria-label='Bindings by host'] > li").length > 100`)
	eval[bool](p,
		`(() => { const make = URL.createObjectURL; URL.createObjectURL = b => { b.text().then(t => { window.saved = t }); return make(b) }; HTMLAnchorElement.prototype.click = () => {}; return true })()`)
	p.do(chromedp.Click(`//button[.="Save as CSV"]`))
	p.until(`typeof window.saved === "string"`)
	assert.Len(t, strings.Split(strings.TrimSpace(eval[string](p, "window.saved")), "\r\n"), 451,
		"what is not shown yet is saved as well")

	// A request that fails is no empty list.
	p.quiet = true
	p.block("*/api/v1/findings*", "*/api/v1/journal/verification*", "*/api/v1/https*")
	for at, says := range map[string]string{"/servers/quay": "Its findings cannot be shown",
		"/journal": "Whether the journal is whole cannot be shown", "/mandates": "What was taken to https cannot be shown"} {
		p.visit(at, "h1")
		p.until(fmt.Sprintf("document.body.innerText.includes(%q)", says))
	}
	p.block("*limit=1000*")
	p.visit("/bindings", "[aria-label='Bindings by host']")
	p.do(chromedp.Click(`//button[.="Save as CSV"]`))
	p.until(`document.body.innerText.includes("Nothing was saved")`)
}

// blocked are the parameters of the command in the form Debian's Chromium takes.
type blocked struct {
	URLs []string `json:"urls"`
}

// block lets requests fail whose addresses fit.
func (p *page) block(urls ...string) {
	command := cdp.Command[blocked, cdp.Empty]{Method: network.CommandSetBlockedURLs}
	_, err := chromedp.Call(p.ctx, command, blocked{urls})
	require.NoError(p.t, err)
}

// TestAViewerHasNoButtonsInVain signs a viewer in and looks for what is not theirs.
func TestAViewerHasNoButtonsInVain(t *testing.T) {
	r := demoService(t)
	r.Enter(t, "vito", client.RoleViewer)
	p := atTheDoor(t, r.URL)
	p.quiet = true
	p.visit("/", "form[aria-label='Sign in']")
	p.do(chromedp.SendKeys(chromedp.CSS("input[name=name]"), "vito"),
		chromedp.SendKeys(chromedp.CSS("input[name=passphrase]"), "vito knows four words"), chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS("[aria-label='Broken now']")))
	for at, wait := range map[string]string{"/": "[aria-label='Broken now']", "/servers/pier-1": "[aria-label='Findings']",
		"/surveys": "[aria-label='Surveys']", "/mandates/seafront": "[aria-label='Installations']"} {
		p.visit(at, wait)
		buttons := eval[string](p, `[...document.querySelectorAll("main button")].map(b => b.innerText).join("|")`)
		for _, not := range []string{"Survey the estate now", "Look again", "Read and look again", "Order now", "Rehearse"} {
			assert.NotContains(t, buttons, not, at)
		}
	}
}

// TestTheFirstPageDrafts begins with nothing: an estate is drafted from a zone, corrected,
// previewed and applied in the console, and a file with a fault says where.
func TestTheFirstPageDrafts(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("root", nil)
	pair := pkitest.Leaf(root, "www.lantern.example").TLS()
	at := servicetest.Serve(t, "127.0.0.9:0", func() *tls.Certificate { return &pair })
	p := open(t, r.URL)
	p.visit("/", "form[aria-label='Draft an estate']")
	p.accessible()
	eval[any](p, `document.querySelector("form input[type=checkbox]").click()`)
	p.do(chromedp.Click(`//summary[.="From other machines, names, zones, ranges, copies"]`))
	p.do(chromedp.SendKeys(chromedp.CSS("textarea[name=ranges]"), "127.0.0.9/32"))
	p.do(chromedp.Click(`//button[.="Draft it"]`))
	p.until(`document.body.innerText.includes("127.0.0.9/32 is not among the ranges you say are yours")`)
	p.do(chromedp.SendKeys(chromedp.CSS("textarea[name=allow]"), "127.0.0.0/24"))
	p.do(chromedp.SendKeys(chromedp.CSS("textarea[name=zone]"), "$ORIGIN lantern.example.\n$TTL 60\nwww IN A 127.0.0.9\nold IN A 127.0.0.9\n"))
	p.do(chromedp.SendKeys(chromedp.CSS("input[name=ports]"), fmt.Sprint(at.Port())))
	p.do(chromedp.Click(`//button[.="Draft it"]`))
	p.until(`!!document.querySelector("textarea.file")?.value.includes("www.lantern.example")`)
	p.until(`document.body.innerText.includes("on 1 server")`)
	p.accessible()
	text := eval[string](p, `document.querySelector("textarea.file").value`)
	assert.Contains(t, text, fmt.Sprintf("ports: [%d]", at.Port()))
	write := func(from, to string) {
		eval[any](p, fmt.Sprintf(`((area) => {
			Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(area, area.value.replace(%q, %q));
			area.dispatchEvent(new Event("input", { bubbles: true })); return 1; })(document.querySelector("textarea.file"))`, from, to))
	}
	write("hosts:", "hosst:")
	p.do(chromedp.Click(`//button[.="What it changes"]`))
	p.until(`!!document.querySelector(".says")?.innerText.includes("unknown key \"hosst\"")`)
	write("hosst:", "hosts:")
	p.do(chromedp.Click(`//button[.="What it changes"]`))
	p.until(`!!document.querySelector("[aria-label='What it changes']")?.innerText.includes("www.lantern.example")`)
	p.do(chromedp.Click(`//button[.="Apply it"]`))
	p.until(`document.body.innerText.includes("Nothing has been looked at yet")`)
	p.visit("/estate", "[aria-label='List of hosts']")
	p.until(`document.body.innerText.includes("console-draft.yaml:")`)
	p.visit("/", "h1")
	p.do(chromedp.Click(`//button[.="Start a survey"]`))
	p.until(`document.body.innerText.includes("do not trust it") || document.body.innerText.includes("Broken now")`)
	p.visit("/notices", "h1")
	p.until(`document.body.innerText.includes("Nobody is told of what is wrong")`)
}
