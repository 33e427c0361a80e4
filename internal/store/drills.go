package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/lifetime"
)

// Drill is a plan to replace everything that hangs on one thing.
type Drill struct {
	ID        int64          `gorm:"primaryKey"`
	Kind      string         // "ca", "certificate" or "key"
	What      string         // a CA's name, or a fingerprint
	Within    int64          // seconds there are
	By        string         // who had it planned
	At        time.Time      // in UTC
	Plan      lifetime.Drill `gorm:"serializer:json"`
	BegunAt   *time.Time     // nil while it is a plan
	BegunBy   string         // who has begun it
	Rehearsal bool           // at test directories
}

// DrillOrder is what was begun of one mandate.
type DrillOrder struct {
	DrillID int64  `gorm:"primaryKey"`
	Mandate string `gorm:"primaryKey"`
	OrderID *int64 // nil where none was begun
	LeftFor string // why none was

	State      string     `gorm:"->"` // of the order
	FinishedAt *time.Time `gorm:"->"`
	Words      string     `gorm:"->"` // of its failure
}

// AddDrill keeps a plan.
func (s *Store) AddDrill(ctx context.Context, d *Drill, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Create(d).Error; err != nil {
			return err
		}
		return act.write(db, d.At)
	})
}

// DrillByID gives one; ErrNotFound for none.
func (s *Store) DrillByID(ctx context.Context, id int64) (*Drill, error) {
	var v Drill
	return found(&v, s.db.WithContext(ctx).Take(&v, id).Error)
}

// Drills lists the newest, without the work of their plans.
func (s *Store) Drills(ctx context.Context, limit int) (list []Drill, err error) {
	return list, s.db.WithContext(ctx).Raw("select id, kind, what, within, by, at, plan - 'Work' as plan, begun_at, begun_by, rehearsal from drills order by id desc limit ?",
		limit).Scan(&list).Error
}

// BeginDrill notes that a drill is begun; ErrNotFound where it was before.
func (s *Store) BeginDrill(ctx context.Context, id int64, by string, rehearsal bool, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := changed(db.Exec("update drills set begun_at = ?, begun_by = ?, rehearsal = ? where id = ? and begun_at is null", at, by, rehearsal, id)); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// NoteDrillOrder keeps what was begun of a mandate.
func (s *Store) NoteDrillOrder(ctx context.Context, o *DrillOrder) error {
	return s.db.WithContext(ctx).Exec(`insert into drill_orders (drill_id, mandate, order_id, left_for) values (?, ?, ?, ?)
		on conflict (drill_id, mandate) do update set order_id = excluded.order_id, left_for = excluded.left_for`, o.DrillID, o.Mandate, o.OrderID, text(o.LeftFor)).Error
}

// DrillOrders gives what was begun of a drill, by mandate.
func (s *Store) DrillOrders(ctx context.Context, id int64) (map[string]DrillOrder, error) {
	var list []DrillOrder
	err := s.db.WithContext(ctx).Raw(`select d.*, coalesce(o.state, '') as state, o.finished_at, coalesce(o.failure->>'Words', '') as words
		from drill_orders d left join orders o on o.id = d.order_id where d.drill_id = ?`, id).Scan(&list).Error
	out := make(map[string]DrillOrder, len(list))
	for _, o := range list {
		out[o.Mandate] = o
	}
	return out, err
}

// HangingOn is a mandate with its certificate in force, and how many bindings show it.
type HangingOn struct {
	Mandate
	OrderCA  string    // it was ordered from
	Way      string    // "" from there, Taken from files
	Chain    []byte    // PEM
	Leaf     []byte    // SHA-256
	Public   []byte    // SHA-256 of the public half of its key
	NotAfter time.Time // in UTC
	Bindings int
}

// InForceAll calls each mandate that has a certificate in force.
func (s *Store) InForceAll(ctx context.Context, each func(*HangingOn) error) error {
	rows, err := s.db.WithContext(ctx).Raw(`select m.*, o.ca as order_ca, o.way, o.chain, o.leaf, o.public, o.not_after,
			(select count(*) from targets t where t.leaf = o.leaf and t.removed_at is null and t.host_id is not null) as bindings
		from mandates m join lateral (select * from orders where mandate_id = m.id and state = 'issued' and not rehearsal order by id desc limit 1) o on true
		where m.removed_at is null order by m.name`).Rows()
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var v HangingOn
		if err := s.db.ScanRows(rows, &v); err != nil {
			return err
		}
		if err := each(&v); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Unmandated lists hosts that show a certificate of one of these issuers, by name, that is no
// mandate's, with how many bindings do.
func (s *Store) Unmandated(ctx context.Context, issuers []string, limit int) (list []struct {
	Host     string
	Bindings int
	NotAfter time.Time
}, err error) {
	return list, s.db.WithContext(ctx).Raw(`select h.name as host, count(*) as bindings, min(c.not_after) as not_after from targets t join hosts h on h.id = t.host_id
			join certificates c on c.sha256 = t.leaf
		where t.removed_at is null and c.issuer in ? and not exists (select from orders o where o.leaf = t.leaf and o.state = 'issued')
		group by h.name order by count(*) desc, h.name limit ?`, append(issuers, ""), limit).Scan(&list).Error
}

// OrderTimes gives, by CA, how long its last orders took.
func (s *Store) OrderTimes(ctx context.Context) (map[string]time.Duration, error) {
	rows, err := s.pool.Query(ctx, `select ca, extract(epoch from avg(finished_at - created_at))::float8 from (select ca, finished_at, created_at,
			row_number() over (partition by ca order by id desc) as n from orders where state = 'issued' and way = '' and sent_at is null and finished_at is not null) o
		where n <= 100 group by ca`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]time.Duration{}
	for rows.Next() {
		var ca string
		var seconds float64
		if err := rows.Scan(&ca, &seconds); err != nil {
			return nil, err
		}
		out[ca] = time.Duration(seconds * float64(time.Second))
	}
	return out, rows.Err()
}
