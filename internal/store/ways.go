package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/estate"
)

// TakenIn is a certificate with its key that somebody gave.
type TakenIn struct {
	Mandate *estate.Mandate // made with it; nil when the order names one that is there
	Order   *Order          // as it ended; its ID is given by the store
	// Encrypt encrypts the key, for which the order's number has to be known
	Encrypt func(order int64) ([]byte, error)
	Next    *Next                                               // when the mandate is due
	Enqueue func(ctx context.Context, tx Tx, order int64) error // what follows a new certificate
	Words   string                                              // of the only step
	Acts    []*Act                                              // of the mandate, where it is made, and of the certificate
}

// takenSQL keeps an order that has ended when it begins.
const takenSQL = `insert into orders (mandate_id, ca, rehearsal, spec, state, way, chain, leaf, not_after, public, by, created_at, finished_at)
	values ($1, $2, false, $3::jsonb, 'issued', $4, $5, $6, $7, $8, $9, $10, $10) returning id`

// TakeIn keeps a certificate with its key as the newest of a mandate, which is made
// when it is not there yet. The errors are ErrOrderRunning, while an order of that
// mandate is under way, ErrMandateTaken and ErrNotFound.
func (s *Store) TakeIn(ctx context.Context, in *TakenIn) error {
	o := in.Order
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		if in.Mandate != nil {
			id, err := addMandate(db, in.Mandate, in.Acts[0].Actor)
			if err != nil {
				return err
			}
			o.MandateID = id
		}
		var running bool
		err := tx.QueryRow(ctx, `select exists (select from orders where mandate_id = m.id and finished_at is null) from mandates m
			where m.id = $1 and m.removed_at is null for update`, o.MandateID).Scan(&running)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return ErrNotFound
		case err != nil:
			return err
		case running:
			return ErrOrderRunning
		}
		now := *o.FinishedAt
		if err := tx.QueryRow(ctx, takenSQL, o.MandateID, o.CA, jsonText(o.Spec), o.Way, o.Chain, o.Leaf, o.NotAfter, o.Public, o.By,
			now).Scan(&o.ID); err != nil {
			return err
		}
		if o.Encrypted, err = in.Encrypt(o.ID); err != nil {
			return err
		}
		var b pgx.Batch
		b.Queue("update orders set encrypted = $2 where id = $1", o.ID, o.Encrypted)
		b.Queue(noteSQL, o.ID, "certificate", "done", text(in.Words), now)
		e := Event{At: now, Kind: OrderIssued, MandateID: &o.MandateID, OrderID: &o.ID}
		e.queue(&b)
		b.Queue(endSQL, o.MandateID, o.ID, in.Next.At, text(in.Next.Why), in.Next.Failures, in.Next.AskAt, in.Next.ByWindow)
		if err := tx.SendBatch(ctx, &b).Close(); err != nil {
			return err
		}
		if err := in.Enqueue(ctx, Tx{tx}, o.ID); err != nil {
			return err
		}
		return write(db, now, in.Acts...)
	})
}

// Waiting gives the orders that wait for a person, the oldest first.
func (s *Store) Waiting(ctx context.Context, limit int) ([]Order, error) {
	var list []Order
	return list, s.db.WithContext(ctx).Joins("Mandate").Where("orders.waits and orders.finished_at is null").Order("orders.id").
		Limit(limit).Find(&list).Error
}

// OrdersOfKey gives the orders whose key has this public half, the newest first.
func (s *Store) OrdersOfKey(ctx context.Context, public []byte) ([]Order, error) {
	var list []Order
	return list, s.db.WithContext(ctx).Joins("Mandate").Where("orders.public = ?", public).Order("orders.id desc").Limit(10).
		Find(&list).Error
}

