package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/estate"
)

// Order is one order as it is kept.
type Order struct {
	ID         int64          `gorm:"primaryKey"`
	MandateID  int64          // ordered for
	CA         string         // by name
	AccountID  *int64         // nil before the CA is asked
	Rehearsal  bool           // at the CA's test directory
	Spec       estate.Mandate `gorm:"serializer:json"` // the mandate as it was
	State      string         // how far it is
	URL        string         // what the source calls it
	Encrypted  []byte         // the private key
	Request    []byte         // certificate request in DER
	Replaces   string         // id of the certificate before
	Chain      []byte         // PEM
	Leaf       []byte         // SHA-256
	NotAfter   *time.Time     // of what was issued
	Tries      int            // of fetching or asking, in a row
	Failure    *OrderFailure  `gorm:"serializer:json"`
	By         string         // who began it
	CreatedAt  time.Time      // in UTC
	FinishedAt *time.Time     // nil while it runs
	Way        string         // "" from its CA, Taken from files somebody gave
	Public     []byte         // SHA-256 of the public half of its key; nil before there is one
	SentAt     *time.Time     // the request, by a person; nil before
	SentTo     string         // whom
	ExpectedAt *time.Time     // until when a reply is expected; nil when that is not known
	Reply      []byte         // what a person brought back, in PEM
	Waits      bool           // for a person
	KeyGoneAt  *time.Time     // when its key was destroyed
	RevokedAt  *time.Time     // when its certificate was taken back at its CA
	RevokedFor string         // the reason given
	Mandate    Mandate        // with its name
}

// Taken is the way of a certificate that was taken in from files.
const Taken = "taken"

// OrderFailure is why an order came to nothing.
type OrderFailure struct {
	Kind   string    // the CA's, or our own
	Words  string    // what was said
	Advice string    // what to do
	Again  time.Time // not to be tried before; zero when only a person can help
}

// OrderStep is one step of an order for people to see.
type OrderStep struct {
	OrderID int64     `gorm:"primaryKey"`
	Number  int       `gorm:"primaryKey"` // from 1
	Step    string    // as told
	Outcome string    // doing, done or failed
	Words   string    // what was seen
	At      time.Time // in UTC
}

// Publication is a proof that stands somewhere for an order.
type Publication struct {
	OrderID                    int64  // whose proof it is
	Kind, Name, Token, Content string // of challenge, name, token and what is to be shown
}

// beginSQL keeps an order, unless one of the mandate is under way or, when it
// has to be due, the mandate is not due any more.
const beginSQL = `insert into orders (mandate_id, ca, account_id, rehearsal, spec, state, replaces, by, created_at)
	select m.id, $2, $3::bigint, $4::boolean, $5::jsonb, $6, $7, $8, $9::timestamptz from mandates m
	where m.id = $1 and m.removed_at is null and (not $10::boolean or m.next_at <= $9::timestamptz) for update on conflict do nothing returning id`

// Allowance is how many certificates a CA gives since a time.
type Allowance struct {
	CA    string    // by name
	Since time.Time // start of the budget's days
	Most  int       // certificates
}

// ErrOverAllowance says that orders begun meanwhile have left less than was
// there.
var ErrOverAllowance = errors.New("the budget was spent by orders begun at the same time")

// spentSQL counts the certificates a CA gave since a time, and the orders under
// way.
const spentSQL = `select count(*) from orders where ca = $1 and not rehearsal and way = '' and (state = 'issued' and finished_at > $2 or finished_at is null)`

