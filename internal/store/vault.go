package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"
)

// VaultMark is a known text sealed with a key of the vault.
type VaultMark struct {
	KeyID  string `gorm:"primaryKey"`
	Mark   []byte
	MadeAt time.Time
}

// VaultMarks gives the mark of every key that has sealed something.
func (s *Store) VaultMarks(ctx context.Context) ([]VaultMark, error) {
	var list []VaultMark
	return list, s.db.WithContext(ctx).Order("made_at").Find(&list).Error
}

// AddVaultMark keeps the mark of a key; one that is there stays.
func (s *Store) AddVaultMark(ctx context.Context, m VaultMark) error {
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&m).Error
}
