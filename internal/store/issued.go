package store

import (
	"context"
	"encoding/hex"
	"errors"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"insegna.example/internal/core/journal"
)

// Issued is a certificate that a CA of one's own has issued.
type Issued struct {
	AuthorityID int64      // that signed it
	Serial      []byte     // of the certificate
	OrderID     *int64     // nil: for a request somebody gave
	Der         []byte     // the certificate
	Names       []string   `gorm:"serializer:json"`
	Profile     string     // by name
	NotAfter    time.Time  // in UTC
	By          string     // who had it issued
	At          time.Time  // in UTC
	RevokedAt   *time.Time // nil while it is good
	Reason      int        // RFC 5280 section 5.3.1
	Account     string     // that ordered it over ACME; "" for one issued otherwise
	ACMEOrder   *string    `gorm:"column:acme_order"` // of that account; nil for one issued otherwise
}

// TableName implements GORM's tabler.
func (Issued) TableName() string { return "issued" }

// KeepIssued keeps what was issued before anybody gets it. Where the order has one
// already, that is given back in its place. What is given at the same moment is kept in
// one transaction, for the journal takes one at a time.
func (s *Store) KeepIssued(ctx context.Context, v *Issued, act *Act) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	k := &keeping{v, act, make(chan error, 1)}
	if s.issued.join(k) {
		go s.keepWaiting(context.WithoutCancel(ctx))
	}
	return <-k.done
}

// keeping is a certificate that waits to be kept.
type keeping struct {
	row  *Issued
	act  *Act       // nil: none
	done chan error // how that went; room for one
}

// gathering is what waits while a transaction is under way.
type gathering struct {
	mu      sync.Mutex
	waiting []*keeping
	busy    bool // somebody keeps what waits
}

// join has one wait, and says whether nobody keeps what waits yet.
func (g *gathering) join(k *keeping) (first bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.waiting = append(g.waiting, k)
	first, g.busy = !g.busy, true
	return first
}

// keptAtOnce is how many certificates go into one transaction at most.
const keptAtOnce = 256

// next takes the next that wait; without any nobody keeps them any longer.
func (g *gathering) next() []*keeping {
	g.mu.Lock()
	defer g.mu.Unlock()
	list := g.waiting[:min(len(g.waiting), keptAtOnce)]
	g.waiting = g.waiting[len(list):]
	g.busy = len(list) > 0
	return list
}

// keepEach is how long after one transaction the next begins at the least, while there
// is always somebody who waits: a transaction costs more than a certificate in it.
const keepEach = 10 * time.Millisecond

// waits says whether anybody waits.
func (g *gathering) waits() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return len(g.waiting) > 0
}

// keepWaiting keeps until nothing waits. What cannot be kept keeps nothing else from it.
func (s *Store) keepWaiting(ctx context.Context) {
	for list := s.issued.next(); len(list) > 0; list = s.issued.next() {
		began := time.Now()
		err := s.keepTogether(ctx, list)
		for _, k := range list {
			if err != nil && len(list) > 1 {
				k.done <- s.keepTogether(ctx, []*keeping{k})
			} else {
				k.done <- err
			}
		}
		if s.issued.waits() {
			time.Sleep(keepEach - time.Since(began))
		}
	}
}

// issueSQL keeps certificates, one in each place of the lists; those whose order has one
// already are left out.
const issueSQL = `insert into issued (authority_id, serial, order_id, der, names, profile, not_after, by, at, account, acme_order)
	select authority_id, serial, order_id, der, names::jsonb, profile, not_after, by, at, account, acme_order
	from unnest($1::bigint[], $2::bytea[], $3::bigint[], $4::bytea[], $5::text[], $6::text[], $7::timestamptz[], $8::text[], $9::timestamptz[],
		$10::text[], $11::text[]) as v(authority_id, serial, order_id, der, names, profile, not_after, by, at, account, acme_order)
	on conflict do nothing returning authority_id, serial`

// keepTogether keeps certificates and what is said of them, all or none. The rows of
// orders that had one before become those.
func (s *Store) keepTogether(ctx context.Context, list []*keeping) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		kept, last, err := insertIssued(ctx, tx, list)
		if err != nil {
			return err
		}
		var acts []*Act
		var at time.Time
		for _, k := range list {
			key := k.row.key()
			if !kept[key] {
				if err := issuedBefore(ctx, tx, k.row); err != nil {
					return err
				}
				continue
			}
			delete(kept, key)
			if k.act != nil {
				acts, at = append(acts, k.act), k.row.At
			}
		}
		if len(acts) == 0 {
			return nil
		}
		return appendTo(ctx, tx, last, at, acts)
	})
}