// BeginOrders keeps new orders with the jobs that do them and what the journal
// says of each. Left out, with 0 for its ID, is one whose mandate has an order
// under way or, when it has to be due, is not due any more. None is kept when
// they do not fit into the allowance (nil: there is none), however many begin
// orders at once.
func (s *Store) BeginOrders(ctx context.Context, list []*Order, acts []*Act, due bool, most *Allowance,
	enqueue func(context.Context, Tx, []int64) error) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		if most != nil {
			var spent int
			if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock(hashtext('budget of ' || $1))", most.CA); err != nil {
				return err
			}
			if err := tx.QueryRow(ctx, spentSQL, most.CA, most.Since).Scan(&spent); err != nil {
				return err
			}
			if spent+len(list) > most.Most {
				return ErrOverAllowance
			}
		}
		var b pgx.Batch
		for _, o := range list {
			b.Queue(beginSQL, o.MandateID, o.CA, o.AccountID, o.Rehearsal, jsonText(o.Spec), o.State, o.Replaces, o.By,
				o.CreatedAt, due).QueryRow(func(row pgx.Row) error {
				if err := row.Scan(&o.ID); !errors.Is(err, pgx.ErrNoRows) {
					return err
				}
				return nil
			})
		}
		if err := tx.SendBatch(ctx, &b).Close(); err != nil {
			return err
		}
		var ids []int64
		var said []*Act
		for i, o := range list {
			if o.ID != 0 {
				ids, said = append(ids, o.ID), append(said, acts[i])
			}
		}
		if len(ids) == 0 {
			return nil
		}
		if err := enqueue(ctx, Tx{tx}, ids); err != nil {
			return err
		}
		if due {
			if _, err := tx.Exec(ctx,
				"insert into events (at, kind, mandate_id, order_id) select $1, $2, mandate_id, id from orders where id = any($3)",
				list[0].CreatedAt, MandateDue, ids); err != nil {
				return err
			}
		}
		return write(db, list[0].CreatedAt, said...)
	})
}

// Order gives one order with its mandate.
func (s *Store) Order(ctx context.Context, id int64) (*Order, error) {
	var o Order
	return found(&o, s.db.WithContext(ctx).Joins("Mandate").Take(&o, "orders.id = ?", id).Error)
}

// listed are the columns of an order that a list needs: no key, no chain.
var listed = []string{"id", "mandate_id", "ca", "rehearsal", "spec", "state", "url", "leaf", "not_after", "failure",
	"by", "created_at", "finished_at", "way", "sent_at", "sent_to", "expected_at", "waits", "key_gone_at"}

// listed leaves out what only one order alone needs: request, chain and
// encrypted key.
func (s *Store) listed(ctx context.Context) *gorm.DB {
	cols := make([]string, len(listed))
	for i, c := range listed {
		cols[i] = "orders." + c
	}
	return s.db.WithContext(ctx).Select(cols).Joins("Mandate")
}

// OrdersToTell lists the orders somebody should know of, newest first: those
// the service began by itself since a time and that have ended, and the last
// one of a mandate where that failed.
func (s *Store) OrdersToTell(ctx context.Context, itself string, since time.Time, limit int) ([]Order, error) {
	var list []Order
	return list, s.listed(ctx).Where(`"Mandate".removed_at is null and orders.id in (
			(select id from orders where by = ? and state = 'issued' and not rehearsal and finished_at > ? order by finished_at desc limit ?)
			union all (select f.id from orders f where f.state = 'failed' and not f.rehearsal
				and not exists (select from orders l where l.mandate_id = f.mandate_id and l.id > f.id and not l.rehearsal) order by f.finished_at desc limit ?))`, itself, since, limit, limit).
		Order("orders.finished_at desc").Limit(limit).Find(&list).Error
}

// Orders lists orders, newest first, of one mandate or (0) of all, older than
// before (0: from the newest).
func (s *Store) Orders(ctx context.Context, mandate, before int64, limit int) ([]Order, error) {
	q := s.listed(ctx).Order("orders.id desc").Limit(limit)
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
	err := s.db.WithContext(ctx).Raw("select distinct on (mandate_id) "+orderHead+
		" from orders where mandate_id in ? and rehearsal = ? order by mandate_id, id desc", append(mandates, 0), rehearsal).Scan(&list).Error
	out := make(map[int64]Order, len(list))
	for _, o := range list {
		out[o.MandateID] = o
	}
	return out, err
}

