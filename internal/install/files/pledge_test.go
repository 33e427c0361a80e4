package files_test

import (
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/check"
	"insegna.example/internal/install"
	"insegna.example/internal/reach"
)

// header asks over TLS or in plain http, and gives the status, what is said of RFC 6797 and
// another header.
func (p *pier) header(t *testing.T, at, host, path string, secure bool) string {
	scheme := map[bool]string{true: "https", false: "http"}[secure]
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, scheme+"://"+at+path, nil)
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(at)
	require.NoError(t, err)
	req.Host = host + ":" + port
	resp, err := (&http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true, ServerName: host}}).RoundTrip(req)
	if err != nil {
		return err.Error()
	}
	_ = resp.Body.Close()
	return fmt.Sprint(resp.StatusCode, " ", strings.Join(resp.Header.Values("Strict-Transport-Security"), ","), " ", resp.Header.Get("X-Own"))
}

// TestBrowsersAreToldToComeOverTLS has real servers of each kind send the header for one
// host, also where parts of the site have headers of their own: others, and plain http, are
// answered as they were. It gets another value, and is taken back.
func TestBrowsersAreToldToComeOverTLS(t *testing.T) {
	const other = "other.lantern.example"
	for name, c := range map[string]struct {
		pierOf func(*testing.T) *pier
		lay    func(p *pier, text string) string
	}{
		"nginx": {newPier, func(p *pier, text string) string {
			main := readFile(p.t, p.main)
			p.put(p.t, p.main, strings.Replace(main, "include sites/*;", "add_header X-Own around;\ninclude sites/*;", 1))
			return strings.Replace(strings.Replace(text, "root "+p.dir, "return 301 https://$host$request_uri", 1), "server_name "+host+"; ssl_", "server_name "+host+" "+other+
				"; location / { return 200; } location /own { add_header X-Own own; return 200; location /own/more { return 201; } } ssl_", 1)
		}},
		"nginx, both at once": {newPier, func(p *pier, text string) string {
			lines := strings.Split(text, "\n")
			return strings.Replace(lines[5], "ssl;", "ssl; listen "+p.plain.String()+"; if ($scheme = http) { return 301 https://$host$request_uri; } add_header X-Own site; "+
				"location /own { add_header X-Own own; return 200; } location / { return 200; }", 1) + "\n"
		}},
		"httpd": {func(t *testing.T) *pier {
			return newHouseOf(t, "mpm_event", "authz_core", "alias", "rewrite", "proxy", "proxy_http", "socache_shmcb", "ssl", "headers")
		}, func(_ *pier, text string) string {
			return strings.Replace(strings.Replace(text, "  ServerName "+host+"\n", "  ServerName "+host+"\n  RedirectMatch 301 ^(.*)$ https://"+host+"$1\n", 1),
				"  SSLEngine on\n", "  ServerAlias "+other+"\n  SSLEngine on\n  Redirect 204 /own\n  Header always set X-Own own\n", 1)
		}},
		"haproxy": {newQuay, func(_ *pier, text string) string {
			return strings.Replace(text, "  http-request return\n", "  http-request redirect scheme https code 301 if !{ ssl_fc }\n  http-request return status 200\n", 1)
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := c.pierOf(t)
			p.ail(t, olderNamed, 1)
			at := p.site
			if p.quay {
				at = p.main
			}
			text, err := os.ReadFile(at)
			require.NoError(t, err)
			p.put(t, at, c.lay(p, string(text)))
			out, err := exec.Command("/bin/sh", "-c", p.command("-t")).CombinedOutput()
			require.NoError(t, err, "%s\n%s", out, c.lay(p, string(text)))
			for range 3 {
				_ = exec.Command("/bin/sh", "-c", p.command("-s reload")).Run()
				time.Sleep(300 * time.Millisecond)
			}
			type way struct {
				host, path string
				secure     bool
			}
			var ways []way
			for _, h := range []string{host, other, "nobody.example"} {
				for _, path := range []string{"/", "/own", "/own/more"} {
					ways = append(ways, way{h, path, true}, way{h, path, false})
				}
			}
			ask := func() map[way]string {
				got := map[way]string{}
				for _, w := range ways {
					to := p.plain
					if w.secure {
						to = p.secure
					}
					got[w] = p.header(t, to.String(), w.host, w.path, w.secure)
				}
				return got
			}
			before := ask()
			require.NotContains(t, before[way{host, "/", true}], "max-age")
			pledge := func(days int) *install.Installation {
				order := p.leading("strict-transport", nil)
				order.Faults[0].Means, order.Days = check.ByPledge, days
				planned, err := p.destination(reach.Local()).Mend(t.Context(), order)
				require.NoError(t, err)
				require.Equal(t, []int64{1}, numbersOf(planned.Mends), "%+v", planned.Left)
				require.Len(t, planned.Bindings, 1)
				assert.Equal(t, []string{fmt.Sprintf("max-age=%d", 86400*days)}, planned.Bindings[0].Wants)
				return &install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan, Bindings: planned.Bindings}
			}
			for _, days := range []int{1, 30} {
				i := pledge(days)
				x := &trial{Connection: reach.Local(), look: func() string {
					return strings.Split(p.header(t, p.secure.String(), host, "/", true)+"  ", " ")[1]
				}}
				x.run(t, p, i)
				require.Equal(t, install.Done, x.kept.State, "%v\n%s", x.steps, i.Plan.Files[0].After)
				want := map[way]string{}
				for w, was := range before {
					if want[w] = was; w.secure && w.host == host {
						parts := strings.SplitN(was, " ", 3)
						want[w] = fmt.Sprintf("%s max-age=%d %s", parts[0], 86400*days, parts[2])
					}
				}
				var got map[way]string
				for range 50 { // a process of before the reload may answer a while longer
					if got = ask(); maps.Equal(want, got) {
						break
					}
					time.Sleep(100 * time.Millisecond)
				}
				assert.Equal(t, want, got, i.Plan.Files[0].After)
				if days == 1 {
					continue
				}
				x.kept.State = install.Returning
				x.look = nil
				x.run(t, p, &x.kept)
				require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
			}
			require.Eventually(t, func() bool { return strings.Contains(p.header(t, p.secure.String(), host, "/", true), "max-age=86400") },
				5*time.Second, 100*time.Millisecond)
		})
	}
}

