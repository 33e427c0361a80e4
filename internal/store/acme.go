package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
)

// ACMEObject is what a client of a CA of one's own has made.
type ACMEObject struct {
	CA, Kind, ID string
	Owner        string          // the account
	Key          *string         // of an account: the thumbprint of its key
	Document     json.RawMessage `gorm:"type:jsonb"`
	CreatedAt    time.Time       // in UTC
	ExpiresAt    *time.Time      // nil: it is kept
}

// TableName implements GORM's tabler.
func (ACMEObject) TableName() string { return "acme_objects" }

// Errors of these objects.
var (
	ErrVersion = errors.New("the object has another version")
	ErrKeyUsed = errors.New("the key is another account's")
)

// ACMEObject gives an object's document and version.
func (s *Store) ACMEObject(ctx context.Context, ca, kind, id string) (doc []byte, version int, err error) {
	err = s.pool.QueryRow(ctx, "select document, version from acme_objects where ca = $1 and kind = $2 and id = $3", ca, kind, id).Scan(&doc, &version)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return doc, version, err
}

// ACMEAccountOf gives the account of a key.
func (s *Store) ACMEAccountOf(ctx context.Context, ca, key string) (id string, err error) {
	err = s.pool.QueryRow(ctx, "select id from acme_objects where ca = $1 and key = $2", ca, key).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return id, err
}

// keyUsed tells the violation of the one account a key has.
func keyUsed(err error) error {
	var p *pgconn.PgError
	if errors.As(err, &p) && p.ConstraintName == "acme_objects_key" {
		return ErrKeyUsed
	}
	return err
}

// AddACMEObjects keeps new objects, all or none.
func (s *Store) AddACMEObjects(ctx context.Context, list []ACMEObject) error {
	return s.tx(ctx, func(_ *gorm.DB, tx pgx.Tx) error {
		var b pgx.Batch
		for _, o := range list {
			b.Queue(`insert into acme_objects (ca, kind, id, owner, key, document, created_at, expires_at) values ($1, $2, $3, $4, $5, $6, $7, $8)`,
				o.CA, o.Kind, o.ID, o.Owner, o.Key, []byte(o.Document), o.CreatedAt, o.ExpiresAt)
		}
		return keyUsed(tx.SendBatch(ctx, &b).Close())
	})
}

// ChangeACMEObject keeps an object over a version.
func (s *Store) ChangeACMEObject(ctx context.Context, version int, o ACMEObject) error {
	done, err := s.pool.Exec(ctx, `update acme_objects set document = $5, key = $6, expires_at = $7, version = version + 1
		where ca = $1 and kind = $2 and id = $3 and version = $4`, o.CA, o.Kind, o.ID, version, []byte(o.Document), o.Key, o.ExpiresAt)
	if err == nil && done.RowsAffected() == 0 {
		err = ErrVersion
	}
	return keyUsed(err)
}

// ACMEOrdersOf lists an account's orders, the newest first, from before one on.
func (s *Store) ACMEOrdersOf(ctx context.Context, ca, account, before string, limit int) (list []string, err error) {
	rows, err := s.pool.Query(ctx, `select id from acme_objects where ca = $1 and owner = $2 and kind = 'order' and ($3 = '' or
			(created_at, id) < (select created_at, id from acme_objects where ca = $1 and kind = 'order' and id = $3 and owner = $2))
		order by created_at desc, id desc limit $4`, ca, account, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// ACMEOrdersSince counts the orders an account has made since a time.
func (s *Store) ACMEOrdersSince(ctx context.Context, ca, account string, t time.Time) (n int, err error) {
	return n, s.pool.QueryRow(ctx, "select count(*) from acme_objects where ca = $1 and owner = $2 and kind = 'order' and created_at > $3",
		ca, account, t).Scan(&n)
}

// DropACMEObjects forgets what has expired before a time.
func (s *Store) DropACMEObjects(ctx context.Context, t time.Time) error {
	_, err := s.pool.Exec(ctx, "delete from acme_objects where expires_at < $1", t)
	return err
}

// ACMECustomer is a customer of a CA of one's own, to whom accounts are bound (RFC 8555
// section 7.3.4).
type ACMECustomer struct {
	CA, Name  string
	Encrypted []byte    // the MAC key
	By        string    // who added it
	At        time.Time // in UTC
	Accounts  int       `gorm:"->"` // bound to it
}

// TableName implements GORM's tabler.
func (ACMECustomer) TableName() string { return "acme_customers" }

// ACMECustomers lists a CA's, by name.
func (s *Store) ACMECustomers(ctx context.Context, ca string) (list []ACMECustomer, err error) {
	return list, s.db.WithContext(ctx).Raw(`select c.*, (select count(*) from acme_objects o where o.ca = c.ca and o.kind = 'account' and o.document->>'customer' = c.name
			and o.document->>'status' = 'valid') as accounts from acme_customers c where c.ca = ? order by c.name`, ca).Scan(&list).Error
}

// ACMECustomer gives one; ErrNotFound for none.
func (s *Store) ACMECustomer(ctx context.Context, ca, name string) (*ACMECustomer, error) {
	var v ACMECustomer
	return found(&v, s.db.WithContext(ctx).Take(&v, "ca = ? and name = ?", ca, name).Error)
}

// AddACMECustomer keeps a customer, or its new key.
func (s *Store) AddACMECustomer(ctx context.Context, v *ACMECustomer, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Exec(`insert into acme_customers (ca, name, encrypted, by, at) values (?, ?, ?, ?, ?)
			on conflict (ca, name) do update set encrypted = excluded.encrypted, by = excluded.by, at = excluded.at`, v.CA, v.Name, v.Encrypted, v.By, v.At).Error; err != nil {
			return err
		}
		return act.write(db, v.At)
	})
}

// RemoveACMECustomer forgets a customer, and ends the accounts bound to it.
func (s *Store) RemoveACMECustomer(ctx context.Context, ca, name string, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := changed(db.Exec("delete from acme_customers where ca = ? and name = ?", ca, name)); err != nil {
			return err
		}
		if err := db.Exec(`update acme_objects set document = document || '{"status": "revoked"}', version = version + 1
			where ca = ? and kind = 'account' and document->>'customer' = ?`, ca, name).Error; err != nil {
			return err
		}
		return act.write(db, at)
	})
}
