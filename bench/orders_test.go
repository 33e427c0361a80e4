package bench_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"insegna.example/internal/acme"
	"insegna.example/internal/catest"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/look"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/standin/ca"
	"insegna.example/internal/store"
)

// Size of the comparison of orders.
const (
	orders      = 1000
	orderRounds = 3
	inFlight    = 16 // requests of the bare loop side by side
)

// ordering is a service with many mandates and the CA they are ordered from.
type ordering struct {
	*service.Service
	town *catest.Town
	db   *pgx.Conn
}

func (b *bench) ordering(name string, mandates int) (*ordering, func(), error) {
	var proofs http.Handler
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { proofs.ServeHTTP(w, r) }))
	port := netip.MustParseAddrPort(web.Listener.Addr().String()).Port()
	town := catest.Start(b.tb, func(c *ca.Config) { c.HTTPPort = int(port) })
	s, err := service.Open(b.ctx,
		service.Config{Data: filepath.Join(b.dir, name), Disposable: true, Looker: look.New(),
			Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		web.Close()
		return nil, nil, err
	}
	end := func() { s.Close(); web.Close() }
	proofs = httpapi.Proofs(s)
	var text strings.Builder
	fmt.Fprintf(&text, "estate: Bench\naudiences:\n  - {name: bench, roots: [root.pem]}\nservers:\n  - {name: quay, "+
		"addresses: [127.0.0.1], ports: [1]}\nhosts:\n  - {name: a.bench.example, at: [quay]}\n"+
		"cas:\n  - {name: harbour, directory: %q, roots: [root.pem], resolver: %q, http_port: %d}\nmandates:\n",
		town.Directory(), town.Names.Address(), port)
	for i := range mandates {
		fmt.Fprintf(&text,
			"  - {name: m%04d, names: [a%d.bench.example, b%d.bench.example], ca: harbour, proof: {by: listener}}\n", i, i, i)
	}
	if _, err := s.ApplyEstate(b.ctx,
		&service.EstateFile{Name: "bench.yaml", Text: []byte(text.String()),
			Attachments: map[string][]byte{"root.pem": certs.PEM(town.Root.Raw)}}); err != nil {
		end()
		return nil, nil, err
	}
	list, err := s.CAs(b.ctx)
	if err == nil {
		_, err = s.Agree(b.ctx, "harbour", list[0].Terms, list[0].TestTerms)
	}
	if err != nil {
		end()
		return nil, nil, err
	}
	db, err := pgx.Connect(b.ctx, s.DatabaseAddress())
	if err != nil {
		end()
		return nil, nil, err
	}
	return &ordering{s, town, db}, func() { _ = db.Close(context.Background()); end() }, nil
}

// all makes the first n mandates due, orders what is due and waits for the last.
func (o *ordering) all(ctx context.Context, n, before int) (time.Duration, error) {
	if _, err := o.db.Exec(ctx, "update mandates set next_at = now() where name < $1",
		fmt.Sprintf("m%04d", n)); err != nil {
		return 0, err
	}
	began := time.Now()
	if err := o.BeginDue(ctx); err != nil {
		return 0, err
	}
	for {
		time.Sleep(50 * time.Millisecond)
		var under bool // to count them all again and again would take part of what is measured
		if err := o.db.QueryRow(ctx, "select exists (select from orders where finished_at is null)").Scan(&under); err != nil {
			return 0, err
		} else if under {
			continue
		}
		var issued, failed int
		if err := o.db.QueryRow(ctx,
			"select count(*) filter (where state = 'issued'), count(*) filter (where state = 'failed') from orders").Scan(
			&issued, &failed); err != nil {
			return 0, err
		}
		if failed > 0 {
			var why string
			_ = o.db.QueryRow(ctx, "select failure::text from orders where state = 'failed' limit 1").Scan(&why)
			return 0, errors.New("an order failed: " + why)
		}
		if issued == before+n {
			return time.Since(began), nil
		}
	}
}

// bare sends so many signed requests, a number of them side by side.
func (b *bench) bare(town *catest.Town, n, inFlight int64) (time.Duration, error) {
	c, err := acme.New(town.Directory(), "bench/1", town.Transport)
	if err != nil {
		return 0, err
	}
	key := pkitest.NewKey()
	a, err := c.Register(b.ctx, key, acme.NewAccount{TermsAgreed: true})
	if err != nil {
		return 0, err
	}
	signer := acme.Signer{Key: key, URL: a.URL}
	order, err := c.NewOrder(b.ctx, signer, acme.Wish{Names: []acme.Identifier{{Type: acme.DNS, Value: "x.bench.example"}}})
	if err != nil {
		return 0, err
	}
	errs := make(chan error, inFlight)
	var all sync.WaitGroup
	began := time.Now()
	for w := range inFlight {
		all.Go(func() {
			for i := w; i < n; i += inFlight {
				if _, err := c.Order(b.ctx, signer, order.URL); err != nil {
					errs <- err
					return
				}
			}
		})
	}
	all.Wait()
	took := time.Since(began)
	select {
	case err := <-errs:
		return 0, err
	default:
		return took, nil
	}
}