// FailedSince gives, by CA, the last order of a mandate that failed there since its
// last certificate was issued.
func (s *Store) FailedSince(ctx context.Context, mandate int64) (map[string]Order, error) {
	var list []Order
	err := s.db.WithContext(ctx).Raw("select distinct on (ca) "+orderHead+` from orders where mandate_id = @m and not rehearsal and state = 'failed'
		and id > coalesce((select max(id) from orders where mandate_id = @m and not rehearsal and state = 'issued'), 0) order by ca, id desc`,
		sql.Named("m", mandate)).Scan(&list).Error
	out := make(map[string]Order, len(list))
	for _, o := range list {
		if o.Failure != nil {
			out[o.CA] = o
		}
	}
	return out, err
}

// orderHead is what lists tell of an order: neither its key nor its chain.
const orderHead = "id, mandate_id, ca, rehearsal, state, leaf, not_after, failure, by, created_at, finished_at, way, waits, sent_at, sent_to, expected_at, revoked_at, revoked_for"

// InForceHeads is InForce without keys and chains.
func (s *Store) InForceHeads(ctx context.Context, mandates []int64) (map[int64]Order, error) {
	var list []Order
	err := s.db.WithContext(ctx).Raw("select distinct on (mandate_id) "+orderHead+" from orders where state = 'issued' and "+
		"not rehearsal and mandate_id in ? order by mandate_id, id desc", append(mandates, 0)).Scan(&list).Error
	out := make(map[int64]Order, len(list))
	for _, o := range list {
		out[o.MandateID] = o
	}
	return out, err
}

// IssuedBefore gives when the order of a mandate was begun that brought a certificate
// last before another one of it; ErrNotFound when there is none.
func (s *Store) IssuedBefore(ctx context.Context, o *Order) (at time.Time, err error) {
	err = s.pool.QueryRow(ctx, "select created_at from orders where mandate_id = $1 and id < $2 and state = 'issued' and "+
		"not rehearsal order by id desc limit 1", o.MandateID, o.ID).Scan(&at)
	if errors.Is(err, pgx.ErrNoRows) {
		return at, ErrNotFound
	}
	return at.UTC(), err
}

// InForce gives, for each of some mandates that has one, the last order that
// brought a certificate.
func (s *Store) InForce(ctx context.Context, mandates []int64) (map[int64]Order, error) {
	var list []Order
	err := s.db.WithContext(ctx).Raw(`select distinct on (mandate_id) * from orders
		where state = 'issued' and not rehearsal and mandate_id in ? order by mandate_id, id desc`, append(mandates, 0)).Scan(&list).Error
	out := make(map[int64]Order, len(list))
	for _, o := range list {
		out[o.MandateID] = o
	}
	return out, err
}

// saveSQL writes an order's state; it never touches what was ordered.
const saveSQL = `update orders set account_id = $2, state = $3, url = $4, encrypted = coalesce(encrypted, $5), request = $6, replaces = $7, chain = $8, leaf = $9, not_after = $10, tries = $11, failure = $12::jsonb, finished_at = $13, public = $14, waits = $15, expected_at = $16 where id = $1`

// Next is when a mandate is due next, and why then.
type Next struct {
	At       *time.Time // nil: not by itself
	Why      string     // for people
	Failures int        // in a row
	AskAt    *time.Time // when the CA is asked again for its window; nil: not
	ByWindow bool       // At lies in that window
}

// endSQL says when a mandate is due after an order: at once when it asks for
// something else by now than the order did. That the order went to another of its CAs
// is no such change, unless their list is another.
var endSQL = `update mandates m set failures = $5, ask_at = case when $5 = 0 then $6 else m.ask_at end,
	next_at = case when c.changed then now() else $3 end, next_why = case when c.changed then 'what it asks for has changed' else $4 end, by_window = $7 and not c.changed
	from (select $5 = 0 and (` + asksSQL("m") + ` is distinct from ` + asksSQL("o") + `
			or o.ca <> m.ca and not coalesce(o.spec->'otherwise' = m.spec->'otherwise' and m.spec->'otherwise' ? o.ca, false)) changed
		from mandates m, orders o where m.id = $1 and o.id = $2) c where m.id = $1`

