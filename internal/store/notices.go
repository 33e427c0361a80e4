package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/check"
)

// Notice is a message to an owner.
type Notice struct {
	ID          int64           // people refer to it
	Owner       string          // who is told
	Kind        string          // events, digest or test
	By          string          // mail or webhook
	Receiver    string          // the address
	Subject     string          // in one line
	Text        string          // for people
	HTML        string          `gorm:"column:html"`
	Payload     json.RawMessage `gorm:"type:jsonb"` // for programs
	MadeAt      time.Time       // in UTC
	Tries       int             // so far
	NextAt      *time.Time      // of the next try; nil when there is none
	DeliveredAt *time.Time      // nil for not yet
	GaveUpAt    *time.Time      // nil unless nobody tries any more
	Trouble     string          // of the last try
}

// State says how far it is: waiting, delivered, undelivered while it is tried, or given-up.
func (n *Notice) State() string {
	switch {
	case n.DeliveredAt != nil:
		return "delivered"
	case n.GaveUpAt != nil:
		return "given-up"
	case n.Tries > 0:
		return "undelivered"
	}
	return "waiting"
}

// NoticeOwner is how far an owner has been told.
type NoticeOwner struct {
	Owner    string    `gorm:"primaryKey"`
	Tx       int64     // events of transactions before it are told
	ToldAt   time.Time // last message but digests; zero for none
	DigestAt time.Time // last digest, or when the owner was met first
}

// NoticeHorizon gives the transaction from which on events may still come: all before it
// have ended.
func (s *Store) NoticeHorizon(ctx context.Context) (tx int64, err error) {
	return tx, s.db.WithContext(ctx).Raw("select pg_snapshot_xmin(pg_current_snapshot())::text::bigint").Scan(&tx).Error
}

// NoticeOwners gives how far owners have been told. Those that are met for the first time
// have been told nothing: their transaction is 0.
func (s *Store) NoticeOwners(ctx context.Context, owners []string, now time.Time) (map[string]NoticeOwner, error) {
	out := map[string]NoticeOwner{}
	if len(owners) == 0 {
		return out, nil
	}
	err := s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		for _, owner := range owners {
			if err := db.Exec("insert into notice_owners (owner, tx, digest_at) values (?, 0, ?) on conflict do nothing", owner, now).Error; err != nil {
				return err
			}
		}
		var list []NoticeOwner
		if err := db.Raw(`select owner, tx, case when told_at = '-infinity' then timestamptz 'epoch' else told_at end as told_at, digest_at
			from notice_owners where owner in ?`, owners).Scan(&list).Error; err != nil {
			return err
		}
		for _, r := range list {
			out[r.Owner] = r
		}
		return nil
	})
	return out, err
}

// ToldAt gives when owners were told anything but digests last.
func (s *Store) ToldAt(ctx context.Context) (map[string]time.Time, error) {
	var list []NoticeOwner
	err := s.db.WithContext(ctx).Raw("select owner, told_at from notice_owners where told_at > 'epoch'").Scan(&list).Error
	out := make(map[string]time.Time, len(list))
	for _, o := range list {
		out[o.Owner] = o.ToldAt.UTC()
	}
	return out, err
}

// Happening is an event with what it is about.
type Happening struct {
	ID                    int64     // of the event
	At                    time.Time // in UTC
	Kind                  EventKind // what happened
	Note                  string    // in words, where nothing else tells it
	Finding               int64     // 0 unless it is about one
	Code                  check.Code
	Severity              int
	Cause, Remedy         string
	Host, Server, Address string
	Port                  int
	Removed               bool // what the finding is about is not in the estate any more
	GroupName, Owner      string
	Tags                  []string      `gorm:"serializer:json"`
	Mandate               string        // "" unless it is about one
	Order, Installation   int64         // 0 unless it is about one
	OrderFailure          *OrderFailure `gorm:"serializer:json"`
	OnServer, Reason      string        // of an installation
}

