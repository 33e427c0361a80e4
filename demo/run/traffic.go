package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"insegna.example/demo"
)

// visitors are steady traffic to one server, whose every answer is held
// against what it should be: status, trust, name and dates.
type visitors struct {
	server demo.ClockServer
	outage atomic.Int64 // odd while the server is down on purpose

	mu       sync.Mutex
	requests int
	failed   int
	aside    int             // failed while the server was down on purpose
	expired  int             // failed for the dates of the certificate
	seen     map[string]bool // serial numbers
	first    string          // the first failure, in words
}

// Visits come so often, of each kind.
const visitEach = 50 * time.Millisecond

// patience is how long a visitor waits.
const patience = 5 * time.Second

// visit lets visitors come until ctx ends: some with a connection each, some
// that keep theirs, some by plain http.
func (v *visitors) visit(ctx context.Context, root *x509.CertPool) {
	v.seen = map[string]bool{}
	client := func(keep bool) *http.Client {
		return &http.Client{Timeout: patience, CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}, Transport: &http.Transport{DisableKeepAlives: !keep,
			TLSClientConfig: &tls.Config{RootCAs: root, MinVersion: tls.VersionTLS12},
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				at := v.server.HTTPS()
				if _, port, _ := net.SplitHostPort(address); port == "80" {
					at = v.server.Plain()
				}
				return (&net.Dialer{}).DialContext(ctx, network, at)
			}}}
	}
	var all sync.WaitGroup
	for _, kind := range []struct {
		url    string
		keep   bool
		status int
	}{
		{"https://" + v.server.Host() + "/", false, http.StatusOK},
		{"https://" + v.server.Host() + "/", true, http.StatusOK},
		{"http://" + v.server.Host() + "/", false, http.StatusMovedPermanently},
	} {
		web := client(kind.keep)
		all.Go(func() {
			for tick := time.NewTicker(visitEach); ; {
				select {
				case <-tick.C:
					v.one(web, kind.url, kind.status)
				case <-ctx.Done():
					tick.Stop()
					return
				}
			}
		})
	}
	all.Wait()
}

// one makes one request and counts how it went. A failure while a server was
// stopped on purpose counts aside.
func (v *visitors) one(web *http.Client, url string, status int) {
	before := v.outage.Load()
	resp, err := web.Get(url)
	var shown string
	if err == nil {
		_, err = io.Copy(io.Discard, resp.Body)
		_ = resp.Body.Close()
		if resp.StatusCode != status {
			err = fmt.Errorf("status %d", resp.StatusCode)
		}
		if resp.TLS != nil {
			shown = resp.TLS.PeerCertificates[0].SerialNumber.String()
		}
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.requests++
	if shown != "" {
		v.seen[shown] = true
	}
	if err == nil {
		return
	}
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		v.expired++
		v.failed++
	case before%2 == 1 || v.outage.Load() != before:
		v.aside++
		return
	default:
		v.failed++
	}
	if v.first == "" {
		v.first = fmt.Sprintf("%s UTC, %s: %v", time.Now().UTC().Format("15:04:05"), url, err)
	}
}

// count is what the visitors of one server met.
type count struct {
	Server                           string
	Renewals                         int
	Requests, Failed, Aside, Expired int
	First                            string `json:",omitempty"`
}

// count sums up; the first certificate met is none of the renewals.
func (v *visitors) count() count {
	v.mu.Lock()
	defer v.mu.Unlock()
	return count{v.server.Server, max(len(v.seen)-1, 0), v.requests, v.failed, v.aside, v.expired, v.first}
}
