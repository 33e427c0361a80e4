package store

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// SafeMark is a known text encrypted with a key of the safe.
type SafeMark struct {
	KeyID  string    `gorm:"primaryKey"`
	Mark   []byte    // a word encrypted with the key, to tell a wrong one
	MadeAt time.Time // in UTC
}

// SafeMarks gives the mark of every key that has encrypted something.
func (s *Store) SafeMarks(ctx context.Context) ([]SafeMark, error) {
	var list []SafeMark
	return list, s.db.WithContext(ctx).Order("made_at").Find(&list).Error
}

// AddSafeMark keeps the mark of a key; one that is there stays.
func (s *Store) AddSafeMark(ctx context.Context, m SafeMark) error {
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&m).Error
}

// DropSafeMarks forgets the marks of all keys but one: nothing is encrypted with
// the others any more.
func (s *Store) DropSafeMarks(ctx context.Context, but string) error {
	return s.db.WithContext(ctx).Delete(&SafeMark{}, "key_id <> ?", but).Error
}

// EncryptedRow is something encrypted, wherever it is kept.
type EncryptedRow struct {
	Kind      string // the table
	ID        int64  // but for a credential
	Name      string // of a credential, the directory of an account, the server of a plan
	Bound     bool   // of an account: to its directory
	Encrypted []byte // with the key whose id stands in it
}

// encryptedRows are all rows that hold something encrypted; the key's id stands
// in the bytes 2 to 9.
const encryptedRows = `(select 'accounts' as kind, id, directory as name, bound, encrypted from accounts where ended_at is null
	union all select 'next_keys', id, directory, true, next_key from accounts where next_key is not null
	union all select 'acme_customers', 0, ca || ' ' || name, true, encrypted from acme_customers
	union all select 'credentials', 0, name, true, encrypted from credentials
	union all select 'orders', id, '', true, encrypted from orders where octet_length(encrypted) > 0
	union all select 'authorities', id, '', true, encrypted from authorities where octet_length(encrypted) > 0
	union all select 'installations', id, server, true, decode(plan->>'sealed', 'hex') from installations where plan->>'sealed' is not null
	union all select 'https_runs', id, server, true, decode(` + preparedPlan + `->>'sealed', 'hex') from https_runs
		where ` + preparedPlan + `->>'sealed' is not null) r`

// preparedPlan is the plan of a preparation, which is kept as text in base64.
const preparedPlan = `(convert_from(decode(preparation->>'Plan', 'base64'), 'UTF8')::jsonb)`

// settled leaves out orders under way.
const settled = ` and not (kind = 'orders' and exists (select from orders o where o.id = r.id and o.finished_at is null and not o.waits))`

// CountEncrypted counts what is encrypted, and what of it with another key than
// the one of this id.
func (s *Store) CountEncrypted(ctx context.Context, key []byte) (all, other int, err error) {
	return all, other,
		s.pool.QueryRow(ctx, `select count(*), count(*) filter (where substring(encrypted from 2 for 8) <> $1) from `+
			encryptedRows, key).Scan(&all, &other)
}

// EncryptedOtherwise gives rows that are encrypted with another key, but for
// orders under way, which write their own.
func (s *Store) EncryptedOtherwise(ctx context.Context, key []byte, limit int) ([]EncryptedRow, error) {
	var list []EncryptedRow
	return list, s.db.WithContext(ctx).Raw(`select * from `+encryptedRows+
		` where substring(encrypted from 2 for 8) <> ?`+settled+` order by kind, id, name limit ?`, key,
		limit).Scan(&list).Error
}

// UnboundAccounts gives the accounts whose keys are not bound to their directory.
func (s *Store) UnboundAccounts(ctx context.Context) ([]EncryptedRow, error) {
	var list []EncryptedRow
	return list, s.db.WithContext(ctx).Raw(`select * from ` + encryptedRows + ` where not bound`).Scan(&list).Error
}

// Reencrypt replaces what is encrypted, where it is still as it was read.
func (s *Store) Reencrypt(ctx context.Context, r *EncryptedRow, encrypted []byte) error {
	db := s.db.WithContext(ctx)
	switch r.Kind {
	case "accounts":
		return db.Exec("update accounts set encrypted = ?, bound = true where id = ? and encrypted = ?", encrypted, r.ID,
			r.Encrypted).Error
	case "credentials":
		return db.Exec("update credentials set encrypted = ? where name = ? and encrypted = ?", encrypted, r.Name,
			r.Encrypted).Error
	}
	was, is := hex.EncodeToString(r.Encrypted), hex.EncodeToString(encrypted)
	switch r.Kind {
	case "installations":
		return db.Exec("update installations set plan = jsonb_build_object('sealed', cast(? as text)) where id = ? and plan->>'sealed' = ?",
			is, r.ID, was).Error
	case "https_runs":
		return s.replan(ctx, r.ID, func(plan []byte) ([]byte, error) {
			return bytes.Replace(plan, []byte(was), []byte(is), 1), nil
		})
	}
	switch r.Kind {
	case "acme_customers":
		return db.Exec("update acme_customers set encrypted = ? where ca || ' ' || name = ? and encrypted = ?", encrypted, r.Name, r.Encrypted).Error
	case "next_keys":
		return db.Exec("update accounts set next_key = ? where id = ? and next_key = ?", encrypted, r.ID, r.Encrypted).Error
	case "authorities":
		return db.Exec("update authorities set encrypted = ? where id = ? and encrypted = ?", encrypted, r.ID, r.Encrypted).Error
	}
	return db.Exec("update orders set encrypted = ? where id = ? and encrypted = ?", encrypted, r.ID, r.Encrypted).Error
}

// replan exchanges the plan of a run's preparation.
func (s *Store) replan(ctx context.Context, id int64, with func([]byte) ([]byte, error)) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		var v HTTPSRun
		if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&v, id).Error; err != nil {
			return err
		}
		plan, err := with(v.Preparation.Plan)
		if err != nil {
			return err
		}
		v.Preparation.Plan = plan
		return db.Model(&v).Select("preparation").Updates(&v).Error
	})
}

// PlainPlan is a plan that is not encrypted, wherever it is kept.
type PlainPlan struct {
	Kind   string // installations or https_runs
	ID     int64
	Server string // by name
	Plan   json.RawMessage
}

// SealPlans has the plans that are not encrypted exchanged for what seal makes of
// them, one after the other.
func (s *Store) SealPlans(ctx context.Context, seal func(*PlainPlan) error) error {
	for {
		var list []PlainPlan
		err := s.db.WithContext(ctx).Raw(`select 'installations' as kind, id, server, plan from installations where plan->>'sealed' is null
			union all select 'https_runs', id, server, ` + preparedPlan + ` from https_runs where preparation->>'Plan' is not null and ` +
			preparedPlan + `->>'sealed' is null limit 50`).Scan(&list).Error
		if err != nil || len(list) == 0 {
			return err
		}
		for i := range list {
			p := &list[i]
			if err := seal(p); err != nil {
				return err
			}
			if p.Kind == "https_runs" {
				err = s.replan(ctx, p.ID, func([]byte) ([]byte, error) { return p.Plan, nil })
			} else {
				err = s.db.WithContext(ctx).Model(&Installation{}).Where("id = ?", p.ID).Update("plan", p.Plan).Error
			}
			if err != nil {
				return err
			}
		}
	}
}