// Happened lists events of transactions from one to before another, not before a time, that
// people may be told of, findings first, the worst first, at most so many, and calls each: findings that are open
// and not let be, and not counted under others; ended ones that were opened before that, or,
// from transaction 0 on, whenever.
func (s *Store) Happened(ctx context.Context, from, to int64, since time.Time, limit int, each func(*Happening) error) error {
	rows, err := s.db.WithContext(ctx).Raw(`select ev.id, ev.at, ev.kind, ev.note, coalesce(f.id, 0) as finding, coalesce(f.code, '') as code, coalesce(f.severity, 0) as severity,
			coalesce(f.cause, '') as cause, coalesce(f.remedy, '') as remedy, coalesce(h.name, '') as host, coalesce(s.name, '') as server,
			coalesce(host(e.address), '') as address, coalesce(e.port, 0) as port, coalesce(t.removed_at, s.removed_at) is not null as removed,
			coalesce(h.group_name, '') as group_name, `+ownerOf+` as owner, coalesce(h.tags, '[]') as tags,
			coalesce(m.name, '') as mandate, coalesce(o.id, 0) as "order", coalesce(i.id, 0) as installation, o.failure as order_failure,
			coalesce(i.server, '') as on_server, coalesce(i.reason, '') as reason
		from events ev left join findings f on f.id = ev.finding_id left join targets t on t.id = f.target_id left join endpoints e on e.id = t.endpoint_id
			left join servers s on s.id = coalesce(f.server_id, e.server_id) left join hosts h on h.id = t.host_id
			left join orders o on o.id = ev.order_id left join installations i on i.id = ev.installation_id left join mandates m on m.id = coalesce(ev.mandate_id, o.mandate_id, i.mandate_id)
		where ev.tx >= @from and ev.tx < @to and ev.at >= @since and ev.kind not in ('survey-ended', 'due') and (f.id is null or f.under is null)
			and (ev.kind not in ('finding-opened', 'finding-returned') or f.closed_at is null and f.accepted_until is null)
			and (ev.kind <> 'finding-closed' or f.accepted_until is null and (@from = 0 or not exists (select from events b where b.finding_id = f.id and b.kind = 'finding-opened' and b.tx >= @from)))
			and (o.id is null or not o.rehearsal) and (i.id is null or not i.rehearsal)
		order by f.severity nulls last, ev.id limit @limit`, map[string]any{"from": from, "to": to, "since": since, "limit": limit}).Rows()
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var h Happening
		if err := s.db.ScanRows(rows, &h); err != nil {
			return err
		}
		if err := each(&h); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Ending is a certificate in use that ends soon, for hosts that belong to the same.
type Ending struct {
	Leaf             []byte    // SHA-256
	CommonName       string    // of the certificate
	NotAfter         time.Time // in UTC
	GroupName, Owner string    // of the hosts
	Tags             []string  `gorm:"serializer:json"`
	Host             string    // the first of them
	Hosts            int       // how many show it
}

// Endings lists the certificates in use that end between two times, by what their hosts
// belong to, the soonest first.
func (s *Store) Endings(ctx context.Context, after, before time.Time, limit int) (list []Ending, err error) {
	return list, s.db.WithContext(ctx).Raw(`select t.leaf, c.common_name, c.not_after, h.group_name, h.owner, h.tags, min(h.name) as host, count(distinct h.id) as hosts
		from targets t join hosts h on h.id = t.host_id join certificates c on c.sha256 = t.leaf
		where t.removed_at is null and t.leaf_ends > ? and t.leaf_ends <= ?
		group by t.leaf, c.common_name, c.not_after, h.group_name, h.owner, h.tags order by c.not_after, t.leaf limit ?`, after, before, limit).Scan(&list).Error
}

// ToldEnd is a certificate whose end an owner was told, so many days before.
type ToldEnd struct {
	Owner string
	Leaf  []byte
	Days  int
}

// ToldEnds gives how close to their ends an owner was told of certificates: the fewest days.
func (s *Store) ToldEnds(ctx context.Context, owner string) (map[string]int, error) {
	var list []ToldEnd
	err := s.db.WithContext(ctx).Raw("select leaf, min(days) as days from notice_ends where owner = ? group by leaf", owner).Scan(&list).Error
	out := make(map[string]int, len(list))
	for _, e := range list {
		out[string(e.Leaf)] = e.Days
	}
	return out, err
}

// Told is what an owner is told at once, and how far that goes.
type Told struct {
	NoticeOwner
	Notices []Notice  // to each of the addresses
	Ends    []ToldEnd // that are told with it
}

// Tell keeps messages, how far an owner is told with them, and what enqueue queues, in one
// transaction. Somebody else who tells the same owner meanwhile makes it do nothing.
func (s *Store) Tell(ctx context.Context, was *NoticeOwner, t *Told, enqueue func(context.Context, Tx, []int64) error) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		done := db.Exec(`update notice_owners set tx = ?, told_at = ?, digest_at = ? where owner = ? and tx = ? and digest_at = ?`,
			t.Tx, t.ToldAt, t.DigestAt, was.Owner, was.Tx, was.DigestAt)
		if done.Error != nil || done.RowsAffected == 0 {
			return done.Error
		}
		for _, e := range t.Ends {
			if err := db.Exec("insert into notice_ends (owner, leaf, days) values (?, ?, ?) on conflict do nothing", e.Owner, e.Leaf, e.Days).Error; err != nil {
				return err
			}
		}
		return addNotices(ctx, db, tx, t.Notices, enqueue)
	})
}