// orders compares whole orders with the bare sending of as many requests, and
// counts what a lost reply and a refused nonce cost.
func (b *bench) orders() error {
	o, end, err := b.ordering("orders", orders)
	if err != nil {
		return err
	}
	defer end()
	var ratios, crowded []float64
	var requests int64
	for round := range orderRounds {
		_, before := o.town.Requests()
		took, err := o.all(b.ctx, orders, round*orders)
		if err != nil {
			return err
		}
		_, after := o.town.Requests()
		requests = after - before
		bare, err := b.bare(o.town, requests, 1)
		if err != nil {
			return err
		}
		ratios = append(ratios, bare.Seconds()/took.Seconds())
		if bare, err = b.bare(o.town, requests, inFlight); err != nil {
			return err
		}
		crowded = append(crowded, bare.Seconds()/took.Seconds())
	}
	b.add("orders of two names, against bare signed requests", median(ratios), "", "≥ 0.6",
		fmt.Sprintf("%d orders with http-01 through the whole service (queue, every step stored, proofs, validation, "+
			"issuing, checking) against a loop that sends the same %d signed requests to the same stand-in CA, one after the "+
			"other. The CA runs in the same process in both. Rounds: %s. Against %d such loops side by side: %s.", orders,
			requests, spread(ratios), inFlight, spread(crowded)), median(ratios) >= 0.6)
	// The number of polls depends on how quick the CA is: the least of a few
	// orders has no more of them than need be.
	cost := func(fault ca.Fault) (least float64, err error) {
		defer o.town.Faults.Set(ca.Fault{})
		for try := range orderRounds {
			before, _ := o.town.Requests()
			var done int
			if err := o.db.QueryRow(b.ctx, "select count(*) from orders").Scan(&done); err != nil {
				return 0, err
			}
			o.town.Faults.Set(fault)
			if _, err := o.all(b.ctx, 1, done); err != nil {
				return 0, err
			}
			after, _ := o.town.Requests()
			if n := float64(after - before); try == 0 || n < least {
				least = n
			}
		}
		return least, nil
	}
	usual, err := cost(ca.Fault{})
	if err != nil {
		return err
	}
	worst := 0.0
	for _, fault := range []ca.Fault{{BadNonces: 1}, {Lose: "/authz/"}, {Lose: "/chall/"}, {Lose: "/order/"},
		{Lose: "/cert/"}} {
		got, err := cost(fault)
		if err != nil {
			return err
		}
		worst = max(worst, got-usual)
	}
	b.add("requests more for one lost reply or refused nonce", worst, "", "≤ 1",
		fmt.Sprintf("Counted at the CA for one order (%.0f requests without a fault): a refused nonce, and a reply lost at "+
			"each kind of request but newOrder. The most that any of them cost, each the least of a few orders, since a slow "+
			"CA is polled once more.", usual), worst <= 1)
	had := o.town.Orders()
	lost, err := cost(ca.Fault{Lose: "/new-order"})
	if err != nil {
		return err
	}
	made := float64(o.town.Orders()-had) / orderRounds
	b.add("orders made for one whose newOrder reply is lost", made, "", "1",
		fmt.Sprintf("Counted at the CA, which makes a new order of every newOrder. The one made is looked for in the "+
			"account's list of orders instead of asking again: that costs %.0f requests more.", lost-usual), made == 1)
	return nil
}

// due compares picking what is due out of many mandates with its bare SQL.
func (b *bench) due() error {
	const mandates, atOnce = 50_000, 100
	o, end, err := b.ordering("due", 1)
	if err != nil {
		return err
	}
	defer end()
	if _, err := o.db.Exec(b.ctx, `insert into mandates (name, ca, spec, next_at)
		select 'g' || i, 'harbour', '{"name":"g","names":["a.bench.example"],"ca":"harbour","proof":{"by":"listener"},"key":"ecdsa-p256"}', now() + interval '10 days' + (i - 500) * interval '1 minute'
		from generate_series(1, $1::int) i`, mandates); err != nil {
		return err
	}
	if _, err := o.db.Exec(b.ctx, "analyze mandates"); err != nil {
		return err
	}
	records, err := store.Open(b.ctx, o.DatabaseAddress())
	if err != nil {
		return err
	}
	defer records.Close()
	now := time.Now().UTC().AddDate(0, 0, 10) // the service itself finds nothing due
	bare := func() error {
		rows, err := o.db.Query(b.ctx, dueSQL, now, atOnce)
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
		if n != atOnce {
			return fmt.Errorf("the bare query gave %d rows", n)
		}
		return rows.Err()
	}
	full := func() error {
		list, err := records.Due(b.ctx, now, atOnce)
		if err == nil && len(list) != atOnce {
			err = fmt.Errorf("%d are due", len(list))
		}
		return err
	}
	var ratios []float64
	for range rounds {
		var took [2]time.Duration
		for side, do := range []func() error{bare, full} {
			began := time.Now()
			for range 200 {
				if err := do(); err != nil {
					return err
				}
			}
			took[side] = time.Since(began)
		}
		ratios = append(ratios, took[1].Seconds()/took[0].Seconds())
	}
	var plan strings.Builder
	rows, err := o.db.Query(b.ctx, "explain "+dueSQL, now, atOnce)
	if err != nil {
		return err
	}
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			return err
		}
		plan.WriteString(strings.TrimSpace(line) + "; ")
	}
	indexed := strings.Contains(plan.String(), "mandates_due")
	b.add("picking due mandates, against its bare SQL", median(ratios), " times", "≤ 3, by an index",
		fmt.Sprintf("%d mandates stored, the %d longest due of 500 picked as the service does it, against the same SQL "+
			"through pgx. The plan: `%s`. Rounds: %s.", mandates, atOnce, strings.TrimSuffix(plan.String(), "; "),
			spread(ratios)), median(ratios) <= 3 && indexed)
	return nil
}

const dueSQL = `select m.* from mandates m where m.next_at <= $1 and m.removed_at is null
	and not exists (select from orders o where o.mandate_id = m.id and o.finished_at is null) order by m.next_at limit $2`
