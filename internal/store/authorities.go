package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/fault"
)

// Authority is a certificate of a CA of one's own.
type Authority struct {
	ID          int64      `gorm:"primaryKey"`
	CA          string     // by name
	Role        string     // one of those below
	Certificate []byte     // DER
	Encrypted   []byte     // its key; nil when that is kept elsewhere
	ParentID    *int64     // nil for a root
	MadeBy      string     // who made it or took it in
	MadeAt      time.Time  // in UTC
	RetiredAt   *time.Time // it issues nothing more
	ListNumber  int64      // of its newest revocation list
	List        []byte     // in DER; nil before the first
	ListAt      *time.Time // when that was signed
	ListStale   bool       // something was revoked since
}

// Roles of an authority's certificates.
const (
	RootCA    = "root"
	IssuingCA = "issuing"
	CrossCA   = "cross" // a root, as the root before it vouches for it
)

// ErrAuthorityThere says that a CA of that name is in force already.
var ErrAuthorityThere = fault.New(fault.NotNow, "There already", "a CA of that name is in force already",
	"choose another name")

// AddAuthorities keeps the certificates of a CA, the root first: what issues until now
// is retired when that is asked for. Encrypt encrypts the key of each, for which its
// number has to be known; nil for one that is kept elsewhere.
func (s *Store) AddAuthorities(ctx context.Context, list []*Authority, retire bool, encrypt func(i int, id int64) ([]byte, error), act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		now := list[0].MadeAt
		if retire {
			if err := db.Model(&Authority{}).Where("ca = ? and retired_at is null", list[0].CA).Update("retired_at", now).Error; err != nil {
				return err
			}
		}
		var root *int64
		for i, a := range list {
			if a.Role != RootCA && a.ParentID == nil {
				a.ParentID = root
			}
			if err := db.Create(a).Error; errors.Is(err, gorm.ErrDuplicatedKey) {
				return ErrAuthorityThere
			} else if err != nil {
				return err
			}
			if a.Role == RootCA {
				root = &a.ID
			}
			key, err := encrypt(i, a.ID)
			if err != nil {
				return err
			}
			if key != nil {
				a.Encrypted = key
				if err := db.Model(a).Update("encrypted", key).Error; err != nil {
					return err
				}
			}
		}
		return act.write(db, now)
	})
}

// RetireCross ends that a former root vouches for the one in force; ErrNotFound where none
// does.
func (s *Store) RetireCross(ctx context.Context, ca string, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := changed(db.Exec("update authorities set retired_at = ? where ca = ? and role = 'cross' and retired_at is null", at, ca)); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// IssuedUnder counts the certificates of a CA that are good, by whether what issued them
// issues still.
func (s *Store) IssuedUnder(ctx context.Context, ca string, at time.Time) (now, former int, ends time.Time, err error) {
	return now, former, ends, s.pool.QueryRow(ctx, `select count(*) filter (where a.retired_at is null), count(*) filter (where a.retired_at is not null),
			coalesce(max(i.not_after) filter (where a.retired_at is not null), to_timestamp(0))
		from issued i join authorities a on a.id = i.authority_id where a.ca = $1 and i.not_after > $2 and i.revoked_at is null`, ca, at).Scan(&now, &former, &ends)
}

// Authorities gives the certificates of a CA ("" of all), those in force first.
func (s *Store) Authorities(ctx context.Context, ca string) ([]Authority, error) {
	q := s.db.WithContext(ctx).Order("retired_at is not null, ca, id desc")
	if ca != "" {
		q = q.Where("ca = ?", ca)
	}
	var list []Authority
	return list, q.Find(&list).Error
}

// Revoke revokes certificates of a CA by serial, and has their lists signed anew. The
// error is ErrNotFound where there is none, and nothing is changed for one revoked
// already.
func (s *Store) Revoke(ctx context.Context, ca string, serial []byte, reason int, at time.Time, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		var authority int64
		var before *time.Time
		err := tx.QueryRow(ctx, `select i.authority_id, i.revoked_at from issued i join authorities a on a.id = i.authority_id
			where a.ca = $1 and i.serial = $2 for update`, ca, serial).Scan(&authority, &before)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		} else if err != nil || before != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "update issued set revoked_at = $3, reason = $4 where authority_id = $1 and serial = $2", authority, serial, at,
			reason); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "update authorities set list_stale = true where id = $1", authority); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// Relist signs an authority's revocation list anew, when it is not newer than a time
// and nothing was revoked since, and gives it as it then is. One does it at a time.
func (s *Store) Relist(ctx context.Context, id int64, newer, now time.Time, sign func(number int64, revoked []Issued) ([]byte, error)) (list []byte, err error) {
	err = s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		var number int64
		var at *time.Time
		var stale bool
		if err := tx.QueryRow(ctx, "select list_number, list, list_at, list_stale from authorities where id = $1 for update", id).
			Scan(&number, &list, &at, &stale); err != nil {
			return err
		}
		if at != nil && at.After(newer) && !stale {
			return nil
		}
		var revoked []Issued
		if err := db.Where("authority_id = ? and revoked_at is not null and not_after > ?", id, now).Order("revoked_at").Find(&revoked).Error; err != nil {
			return err
		}
		var err error
		if list, err = sign(number+1, revoked); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "update authorities set list_number = $2, list = $3, list_at = $4, list_stale = false where id = $1", id, number+1, list, now)
		return err
	})
	return list, err
}