// SaveOrder keeps everything of an order that its steps change, together with
// these steps and, at its end, when its mandate is due next.
func (s *Store) SaveOrder(ctx context.Context, o *Order, next *Next, steps ...OrderStep) error {
	b := o.saving(steps)
	if o.FinishedAt != nil && !o.Rehearsal {
		e := Event{At: *o.FinishedAt, Kind: OrderIssued, MandateID: &o.MandateID, OrderID: &o.ID}
		if o.Failure != nil {
			e.Kind = OrderFailed
		}
		e.queue(b)
	}
	if next != nil {
		b.Queue(endSQL, o.MandateID, o.ID, next.At, text(next.Why), next.Failures, next.AskAt, next.ByWindow)
	}
	return s.pool.SendBatch(ctx, b).Close()
}

// SaveProven keeps an order whose proofs were seen, and forgets what stood for it where
// that is down.
func (s *Store) SaveProven(ctx context.Context, o *Order, down bool, steps ...OrderStep) error {
	b := o.saving(steps)
	if down {
		b.Queue(withdrawnSQL, o.ID)
	}
	return s.pool.SendBatch(ctx, b).Close()
}

// saving keeps an order's state with steps: one way to the database and back, one
// transaction.
func (o *Order) saving(steps []OrderStep) *pgx.Batch {
	b := &pgx.Batch{}
	b.Queue(saveSQL, o.ID, o.AccountID, o.State, o.URL, o.Encrypted, o.Request, o.Replaces, o.Chain, o.Leaf, o.NotAfter,
		o.Tries, failureText(o.Failure), o.FinishedAt, o.Public, o.Waits, o.ExpectedAt)
	for _, step := range steps {
		step.queue(b)
	}
	return b
}

// failureText is a failure as it is stored; nil for none.
func failureText(f *OrderFailure) *string {
	if f == nil {
		return nil
	}
	t := jsonText(f)
	return &t
}

// KnownOrder says whether another order than this one is under way at a URL.
func (s *Store) KnownOrder(ctx context.Context, id int64, url string) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Order{}).Where("url = ? and id <> ? and finished_at is null", url,
		id).Count(&n).Error
	return n > 0, err
}

// noteSQL adds a step, in the place of the last one when that has its name.
const noteSQL = `insert into order_steps (order_id, number, step, outcome, words, at)
	select $1, coalesce((select case when step = $2 then number else number + 1 end from order_steps where order_id = $1 order by number desc limit 1), 1), $2, $3, $4, $5
	on conflict (order_id, number) do update set outcome = excluded.outcome, words = excluded.words, at = excluded.at`

// queue has a step kept with a batch.
func (v *OrderStep) queue(b *pgx.Batch) {
	b.Queue(noteSQL, v.OrderID, v.Step, v.Outcome, text(v.Words), v.At)
}

// NoteSteps keeps steps; one of the same name that is the last takes its place.
func (s *Store) NoteSteps(ctx context.Context, list ...OrderStep) error {
	var b pgx.Batch
	for _, v := range list {
		v.queue(&b)
	}
	return s.pool.SendBatch(ctx, &b).Close()
}

// OrderSteps gives an order's steps as they came.
func (s *Store) OrderSteps(ctx context.Context, id int64) ([]OrderStep, error) {
	var list []OrderStep
	return list, s.db.WithContext(ctx).Where("order_id = ?", id).Order("number").Find(&list).Error
}

// Publish keeps what is about to stand somewhere for an order, says so in steps, and
// gives all that stands for it then.
func (s *Store) Publish(ctx context.Context, order int64, list []Publication, steps ...OrderStep) (stands []Publication, err error) {
	var b pgx.Batch
	for _, p := range list {
		b.Queue("insert into publications (order_id, kind, name, token, content) values ($1, $2, $3, $4, $5) on conflict do "+
			"nothing", p.OrderID, p.Kind, p.Name, p.Token, p.Content)
	}
	for _, step := range steps {
		step.queue(&b)
	}
	b.Queue(standsSQL, order).Query(func(rows pgx.Rows) error {
		stands, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Publication])
		return err
	})
	return stands, s.pool.SendBatch(ctx, &b).Close()
}