// TestWhatBrowsersAreNotTold refuses the header where it would lead visitors astray.
func TestWhatBrowsersAreNotTold(t *testing.T) {
	p := newPier(t)
	p.ail(t, olderNamed, 1)
	refused := func(unfit error, days int) string {
		order := p.leading("strict-transport", unfit)
		order.Faults[0].Means, order.Days = check.ByPledge, days
		planned, err := p.destination(reach.Local()).Mend(t.Context(), order)
		require.NoError(t, err)
		if len(planned.Left) == 0 {
			return ""
		}
		assert.NotEmpty(t, planned.Left[0].Next)
		return planned.Left[0].Reason
	}
	assert.Contains(t, refused(nil, 1), "are not led to https", "plain http is served there")
	assert.Contains(t, refused(errors.New("it is over"), 1), "does not fit: it is over")
	assert.Empty(t, refused(errors.New("it is over"), 0), "to end it all is well")
	text, err := os.ReadFile(p.site)
	require.NoError(t, err)
	p.put(t, p.site, strings.Replace(strings.Replace(string(text), "root "+p.dir, "return 404", 1), "ssl_certificate ", "add_header strict-transport-security max-age=9; ssl_certificate ", 1))
	assert.Contains(t, refused(nil, 1), "the site sends the header already: max-age=9")
	p.put(t, p.dir+"/headers", "add_header X-A a;\n")
	p.put(t, p.site, strings.Replace(strings.Replace(string(text), "root "+p.dir, "return 404", 1), "ssl_certificate ", "include "+p.dir+"/headers; ssl_certificate ", 1))
	assert.Contains(t, refused(nil, 1), "in files the site includes")
}
