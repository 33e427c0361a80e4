package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Order is one order as it is kept.
type Order struct {
	ID         int64 `gorm:"primaryKey"`
	MandateID  int64
	CA         string
	AccountID  *int64
	Rehearsal  bool
	Spec       string `gorm:"type:jsonb"`
	State      string
	URL        string
	Sealed     []byte // the private key
	Request    []byte
	Replaces   string
	Chain      []byte // PEM
	Leaf       []byte // SHA-256
	NotAfter   *time.Time
	Tries      int
	Failure    *string `gorm:"type:jsonb"`
	By         string
	CreatedAt  time.Time
	FinishedAt *time.Time
	Mandate    Mandate
}

// OrderStep is one step of an order for people to see.
type OrderStep struct {
	OrderID int64 `gorm:"primaryKey"`
	Number  int   `gorm:"primaryKey"`
	Step    string
	Outcome string
	Words   string
	At      time.Time
}

type publicationRow struct{ Publication }

// Publication is a proof that stands somewhere for an order.
type Publication struct {
	OrderID                    int64
	Kind, Name, Token, Content string
}

func (publicationRow) TableName() string { return "publications" }

// BeginOrder keeps a new order together with the job that does it. It is
// ErrOrderRunning when one of the mandate is under way.
func (s *Store) BeginOrder(ctx context.Context, o *Order, act *Act, enqueue func(context.Context, pgx.Tx, int64) error) error {
	err := s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		if err := db.Omit("Mandate").Create(o).Error; err != nil {
			return err
		}
		if err := enqueue(ctx, tx, o.ID); err != nil {
			return err
		}
		if act == nil {
			return nil
		}
		return act.write(db, o.CreatedAt)
	})
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return ErrOrderRunning
	}
	return err
}

// Order gives one order with its mandate.
func (s *Store) Order(ctx context.Context, id int64) (*Order, error) {
	var o Order
	return found(&o, s.db.WithContext(ctx).Joins("Mandate").Take(&o, "orders.id = ?", id).Error)
}

// listed are the columns of an order that a list needs: no key, no chain.
var listed = []string{"id", "mandate_id", "ca", "rehearsal", "spec", "state", "url", "leaf", "not_after", "failure", "by", "created_at", "finished_at"}

// Orders lists orders, newest first, of one mandate or (0) of all, older than
// before (0: from the newest).
func (s *Store) Orders(ctx context.Context, mandate, before int64, limit int) ([]Order, error) {
	cols := make([]string, len(listed))
	for i, c := range listed {
		cols[i] = "orders." + c
	}
	q := s.db.WithContext(ctx).Select(cols).Joins("Mandate").Order("orders.id desc").Limit(limit)
	if mandate != 0 {
		q = q.Where("mandate_id = ?", mandate)
	}
	if before > 0 {
		q = q.Where("orders.id < ?", before)
	}
	var list []Order
	return list, q.Find(&list).Error
}

// LatestOrders gives the last order of each of some mandates: of the real ones
// or of the rehearsals.
func (s *Store) LatestOrders(ctx context.Context, mandates []int64, rehearsal bool) (map[int64]Order, error) {
	var list []Order
	err := s.db.WithContext(ctx).Raw(`select distinct on (mandate_id) id, mandate_id, ca, rehearsal, state, leaf, not_after, failure, by, created_at, finished_at
		from orders where mandate_id in ? and rehearsal = ? order by mandate_id, id desc`, append(mandates, 0), rehearsal).Scan(&list).Error
	out := make(map[int64]Order, len(list))
	for _, o := range list {
		out[o.MandateID] = o
	}
	return out, err
}

// InForce gives the last order of a mandate that brought a certificate.
func (s *Store) InForce(ctx context.Context, mandate int64) (*Order, error) {
	var o Order
	return found(&o, s.db.WithContext(ctx).Where("state = 'issued' and not rehearsal").Order("id desc").Take(&o, "mandate_id = ?", mandate).Error)
}

// SaveOrder keeps everything of an order that its steps change.
func (s *Store) SaveOrder(ctx context.Context, o *Order) error {
	return s.db.WithContext(ctx).Model(&Order{}).Where("id = ?", o.ID).Select("account_id", "state", "url", "sealed", "request", "replaces", "chain", "leaf", "not_after", "tries", "failure", "finished_at").Updates(o).Error
}

