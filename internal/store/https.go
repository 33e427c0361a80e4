package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"insegna.example/internal/core/fault"
)

// HTTPSRun is a site on its way to https.
type HTTPSRun struct {
	ID             int64             `gorm:"primaryKey"`
	Server         string            // by name
	Host           string            // taken to https
	State          string            // how far it is
	Mandate        string            // name; "" until it is made
	Names          []string          `gorm:"serializer:json"`
	Also           []string          `gorm:"serializer:json"` // others who may get something else by it
	Advice         []string          `gorm:"serializer:json"`
	Draft          string            // of the mandate; "" when there is one
	Widens         []string          `gorm:"serializer:json"` // names of a mandate that is there and gets more; nil for a new one
	Trials         []HTTPSTrial      `gorm:"serializer:json"` // of the pre-flight
	Preparation    *HTTPSPreparation `gorm:"serializer:json"` // nil while none is needed
	OrderID        *int64            // nil before one was begun
	InstallationID *int64            // nil before one was previewed
	Reason, Next   string            // when it failed, and what to do
	By             string            // who began it
	CreatedAt      time.Time         // in UTC
	FinishedAt     *time.Time        // nil while it runs or waits
}

// HTTPSTrial is one thing the pre-flight of a run tried.
type HTTPSTrial struct {
	CA                                   string `json:"ca,omitempty"`
	Name, Step, Code, Seen, Spot, Remedy string // of the pre-flight
}

// HTTPSPreparation is what a server needs before a CA is asked, as it is carried
// out there.
type HTTPSPreparation struct {
	Plan           []byte                // as its destination made it, JSON
	Bindings       []InstallationBinding // neighbours that have to show what they showed
	Notes          []string              // what else the reload takes in
	State          string                // how far it is; "" before a person has agreed
	Switched       bool                  // something may have been changed
	Tries          int                   // without a way to the server, in a row
	Reason, Advice string                // why it went back or is stuck, and what to do
	Steps          []InstallationStep    // done
}

// ErrNotWaiting says that a run waits for nobody.
var ErrNotWaiting = fault.New(fault.NotNow, "Not possible now",
	"it does not wait for anybody: it is under way, or has ended", "see how it stands")

// TableName is the table of runs.
func (HTTPSRun) TableName() string { return "https_runs" }

// AddHTTPSRun keeps a new run, with what the journal says of it.
func (s *Store) AddHTTPSRun(ctx context.Context, v *HTTPSRun, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Create(v).Error; err != nil {
			return err
		}
		return act.write(db, v.CreatedAt)
	})
}

// HTTPSRun gives one run.
func (s *Store) HTTPSRun(ctx context.Context, id int64) (*HTTPSRun, error) {
	var v HTTPSRun
	return found(&v, s.db.WithContext(ctx).Take(&v, id).Error)
}

// HTTPSRuns lists runs, newest first: those of a lower number than before (0 from
// the newest).
func (s *Store) HTTPSRuns(ctx context.Context, before int64, limit int) ([]HTTPSRun, error) {
	q := s.db.WithContext(ctx).Order("id desc").Limit(limit)
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	var list []HTTPSRun
	return list, q.Find(&list).Error
}

// SaveHTTPSRun keeps a run under its new state.
func (s *Store) SaveHTTPSRun(ctx context.Context, v *HTTPSRun) error {
	v.Reason, v.Next = text(v.Reason), text(v.Next)
	return s.db.WithContext(ctx).Save(v).Error
}

// ContinueHTTPSRun lets one that waits in a state go on in another, with the job
// that does it. Two who continue it at once do so once; the error is ErrNotWaiting
// for the second.
func (s *Store) ContinueHTTPSRun(ctx context.Context, id int64, next map[string]string, act *Act, at time.Time,
	enqueue func(context.Context, Tx, int64) error) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		var v HTTPSRun
		if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&v, id).Error; err != nil {
			_, err = found(&v, err)
			return err
		}
		state := next[v.State]
		if state == "" {
			return ErrNotWaiting
		}
		if err := db.Model(&v).Update("state", state).Error; err != nil {
			return err
		}
		if err := enqueue(ctx, Tx{tx}, id); err != nil {
			return err
		}
		return act.write(db, at)
	})
}
