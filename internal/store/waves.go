package store

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"insegna.example/internal/core/fault"
)

// Wave is the certificate of one order going to several servers.
type Wave struct {
	ID         int64      `gorm:"primaryKey"`
	MandateID  int64      // whose certificate it is
	OrderID    int64      // that brought it
	Groups     [][]string `gorm:"serializer:json"` // names of servers; those of one group go together
	There      []string   `gorm:"serializer:json"` // servers that have it already
	State      WaveState  // how far it is
	Reason     string     // why it stopped
	Advice     string     // what to do
	By         string     // who previewed or began it
	CreatedAt  time.Time  // of the preview
	StartedAt  *time.Time // nil for a preview
	FinishedAt *time.Time // nil while it runs or waits for a person
	Mandate    Mandate    // with its name
}

// WaveState is how far a wave is.
type WaveState string

// The states of a wave.
const (
	WavePreviewed WaveState = "previewed" // nothing was touched
	WaveRunning   WaveState = "running"
	WaveStopped   WaveState = "stopped" // at a fault; a person says whether to go back or to stay
	WaveDone      WaveState = "done"    // new on every server
	WaveReturning WaveState = "returning"
	WaveReturned  WaveState = "returned" // old on every server
	WaveKept      WaveState = "kept"     // left as it was when it stopped
)

// Errors of waves.
var (
	ErrWaveRunning = fault.New(fault.NotNow, "Not possible now",
		"another wave of that mandate is under way or waits for a person", "see it: insegna wave list")
	ErrWaveBegun   = fault.New(fault.NotNow, "Not possible now", "the wave was begun already", "")
	ErrWaveChanged = fault.New(fault.NotNow, "Not possible now",
		"a server of the wave was previewed anew, or is being installed on, since the wave was previewed",
		"preview the wave anew: insegna install MANDATE --everywhere")
	ErrWaveNotStopped = fault.New(fault.NotNow, "Not possible now",
		"only a wave that stopped can be left as it is", "")
	ErrWaveNotReturnable = fault.New(fault.NotNow, "Not possible now",
		"only the last wave of a mandate, and only when it is done or has stopped, can be taken back", "")
)

// AddWave keeps the preview of a wave with those of its installations, in the place
// of the one before.
func (s *Store) AddWave(ctx context.Context, w *Wave, installations []int64) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Exec("delete from waves where mandate_id = ? and started_at is null", w.MandateID).Error; err != nil {
			return err
		}
		if err := db.Omit("Mandate").Create(w).Error; err != nil {
			return err
		}
		return db.Exec("update installations set wave_id = ? where id in ? and started_at is null", w.ID, installations).Error
	})
}

// Wave gives one with its mandate.
func (s *Store) Wave(ctx context.Context, id int64) (*Wave, error) {
	var w Wave
	return found(&w, s.db.WithContext(ctx).Joins("Mandate").Take(&w, "waves.id = ?", id).Error)
}

// Waves lists them, newest first, of one mandate or (0) of all, older than before
// (0: from the newest).
func (s *Store) Waves(ctx context.Context, mandate, before int64, limit int) ([]Wave, error) {
	q := s.db.WithContext(ctx).Joins("Mandate").Order("waves.id desc").Limit(limit)
	if mandate != 0 {
		q = q.Where("mandate_id = ?", mandate)
	}
	if before > 0 {
		q = q.Where("waves.id < ?", before)
	}
	var list []Wave
	return list, q.Find(&list).Error
}

// WaveInstallations gives the installations of some waves, with what they change or
// without.
func (s *Store) WaveInstallations(ctx context.Context, waves []int64, plans bool) ([]Installation, error) {
	q := s.db.WithContext(ctx)
	if !plans {
		q = q.Omit("plan")
	}
	var list []Installation
	return list, q.Joins("Mandate").Where("wave_id in ?", waves).Order("installations.id").Find(&list).Error
}

