package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// EventKind is what happened.
type EventKind string

// The kinds of events.
const (
	SurveyEnded     EventKind = "survey-ended"
	FindingOpened   EventKind = "finding-opened"
	FindingClosed   EventKind = "finding-closed"
	FindingReturned EventKind = "finding-returned" // it was accepted, and is no longer
	OrderIssued     EventKind = "order-issued"
	OrderFailed     EventKind = "order-failed"
	Installed       EventKind = "installed"
	CameBack        EventKind = "came-back" // an installation was taken back, by itself or by a person
	InstallStuck    EventKind = "stuck"     // an installation is neither new nor old everywhere
	MandateDue      EventKind = "due"       // a mandate was due, and its order is begun
	FacesStale      EventKind = "stale"     // bindings were looked at longer ago than the schedule allows
	RenewalAsked    EventKind = "asked"     // a CA asks for renewal earlier than was planned
)

// Event is something that happened, written together with what it tells.
// Numbers of what it is not about are nil.
type Event struct {
	ID             int64     // grows; two at once may be seen in either order
	At             time.Time // in UTC
	Kind           EventKind // what happened
	SurveyID       *int64    // nil unless it is about one
	FindingID      *int64    // nil unless it is about one
	MandateID      *int64    // nil unless it is about one
	OrderID        *int64    // nil unless it is about one
	InstallationID *int64    // nil unless it is about one
	Note           string    // in words, where nothing else tells it
}

// eventSQL writes one event, once; numbers of what it is not about are null.
const eventSQL = `insert into events (at, kind, survey_id, finding_id, mandate_id, order_id, installation_id) values ($1, $2, $3, $4, $5, $6, $7) on conflict do nothing`

// queue adds the event to statements that are sent together.
func (e *Event) queue(b *pgx.Batch) {
	b.Queue(eventSQL, e.At, e.Kind, e.SurveyID, e.FindingID, e.MandateID, e.OrderID, e.InstallationID)
}

// findingEvents writes an event for each of some findings of a survey.
func findingEvents(ctx context.Context, tx pgx.Tx, kind EventKind, survey int64, at time.Time, findings []int64) error {
	if len(findings) == 0 {
		return nil
	}
	_, err := tx.Exec(ctx, "insert into events (at, kind, survey_id, finding_id) select $1, $2, nullif($3, 0::bigint), unnest($4::bigint[])",
		at, kind, survey, findings)
	return err
}

// Events lists what happened after an event, oldest first.
func (s *Store) Events(ctx context.Context, after int64, limit int) ([]Event, error) {
	var list []Event
	return list, s.db.WithContext(ctx).Where("id > ?", after).Order("id").Limit(limit).Find(&list).Error
}

// Happenings counts what happened after a time, by kind; findings counted under others are not.
func (s *Store) Happenings(ctx context.Context, after time.Time) (map[EventKind]int, error) {
	var rows []struct {
		Kind EventKind
		N    int
	}
	err := s.db.WithContext(ctx).Raw(`select ev.kind, count(*) as n from events ev left join findings f on f.id = ev.finding_id
		left join orders o on o.id = ev.order_id left join installations i on i.id = ev.installation_id
		where ev.at > ? and f.under is null and not coalesce(o.rehearsal, i.rehearsal, false) group by ev.kind`, after).Scan(&rows).Error
	out := make(map[EventKind]int, len(rows))
	for _, r := range rows {
		out[r.Kind] = r.N
	}
	return out, err
}

// LastEvent gives the number of the last event; 0 when nothing happened yet.
func (s *Store) LastEvent(ctx context.Context) (id int64, err error) {
	return id, s.db.WithContext(ctx).Raw("select coalesce(max(id), 0) from events").Scan(&id).Error
}

// DropEvents forgets what happened before a time.
func (s *Store) DropEvents(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(ctx, "delete from events where at < $1", before)
	return err
}
