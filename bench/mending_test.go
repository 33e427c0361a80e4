package bench_test

import (
	"fmt"
	"net/netip"
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
	var slowest time.Duration
	var each []string
	for _, k := range []struct {
		*kind.Kind
		main string
	}{{nginx.Kind, main}, {httpd.Kind, filepath.Join(filepath.Dir(main), "httpd.conf")},
		{haproxy.Kind, filepath.Join(filepath.Dir(main), "haproxy.cfg")}} {
		to := k.Installs(reach.Local(), &estate.Server{Reach: &estate.Reach{Configuration: k.main,
			Commands: map[string]string{"test": "true", "reload": "true"}}}).(install.Mender)
		order := &install.Mending{Server: "bench", Version: "v",
			List: func(_ string, list, _ []*certs.Certificate) ([]*certs.Certificate, error) { return list[:1], nil }}
		for i := range n {
			code := check.ChainRootSent
			if i%5 > 2 {
				code = check.SuiteWeak
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
		"500 sites with certificates of their own; 300 lists are written anew, and suites of 200 sites are set: read, worked out " +
			"and held against what every other host gets. The slowest of: " + strings.Join(each, ", ") + ".", slowest < 5*time.Second})
	return nil
}
