package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Feed is an address at which whoever has it reads the calendar.
type Feed struct {
	ID        int64      // people refer to it
	Name      string     // what it is for
	Token     []byte     // digest of what is in the address
	Owner     string     // only what is theirs; "" for all
	PersonID  int64      // who made it; it ends with their access
	MadeAt    time.Time  // in UTC
	UsedAt    *time.Time // last; nil for never
	RevokedAt *time.Time // nil while it is in force
	Person    Person     // with their name
}

// MakeFeed keeps a feed under the digest of its secret.
func (s *Store) MakeFeed(ctx context.Context, f *Feed, secret []byte, act *Act) error {
	f.Token = digest(secret)
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Omit("Person").Create(f).Error; err != nil {
			return err
		}
		return act.write(db, f.MadeAt)
	})
}

// Feed finds one in force by its secret, and notes that it is in use.
func (s *Store) Feed(ctx context.Context, secret []byte, at time.Time) (*Feed, error) {
	var f Feed
	if _, err := found(&f, s.db.WithContext(ctx).InnerJoins("Person").Where(`revoked_at is null and "Person".removed_at is null`).
		Take(&f, "feeds.token = ?", digest(secret)).Error); err != nil {
		return nil, err
	}
	return &f, s.db.WithContext(ctx).Model(&Feed{}).Where("id = ?", f.ID).Update("used_at", at).Error
}

// Feeds lists those in force, of one person or (0) of all, newest first.
func (s *Store) Feeds(ctx context.Context, person int64) (list []Feed, err error) {
	q := s.db.WithContext(ctx).InnerJoins("Person").Where("revoked_at is null").Order("feeds.id desc").Limit(1000)
	if person != 0 {
		q = q.Where("person_id = ?", person)
	}
	return list, q.Find(&list).Error
}

// RevokeFeed ends one, of one person or (0) of anybody.
func (s *Store) RevokeFeed(ctx context.Context, id, person int64, act func(*Feed) *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		q := db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("revoked_at is null")
		if person != 0 {
			q = q.Where("person_id = ?", person)
		}
		var f Feed
		if _, err := found(&f, q.Take(&f, id).Error); err != nil {
			return err
		}
		if err := db.Model(&f).Update("revoked_at", at).Error; err != nil {
			return err
		}
		return act(&f).write(db, at)
	})
}
