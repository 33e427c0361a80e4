package bench_test

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/haproxy"
	"insegna.example/internal/kind/httpd"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/reach"
)

// mending measures the plan for 500 findings on one server.
func (b *bench) mending() error {
	const sites, n = 500, 500
	main, err := b.sitesTree(sites)
	if err != nil {
		return err
	}
	undo, err := plainBeside(filepath.Dir(main), n)
	if err != nil {
		return err
	}
	defer undo()
	var slowest time.Duration
	var each []string
	for _, k := range []struct {
		*kind.Kind
		main string
	}{{nginx.Kind, main}, {httpd.Kind, filepath.Join(filepath.Dir(main), "httpd.conf")},
		{haproxy.Kind, filepath.Join(filepath.Dir(main), "haproxy.cfg")}} {
		to := k.Installs(reach.Local(), &estate.Server{Reach: &estate.Reach{Configuration: k.main,
			Commands: map[string]string{"test": "true", "reload": "true"}}}).(install.Mender)
		order := &install.Mending{Server: "bench", Version: "v", Plain: func(string) uint16 { return sitesPort + 1 },
			Fit:  func(string, []*certs.Certificate) error { return nil },
			List: func(_ string, list, _ []*certs.Certificate) ([]*certs.Certificate, error) { return list[:1], nil }}
		for i := range n {
			code := check.ChainRootSent
			switch i % 5 {
			case 3:
				code = check.SuiteWeak
			case 4:
				code = check.RedirectTemporary
			}
			order.Faults = append(order.Faults, install.Fault{Finding: int64(i + 1), Code: code, Host: siteName(i),
				At: netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), sitesPort)})
		}
		began := time.Now()
		planned, err := to.Mend(b.ctx, order)
		if err != nil {
			return err
		}
		if took := time.Since(began); len(planned.Mends) != n {
			return fmt.Errorf("%s: %d of %d are mended; first left: %+v", k.Title, len(planned.Mends), n, planned.Left[0])
		} else {
			slowest = max(slowest, took)
			each = append(each, fmt.Sprintf("%s %.2f s", k.Title, took.Seconds()))
		}
	}
	b.figures = append(b.figures, figure{"the plan that mends 500 findings on one server",
		fmt.Sprintf("%.1f s", slowest.Seconds()), "< 5 s on a quiet machine",
		"500 sites with certificates of their own; 300 lists are written anew, suites of 100 sites are set, and visitors of plain http of 100 are led for good: read, worked out " +
			"and held against what every other host gets. The slowest of: " + strings.Join(each, ", ") + ".", slowest < 5*time.Second})
	return nil
}

// plainBeside has each fifth site lead visitors of plain http to https for the time being;
// the result takes that away again.
func plainBeside(dir string, n int) (undo func(), err error) {
	kept := map[string][]byte{}
	var fresh []string
	undo = func() {
		for name, text := range kept {
			_ = os.WriteFile(name, text, 0o600)
		}
		for _, name := range fresh {
			_ = os.Remove(name)
		}
	}
	var front strings.Builder
	fmt.Fprintf(&front, "frontend plain\n    bind 127.0.0.1:%d\n", sitesPort+1)
	for i := 4; i < n; i += 5 {
		host := siteName(i)
		fmt.Fprintf(&front, "    http-request redirect location https://%s:%d%%[capture.req.uri] code 302 if { req.hdr(host),field(1,:) -i %[1]s }\n", host, sitesPort)
		for name, text := range map[string]string{
			fmt.Sprintf("sites-enabled/plain-%d", i): fmt.Sprintf("server {\n    listen 127.0.0.1:%d;\n    server_name %s;\n    return 302 https://$host:%d$request_uri;\n}\n",
				sitesPort+1, host, sitesPort),
			fmt.Sprintf("vhosts/plain-%d.conf", i): fmt.Sprintf("<VirtualHost 127.0.0.1:%d>\n    ServerName %s\n    Redirect / https://%[2]s:%[3]d/\n</VirtualHost>\n",
				sitesPort+1, host, sitesPort),
		} {
			fresh = append(fresh, filepath.Join(dir, name))
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
				return undo, err
			}
		}
	}
	none := filepath.Join(dir, "vhosts/plain-0.conf") // who has no site gets none
	fresh = append(fresh, none)
	if err := os.WriteFile(none, fmt.Appendf(nil, "<VirtualHost 127.0.0.1:%d>\n    Redirect 404 /\n</VirtualHost>\n", sitesPort+1), 0o600); err != nil {
		return undo, err
	}
	for name, more := range map[string]string{"httpd.conf": fmt.Sprintf("Listen 127.0.0.1:%d\n", sitesPort+1), "haproxy.cfg": front.String()} {
		at := filepath.Join(dir, name)
		text, err := os.ReadFile(at)
		if err != nil {
			return undo, err
		}
		kept[at] = text
		if err := os.WriteFile(at, append(text[:len(text):len(text)], more...), 0o600); err != nil {
			return undo, err
		}
	}
	return undo, nil
}
