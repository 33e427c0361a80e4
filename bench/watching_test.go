package bench_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	core "insegna.example/internal/core/draft"
	"insegna.example/internal/draft"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/look"
	"insegna.example/internal/service"
	"insegna.example/internal/store"
)

// drafting drafts ten thousand nginx sites, against reading them.
func (b *bench) drafting() error {
	const many = 10_000
	main, err := b.sitesTree(many)
	if err != nil {
		return err
	}
	var ratios []float64
	for range rounds {
		reader, err := resolveAll(nginx.Kind.Reader, main, many)
		if err != nil {
			return err
		}
		began := time.Now()
		d := &draft.Drafter{Draft: &core.Draft{Name: "bench", Roots: []string{"root.pem"}}, Kinds: registry.Kinds, Looker: look.New()}
		if err := d.Folder(main, []netip.Addr{netip.MustParseAddr("127.0.0.1")}); err != nil {
			return err
		}
		if err := d.Finish(b.ctx); err != nil {
			return err
		}
		text, watched := d.Text(), len(d.Hosts(true))
		ratios = append(ratios, time.Since(began).Seconds()/reader.Seconds())
		if watched != 2*many || len(text) < many {
			return fmt.Errorf("%d hosts were drafted", watched)
		}
	}
	b.add("draft of 10,000 nginx sites, against reading them and resolving every name", median(ratios), " of its time", "< 2",
		"`insegna estate draft --configuration`, from the files to the text with 20,000 hosts, against the reader on the same tree as above. Rounds: "+
			spread(ratios)+".", median(ratios) < 2)
	return nil
}

// ranging looks through a range of addresses.
func (b *bench) ranging() error {
	const port, addresses = 21443, 4096
	a, err := newAuthority()
	if err != nil {
		return err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	prefix := netip.MustParsePrefix("127.41.0.0/20")
	at, answering := prefix.Addr(), 0
	for n := range addresses {
		if n%20 == 10 {
			leaf, err := a.leaf(fmt.Sprintf("r%d.lantern.example", n), key.Public())
			if err != nil {
				return err
			}
			l, err := tls.Listen("tcp", netip.AddrPortFrom(at, port).String(), &tls.Config{Certificates: []tls.Certificate{
				{Certificate: [][]byte{leaf.Raw, a.ca.Raw}, PrivateKey: key}}, MinVersion: tls.VersionTLS12})
			if err != nil {
				return err
			}
			defer func() { _ = l.Close() }()
			answering++
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					go func() { _ = c.(*tls.Conn).Handshake(); _ = c.Close() }()
				}
			}()
		}
		at = at.Next()
	}
	looker := look.New()
	var deadlines []float64
	for range rounds {
		d := &draft.Drafter{Draft: &core.Draft{Name: "bench", Roots: []string{"root.pem"}}, Kinds: registry.Kinds, Looker: looker, Ports: []uint16{port, port + 1}}
		began := time.Now()
		if err := d.Range(b.ctx, prefix, []netip.Prefix{prefix}); err != nil {
			return err
		}
		if err := d.Finish(b.ctx); err != nil {
			return err
		}
		deadlines = append(deadlines, time.Since(began).Seconds()/looker.HandshakeTimeout.Seconds())
		if n := len(d.Hosts(true)); n != answering {
			return fmt.Errorf("%d of %d that answer were found", n, answering)
		}
	}
	b.add("a range of 4,096 addresses and 2 ports, in deadlines", median(deadlines), " deadlines", "≤ 3",
		fmt.Sprintf("`insegna estate draft --range`: 8,192 endpoints on loopback, %d of which answer; the others refuse at once, as machines without a web server do. "+
			"64 are looked at side by side, 4 at one address; a deadline is the %s a handshake may take. Rounds: ", answering, looker.HandshakeTimeout)+spread(deadlines)+".",
		median(deadlines) <= 3)
	return nil
}

// digest has ten thousand findings at once told in one message.
func (b *bench) digest() error {
	s, err := b.open("digest", nil)
	if err != nil {
		return err
	}
	defer s.Close()
	a, err := newAuthority()
	if err != nil {
		return err
	}
	text := "owner: all\nowners:\n  - {name: all, mail: [all@lantern.example]}\nnotices: {mail: {server: 127.0.0.1:9, security: none, from: insegna@lantern.example}}\n" +
		estateOf(1, 24000, 1, false)
	if err := b.apply(s, text, string(a.pem())); err != nil {
		return err
	}
	if _, _, err := b.surveyed(s); err != nil {
		return err
	}
	if err := s.Tell(b.ctx); err != nil {
		return err
	}
	conn, err := pgx.Connect(b.ctx, s.DatabaseAddress())
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.Background()) }()
	var seconds []float64
	for round := range rounds {
		for _, q := range []string{"update notice_owners set told_at = now() - interval '1 hour'", fmt.Sprintf(`with new as (insert into findings (server_id, code, severity, cause, remedy, evidence, opened_at, opened_survey, subject)
				select (select min(id) from servers), 'key-open', n %% 2, 'the private key ' || n || ' may be read by other users', 'close it', '[]', now(), (select max(id) from surveys), '%d ' || n
				from generate_series(1, 10000) n returning id)
			insert into events (at, kind, finding_id) select now(), 'finding-opened', id from new`, round)} {
			if _, err := conn.Exec(b.ctx, q); err != nil {
				return err
			}
		}
		began := time.Now()
		if err := s.Tell(b.ctx); err != nil {
			return err
		}
		took := time.Since(began).Seconds()
		var messages int
		var subject string
		if err := conn.QueryRow(b.ctx, "select count(*), coalesce(max(subject), '') from notices where made_at >= $1 and kind = 'events'", began.Add(-time.Second)).Scan(&messages, &subject); err != nil {
			return err
		}
		if messages != 1 || !strings.Contains(subject, "5000 broken, 5000 due") {
			return fmt.Errorf("%d messages: %s", messages, subject)
		}
		seconds = append(seconds, took)
	}
	b.add("10,000 findings at once, to one message", median(seconds), " s", "< 2 s on a quiet machine",
		"Ten thousand findings and their events stored in one transaction; from there to the message with the worst fifty, stored with its job. Rounds: "+spread(seconds)+".",
		median(seconds) < 2)
	return nil
}