// issuedKey is what no two certificates have in common.
type issuedKey struct {
	authority int64
	serial    string
}

// key tells a certificate from all others.
func (v *Issued) key() issuedKey { return issuedKey{v.AuthorityID, string(v.Serial)} }

// insertIssued inserts certificates that are new, and says which those were. The journal
// is locked then, and its last entry given.
func insertIssued(ctx context.Context, tx pgx.Tx, list []*keeping) (map[issuedKey]bool, *journalRow, error) {
	n := len(list)
	authorities, serials, orders, ders := make([]int64, n), make([][]byte, n), make([]*int64, n), make([][]byte, n)
	names, profiles, ends, by := make([]string, n), make([]string, n), make([]time.Time, n), make([]string, n)
	at, accounts, of := make([]time.Time, n), make([]string, n), make([]*string, n)
	for i, k := range list {
		v := k.row
		authorities[i], serials[i], orders[i], ders[i], names[i], profiles[i] = v.AuthorityID, v.Serial, v.OrderID, v.Der, jsonText(v.Names), v.Profile
		ends[i], by[i], at[i], accounts[i], of[i] = v.NotAfter, v.By, v.At, v.Account, v.ACMEOrder
	}
	kept := make(map[issuedKey]bool, n)
	last := &journalRow{Hash: make([]byte, len(journal.Hash{}))}
	var b pgx.Batch // one way to the database and back
	b.Queue(issueSQL, authorities, serials, orders, ders, names, profiles, ends, by, at, accounts, of).Query(func(rows pgx.Rows) error {
		var authority int64
		var serial []byte
		_, err := pgx.ForEachRow(rows, []any{&authority, &serial}, func() error {
			kept[issuedKey{authority, string(serial)}] = true
			return nil
		})
		return err
	})
	b.Queue(lockJournalSQL)
	b.Queue(lastEntrySQL).QueryRow(func(row pgx.Row) error {
		if err := row.Scan(&last.ID, &last.Hash); !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		return nil
	})
	return kept, last, tx.SendBatch(ctx, &b).Close()
}

// issuedBefore has a row be what was issued for its order before.
func issuedBefore(ctx context.Context, tx pgx.Tx, v *Issued) error {
	rows, err := tx.Query(ctx, `select authority_id, serial, order_id, der, names, profile, not_after, by, at, revoked_at, reason, account, acme_order
		from issued where order_id = $1 or acme_order = $2`, v.OrderID, v.ACMEOrder)
	if err != nil {
		return err
	}
	before, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Issued])
	if err == nil {
		*v = before
	}
	return err
}

// IssuedFor gives what was issued for an order; ErrNotFound when nothing was.
func (s *Store) IssuedFor(ctx context.Context, order int64) (*Issued, error) {
	var v Issued
	return found(&v, s.db.WithContext(ctx).Take(&v, "order_id = ?", order).Error)
}

// IssuedBySerial gives a certificate of an authority; ErrNotFound when it has issued no
// such.
func (s *Store) IssuedBySerial(ctx context.Context, authority int64, serial []byte) (*Issued, error) {
	var v Issued
	return found(&v, s.db.WithContext(ctx).Take(&v, "authority_id = ? and serial = ?", authority, serial).Error)
}

// IssuedOf gives a certificate that any of a CA's authorities has issued; ErrNotFound for
// none.
func (s *Store) IssuedOf(ctx context.Context, ca string, serial []byte) (*Issued, error) {
	var v Issued
	return found(&v, s.db.WithContext(ctx).Take(&v, "serial = ? and authority_id in (select id from authorities where ca = ?)", serial, ca).Error)
}

// IssuedBy lists what the authorities of a CA have issued, the newest first, from a
// place on.
func (s *Store) IssuedBy(ctx context.Context, ca string, page Page) ([]Issued, *string, error) {
	q := s.db.WithContext(ctx).Where("authority_id in (select id from authorities where ca = ?)", ca)
	if page.Cursor != "" {
		day, serial, _ := strings.Cut(page.Cursor, " ")
		at, err := time.Parse(time.RFC3339Nano, day)
		raw, wrong := hex.DecodeString(serial)
		if err != nil || wrong != nil {
			return nil, nil, ErrCursor
		}
		q = q.Where("(at, serial) < (?, ?)", at, raw)
	}
	var list []Issued
	if err := q.Order("at desc, serial desc").Limit(page.Limit + 1).Find(&list).Error; err != nil {
		return nil, nil, err
	}
	if len(list) <= page.Limit {
		return list, nil, nil
	}
	last := list[page.Limit-1]
	next := last.At.UTC().Format(time.RFC3339Nano) + " " + hex.EncodeToString(last.Serial)
	return list[:page.Limit], &next, nil
}