// AddNotices keeps messages that somebody asked for.
func (s *Store) AddNotices(ctx context.Context, list []Notice, act *Act, enqueue func(context.Context, Tx, []int64) error) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		if err := addNotices(ctx, db, tx, list, enqueue); err != nil || act == nil {
			return err
		}
		return act.write(db, time.Now().UTC())
	})
}

func addNotices(ctx context.Context, db *gorm.DB, tx pgx.Tx, list []Notice, enqueue func(context.Context, Tx, []int64) error) error {
	if len(list) == 0 {
		return nil
	}
	if err := db.Create(&list).Error; err != nil {
		return err
	}
	ids := make([]int64, len(list))
	for i := range list {
		ids[i] = list[i].ID
	}
	return enqueue(ctx, Tx{tx}, ids)
}

// Notice gives one message; ErrNotFound when there is none.
func (s *Store) Notice(ctx context.Context, id int64) (*Notice, error) {
	var n Notice
	return found(&n, s.db.WithContext(ctx).Take(&n, id).Error)
}

// NoticeFilter narrows the list of messages; zero values do not.
type NoticeFilter struct {
	Owner string // by name
	State string // waiting, delivered or undelivered; "" for all
}

// Notices lists messages without what is in them, newest first, older than before (0: from
// the newest).
func (s *Store) Notices(ctx context.Context, f NoticeFilter, before int64, limit int) (list []Notice, err error) {
	q := s.db.WithContext(ctx).Omit("text", "html", "payload").Order("id desc").Limit(limit)
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	if f.Owner != "" {
		q = q.Where("owner = ?", f.Owner)
	}
	switch f.State {
	case "waiting":
		q = q.Where("delivered_at is null and gave_up_at is null and tries = 0")
	case "delivered":
		q = q.Where("delivered_at is not null")
	case "undelivered":
		q = q.Where("delivered_at is null and tries > 0")
	}
	return list, q.Find(&list).Error
}

// NoticeTried keeps what came of a try. It is to be delivered, to be tried again, or given up.
func (s *Store) NoticeTried(ctx context.Context, n *Notice) error {
	return s.db.WithContext(ctx).Model(n).Select("tries", "next_at", "delivered_at", "gave_up_at", "trouble").Updates(n).Error
}

