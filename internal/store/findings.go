package store

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/place"
)

// FindingRow is a finding as it is stored.
type FindingRow struct {
	ID           int64        // people refer to it
	TargetID     *int64       // nil when it is about a server
	ServerID     *int64       // of a finding about a server as a whole
	Subject      string       // what it is about beside its target
	SourceFile   string       // where it is configured, "" when not known
	SourceLine   int          // from 1
	Code         check.Code   // of the rule
	Severity     int          // 0 is broken
	Cause        string       // one sentence
	Remedy       string       // one sentence
	Evidence     []check.Fact `gorm:"serializer:json"`
	Leaf         []byte       // certificate concerned, nil for none
	OpenedAt     time.Time    // in UTC
	OpenedSurvey int64        `gorm:"default:null"` // that found it first; 0 for none
	ClosedAt     *time.Time   // nil while it is open
	ClosedSurvey *int64       // that did not find it any more
	Under        *int64       // finding that stands for it, nil for none
	Names        int          `gorm:"default:1"` // of visitors that have it
	Ends         *time.Time   // the certificate concerned; nil for none
	// It is known and let be until a day; nil for not.
	AcceptedUntil, AcceptedAt  *time.Time
	AcceptedBy, AcceptedReason string
}

// TableName is the table of findings.
func (FindingRow) TableName() string { return "findings" }

// Source is its place in the server's configuration.
func (r *FindingRow) Source() place.Place { return place.Place{File: r.SourceFile, Line: r.SourceLine} }

// open gives an open finding as core/check compares it.
func (r *FindingRow) open() check.Open {
	o := check.Open{ID: r.ID, Found: check.Found{Subject: r.Subject, Finding: check.Finding{
		Code: r.Code, Severity: check.Severities[r.Severity], Cause: r.Cause, Remedy: r.Remedy, Source: r.Source(),
		Evidence: r.Evidence}}}
	copy(o.Leaf[:], r.Leaf)
	return o
}

// subjectLimit keeps subjects within what an index takes, in bytes.
const subjectLimit = 300

// storable makes a finding fit for the database, so that it compares as equal
// with itself once stored.
func storable(f check.Found) check.Found {
	f.Subject = clipped(f.Subject)
	f.Cause, f.Remedy, f.Source = text(f.Cause), text(f.Remedy),
		place.Place{File: text(f.Source.File), Line: f.Source.Line}
	evidence := make([]check.Fact, len(f.Evidence))
	for i, e := range f.Evidence {
		evidence[i] = check.Fact{Label: text(e.Label), Value: text(e.Value)}
	}
	f.Evidence = evidence
	return f
}

// about is what findings are about: a target, a server or, without either, the service itself.
type about struct{ target, server int64 }

// columns are the target or the server a finding is about, never both.
func (a about) columns() (target, server *int64) {
	if a.target != 0 {
		return &a.target, nil
	}
	if a.server != 0 {
		return nil, &a.server
	}
	return nil, nil
}

// findingChanges gathers what comparisons came to, for any number of targets
// and servers, and writes it together.
type findingChanges struct {
	survey   int64        // they belong to
	at       time.Time    // when they were found
	opened   []FindingRow // new rows
	reworded []check.Open // open ones whose words changed
	closed   []int64      // ids
	returned []int64      // of the reworded, those that were accepted as something else
	apart    int          // of the closed, those no other finding stood for
}

// compare sets what is open for a target or server against what was found
// there, and gives the codes of all that is open then.
func (c *findingChanges) compare(what about, open []FindingRow, found []check.Found,
	judged ...check.Speaks) []check.Code {
	was := make([]check.Open, len(open))
	for i := range open {
		was[i] = open[i].open()
	}
	now := make([]check.Found, len(found))
	for i := range found {
		now[i] = storable(found[i])
	}
	r := check.Compare(was, now, judged...)
	c.reworded, c.closed = append(c.reworded, r.Reworded...), append(c.closed, r.Closed...)
	for _, f := range r.Reworded {
		at := slices.IndexFunc(open, func(o FindingRow) bool { return o.ID == f.ID })
		if was := &open[at]; was.AcceptedUntil != nil && !f.SameAs(&check.Finding{Severity: check.Severities[was.Severity], Evidence: was.Evidence}) {
			c.returned = append(c.returned, f.ID)
		}
	}
	for i := range open {
		if open[i].Under == nil && slices.Contains(r.Closed, open[i].ID) {
			c.apart++
		}
	}
	codes := r.Kept
	target, server := what.columns()
	for _, f := range r.Opened {
		row := FindingRow{TargetID: target, ServerID: server, Subject: f.Subject, SourceFile: f.Source.File,
			SourceLine: f.Source.Line, Code: f.Code, Severity: f.Severity.Rank(),
			Cause: f.Cause, Remedy: f.Remedy, Evidence: f.Evidence, OpenedAt: c.at, OpenedSurvey: c.survey}
		if f.Leaf != (certs.Fingerprint{}) {
			row.Leaf = f.Leaf[:]
		}
		c.opened = append(c.opened, row)
		codes = append(codes, f.Code)
	}
	return codes
}

