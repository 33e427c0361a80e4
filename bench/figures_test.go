package bench_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"insegna.example/client"
	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/look"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/store"
)

func (a *authority) pem() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.root.Raw})
}

// judging compares judging alone with the bare signature check, on one core.
func (b *bench) judging() error {
	const leaves = 3000
	a, err := newAuthority()
	if err != nil {
		return err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	list := make([]*x509.Certificate, leaves)
	for i := range list {
		if list[i], err = a.leaf(hostAt(0, i), key.Public()); err != nil {
			return err
		}
	}
	root, err := certs.Parse(a.root.Raw)
	if err != nil {
		return err
	}
	runtime.GOMAXPROCS(1)
	defer runtime.GOMAXPROCS(runtime.NumCPU())
	var fresh, again []float64
	for range 2*rounds + 1 { // each is short, so more of them
		began := time.Now()
		public, ok := a.ca.PublicKey.(*ecdsa.PublicKey)
		for _, c := range list {
			digest := sha256.Sum256(c.RawTBSCertificate)
			if !ok || !ecdsa.VerifyASN1(public, digest[:], c.Signature) {
				return errors.New("the bare check failed")
			}
		}
		bare := time.Since(began)
		judge := check.NewJudge([]*trust.Audience{trust.NewAudience("bench", true, []*certs.Certificate{root})},
			chain.NewKnown())
		first, err := judgeAll(judge, a, list)
		if err != nil {
			return err
		}
		second, err := judgeAll(judge, a, list)
		if err != nil {
			return err
		}
		fresh = append(fresh, bare.Seconds()/first.Seconds())
		again = append(again, first.Seconds()/second.Seconds())
	}
	how := fmt.Sprintf("%d leaves of one CA, each with its intermediate, judged as a survey does it (parsing, names, "+
		"paths, signatures, dates, findings) on one core, against `ecdsa.VerifyASN1` over the same leaves. ", leaves)
	b.add("judging leaves never seen, against pure signature checks", median(fresh), "", "≥ 0.70",
		how+"Rounds: "+spread(fresh)+".", median(fresh) >= 0.7)
	b.add("judging leaves seen before, against never seen", median(again), " times", "≥ 10",
		how+"The same lists once more with the same judge. Rounds: "+spread(again)+".", median(again) >= 10)
	return nil
}

func judgeAll(judge *check.Judge, a *authority, list []*x509.Certificate) (time.Duration, error) {
	at := time.Now()
	target := check.Target{Endpoint: netip.MustParseAddrPort("127.0.0.1:443"), Server: "bench",
		Audiences: []string{"bench"}}
	began := time.Now()
	for i, c := range list {
		target.Host = hostAt(0, i)
		seen := binding.Observation{Outcome: binding.Connected, Served: [][]byte{c.Raw, a.ca.Raw}, Version: tls.VersionTLS13}
		if j := judge.Judge(target, &seen, at, check.Around{}); j.Verdict != binding.Agreed {
			return 0, fmt.Errorf("a good leaf was judged %s: %v", j.Verdict, j.Findings)
		}
	}
	return time.Since(began), nil
}

// estateOf declares one host at each port of each address.
func estateOf(addresses, first, count int, each bool) string {
	var s strings.Builder
	s.WriteString("estate: Bench\naudiences:\n  - {name: bench, public: true, roots: [root.pem]}\nservers:\n")
	for n := range addresses {
		fmt.Fprintf(&s, "  - {name: s%d, addresses: [%s], ports: [%d-%d], without_sni: false}\n", n, addressAt(n), first,
			first+count-1)
	}
	s.WriteString("hosts:\n")
	for n := range addresses {
		if !each {
			fmt.Fprintf(&s, "  - {name: h%d.lantern.example, at: [s%d]}\n", n, n)
			continue
		}
		for p := first; p < first+count; p++ {
			fmt.Fprintf(&s, "  - {name: %s, at: ['s%d:%d']}\n", hostAt(n, p), n, p)
		}
	}
	return s.String()
}

// open starts a service with a database of its own, durable as in use.
func (b *bench) open(name string, l *look.Looker) (*service.Service, error) {
	return service.Open(b.ctx,
		service.Config{Data: filepath.Join(b.dir, name), Looker: l, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
}

func (b *bench) apply(s *service.Service, text, root string) error {
	_, err := s.ApplyEstate(b.ctx,
		&service.EstateFile{Name: "bench.yaml", Text: []byte(text), Attachments: map[string][]byte{"root.pem": []byte(root)}})
	return err
}

// surveyed runs a survey and gives the time it took.
func (b *bench) surveyed(s *service.Service) (time.Duration, *store.Survey, error) {
	began := time.Now()
	v, err := s.StartSurvey(b.ctx, store.Scope{})
	for err == nil && v.State != store.Finished {
		time.Sleep(10 * time.Millisecond)
		v, err = s.Survey(b.ctx, v.ID)
	}
	return time.Since(began), v, err
}

// survey compares a whole survey with a bare client loop.
func (b *bench) survey() error {
	const addresses, first, count = 20, 20000, 100
	root, stop, err := startRig(first, count, 0)
	if err != nil {
		return err
	}
	defer stop()
	var fresh, again []float64
	for i := range rounds {
		bare, err := bareLoop(root, addresses, first, count)
		if err != nil {
			return err
		}
		one, two, err := b.surveyTwice(fmt.Sprintf("survey-%d", i), root, addresses, first, count)
		if err != nil {
			return err
		}
		fresh, again = append(fresh, bare.Seconds()/one.Seconds()), append(again, bare.Seconds()/two.Seconds())
	}
	how := "2,000 distinct loopback endpoints, each with a certificate of its own. The survey (start to finished, with " +
		"handshakes, judging, storing in a durable PostgreSQL on the same cores) against a loop of 32 workers that connect, shake hands with SNI, verify with the standard library against the root, and close. The endpoints run in a process of their own; both sides look at each endpoint once, with SNI. "
	b.add("first survey of 2,000 endpoints, against a bare client loop", median(fresh), " of its rate",
		"≥ 0.80, aim 1.0", how+"Every round has a new database, so every certificate is new. Rounds: "+spread(fresh)+".",
		median(fresh) >= 0.8)
	b.add("the same survey again, against a bare client loop", median(again), " of its rate", "≥ 0.80, aim 1.0",
		how+"The second survey of each round finds what is stored. Rounds: "+spread(again)+".", median(again) >= 0.8)
	return nil
}

func (b *bench) surveyTwice(name, root string, addresses, first, count int) (one, two time.Duration, err error) {
	s, err := b.open(name, nil)
	if err != nil {
		return 0, 0, err
	}
	defer s.Close()
	if err := b.apply(s, estateOf(addresses, first, count, true), root); err != nil {
		return 0, 0, err
	}
	one, v, err := b.surveyed(s)
	if err != nil {
		return 0, 0, err
	}
	if v.Connected != addresses*count || v.Opened != 0 {
		return 0, 0, fmt.Errorf("the survey went wrong: %+v", v)
	}
	two, _, err = b.surveyed(s)
	return one, two, err
}

func bareLoop(root string, addresses, first, count int) (time.Duration, error) {
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(root))
	type job struct{ address, host string }
	jobs := make(chan job, addresses*count)
	for n := range addresses {
		for p := first; p < first+count; p++ {
			jobs <- job{net.JoinHostPort(addressAt(n), strconv.Itoa(p)), hostAt(n, p)}
		}
	}
	close(jobs)
	var all sync.WaitGroup
	failed := make(chan error, addresses*count)
	began := time.Now()
	for range 32 {
		all.Go(func() {
			for j := range jobs {
				if err := shake(j.address, j.host, pool); err != nil {
					if err = shake(j.address, j.host, pool); err != nil { // a shared machine resets a connection now and then
						failed <- err
					}
				}
			}
		})
	}
	all.Wait()
	took := time.Since(began)
	select {
	case err := <-failed:
		return 0, err
	default:
		return took, nil
	}
}

func shake(address, host string, pool *x509.CertPool) error {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	return tls.Client(conn, &tls.Config{ServerName: host, RootCAs: pool}).Handshake()
}

// silent compares a survey with 5 % silent endpoints with one without.
func (b *bench) silent() error {
	const addresses, first, count, mute = 2, 22000, 500, 25
	root, stop, err := startRig(first, count, first+mute)
	if err != nil {
		return err
	}
	defer stop()
	l := look.New()
	l.HandshakeTimeout = 2 * time.Second
	s, err := b.open("silent", l)
	if err != nil {
		return err
	}
	defer s.Close()
	var excess []float64
	for range rounds {
		if err := b.apply(s, estateOf(addresses, first+mute, count-mute, true), root); err != nil {
			return err
		}
		without, _, err := b.surveyed(s)
		if err != nil {
			return err
		}
		if err := b.apply(s, estateOf(addresses, first, count, true), root); err != nil {
			return err
		}
		with, _, err := b.surveyed(s)
		if err != nil {
			return err
		}
		excess = append(excess, (with-without).Seconds()/l.HandshakeTimeout.Seconds())
	}
	b.add("what 5 % silent endpoints add to a survey, in deadlines", median(excess), " deadlines", "≤ 1",
		"1,000 endpoints of which 50 accept and say nothing, against the same survey without those 50; the difference "+
			"divided by the handshake deadline of 2 s. They stand at two addresses, 25 silent ones at each. Rounds: "+
			spread(excess)+".", median(excess) <= 1.02)
	return nil
}

// memory reads the service's largest resident size.
func (b *bench) memory() error {
	const first, count = 24000, 501 // more than 500: certificates are issued when asked for
	for _, m := range []struct{ addresses, limit int }{{20, 250}, {200, 400}} {
		root, stop, err := startRig(first, count, 0)
		if err != nil {
			return err
		}
		peak, err := b.peak(m.addresses, first, count, root)
		stop()
		if err != nil {
			return err
		}
		n := m.addresses * count
		b.figures = append(b.figures,
			figure{fmt.Sprintf("memory of the service with %d endpoints", n), fmt.Sprintf("%.0f MB", peak),
				fmt.Sprintf("< %d MB", m.limit),
				"`insegna serve` as a process, its largest resident size (VmHWM) from its start through applying the estate and a " +
					"whole survey in which every endpoint shows a certificate of its own; PostgreSQL and the endpoints are other " +
					"processes.", peak < float64(m.limit)})
	}
	return nil
}

func (b *bench) peak(addresses, first, count int, root string) (float64, error) {
	address := "127.0.0.1:7390"
	cmd := exec.Command("../bin/insegna", "serve", "--listen", address, "--data",
		filepath.Join(b.dir, fmt.Sprintf("memory-%d", addresses)))
	cmd.Stderr = os.Stderr
	said, err := cmd.StdoutPipe()
	if err != nil {
		return 0, err
	}
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	defer func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() }()
	url := "http://" + address + "/api/v1"
	for range 600 {
		if resp, err := http.Get(url + "/ready"); err == nil {
			_ = resp.Body.Close()
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	text := make([]byte, 4096)
	n, err := said.Read(text)
	if err != nil {
		return 0, err
	}
	_, link, _ := strings.Cut(string(text[:n]), "/set-up#")
	code, _, _ := strings.Cut(link, "\n")
	if err := servicetest.Admit(b.ctx, "http://"+address, code); err != nil {
		return 0, err
	}
	cl, err := client.NewClientWithResponses(url)
	if err != nil {
		return 0, err
	}
	applied, err := cl.ApplyEstateWithResponse(b.ctx,
		client.EstateFile{File: "bench.yaml", Text: estateOf(addresses, first, count, false),
			Attachments: &map[string]string{"root.pem": root}})
	if err != nil || applied.JSON200 == nil {
		return 0, fmt.Errorf("apply: %w %s", err, applied.Body)
	}
	v, err := cl.StartSurveyWithResponse(b.ctx, client.SurveyRequest{})
	if err != nil || v.JSON201 == nil {
		return 0, fmt.Errorf("survey: %w %s", err, v.Body)
	}
	var last client.Survey
	err = client.FollowSurvey(b.ctx, http.DefaultClient, url, v.JSON201.Id,
		func(now client.Survey) error { last = now; return nil })
	if err != nil {
		return 0, err
	}
	if last.Connected != addresses*count {
		return 0, fmt.Errorf("only %d of %d answered", last.Connected, addresses*count)
	}
	return highWater(cmd.Process.Pid)
}

func highWater(pid int) (float64, error) {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.SplitSeq(string(status), "\n") {
		if v, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, err := strconv.Atoi(strings.Fields(v)[0])
			return float64(kb) / 1024, err
		}
	}
	return 0, errors.New("no VmHWM")
}

// listSQL is what the list of certificates asks for, written out.
const listSQL = `select c.sha256, c.common_name, c.issuer, c.names, c.not_before, c.not_after, c.key, c.serial, c.is_ca, c.first_seen,
	(select count(*) from targets t where t.leaf = c.sha256 and t.host_id is not null and t.removed_at is null) as bindings
	from (select c.* from certificates c where not c.is_ca and c.not_after <= $1 order by c.not_after, c.sha256 limit 101) c order by c.not_after, c.sha256`

// list compares the list of certificates over HTTP with its SQL sent bare.
func (b *bench) list() error {
	srv, conn, done, err := b.filled("list")
	if err != nil {
		return err
	}
	defer done()
	until := time.Now().Add(31*24*time.Hour - time.Second)
	bare := func() error {
		rows, err := conn.Query(b.ctx, listSQL, until)
		if err != nil {
			return err
		}
		n := 0
		for rows.Next() {
			if _, err := rows.Values(); err != nil {
				return err
			}
			n++
		}
		if n != 101 {
			return fmt.Errorf("the bare query gave %d rows", n)
		}
		return rows.Err()
	}
	full := func() error {
		resp, err := http.Get(srv.URL + "/api/v1/certificates?days_left_max=30&limit=100")
		if err != nil {
			return err
		}
		defer func() { _ = resp.Body.Close() }()
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	}
	var ratios []float64
	for range rounds {
		one, err := p99(bare)
		if err != nil {
			return err
		}
		two, err := p99(full)
		if err != nil {
			return err
		}
		ratios = append(ratios, two.Seconds()/one.Seconds())
	}
	b.add("list of certificates by expiry over HTTP, 99th percentile, against its SQL bare", median(ratios), " times",
		"≤ 3", "100,000 certificates and 300,000 bindings stored; `GET /certificates?days_left_max=30&limit=100` over "+
			"loopback against the same SQL through pgx on one connection, 400 calls each in a round. Rounds: "+spread(ratios)+
			".", median(ratios) <= 3)
	return b.explain(conn, until)
}

// filled serves an estate of 100,000 certificates and 300,000 bindings, with somebody signed in,
// and opens its database.
func (b *bench) filled(name string) (srv *httptest.Server, conn *pgx.Conn, done func(), err error) {
	s, err := b.open(name, nil)
	if err != nil {
		return nil, nil, nil, err
	}
	if conn, err = pgx.Connect(b.ctx, s.DatabaseAddress()); err != nil {
		s.Close()
		return nil, nil, nil, err
	}
	for _, q := range fillSQL {
		if _, err := conn.Exec(b.ctx, q); err != nil {
			return nil, nil, nil, err
		}
	}
	h, err := httpapi.Handler(s, nil, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		return nil, nil, nil, err
	}
	srv = httptest.NewServer(h)
	code, err := s.FirstInvitation(b.ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	done = func() { srv.Close(); _ = conn.Close(context.Background()); s.Close() }
	return srv, conn, done, servicetest.Admit(b.ctx, srv.URL, code)
}

func p99(f func() error) (time.Duration, error) {
	const calls = 400
	took := make([]time.Duration, calls)
	for i := range took {
		began := time.Now()
		if err := f(); err != nil {
			return 0, err
		}
		took[i] = time.Since(began)
	}
	slices.Sort(took)
	return took[calls*99/100], nil
}

func (b *bench) explain(conn *pgx.Conn, until time.Time) error {
	rows, err := conn.Query(b.ctx, "explain (analyze, costs off, timing off, summary off) "+listSQL, until)
	if err != nil {
		return err
	}
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	b.plan = strings.Join(lines, "\n")
	return err
}

var fillSQL = []string{
	`insert into certificates (sha256, der, common_name, issuer, names, not_before, not_after, key, serial, is_ca, first_seen)
	 select sha256(i::text::bytea), repeat('x', 900)::bytea, 'h' || i || '.lantern.example', 'Bench CA ' || i % 20, jsonb_build_array('h' || i || '.lantern.example', 'www.h' || i || '.lantern.example'),
	  now() - interval '10 days', now() + (i * 7919 % 90000) * interval '2 minutes', 'ECDSA P-256', to_hex(i), false, now() from generate_series(1, 100000) i`,
	`insert into servers (name, kind, line, generation) select 'fill' || i, 'nginx', i, 1 from generate_series(1, 10) i`,
	`insert into endpoints (server_id, address, port, generation) select id, ('127.50.0.' || id)::inet, 443, 1 from servers where name like 'fill%'`,
	`insert into hosts (name, audiences, wanted_issuer, wanted_certificate, line, generation) select 'fill' || i || '.lantern.example', '[]', '', '', i, 1 from generate_series(1, 30000) i`,
	`insert into targets (endpoint_id, host_id, generation, verdict, served, leaf)
	 select e.id, h.id, 1, 'agreed', 'agrees', sha256((1 + (h.id * 10 + e.id) % 100000)::text::bytea) from hosts h cross join endpoints e where e.address << '127.50.0.0/24' and h.name like 'fill%'`,
	`update declarations set bindings = (select count(*) from targets where host_id is not null and removed_at is null) where current`,
	`update targets t set leaf_ends = c.not_after from certificates c where c.sha256 = t.leaf and t.leaf_ends is null`,
	`update servers set bindings = 30000 where name like 'fill%'`,
	`analyze`,
}