// TryNotice lets a message that was not delivered be tried again from the start, and queues
// that; false when it was delivered.
func (s *Store) TryNotice(ctx context.Context, id int64, act *Act, enqueue func(context.Context, Tx, []int64) error) (again bool, err error) {
	return again, s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		done := db.Exec("update notices set gave_up_at = null, tries = 0, next_at = null where id = ? and delivered_at is null", id)
		if again = done.RowsAffected > 0; done.Error != nil || !again {
			return done.Error
		}
		if err := act.write(db, time.Now().UTC()); err != nil {
			return err
		}
		return enqueue(ctx, Tx{tx}, []int64{id})
	})
}

// Undelivered is messages of one owner that do not arrive at one address.
type Undelivered struct {
	Owner, By, Receiver, Trouble string
	Messages                     int       // that wait or were given up
	Since                        time.Time // the first of them was written
}

// tellingTries is after how many tries in vain people are told of that.
const tellingTries = 3

// Undelivered lists the addresses at which nothing has arrived since something did not: tried
// several times, or given up.
func (s *Store) Undelivered(ctx context.Context) (list []Undelivered, err error) {
	return list, s.db.WithContext(ctx).Raw(`select owner, by, receiver, count(*) as messages, min(made_at) as since,
			(array_agg(trouble order by id desc) filter (where trouble <> ''))[1] as trouble
		from notices n where delivered_at is null and not exists (select from notices l where l.owner = n.owner and l.receiver = n.receiver and l.id > n.id and l.delivered_at is not null)
		group by owner, by, receiver having bool_or(tries >= ? or gave_up_at is not null) order by owner, by, receiver`, tellingTries).Scan(&list).Error
}

// OwnFindings opens, keeps and closes the findings about the service itself.
func (s *Store) OwnFindings(ctx context.Context, found []check.Found, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		if err := db.Exec("select pg_advisory_xact_lock(29)").Error; err != nil { // one at a time
			return err
		}
		open, err := openFindings(db, "target_id is null and server_id is null")
		if err != nil {
			return err
		}
		c := findingChanges{at: at}
		c.compare(about{}, open, found, check.OfService)
		return c.write(ctx, db, tx)
	})
}

// DropNotices forgets messages that were written, and ends that were told of certificates that
// ended, before a time.
func (s *Store) DropNotices(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(ctx, `with old as (delete from notices where made_at < $1 and (delivered_at is not null or gave_up_at is not null))
		delete from notice_ends n using certificates c where c.sha256 = n.leaf and c.not_after < $1`, before)
	return err
}

// Silence is a while in which an owner, or nobody, is told anything.
type Silence struct {
	ID      int64      // people refer to it
	Owner   string     // "" for all
	Until   time.Time  // in UTC
	Reason  string     // why
	By      string     // who wants it
	MadeAt  time.Time  // in UTC
	EndedAt *time.Time // before its end; nil for not
}

// Silences lists those that last at a time, or all for the zero time, newest first.
func (s *Store) Silences(ctx context.Context, at time.Time) (list []Silence, err error) {
	q := s.db.WithContext(ctx).Order("id desc").Limit(200)
	if !at.IsZero() {
		q = q.Where("ended_at is null and until > ?", at)
	}
	return list, q.Find(&list).Error
}

// AddSilence keeps one.
func (s *Store) AddSilence(ctx context.Context, v *Silence, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Create(v).Error; err != nil {
			return err
		}
		return act.write(db, v.MadeAt)
	})
}

// EndSilence ends one that lasts; ErrNotFound when it does not.
func (s *Store) EndSilence(ctx context.Context, id int64, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		done := db.Exec("update silences set ended_at = ? where id = ? and ended_at is null and until > ?", at, id, at)
		if done.Error != nil {
			return done.Error
		}
		if done.RowsAffected == 0 {
			return ErrNotFound
		}
		return act.write(db, at)
	})
}

// AddEvents writes events that nothing else tells.
func (s *Store) AddEvents(ctx context.Context, list ...Event) error {
	if len(list) == 0 {
		return nil
	}
	return s.db.WithContext(ctx).Create(&list).Error
}