// findingsAtOnce is how many findings are written together.
const findingsAtOnce = 500

// write stores the changes. What is closed goes first: what is opened may stand
// in its place.
func (c *findingChanges) write(ctx context.Context, db *gorm.DB, tx pgx.Tx) error {
	if len(c.closed) > 0 {
		if _, err := tx.Exec(ctx, "update findings set closed_at = $1, closed_survey = nullif($2, 0::bigint) where id = any($3)", c.at,
			c.survey, c.closed); err != nil {
			return err
		}
	}
	if len(c.reworded) > 0 {
		var b pgx.Batch
		for _, f := range c.reworded {
			b.Queue("update findings set cause = $2, remedy = $3, source_file = $4, source_line = $5, severity = $6, evidence "+
				"= $7::jsonb, under = case when remedy = $3 then under end where id = $1",
				f.ID, f.Cause, f.Remedy, f.Source.File, f.Source.Line, f.Severity.Rank(), jsonText(f.Evidence))
		}
		if err := tx.SendBatch(ctx, &b).Close(); err != nil {
			return err
		}
	}
	if err := returnFindings(ctx, tx, c.survey, c.at, c.returned); err != nil {
		return err
	}
	if err := findingEvents(ctx, tx, FindingClosed, c.survey, c.at, c.closed); err != nil || len(c.opened) == 0 {
		return err
	}
	if err := db.CreateInBatches(&c.opened, findingsAtOnce).Error; err != nil {
		return err
	}
	ids := make([]int64, len(c.opened))
	for i := range c.opened {
		ids[i] = c.opened[i].ID
	}
	if _, err := tx.Exec(ctx, "update findings f set ends = c.not_after from certificates c where f.id = any($1) and c.sha256 = f.leaf", ids); err != nil {
		return err
	}
	return findingEvents(ctx, tx, FindingOpened, c.survey, c.at, ids)
}

// openFindings loads what is open and fits a condition.
func openFindings(db *gorm.DB, where string, args ...any) ([]FindingRow, error) {
	var open []FindingRow
	return open, db.Where("closed_at is null").Where(where, args...).Order("id").Find(&open).Error
}

// clipped bounds what a finding is about, for an index over it has a limit.
func clipped(s string) string {
	if s = text(s); len(s) > subjectLimit {
		s = text(s[:subjectLimit])
	}
	return s
}

// returnFindings ends the acceptance of findings, which are then open as before.
func returnFindings(ctx context.Context, tx pgx.Tx, survey int64, at time.Time, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	if _, err := tx.Exec(ctx, "update findings set "+notAccepted+" where id = any($1)", ids); err != nil {
		return err
	}
	return findingEvents(ctx, tx, FindingReturned, survey, at, ids)
}

// notAccepted ends an acceptance.
const notAccepted = "accepted_until = null, accepted_at = null, accepted_by = '', accepted_reason = ''"

// AcceptFinding lets an open finding be until a time, with whatever it stands for, or, without a
// time, be no longer let be; false when it is not open.
func (s *Store) AcceptFinding(ctx context.Context, id int64, until *time.Time, reason string, at time.Time, act *Act) (done bool, err error) {
	return done, s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		set, args := notAccepted, []any{id}
		if until != nil {
			set, args = "accepted_until = ?, accepted_at = ?, accepted_by = ?, accepted_reason = ?", []any{*until, at, act.Actor, reason, id}
		}
		is := db.Exec("update findings set "+set+" where id = ? and closed_at is null", args...)
		if done = is.RowsAffected > 0; is.Error != nil || !done {
			return is.Error
		}
		return act.write(db, at)
	})
}

// EndAcceptances opens again what was accepted until now, and gives how many that were.
func (s *Store) EndAcceptances(ctx context.Context, now time.Time) (n int, err error) {
	return n, s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		var ids []int64
		if err := db.Raw("select id from findings where closed_at is null and accepted_until <= ? for update", now).Scan(&ids).Error; err != nil {
			return err
		}
		n = len(ids)
		return returnFindings(ctx, tx, 0, now, ids)
	})
}

