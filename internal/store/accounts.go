package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Account is an account at one directory of a CA.
type Account struct {
	ID        int64      `gorm:"primaryKey"`
	CA        string     // by name
	Directory string     // URL
	URL       string     // "" until the CA has answered
	Encrypted []byte     // the private key
	Bound     bool       // to its directory
	Terms     string     // URL of what was agreed to
	AgreedBy  string     // who agreed to the terms
	AgreedAt  time.Time  // in UTC
	RestUntil *time.Time // the CA wants to be left alone until then
	RestWhy   string     // in its words
	Contact   string     // the CA was told, as it was sent
	NextKey   []byte     // encrypted: the CA may have been told to take it in the place of the key
	NextAt    *time.Time // when it was kept
	EndedAt   *time.Time // deactivated; nil while it is good
}

// Accounts lists all accounts that were ever made, by CA.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	var list []Account
	return list, s.db.WithContext(ctx).Order("ca, directory").Find(&list, "url <> ''").Error
}

// Account finds the account at a directory; one that has ended is none.
func (s *Store) Account(ctx context.Context, directory string) (*Account, error) {
	var v Account
	return found(&v, s.db.WithContext(ctx).Take(&v, "directory = ? and ended_at is null", directory).Error)
}

// KeepAccount keeps an account's key and who agreed, before the CA is asked;
// one that is there keeps its key, unless it has ended.
func (s *Store) KeepAccount(ctx context.Context, v *Account, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Exec("update accounts set url = '', encrypted = ?, next_key = null, contact = '', ended_at = null where directory = ? and "+
			"ended_at is not null", v.Encrypted, v.Directory).Error; err != nil {
			return err
		}
		if err := db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "directory"}},
			DoUpdates: clause.AssignmentColumns([]string{"ca", "terms", "agreed_by", "agreed_at"})}).Create(
			v).Error; err != nil {
			return err
		}
		if err := db.Take(v, "directory = ?", v.Directory).Error; err != nil {
			return err
		}
		return act.write(db, v.AgreedAt)
	})
}

// SetAccountURL keeps what the CA calls an account, and the contact it was told.
func (s *Store) SetAccountURL(ctx context.Context, id int64, url, contact string) error {
	return s.db.WithContext(ctx).Model(&Account{}).Where("id = ?", id).Updates(map[string]any{"url": url, "contact": text(contact)}).Error
}

// SetNextKey keeps the key an account is about to have, unless one is kept already:
// ErrNotFound then.
func (s *Store) SetNextKey(ctx context.Context, id int64, encrypted []byte, at time.Time) error {
	return changed(s.db.WithContext(ctx).Exec("update accounts set next_key = ?, next_at = ? where id = ? and next_key is null and ended_at is null",
		encrypted, at, id))
}

// DropNextKey forgets the key an account was to have.
func (s *Store) DropNextKey(ctx context.Context, id int64, encrypted []byte) error {
	return s.db.WithContext(ctx).Exec("update accounts set next_key = null where id = ? and next_key = ?", id, encrypted).Error
}

// SetContact keeps the contact a CA was told.
func (s *Store) SetContact(ctx context.Context, id int64, contact string, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Exec("update accounts set contact = ? where id = ?", text(contact), id).Error; err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// OrderingFrom counts the mandates that order from a CA, also in another's place.
func (s *Store) OrderingFrom(ctx context.Context, ca string) (n int, err error) {
	return n, s.pool.QueryRow(ctx, `select count(*) from mandates where removed_at is null and
		(ca = $1 or coalesce(spec->'otherwise', '[]') ? $1)`, ca).Scan(&n)
}

// UnderWay counts the orders that go through an account and have not ended.
func (s *Store) UnderWay(ctx context.Context, account int64) (n int, err error) {
	return n, s.pool.QueryRow(ctx, "select count(*) from orders where account_id = $1 and finished_at is null", account).Scan(&n)
}

// TakeNextKey has an account's next key take the place of its key.
func (s *Store) TakeNextKey(ctx context.Context, id int64, encrypted []byte, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := changed(db.Exec("update accounts set encrypted = next_key, next_key = null where id = ? and next_key = ?", id, encrypted)); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// EndAccount notes that an account was deactivated; its keys are destroyed.
func (s *Store) EndAccount(ctx context.Context, id int64, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := changed(db.Exec("update accounts set ended_at = ?, encrypted = '', next_key = null where id = ? and ended_at is null", at, id)); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// Revoked notes that the certificate of an order was taken back at its CA.
func (s *Store) Revoked(ctx context.Context, order int64, reason string, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Exec("update orders set revoked_at = ?, revoked_for = ? where id = ? and revoked_at is null", at, reason, order).Error; err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// changed gives ErrNotFound where a statement has changed nothing.
func changed(db *gorm.DB) error {
	if db.Error == nil && db.RowsAffected == 0 {
		return ErrNotFound
	}
	return db.Error
}

// RestAccount keeps until when a CA wants to be left alone, and its words; a
// later time that is kept already stays.
func (s *Store) RestAccount(ctx context.Context, id int64, until time.Time, why string) error {
	_, err := s.pool.Exec(ctx,
		"update accounts set rest_until = $2, rest_why = $3 where id = $1 and (rest_until is null or rest_until < $2)", id,
		until, text(why))
	return err
}
