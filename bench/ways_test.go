package bench_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/ocsp"
	"golang.org/x/sync/errgroup"

	"insegna.example/client"
	own "insegna.example/internal/core/authority"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
)

// foreseen foresees the renewals of fifty thousand mandates.
func (b *bench) foreseen() error {
	const mandates = 50_000
	from := time.Now().UTC()
	list := make([]lifetime.Renewing, mandates)
	for i := range list {
		list[i] = lifetime.Renewing{CA: fmt.Sprintf("ca %d", i%5), Next: from.Add(time.Duration(i%60) * lifetime.Day), Life: 90 * lifetime.Day, Public: i%5 > 0}
	}
	budgets := map[string]lifetime.Budgeted{"ca 1": {Certificates: 1000, Days: 7}}
	var seconds []float64
	for range rounds {
		began := time.Now()
		if f := lifetime.ForecastAll(list, budgets, from); f[0].Year == 0 {
			return errors.New("nothing was foreseen")
		}
		seconds = append(seconds, time.Since(began).Seconds())
	}
	b.add("forecast of 50,000 mandates, two years, four limits", median(seconds), " s", "< 1 s on a quiet machine", "Rounds: "+spread(seconds)+".", median(seconds) < 1)
	return nil
}

// drilled plans to replace ten thousand certificates of a CA, over the whole service.
func (b *bench) drilled() error {
	const mandates = 10_000
	s, srv, done, err := b.owned("drilled")
	if done != nil {
		defer done()
	}
	if err != nil {
		return err
	}
	root := pkitest.CA("Crew", nil)
	leaf := pkitest.Leaf(root, "a.crew.example")
	conn, err := pgx.Connect(b.ctx, s.DatabaseAddress())
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(b.ctx) }()
	if _, err := conn.Exec(b.ctx, fmt.Sprintf(`insert into mandates (name, ca, spec, next_at) select 'm' || i, 'crew',
			'{"name":"m","names":["a.crew.example"],"ca":"crew","otherwise":["crew-2"],"key":"ecdsa-p256"}', now() + interval '30 days' from generate_series(1, %d) i;
		insert into orders (mandate_id, ca, rehearsal, spec, state, by, created_at, finished_at, chain, leaf, not_after)
			select id, 'crew', false, spec, 'issued', 'bench', now() - interval '1 minute', now(), '%s', '\\x%x', now() + interval '60 days' from mandates`,
		mandates, string(certs.PEM(leaf.Raw)), leaf.Certificate.Fingerprint[:])); err != nil {
		return err
	}
	if _, err := conn.Exec(b.ctx, "analyze mandates, orders, targets"); err != nil { // as a database that has been there a while
		return err
	}
	var seconds []float64
	for range rounds {
		began := time.Now()
		text, err := json.Marshal(client.DrillRequest{Kind: client.DrillRequestKindCa, What: "crew", Hours: 24})
		if err != nil {
			return err
		}
		if _, err := post(http.DefaultClient, srv.URL+"/api/v1/drills", "application/json", text, http.StatusCreated); err != nil {
			return err
		}
		seconds = append(seconds, time.Since(began).Seconds())
	}
	b.add("drill plan of 10,000 certificates, over HTTP", median(seconds), " s", "< 2 s on a quiet machine", "Gathered from the database, laid out, kept, and told. Rounds: "+spread(seconds)+".", median(seconds) < 2)
	return nil
}