// Finding is a stored finding with where it was found.
type Finding struct {
	FindingRow
	GroupName, Owner                    string   // of its host, or its server's owner; "" for none
	Host, Server, Address               string   // "" for an endpoint or server as a whole
	Port, Line                          int      // and the host's line in the estate file
	File                                string   // that file, where several declare the estate; "" else
	Verdict, Wanted, Configured, Served string   // of the binding, and its faces
	Tags                                []string `gorm:"serializer:json"` // of its host
	StandsFor                           int      // bindings with the same finding for the same reason; 0 for its own alone
}

// Belongs is what it belongs to.
func (f *Finding) Belongs() estate.Belongs {
	return estate.Belongs{Group: f.GroupName, Owner: f.Owner, Tags: f.Tags}
}

// FindingFilter narrows the list of findings; zero values do not. State is
// "open", "closed" or "all". Those another one stands for are given by ID only.
type FindingFilter struct {
	Query, State string       // part of host, server, cause or file; open, closed or all
	Codes        []check.Code // any of these
	Severities   []int        // any of these
	Leaf         []byte       // certificate concerned
	ID           int64        // one alone
	Under        int64        // those that one stands for, by its number
	Server       string       // by name
	SourceFile   string       // of the server's configuration
	OpenedAfter  *int64       // opened in surveys after OpenedAfter, up to UpTo
	ClosedAfter  *int64       // a survey
	UpTo         int64        // a survey; 0 for no bound
	estate.Among              // of hosts; owners of servers too
}

// ownerOf is whose a finding f is: its host's, its server's, or, where it stands for those
// of several servers, theirs.
const ownerOf = `coalesce(h.owner, s.owner, case when f.target_id is null and f.server_id is null then (select mh.owner from findings m join targets mt on mt.id = m.target_id
			join hosts mh on mh.id = mt.host_id where m.under = f.id limit 1) end, '')`

// Findings lists findings and gives the next page's cursor.
func (s *Store) Findings(ctx context.Context, f FindingFilter, p Page) ([]Finding, string, error) {
	q := s.db.WithContext(ctx).Table(
		`findings f left join targets t on t.id = f.target_id left join endpoints e on e.id = t.endpoint_id left join servers s on s.id = coalesce(f.server_id, e.server_id) left join hosts h on h.id = t.host_id`).
		Select(`f.*, coalesce(h.name, '') as host, coalesce(h.line, s.line, 0) as line, case when h.id is not null then h.file else coalesce(s.file, '') end as file, coalesce(s.name, '') as server,
			coalesce(h.group_name, '') as group_name, ` + ownerOf + ` as owner, coalesce(h.tags, '[]') as tags, coalesce(host(e.address), '') as address, coalesce(e.port, 0) as port,
			coalesce(t.verdict, '') as verdict, coalesce(t.wanted, '') as wanted, coalesce(t.configured, '') as configured, coalesce(t.served, '') as served,
			(select count(*) from findings m where m.under = f.id and (m.closed_at is null or f.closed_at is not null)) as stands_for`)
	q = filterFindings(q, f)
	var tie int64
	key, more, err := p.decode(&tie)
	if err != nil {
		return nil, "", err
	}
	if p.Sort == "-opened" {
		if q = q.Order("f.id desc"); more {
			q = q.Where("f.id < ?", tie)
		}
	} else if q = q.Order("f.severity, (-f.names), coalesce(f.ends, 'infinity'), f.id"); more {
		var at worstKey
		if json.Unmarshal([]byte(key), &at) != nil {
			return nil, "", ErrCursor
		}
		q = q.Where("(f.severity, (-f.names), coalesce(f.ends, 'infinity'), f.id) > (?, ?, coalesce(cast(? as timestamptz), 'infinity'), ?)", at.Severity, -at.Names, at.Ends, tie)
	}
	var list []Finding
	if err := q.Limit(p.Limit + 1).Scan(&list).Error; err != nil || len(list) <= p.Limit {
		return list, "", err
	}
	list = list[:p.Limit]
	last := list[p.Limit-1]
	return list, encodeCursor(p.Sort, jsonText(worstKey{last.Severity, last.Names, last.Ends}), last.ID), nil
}

// worstKey is the place of a finding in a list, the worst first: how bad, how many names, how
// soon.
type worstKey struct {
	Severity, Names int
	Ends            *time.Time
}

