package store

import (
	"context"
	"encoding/hex"
	"errors"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
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

// keepWaiting keeps until nothing waits. What cannot be kept keeps nothing else from it.
func (s *Store) keepWaiting(ctx context.Context) {
	for list := s.issued.next(); len(list) > 0; list = s.issued.next() {
		err := s.keepTogether(ctx, list)
		for _, k := range list {
			if err != nil && len(list) > 1 {
				k.done <- s.keepTogether(ctx, []*keeping{k})
			} else {
				k.done <- err
			}
		}
	}
}

// keepTogether keeps certificates and what is said of them, all or none. The rows of
// orders that had one before become those.
func (s *Store) keepTogether(ctx context.Context, list []*keeping) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		var batch pgx.Batch
		for _, k := range list {
			v := k.row
			batch.Queue(`insert into issued (authority_id, serial, order_id, der, names, profile, not_after, by, at, account, acme_order)
				values ($1, $2, $3, $4, $5::jsonb, $6, $7, $8, $9, $10, $11) on conflict do nothing`, v.AuthorityID, v.Serial, v.OrderID, v.Der,
				jsonText(v.Names), v.Profile, v.NotAfter, v.By, v.At, v.Account, v.ACMEOrder)
		}
		results := tx.SendBatch(ctx, &batch)
		var had []*keeping
		var acts []*Act
		var at time.Time
		for _, k := range list {
			done, err := results.Exec()
			if err != nil {
				return errors.Join(err, results.Close())
			}
			if done.RowsAffected() == 0 {
				had = append(had, k)
			} else if k.act != nil {
				acts, at = append(acts, k.act), k.row.At
			}
		}
		if err := results.Close(); err != nil {
			return err
		}
		for _, k := range had {
			var before Issued
			if err := db.Where("order_id = ? or acme_order = ?", k.row.OrderID, k.row.ACMEOrder).Take(&before).Error; err != nil {
				return err
			}
			*k.row = before
		}
		if len(acts) == 0 {
			return nil
		}
		return write(db, at, acts...)
	})
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