// figured reads the figures with many certificates.
func (b *bench) figured() error {
	srv, _, done, err := b.filled("figured")
	if err != nil {
		return err
	}
	defer done()
	var millis []float64
	size := 0
	for range rounds {
		time.Sleep(3 * time.Second) // what was worked out before is old then
		began := time.Now()
		resp, err := http.Get(srv.URL + "/api/v1/metrics")
		if err != nil {
			return err
		}
		text, err := io.ReadAll(resp.Body)
		_ = resp.Body.Close()
		if err != nil || resp.StatusCode != http.StatusOK {
			return errors.Join(err, errors.New(resp.Status))
		}
		millis, size = append(millis, time.Since(began).Seconds()*1000), len(text)
	}
	b.add("figures in OpenMetrics with 100,000 certificates", median(millis), " ms", "< 300 ms on a quiet machine",
		"100,000 certificates and 300,000 bindings stored; `GET /metrics` over loopback. Rounds: "+spread(millis)+".", median(millis) < 300)
	b.add("their size", float64(size)/1e6, " MB", "< 10 MB", "The 5,000 bindings that end first are told one by one, the others as a number.", size < 10e6)
	return nil
}

// scheduled lets a hundred thousand endpoints be looked at by themselves.
func (b *bench) scheduled() error {
	const first, count, addresses, every = 24000, 501, 200, 20 * time.Minute
	root, stop, err := startRig(first, count, 0)
	if err != nil {
		return err
	}
	defer stop()
	var ahead atomic.Int64
	s, err := service.Open(b.ctx, service.Config{Data: filepath.Join(b.dir, "scheduled"), Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Clock: func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }})
	if err != nil {
		return err
	}
	defer s.Close()
	if err := b.apply(s, "schedule: {every: 20m, troubled: never, files: never}\n"+estateOf(addresses, first, count, false), root); err != nil {
		return err
	}
	ahead.Add(int64(2 * time.Minute))
	began := time.Now()
	var v *store.Survey
	for v == nil || v.State != store.Finished {
		if time.Since(began) > 9*time.Minute {
			return errors.New("the first survey of the schedule does not end")
		}
		time.Sleep(200 * time.Millisecond)
		list, err := s.Surveys(b.ctx, 0, 1)
		if err != nil {
			return err
		}
		if len(list) > 0 {
			v = &list[0]
		} else if err := s.BeginScheduled(b.ctx); err != nil {
			return err
		}
	}
	took := v.FinishedAt.Sub(v.CreatedAt.Add(-time.Duration(ahead.Load())))
	conn, err := pgx.Connect(b.ctx, s.DatabaseAddress())
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.Background()) }()
	rows, err := conn.Query(b.ctx, "select floor(extract(epoch from last_seen - (select min(last_seen) from sightings)) / 10)::int as at, count(*) from sightings group by 1 order by 1")
	if err != nil {
		return err
	}
	var buckets []int
	for rows.Next() {
		var at, n int
		if err := rows.Scan(&at, &n); err != nil {
			return err
		}
		for len(buckets) <= at {
			buckets = append(buckets, 0)
		}
		buckets[at] = n
	}
	if err := rows.Err(); err != nil {
		return err
	}
	whole, most := 0, 0
	for _, n := range buckets[:len(buckets)-1] { // the last is not whole
		whole += n
		most = max(most, n)
	}
	mean := float64(whole) / float64(max(len(buckets)-1, 1))
	var drawn strings.Builder
	for i, n := range buckets {
		fmt.Fprintf(&drawn, "\n%4d s %6d %s", i*10, n, strings.Repeat("█", n*40/max(most, 1)))
	}
	// The next one begins when the interval has passed, seen every twenty seconds.
	var next *store.Survey
	ahead.Add(int64(every - time.Since(began) - 3*time.Minute))
	for next == nil {
		ahead.Add(int64(20 * time.Second))
		if err := s.BeginScheduled(b.ctx); err != nil {
			return err
		}
		list, err := s.Surveys(b.ctx, 0, 1)
		if err != nil {
			return err
		}
		if list[0].ID != v.ID {
			next = &list[0]
		}
	}
	off := 100 * (next.CreatedAt.Sub(v.CreatedAt) - every).Abs().Seconds() / every.Seconds()
	b.add("the schedule of 100,200 endpoints: how far off its interval", off, " %", "≤ 5 %",
		fmt.Sprintf("`every: 20m`, from one beginning to the next, whose clock is put forward; a survey by itself was done in %.0f s.", took.Seconds()), off <= 5)
	b.add("its load: the busiest ten seconds, against the mean", float64(most)/mean, " times", "≤ 1.5 (flat)",
		"Looks in each ten seconds of it:\n\n```"+drawn.String()+"\n```\n", float64(most)/mean <= 1.5)
	return nil
}
