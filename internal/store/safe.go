package store

import (
	"context"
	"time"

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
