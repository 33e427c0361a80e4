package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/journal"
)

// Act is something done that belongs in the journal.
type Act struct {
	Actor, Action, Subject string // who, what and to what
	Detail                 any    // made JSON
}

// journalRow is an entry as stored; Detail is its canonical JSON, over which
// the hash goes.
type journalRow struct {
	ID                             int64     // grows with each entry
	At                             time.Time // in UTC, to the microsecond
	Actor, Action, Subject, Detail string    // who, what, to what, and more as JSON
	Before, Hash                   []byte    // hash of the entry before, and of this one
}

// TableName is GORM's name for the table.
func (journalRow) TableName() string { return "journal" }

// entry is the entry as the chain of hashes is computed over it.
func (r *journalRow) entry() journal.Entry {
	return journal.Entry{ID: r.ID, At: r.At.UTC(), Actor: r.Actor, Action: r.Action, Subject: r.Subject, Detail: r.Detail,
		Before: journal.Hash(r.Before), Hash: journal.Hash(r.Hash)}
}

// write adds an act to the journal, in the transaction of the act itself:
// both are done or neither is.
func (a *Act) write(db *gorm.DB, at time.Time) error { return write(db, at, a) }

// write adds acts to the journal. One transaction writes at a time.
func write(db *gorm.DB, at time.Time, acts ...*Act) error {
	if err := db.Exec(lockJournalSQL).Error; err != nil {
		return err
	}
	var last journalRow
	if err := db.Order("id desc").Limit(1).Take(&last).Error; errors.Is(err, gorm.ErrRecordNotFound) {
		last.Hash = make([]byte, len(journal.Hash{}))
	} else if err != nil {
		return err
	}
	rows, err := chained(&last, at, acts)
	if err != nil {
		return err
	}
	return db.Create(&rows).Error
}

// chained makes the entries that follow the last one.
func chained(last *journalRow, at time.Time, acts []*Act) ([]journalRow, error) {
	rows := make([]journalRow, len(acts))
	for i, a := range acts {
		detail := []byte("{}")
		if a.Detail != nil {
			var err error
			if detail, err = json.Marshal(a.Detail); err != nil {
				return nil, err
			}
		}
		e := journal.Entry{ID: last.ID + 1, At: at.UTC().Truncate(time.Microsecond), Actor: text(a.Actor), Action: a.Action,
			Subject: text(a.Subject), Detail: string(detail), Before: journal.Hash(last.Hash)}
		hash := e.Sum()
		rows[i] = journalRow{e.ID, e.At, e.Actor, e.Action, e.Subject, e.Detail, last.Hash, hash[:]}
		last = &rows[i]
	}
	return rows, nil
}

// What a transaction of the driver's that writes to the journal begins with: nobody else
// writes until it ends, and what it goes on from.
const (
	lockJournalSQL = "lock table journal in share row exclusive mode"
	lastEntrySQL   = "select id, hash from journal order by id desc limit 1"
)

// appendSQL adds entries to the journal, one in each place of the lists.
const appendSQL = `insert into journal (id, at, actor, action, subject, detail, before, hash)
	select * from unnest($1::bigint[], $2::timestamptz[], $3::text[], $4::text[], $5::text[], $6::text[], $7::bytea[], $8::bytea[])`

// appendTo adds acts to the journal behind the last entry, in a transaction that has locked it.
func appendTo(ctx context.Context, tx pgx.Tx, last *journalRow, at time.Time, acts []*Act) error {
	rows, err := chained(last, at, acts)
	if err != nil {
		return err
	}
	n := len(rows)
	ids, ats, actors, actions := make([]int64, n), make([]time.Time, n), make([]string, n), make([]string, n)
	subjects, details, before, hashes := make([]string, n), make([]string, n), make([][]byte, n), make([][]byte, n)
	for i, r := range rows {
		ids[i], ats[i], actors[i], actions[i] = r.ID, r.At, r.Actor, r.Action
		subjects[i], details[i], before[i], hashes[i] = r.Subject, r.Detail, r.Before, r.Hash
	}
	_, err = tx.Exec(ctx, appendSQL, ids, ats, actors, actions, subjects, details, before, hashes)
	return err
}

// Journal lists entries, newest first, older than before (0: from the newest),
// whose actor, action or subject holds a text.
func (s *Store) Journal(ctx context.Context, query string, before int64, limit int) ([]journal.Entry, error) {
	q := s.db.WithContext(ctx).Order("id desc").Limit(limit)
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	if query != "" {
		like := contains(query)
		q = q.Where("(actor ilike ? or action ilike ? or subject ilike ? or detail ilike ?)", like, like, like, like)
	}
	var rows []journalRow
	err := q.Find(&rows).Error
	out := make([]journal.Entry, len(rows))
	for i := range rows {
		out[i] = rows[i].entry()
	}
	return out, err
}

// journalAtOnce is how many entries are read together when all are walked.
const journalAtOnce = 1000

// EachEntry walks the journal from its first entry; an error of each ends it.
func (s *Store) EachEntry(ctx context.Context, each func(*journal.Entry) error) error {
	for after := int64(-1 << 62); ; {
		var rows []journalRow
		if err := s.db.WithContext(ctx).Where("id > ?",
			after).Order("id").Limit(journalAtOnce).Find(&rows).Error; err != nil {
			return err
		}
		for i := range rows {
			e := rows[i].entry()
			if err := each(&e); err != nil {
				return err
			}
			after = e.ID
		}
		if len(rows) < journalAtOnce {
			return nil
		}
	}
}

// Note adds an act to the journal by itself.
func (s *Store) Note(ctx context.Context, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error { return act.write(db, at) })
}