// changeWave alters a wave together with what the journal says of it and the job
// that carries it on.
func (s *Store) changeWave(ctx context.Context, id int64, act func(*Wave) *Act, at time.Time,
	enqueue func(context.Context, Tx, int64) error, do func(*gorm.DB, *Wave) (map[string]any, error)) error {
	err := s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		var w Wave
		if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&w, id).Error; errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNotFound
		} else if err != nil {
			return err
		}
		changes, err := do(db, &w)
		if err != nil {
			return err
		}
		if err := db.Model(&w).Updates(changes).Error; err != nil {
			return err
		}
		if err := enqueue(ctx, Tx{tx}, id); err != nil {
			return err
		}
		return act(&w).write(db, at)
	})
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return ErrWaveRunning
	}
	return err
}

// BeginWave begins what was previewed, unless a part of it is not as it was.
func (s *Store) BeginWave(ctx context.Context, id int64, by string, act func(*Wave) *Act, at time.Time,
	enqueue func(context.Context, Tx, int64) error) error {
	return s.changeWave(ctx, id, act, at, enqueue, func(db *gorm.DB, w *Wave) (map[string]any, error) {
		if w.StartedAt != nil {
			return nil, ErrWaveBegun
		}
		var there int64
		if err := db.Model(&Installation{}).Where("wave_id = ? and started_at is null", w.ID).Count(&there).Error; err != nil {
			return nil, err
		}
		if int(there) != len(slices.Concat(w.Groups...)) {
			return nil, ErrWaveChanged
		}
		return map[string]any{"state": WaveRunning, "started_at": at, "by": by}, nil
	})
}

// ReturnWave begins the way back of a wave that is done or has stopped.
func (s *Store) ReturnWave(ctx context.Context, id int64, act func(*Wave) *Act, at time.Time,
	enqueue func(context.Context, Tx, int64) error) error {
	return s.changeWave(ctx, id, act, at, enqueue, func(db *gorm.DB, w *Wave) (map[string]any, error) {
		var later int64
		if err := db.Model(&Wave{}).Where("mandate_id = ? and id > ? and started_at is not null", w.MandateID, w.ID).
			Count(&later).Error; err != nil {
			return nil, err
		}
		if later > 0 || w.State != WaveDone && w.State != WaveStopped {
			return nil, ErrWaveNotReturnable
		}
		return map[string]any{"state": WaveReturning, "finished_at": nil}, nil
	})
}

// KeepWave leaves a wave that stopped as it is.
func (s *Store) KeepWave(ctx context.Context, id int64, act func(*Wave) *Act, at time.Time) error {
	none := func(context.Context, Tx, int64) error { return nil }
	return s.changeWave(ctx, id, act, at, none, func(_ *gorm.DB, w *Wave) (map[string]any, error) {
		if w.State != WaveStopped {
			return nil, ErrWaveNotStopped
		}
		return map[string]any{"state": WaveKept, "finished_at": at}, nil
	})
}

// SaveWave keeps how far a wave is.
func (s *Store) SaveWave(ctx context.Context, w *Wave) error {
	return s.db.WithContext(ctx).Model(&Wave{}).Where("id = ?", w.ID).Updates(map[string]any{"state": w.State,
		"reason": text(w.Reason), "advice": text(w.Advice), "finished_at": w.FinishedAt}).Error
}

// WaveShown gives, for each host of a wave that is under way or waits for a person,
// the certificates it may show meanwhile, by their SHA-256 in hexadecimal.
func (s *Store) WaveShown(ctx context.Context) (map[string][]string, error) {
	var list []Installation
	err := s.db.WithContext(ctx).Omit("plan").Where("wave_id in (select id from waves where started_at is not null and " +
		"finished_at is null)").Find(&list).Error
	out := map[string][]string{}
	for i := range list {
		for _, b := range list[i].Bindings {
			if !b.Neighbour {
				out[b.Host] = append(out[b.Host], list[i].Leaf, b.Before)
			}
		}
	}
	return out, err
}