// KnownOrder says whether another order than this one is under way at a URL.
func (s *Store) KnownOrder(ctx context.Context, id int64, url string) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Order{}).Where("url = ? and id <> ? and finished_at is null", url, id).Count(&n).Error
	return n > 0, err
}

// NoteStep keeps a step; one of the same name that is the last takes its place.
func (s *Store) NoteStep(ctx context.Context, v OrderStep) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		var last []OrderStep
		if err := db.Where("order_id = ?", v.OrderID).Order("number desc").Limit(1).Find(&last).Error; err != nil {
			return err
		}
		v.Number = 1
		v.Words = text(v.Words)
		if len(last) > 0 {
			v.Number = last[0].Number + 1
			if last[0].Step == v.Step {
				v.Number--
			}
		}
		return db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&v).Error
	})
}

// OrderSteps gives an order's steps as they came.
func (s *Store) OrderSteps(ctx context.Context, id int64) ([]OrderStep, error) {
	var list []OrderStep
	return list, s.db.WithContext(ctx).Where("order_id = ?", id).Order("number").Find(&list).Error
}

// Publish keeps what is about to stand somewhere for an order.
func (s *Store) Publish(ctx context.Context, list []Publication) error {
	rows := make([]publicationRow, len(list))
	for i := range list {
		rows[i].Publication = list[i]
	}
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&rows).Error
}

// Publications gives what stands somewhere for an order.
func (s *Store) Publications(ctx context.Context, order int64) ([]Publication, error) {
	var rows []publicationRow
	err := s.db.WithContext(ctx).Find(&rows, "order_id = ?", order).Error
	out := make([]Publication, len(rows))
	for i := range rows {
		out[i] = rows[i].Publication
	}
	return out, err
}

// Withdrawn forgets what stood somewhere for an order.
func (s *Store) Withdrawn(ctx context.Context, order int64) error {
	return s.db.WithContext(ctx).Delete(&publicationRow{}, "order_id = ?", order).Error
}

// Answering gives the content of a proof by token, for the service's own
// listener.
func (s *Store) Answering(ctx context.Context, name, token string) (content string, err error) {
	r := s.db.WithContext(ctx).Raw("select content from publications where name = ? and token = ? union all select content from probes where name = ? and token = ? limit 1", name, token, name, token).Scan(&content)
	if r.Error == nil && r.RowsAffected == 0 {
		return "", ErrNotFound
	}
	return content, r.Error
}

// Probe is a proof that a pre-flight has put up.
type Probe struct {
	MandateID                  int64
	Kind, Name, Token, Content string
}

// AddProbes keeps what a pre-flight is about to put up.
func (s *Store) AddProbes(ctx context.Context, list []Probe) error {
	return s.db.WithContext(ctx).Create(&list).Error
}

// Probes lists what pre-flights have put up.
func (s *Store) Probes(ctx context.Context) ([]Probe, error) {
	var list []Probe
	return list, s.db.WithContext(ctx).Find(&list).Error
}

// DropProbe forgets one.
func (s *Store) DropProbe(ctx context.Context, p Probe) error {
	return s.db.WithContext(ctx).Delete(&Probe{}, "mandate_id = ? and kind = ? and name = ? and token = ? and content = ?", p.MandateID, p.Kind, p.Name, p.Token, p.Content).Error
}

// LeftOver lists finished orders whose proofs still stand.
func (s *Store) LeftOver(ctx context.Context, limit int) (ids []int64, err error) {
	err = s.db.WithContext(ctx).Raw("select distinct p.order_id from publications p join orders o on o.id = p.order_id where o.finished_at is not null limit ?", limit).Scan(&ids).Error
	return ids, err
}

// IssuedSince counts the certificates a CA gave since a time.
func (s *Store) IssuedSince(ctx context.Context, ca string, since time.Time) (int, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Order{}).Where("ca = ? and state = 'issued' and not rehearsal and finished_at > ?", ca, since).Count(&n).Error
	return int(n), err
}