// What stands somewhere for an order.
const (
	standsSQL    = "select order_id, kind, name, token, content from publications where order_id = $1"
	withdrawnSQL = "delete from publications where order_id = $1"
)

// Publications gives what stands somewhere for an order.
func (s *Store) Publications(ctx context.Context, order int64) ([]Publication, error) {
	rows, err := s.pool.Query(ctx, standsSQL, order)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Publication])
}

// Withdrawn forgets what stood somewhere for an order, and says so in a step.
func (s *Store) Withdrawn(ctx context.Context, step OrderStep) error {
	var b pgx.Batch
	b.Queue(withdrawnSQL, step.OrderID)
	step.queue(&b)
	return s.pool.SendBatch(ctx, &b).Close()
}

// Answering gives the content of a proof by token, for the service's own
// listener.
func (s *Store) Answering(ctx context.Context, name, token string) (content string, err error) {
	err = s.pool.QueryRow(ctx,
		"select content from publications where name = $1 and token = $2 union all select content from probes where name = "+
			"$1 and token = $2 limit 1", name, token).Scan(&content)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", ErrNotFound
	}
	return content, err
}

// AnsweringTLS gives the key authorization for a name that is looked for in TLS: what
// was put up last, where several orders are for the name.
func (s *Store) AnsweringTLS(ctx context.Context, name string) (content string, err error) {
	err = s.pool.QueryRow(ctx, `select content from (
		select content, 1 as first, 0 as order_id from probes where kind = 'tls-alpn-01' and name = $1
		union all select content, 2, order_id from publications where kind = 'tls-alpn-01' and name = $1) as up
		order by first desc, order_id desc limit 1`, name).Scan(&content)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", ErrNotFound
	}
	return content, err
}

// Probe is a proof that a pre-flight has put up.
type Probe struct {
	MandateID                  int64  // whose trial proof it is
	Kind, Name, Token, Content string // of challenge, name, token and what is to be shown
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
	return s.db.WithContext(ctx).Delete(&Probe{},
		"mandate_id = ? and kind = ? and name = ? and token = ? and content = ?", p.MandateID, p.Kind, p.Name, p.Token,
		p.Content).Error
}

// LeftOver lists finished orders whose proofs still stand, and are not left there for
// the next order of their mandate.
func (s *Store) LeftOver(ctx context.Context, limit int) (ids []int64, err error) {
	err = s.db.WithContext(ctx).Raw(`select distinct p.order_id from publications p join orders o on o.id = p.order_id
		join mandates m on m.id = o.mandate_id where o.finished_at is not null
		and not (o.state = 'issued' and not o.rehearsal and m.removed_at is null and coalesce(m.spec->'proof'->'keep' = 'true', false)
			and not exists (select from publications q join orders n on n.id = q.order_id
				where n.mandate_id = o.mandate_id and n.id > o.id and n.state = 'issued' and not n.rehearsal))
		limit ?`, limit).Scan(&ids).Error
	return ids, err
}

// PublishedBeside gives what stands for other orders of an order's mandate; their
// numbers are left out.
func (s *Store) PublishedBeside(ctx context.Context, order int64) ([]Publication, error) {
	rows, err := s.pool.Query(ctx, `select 0::bigint, p.kind, p.name, p.token, p.content from publications p join orders o on o.id = p.order_id
		where p.order_id <> $1 and o.mandate_id = (select mandate_id from orders where id = $1)`, order)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Publication])
}

// IssuedSince counts the certificates a CA gave since a time, and the orders
// under way.
func (s *Store) IssuedSince(ctx context.Context, ca string, since time.Time) (int, error) {
	var n int
	err := s.pool.QueryRow(ctx, spentSQL, ca, since).Scan(&n)
	return n, err
}