// Sent keeps that the request of a waiting order was sent. The error is ErrNotFound
// when it does not wait.
func (s *Store) Sent(ctx context.Context, order int64, to string, at time.Time, expected *time.Time, words string, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		done, err := tx.Exec(ctx, "update orders set sent_at = $2, sent_to = $3, expected_at = $4 where id = $1 and waits and finished_at is null",
			order, at, text(to), expected)
		if err != nil {
			return err
		}
		if done.RowsAffected() == 0 {
			return ErrNotFound
		}
		if _, err := tx.Exec(ctx, noteSQL, order, "sent", "done", text(words), at); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// Replied keeps what was brought back for a waiting order, with the job that goes on
// with it. The error is ErrNotFound when it does not wait.
func (s *Store) Replied(ctx context.Context, order int64, reply []byte, at time.Time, words string, act *Act,
	enqueue func(context.Context, Tx) error) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		done, err := tx.Exec(ctx, "update orders set reply = $2, waits = false where id = $1 and waits and finished_at is null", order, reply)
		if err != nil {
			return err
		}
		if done.RowsAffected() == 0 {
			return ErrNotFound
		}
		if _, err := tx.Exec(ctx, noteSQL, order, "reply", "done", text(words), at); err != nil {
			return err
		}
		if err := enqueue(ctx, Tx{tx}); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// givenUpSQL says when a mandate is due after an order of it was given up: in the last
// quarter of the life of what is in force, in a day at the earliest; without that it
// waits for a person.
const givenUpSQL = `update mandates m set next_at = o.at, next_why = case when o.at is null then $3 else 'the last request was given up; in time before its end' end
	from (select (select greatest($2::timestamptz + interval '1 day', not_after - (not_after - created_at) / 4) from orders
		where mandate_id = $1 and state = 'issued' and not rehearsal order by id desc limit 1) as at) o where m.id = $1`

// GiveUp ends an order that waits for a person. The error is ErrNotFound when it does not wait.
func (s *Store) GiveUp(ctx context.Context, order int64, f *OrderFailure, at time.Time, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		var mandate int64
		err := tx.QueryRow(ctx, `update orders set state = 'failed', waits = false, encrypted = null,
			key_gone_at = case when spec->>'key_on' is null then $2::timestamptz end, finished_at = $2, failure = $3::jsonb
			where id = $1 and waits and finished_at is null returning mandate_id`, order, at, failureText(f)).Scan(&mandate)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		} else if err != nil {
			return err
		}
		var b pgx.Batch
		b.Queue(noteSQL, order, "failure", "failed", text(f.Words), at)
		b.Queue(givenUpSQL, mandate, at, text("waits for a person: "+f.Advice))
		if err := tx.SendBatch(ctx, &b).Close(); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// formerKeysSQL are keys of former certificates beyond those a mandate keeps, of which
// none is installed by this program or shown anywhere: in the safe, or on a server
// (key_on).
const formerKeysSQL = `(select o.id, o.name, o.key_on from (select o.id, o.leaf, m.name, coalesce(o.spec->>'key_on', '') as key_on,
		coalesce((m.spec->>'keep')::int, $1) as keep, row_number() over (partition by o.mandate_id order by o.id desc) as place
		from orders o join mandates m on m.id = o.mandate_id where o.state = 'issued' and not o.rehearsal and (o.encrypted is not null
			or o.spec->>'key_on' <> '' and o.key_gone_at is null)) o
	where o.place > o.keep + 1 and not exists (select from targets t where t.leaf = o.leaf and t.removed_at is null)
		and not exists (select from installations i where i.order_id = o.id and (i.finished_at is null or i.state = 'done' and not i.rehearsal
			and not exists (select from installations l where l.server = i.server and l.mandate_id = i.mandate_id and l.id > i.id and l.state = 'done' and not l.rehearsal))))`

// formerSQL finds those in the safe.
const formerSQL = `select f.id from ` + formerKeysSQL + ` f where f.key_on = '' order by f.id limit $2`

// distantSQL finds those on servers, and keys there of orders that failed, and of
// rehearsals that ended before a time.
const distantSQL = `select f.id, f.name, f.key_on from ` + formerKeysSQL + ` f where f.key_on <> ''
	union all select o.id, m.name, o.spec->>'key_on' from orders o join mandates m on m.id = o.mandate_id where o.spec->>'key_on' <> ''
		and o.key_gone_at is null and (o.state = 'failed' or o.rehearsal and o.finished_at < $3)
		and not exists (select from installations i where i.order_id = o.id and i.finished_at is null and i.state <> 'previewed')
	order by 1 limit $2`

// DistantKey is the key of an order on the server it was made on.
type DistantKey struct {
	Order           int64  // number
	Mandate, Server string // by name
}

// rehearsalKept is how long a rehearsal's key stays on its server, to be installed in
// rehearsal.
const rehearsalKept = time.Hour

// DistantKeys gives keys on servers that nobody needs any more, beyond so many of each
// mandate, but for its own number.
func (s *Store) DistantKeys(ctx context.Context, usually, limit int, at time.Time) ([]DistantKey, error) {
	rows, err := s.pool.Query(ctx, distantSQL, usually, limit, at.Add(-rehearsalKept))
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[DistantKey])
}

// KeyStaysOn says on which server the key of a certificate (its SHA-256 in hex) was made and
// is kept alone; "" for a key that may be elsewhere.
func (s *Store) KeyStaysOn(ctx context.Context, leaf string) (server string, err error) {
	err = s.pool.QueryRow(ctx, "select coalesce((select spec->>'key_on' from orders where leaf = decode($1, 'hex') "+
		"and state = 'issued' limit 1), '')", leaf).Scan(&server)
	return server, err
}

// DistantKeyGone keeps that the key of an order was destroyed on its server; a nil act
// tells nothing.
func (s *Store) DistantKeyGone(ctx context.Context, order int64, at time.Time, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "update orders set key_gone_at = $2 where id = $1", order, at); err != nil || act == nil {
			return err
		}
		return act.write(db, at)
	})
}

// DropFormerKeys destroys the keys of former certificates beyond so many of each
// mandate, but for its own number, and says of which orders.
func (s *Store) DropFormerKeys(ctx context.Context, usually, limit int, at time.Time, act func(orders []int64) *Act) (ids []int64, err error) {
	err = s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		rows, err := tx.Query(ctx, formerSQL, usually, limit)
		if err != nil {
			return err
		}
		if ids, err = pgx.CollectRows(rows, pgx.RowTo[int64]); err != nil || len(ids) == 0 {
			return err
		}
		if _, err := tx.Exec(ctx, "update orders set encrypted = null, key_gone_at = $2 where id = any($1)", ids, at); err != nil {
			return err
		}
		return act(ids).write(db, at)
	})
	return ids, err
}

// Renewing is what the load of coming years is worked out from.
type Renewing struct {
	CA        string    // by name
	Next      time.Time // when it is renewed next
	Life      int64     // of its certificate in force, in seconds
	RenewDays int       // before its end, as the mandate says; 0 where it says nothing
}

// Renewing gives the mandates that are renewed by themselves and have a certificate.
func (s *Store) Renewing(ctx context.Context) ([]Renewing, error) {
	rows, err := s.pool.Query(ctx, `select m.ca, m.next_at, extract(epoch from o.not_after - o.created_at)::bigint, coalesce((m.spec->>'renew_days')::int, 0)
		from mandates m join lateral (select not_after, created_at from orders where mandate_id = m.id and state = 'issued' and not rehearsal
			order by id desc limit 1) o on true where m.removed_at is null and m.next_at is not null`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Renewing])
}
