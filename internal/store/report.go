package store

import (
	"context"
	"time"

	"insegna.example/internal/core/check"
)

// BindingThen is what a binding showed at a time.
type BindingThen struct {
	Host, Server, Address string
	Port                  int
	Owner, GroupName      string     // as they are now
	Outcome               string     // of the look
	CommonName, Issuer    string     // of the certificate; "" for none
	Sha256                []byte     // of the certificate
	NotAfter              *time.Time // nil for none
	Since                 time.Time  // it was seen first
	Severity              *int       // of its worst finding then; nil for none
}

// BindingsThen gives what bindings showed at a time, by host, at most so many, and how many
// there were.
func (s *Store) BindingsThen(ctx context.Context, at time.Time, most int) (list []BindingThen, all int, err error) {
	const then = ` from (select distinct on (g.target_id, g.vantage) g.* from sightings g join targets t on t.id = g.target_id
			where t.host_id is not null and g.first_seen <= @at and (t.removed_at is null or t.removed_at > @at) order by g.target_id, g.vantage, g.first_seen desc, g.id desc) g
		join targets t on t.id = g.target_id join hosts h on h.id = t.host_id join endpoints e on e.id = t.endpoint_id join servers s on s.id = e.server_id
		left join certificates c on c.sha256 = g.leaf`
	args := map[string]any{"at": at, "most": most}
	if err := s.db.WithContext(ctx).Raw(`select h.name as host, s.name as server, host(e.address) as address, e.port, h.owner, h.group_name, g.outcome,
			coalesce(c.common_name, '') as common_name, coalesce(c.issuer, '') as issuer, c.sha256, c.not_after, g.first_seen as since,
			(select min(severity) from findings f where f.target_id = t.id and f.opened_at <= @at and (f.closed_at is null or f.closed_at > @at)) as severity`+
		then+` order by h.name, t.id limit @most`, args).Scan(&list).Error; err != nil {
		return nil, 0, err
	}
	if len(list) < most {
		return list, len(list), nil
	}
	return list, all, s.db.WithContext(ctx).Raw("select count(*)"+then, args).Scan(&all).Error
}

// FindingThen is a finding that was open at a time.
type FindingThen struct {
	ID                         int64
	Code                       check.Code
	Severity                   int
	Host, Server, Address      string
	Port                       int
	Owner, Cause, Remedy       string
	OpenedAt                   time.Time
	ClosedAt                   *time.Time // since then; nil while it is open
	AcceptedUntil, AcceptedAt  *time.Time // it was let be; nil for not
	AcceptedBy, AcceptedReason string
}

// FindingsThen gives the findings that were open at a time, worst first, at most so many, and
// how many there were by severity.
func (s *Store) FindingsThen(ctx context.Context, at time.Time, most int) (list []FindingThen, all [4]int, err error) {
	const then = ` from findings f where f.opened_at <= @at and (f.closed_at is null or f.closed_at > @at) and f.under is null`
	args := map[string]any{"at": at, "most": most}
	if err := s.db.WithContext(ctx).Raw(`select f.id, f.code, f.severity, coalesce(h.name, '') as host, coalesce(s.name, '') as server, coalesce(host(e.address), '') as address,
			coalesce(e.port, 0) as port, `+ownerOf+` as owner, f.cause, f.remedy, f.opened_at, f.closed_at,
			case when f.accepted_at <= @at then f.accepted_until end as accepted_until, f.accepted_at, f.accepted_by, f.accepted_reason
		from (select *`+then+` order by severity, (-names), coalesce(ends, 'infinity'), id limit @most) f left join targets t on t.id = f.target_id left join endpoints e on e.id = t.endpoint_id
			left join servers s on s.id = coalesce(f.server_id, e.server_id) left join hosts h on h.id = t.host_id order by f.severity, (-f.names), coalesce(f.ends, 'infinity'), f.id`, args).Scan(&list).Error; err != nil {
		return nil, all, err
	}
	var rows []struct{ Severity, N int }
	err = s.db.WithContext(ctx).Raw("select f.severity, count(*) as n"+then+" group by f.severity", args).Scan(&rows).Error
	for _, r := range rows {
		all[r.Severity] = r.N
	}
	return list, all, err
}

// FirstLook gives when the first survey ended; nil when none did.
func (s *Store) FirstLook(ctx context.Context) (*time.Time, error) {
	var row struct{ At *time.Time }
	err := s.db.WithContext(ctx).Raw("select min(finished_at) as at from surveys").Scan(&row).Error
	return row.At, err
}

// OpenOn is how many findings were open at the end of a day, by severity.
type OpenOn struct {
	Day                     time.Time
	Broken, Due, Weak, Note int
}

// OpenEach gives how many findings were open at the ends of days up to a time.
func (s *Store) OpenEach(ctx context.Context, upTo time.Time, days int) (list []OpenOn, err error) {
	return list, s.db.WithContext(ctx).Raw(`select d.day, count(f.id) filter (where f.severity = 0) as broken, count(f.id) filter (where f.severity = 1) as due,
			count(f.id) filter (where f.severity = 2) as weak, count(f.id) filter (where f.severity = 3) as note
		from generate_series(cast(@upto as timestamptz) - make_interval(days => @days), cast(@upto as timestamptz), interval '1 day') d(day)
		left join findings f on f.under is null and f.opened_at <= d.day and (f.closed_at is null or f.closed_at > d.day)
		group by d.day order by d.day`, map[string]any{"upto": upTo, "days": days - 1}).Scan(&list).Error
}

// RenewedThen is a certificate that was issued or installed.
type RenewedThen struct {
	At       time.Time
	Mandate  string
	Server   string // it was installed on; "" for an order
	By       string // who began it
	NotAfter *time.Time
	State    string // issued or failed, done, returned or stuck
	Words    string // why not
}

// RenewedBetween gives what orders and installations came to between two times, newest first.
func (s *Store) RenewedBetween(ctx context.Context, from, to time.Time, most int) (list []RenewedThen, err error) {
	return list, s.db.WithContext(ctx).Raw(`select * from (
			select o.finished_at as at, m.name as mandate, '' as server, o.by, o.not_after, o.state, coalesce(o.failure->>'Words', '') as words
				from orders o join mandates m on m.id = o.mandate_id where not o.rehearsal and o.finished_at > @from and o.finished_at <= @to
			union all select i.finished_at, coalesce(m.name, ''), i.server, i.by, null, i.state, i.reason
				from installations i left join mandates m on m.id = i.mandate_id where not i.rehearsal and i.finished_at > @from and i.finished_at <= @to) r
		order by at desc limit @most`, map[string]any{"from": from, "to": to, "most": most}).Scan(&list).Error
}