// filterFindings turns a filter into conditions; every value goes as a
// parameter.
func filterFindings(q *gorm.DB, f FindingFilter) *gorm.DB {
	switch f.State {
	case "open":
		q = q.Where("f.closed_at is null and f.accepted_until is null")
	case "accepted":
		q = q.Where("f.closed_at is null and f.accepted_until is not null")
	case "closed":
		q = q.Where("f.closed_at is not null")
	}
	if f.Query != "" {
		like := contains(f.Query)
		q = q.Where("(h.name ilike ? or s.name ilike ? or f.cause ilike ? or f.source_file ilike ? or host(e.address) || "+
			"':' || e.port like ? or exists (select from findings m join targets mt on mt.id = m.target_id "+
			"join hosts mh on mh.id = mt.host_id join endpoints me on me.id = mt.endpoint_id where m.under = f.id and "+
			"(mh.name ilike ? or host(me.address) || ':' || me.port like ?)))", like, like, like, like, like, like, like)
	}
	if len(f.Codes) > 0 {
		q = q.Where("f.code in ?", f.Codes)
	}
	if f.Server != "" {
		q = q.Where(`(s.name = ? or f.target_id is null and f.server_id is null and exists (select from findings m join targets mt on mt.id = m.target_id
			join endpoints me on me.id = mt.endpoint_id join servers ms on ms.id = me.server_id where m.under = f.id and ms.name = ?))`, f.Server, f.Server)
	}
	if f.SourceFile != "" {
		q = q.Where("f.source_file = ?", f.SourceFile)
	}
	if len(f.Severities) > 0 {
		q = q.Where("f.severity in ?", f.Severities)
	}
	if f.Leaf != nil {
		q = q.Where("f.leaf = ?", f.Leaf)
	}
	if !f.Any() {
		on, args := belonging(f.Among, "h", ownerOf)
		under, more := belonging(f.Among, "mh", "mh.owner")
		q = q.Where("("+on+" or exists (select from findings m join targets mt on mt.id = m.target_id join hosts mh on mh.id = mt.host_id "+
			"where m.under = f.id and "+under+"))", append(args, more...)...)
	}
	if f.ID != 0 {
		q = q.Where("f.id = ?", f.ID)
	} else if f.Under != 0 {
		q = q.Where("f.under = ?", f.Under)
	} else if f.Leaf != nil {
		q = q.Where("f.target_id is not null") // each where it is shown, told as one or not
	} else {
		q = q.Where("f.under is null")
	}
	if f.OpenedAfter != nil {
		q = q.Where("f.opened_survey > ? and f.opened_survey <= ?", *f.OpenedAfter, f.UpTo)
	}
	if f.ClosedAfter != nil {
		q = q.Where("f.closed_survey > ? and f.closed_survey <= ?", *f.ClosedAfter, f.UpTo)
	}
	return q
}

// belonging is the condition that a host, under an alias, is among what is asked for; its
// owner is told by an expression.
func belonging(a estate.Among, host, owner string) (where string, args []any) {
	list := []string{"true"}
	if len(a.Groups) > 0 {
		list, args = append(list, host+".group_name in ?"), append(args, a.Groups)
	}
	if len(a.Owners) > 0 {
		list, args = append(list, owner+" in ?"), append(args, a.Owners)
	}
	if len(a.Tags) > 0 {
		list = append(list, "exists (select from jsonb_array_elements_text("+host+".tags) tag where tag in ?)")
		args = append(args, a.Tags)
	}
	return strings.Join(list, " and "), args
}

// CountFindings counts open findings by severity rank, and those that are accepted.
func (s *Store) CountFindings(ctx context.Context) (counts [4]int, accepted int, err error) {
	return s.countFindings(ctx, "findings f", "true")
}

// CountFindingsOf counts those that belong somewhere; no owner is "".
func (s *Store) CountFindingsOf(ctx context.Context, among estate.Among) (counts [4]int, accepted int, err error) {
	where, args := belonging(among, "h", ownerOf)
	return s.countFindings(ctx, `findings f left join targets t on t.id = f.target_id left join endpoints e on e.id = t.endpoint_id
		left join servers s on s.id = coalesce(f.server_id, e.server_id) left join hosts h on h.id = t.host_id`, where, args...)
}

// CountBindingsOf counts the bindings of hosts that belong somewhere.
func (s *Store) CountBindingsOf(ctx context.Context, among estate.Among) (n int, err error) {
	where, args := belonging(among, "h", "h.owner")
	return n, s.db.WithContext(ctx).Raw("select count(*) from targets t join hosts h on h.id = t.host_id where t.removed_at is null and "+where, args...).Scan(&n).Error
}

func (s *Store) countFindings(ctx context.Context, from, where string, args ...any) (counts [4]int, accepted int, err error) {
	var rows []struct{ Severity, N, Accepted int }
	err = s.db.WithContext(ctx).Raw(`select f.severity, count(*) filter (where f.accepted_until is null) as n, count(f.accepted_until) as accepted
		from `+from+` where f.closed_at is null and f.under is null and `+where+` group by f.severity`, args...).Scan(&rows).Error
	for _, r := range rows {
		counts[r.Severity] = r.N
		accepted += r.Accepted
	}
	return counts, accepted, err
}