// owned is a service with a CA of its own, over HTTP.
func (b *bench) owned(name string) (*service.Service, *httptest.Server, func(), error) {
	s, err := service.Open(b.ctx, service.Config{Data: filepath.Join(b.dir, name), Disposable: true, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		return nil, nil, nil, err
	}
	h, err := httpapi.Handler(s, nil, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		return nil, nil, nil, err
	}
	srv := httptest.NewServer(h)
	done := func() { srv.Close(); s.Close() }
	code, err := s.FirstInvitation(b.ctx)
	if err != nil {
		return nil, nil, done, err
	}
	if err := servicetest.Admit(b.ctx, srv.URL, code); err != nil {
		return nil, nil, done, err
	}
	text := "estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: quay, addresses: [127.0.0.1], ports: [1]}\n" +
		"hosts:\n  - {name: a.crew.example, at: [quay]}\ncas:\n  - {name: crew, by: private, publish: " + srv.URL + "}\n"
	if err := b.apply(s, text, string(certs.PEM(pkitest.CA("root", nil).Raw))); err != nil {
		return nil, nil, done, err
	}
	_, _, err = s.MakeCA(b.ctx, &service.MakeCA{Name: "crew", Key: "ecdsa-p256"})
	return s, srv, done, err
}

// side is how many ask side by side.
const side = 32

// rate is how many calls a second are answered.
func rate(calls int, call func(i int) error) (float64, error) {
	var all errgroup.Group
	var next atomic.Int64
	began := time.Now()
	for range side {
		all.Go(func() error {
			for {
				i := int(next.Add(1)) - 1
				if i >= calls {
					return nil
				}
				if err := call(i); err != nil {
					return err
				}
			}
		})
	}
	err := all.Wait()
	return float64(calls) / time.Since(began).Seconds(), err
}

// post sends something and reads what comes back.
func post(c *http.Client, url, kind string, body []byte, want int) ([]byte, error) {
	resp, err := c.Post(url, kind, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	defer func() { _ = resp.Body.Close() }()
	data, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != want {
		err = fmt.Errorf("%s: %s", resp.Status, data)
	}
	return data, err
}

// owning has a CA of one's own issue, against signatures over HTTP that nobody keeps,
// and answer OCSP requests.
func (b *bench) owning() error {
	_, srv, done, err := b.owned("owning")
	if done != nil {
		defer done()
	}
	if err != nil {
		return err
	}
	// the same on both sides: no connection for each call, nothing packed
	caller := &http.Client{Transport: servicetest.AsKeeper(&http.Transport{MaxIdleConnsPerHost: side, DisableCompression: true})}
	defer caller.CloseIdleConnections()
	const calls = 2000
	requests := make([][]byte, 64)
	for i := range requests {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return err
		}
		if requests[i], err = x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: []string{fmt.Sprintf("h%d.crew.example", i)}}, key); err != nil {
			return err
		}
	}
	root := pkitest.CA("bare", nil)
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		der, _ := io.ReadAll(r.Body)
		req, err := x509.ParseCertificateRequest(der)
		if err != nil || req.CheckSignature() != nil {
			http.Error(w, "bad", http.StatusBadRequest)
			return
		}
		out, err := own.Issue(&own.Wish{Names: req.DNSNames, Public: req.PublicKey, From: time.Now(), Until: time.Now().AddDate(0, 0, 90),
			Usages: []string{"server"}}, &own.Signer{Certificate: root.X509(), Key: root.Key}, rand.Reader)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		_, _ = w.Write(certs.PEM(out))
	}))
	defer bare.Close()
	var ratios, ours, theirs []float64
	for range rounds {
		quick, err := rate(calls, func(i int) error {
			_, err := post(caller, bare.URL, "application/pkcs10", requests[i%len(requests)], http.StatusOK)
			return err
		})
		if err != nil {
			return err
		}
		kept, err := rate(calls, func(i int) error {
			text, err := json.Marshal(client.SigningRequest{Request: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: requests[i%len(requests)]}))})
			if err != nil {
				return err
			}
			_, err = post(caller, srv.URL+"/api/v1/cas/crew/certificates", "application/json", text, http.StatusCreated)
			return err
		})
		if err != nil {
			return err
		}
		ours, theirs, ratios = append(ours, kept), append(theirs, quick), append(ratios, kept/quick)
	}
	b.add("a CA of one's own issues, against bare signatures over HTTP", median(ratios), " times", "≥ 0.5",
		fmt.Sprintf("%d certificates of P-256 each, %d side by side: signed in, judged by profile, kept and in the journal, against a request read and signed. "+
			"%.0f and %.0f a second. Rounds: %s.", calls, side, median(ours), median(theirs), spread(ratios)), median(ratios) >= 0.5)
	return b.answered(srv)
}

// answered asks about one certificate again and again.
func (b *bench) answered(srv *httptest.Server) error {
	resp, err := http.Get(srv.URL + "/api/v1/cas/crew/authority")
	if err != nil {
		return err
	}
	var v client.Authority
	err = json.NewDecoder(resp.Body).Decode(&v)
	_ = resp.Body.Close()
	if err != nil {
		return err
	}
	var issuing client.AuthorityCertificate
	for _, c := range v.Certificates {
		if c.Role == client.AuthorityCertificateRoleIssuing {
			issuing = c
		}
	}
	list, err := certs.ReadCertificates([]byte(issuing.Pem))
	if err != nil {
		return err
	}
	request, err := ocsp.CreateRequest(&x509.Certificate{SerialNumber: list[0].SerialNumber}, list[0].Certificate, nil)
	if err != nil {
		return err
	}
	c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: side, DisableCompression: true}}
	at := fmt.Sprintf("%s/pki/crew/%d/ocsp", srv.URL, issuing.Number)
	var rates []float64
	for range rounds {
		n, err := rate(20_000, func(int) error {
			data, err := post(c, at, "application/ocsp-request", request, http.StatusOK)
			if err == nil && len(data) < 100 {
				err = errors.New("no answer: " + strings.ToValidUTF8(string(data), "?"))
			}
			return err
		})
		if err != nil {
			return err
		}
		rates = append(rates, n)
	}
	b.add("OCSP answers from memory", median(rates), " a second", "≥ 5,000 on two quiet cores", fmt.Sprintf("%d side by side over loopback, the asking program on the same cores. Rounds: %s.",
		side, spread(rates)), median(rates) >= 5000)
	return nil
}
