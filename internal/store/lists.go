package store

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/core/place"
)

// Page asks for a part of a list.
type Page struct {
	Sort   string // one of the list's keys, with "-" in front for descending
	Cursor string // from the page before
	Limit  int    // rows at most
}

// ErrCursor says that a cursor is not one this list gave.
var ErrCursor = fault.New(fault.BadRequest, "Bad cursor",
	"the cursor is not one of this list; leave it out to start from the first page", "")

// cursor holds the sort key and tie-breaker of the last row of a page.
type cursor struct {
	Sort string          `json:"s"` // it was made for
	Key  string          `json:"k"` // of the last row
	Tie  json.RawMessage `json:"t"` // its id, for rows of the same key
}

// encodeCursor writes the place a page ended, so that the next begins there
// whatever changed in between.
func encodeCursor(sort, key string, tie any) string {
	return base64.RawURLEncoding.EncodeToString([]byte(jsonText(cursor{sort, key, json.RawMessage(jsonText(tie))})))
}

// decode reads the page's cursor into tie; ok is false on the first page.
func (p Page) decode(tie any) (key string, ok bool, err error) {
	if p.Cursor == "" {
		return "", false, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(p.Cursor)
	var c cursor
	if err != nil || json.Unmarshal(raw, &c) != nil || c.Sort != p.Sort || json.Unmarshal(c.Tie, tie) != nil {
		return "", false, ErrCursor
	}
	return c.Key, true, nil
}

// column gives a sort key's column and direction.
func (p Page) column(columns map[string]string) (col, dir, cmp string) {
	name, desc := strings.CutPrefix(p.Sort, "-")
	if desc {
		return columns[name], "desc", "<"
	}
	return columns[name], "asc", ">"
}

// Certificate is a stored certificate and where it is used.
type Certificate struct {
	Sha256     []byte    // of the DER
	Der        []byte    // empty in lists
	CommonName string    // or the whole subject
	Issuer     string    // its common name
	Names      []string  `gorm:"serializer:json"`
	NotBefore  time.Time // in UTC
	NotAfter   time.Time // in UTC
	Key        string    // kind and size
	Serial     string    // in hexadecimal
	IsCa       bool      // by its basic constraints
	FirstSeen  time.Time // by a survey
	Bindings   int       // that show it now
}

// CertificateFilter narrows the list of certificates; zero values do not.
type CertificateFilter struct {
	Query              string     // part of a name, issuer, serial or fingerprint
	EndsBefore, EndsAt *time.Time // not after this, not before this
	CA                 *bool      // nil for both
	InUse              *bool      // nil for both
	estate.Among                  // of the hosts that show it
}

// certificateColumns are the orders of the list, by the name the contract gives
// them.
var certificateColumns = map[string]string{"ends": "c.not_after", "name": "c.common_name", "issuer": "c.issuer",
	"seen": "c.first_seen"}

// certificateFields are what a list shows of a certificate; its bytes are read
// only for one alone.
const certificateFields = `c.sha256, c.common_name, c.issuer, c.names, c.not_before, c.not_after, c.key, c.serial, c.is_ca, c.first_seen,
	(select count(*) from targets t where t.leaf = c.sha256 and t.host_id is not null and t.removed_at is null) as bindings`

// Certificates lists certificates and gives the next page's cursor, "" at the end.
func (s *Store) Certificates(ctx context.Context, f CertificateFilter, p Page) ([]Certificate, string, error) {
	col, dir, cmp := p.column(certificateColumns)
	q := filterCertificates(s.db.WithContext(ctx).Table("certificates c"), f)
	var tie []byte
	key, more, err := p.decode(&tie)
	if err != nil {
		return nil, "", err
	}
	if more {
		q = q.Where(fmt.Sprintf("(%s, c.sha256) %s (?, ?)", col, cmp), key, tie)
	}
	// The page is cut before uses are counted, so that counting follows the page.
	cut := q.Select("c.*").Order(fmt.Sprintf("%s %s, c.sha256 %s", col, dir, dir)).Limit(p.Limit + 1)
	var list []Certificate
	if err := s.db.WithContext(ctx).Table("(?) c",
		cut).Select(certificateFields).Order(fmt.Sprintf("%s %s, c.sha256 %s", col, dir, dir)).Find(&list).Error; err != nil {
		return nil, "", err
	}
	if len(list) <= p.Limit {
		return list, "", nil
	}
	list = list[:p.Limit]
	last := list[p.Limit-1]
	keys := map[string]string{"ends": last.NotAfter.Format(time.RFC3339Nano), "name": last.CommonName,
		"issuer": last.Issuer, "seen": last.FirstSeen.Format(time.RFC3339Nano)}
	return list, encodeCursor(p.Sort, keys[strings.TrimPrefix(p.Sort, "-")], last.Sha256), nil
}

// filterCertificates turns a filter into conditions; every value goes as a
// parameter.
func filterCertificates(q *gorm.DB, f CertificateFilter) *gorm.DB {
	if f.CA != nil && *f.CA {
		q = q.Where("c.is_ca")
	} else if f.CA != nil {
		q = q.Where("not c.is_ca")
	}
	if f.EndsBefore != nil {
		q = q.Where("c.not_after <= ?", *f.EndsBefore)
	}
	if f.EndsAt != nil {
		q = q.Where("c.not_after >= ?", *f.EndsAt)
	}
	if f.Query != "" {
		like := contains(f.Query)
		q = q.Where("(c.common_name ilike ? or c.issuer ilike ? or c.names::text ilike ? or encode(c.sha256, 'hex') like ?)",
			like, like, like, like[1:])
	}
	if !f.Any() {
		where, args := belonging(f.Among, "h", "h.owner")
		q = q.Where("exists (select from targets t join hosts h on h.id = t.host_id where t.leaf = c.sha256 and t.removed_at is null and "+where+")", args...)
	}
	if f.InUse != nil {
		used := "exists (select 1 from targets t where t.leaf = c.sha256 and t.host_id is not null and t.removed_at is null)"
		if !*f.InUse {
			used = "not " + used
		}
		q = q.Where(used)
	}
	return q
}

// contains makes a LIKE pattern that matches a text anywhere, literally.
func contains(s string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(s) + "%"
}

// CertificatesWithPrefix gives up to two certificates whose fingerprint begins
// with these hexadecimal digits, DER included.
func (s *Store) CertificatesWithPrefix(ctx context.Context, prefix string) ([]Certificate, error) {
	low := prefix + strings.Repeat("0", 64-len(prefix))
	high := prefix + strings.Repeat("f", 64-len(prefix))
	var list []Certificate
	return list, s.db.WithContext(ctx).Table("certificates c").Select(certificateFields+", c.der").
		Where("c.sha256 between decode(?, 'hex') and decode(?, 'hex')", low, high).Limit(2).Find(&list).Error
}

// CACertificates calls each with the DER of every CA certificate met, up to a
// bound that keeps memory small.
func (s *Store) CACertificates(ctx context.Context, each func(der []byte)) error {
	rows, err := s.db.WithContext(ctx).Raw(
		"select der from certificates where is_ca order by not_after desc limit 20000").Rows()
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var der []byte
		if err := rows.Scan(&der); err != nil {
			return err
		}
		each(der)
	}
	return rows.Err()
}

// CAsNamed gives the DER of CA certificates met that have a common name and have not
// ended, those that end last first, so many at most.
func (s *Store) CAsNamed(ctx context.Context, name string, at time.Time, most int) ([][]byte, error) {
	rows, err := s.pool.Query(ctx, `select der from certificates where is_ca and common_name = $1 and not_after > $2
		order by not_after desc, sha256 limit $3`, name, at, most)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[[]byte])
}

// ServedWith gives the DER of the list most lately served with this leaf,
// leaf first; empty when it was never served first.
func (s *Store) ServedWith(ctx context.Context, leaf []byte) ([][]byte, error) {
	var list [][]byte
	return list, s.db.WithContext(ctx).Raw(`select c.der from (
			select certificates from chains where sha256 = (select chain from sightings where leaf = ? order by current desc, last_seen desc limit 1)) ch,
		unnest(ch.certificates) with ordinality as m(sha256, n) join certificates c on c.sha256 = m.sha256 order by m.n`, leaf).Scan(&list).Error
}

// Stored says which of these fingerprints are stored certificates.
func (s *Store) Stored(ctx context.Context, prints [][]byte) (map[string]bool, error) {
	var found [][]byte
	err := s.db.WithContext(ctx).Raw("select sha256 from certificates where sha256 in ?", prints).Scan(&found).Error
	out := map[string]bool{}
	for _, f := range found {
		out[string(f)] = true
	}
	return out, err
}

// Sighting is a span in which a certificate was seen at a target.
type Sighting struct {
	Host, Server, Address, Vantage string    // "" for a look without a name
	Port, Version                  int       // and TLS's number of the version
	FirstSeen, LastSeen            time.Time // the span's first and last look
	Current                        bool      // the span goes on
}

// SightingsOf lists where and when a certificate was seen, as leaf or within a
// served list, newest first.
func (s *Store) SightingsOf(ctx context.Context, sha256 []byte, limit int) ([]Sighting, error) {
	var list []Sighting
	return list, s.db.WithContext(ctx).Raw(`select coalesce(h.name, '') as host, s.name as server, host(e.address) as address, e.port, g.vantage, g.version, g.first_seen, g.last_seen,
			g.current and t.removed_at is null as current
		from sightings g join targets t on t.id = g.target_id join endpoints e on e.id = t.endpoint_id join servers s on s.id = e.server_id left join hosts h on h.id = t.host_id
		where g.leaf = ? or g.chain in (select sha256 from chains where certificates @> array[?::bytea])
		order by g.current desc, g.last_seen desc, h.name nulls last, g.id limit ?`, sha256, sha256, limit).Scan(&list).Error
}

// Binding is a host at an endpoint with what the last look came to.
type Binding struct {
	ID                                  int64      // of its target
	Host, Server, Kind, Address         string     // and where it is to answer
	GroupName, Owner                    string     // of the host; "" for none
	Tags                                []string   `gorm:"serializer:json"`
	Port, Line                          int        // and the host's line in the estate file
	Verdict, Wanted, Configured, Served string     // and the three faces
	Severity                            *int       // of its worst finding, nil for none
	Cause, Remedy, SourceFile           string     // of its worst finding, and where that is configured
	SourceLine                          int        // from 1
	Outcome                             string     // of the last look
	Version, KeyGroup                   int        // numbers of TLS
	Leaf                                []byte     // nil when nothing was served
	Issuer                              string     // of the certificate
	NotAfter, LastSeen                  *time.Time // and when it was last looked at
}

// Source is the place its worst finding names in the server's configuration.
func (b *Binding) Source() place.Place { return place.Place{File: b.SourceFile, Line: b.SourceLine} }

// BindingFilter narrows the list of bindings; zero values do not.
type BindingFilter struct {
	Query, Server string   // part of host, server or endpoint; a server's name
	Verdicts      []string // any of these
	Leaf          []byte   // certificate served
	estate.Among
}

// Bindings lists bindings by host name and gives the next page's cursor. A page is
// cut first and filled then, by a statement that is always the same, so that
// PostgreSQL plans it once.
func (s *Store) Bindings(ctx context.Context, f BindingFilter, p Page) ([]Binding, string, error) {
	_, dir, cmp := p.column(map[string]string{"host": "h.name"})
	q := s.db.WithContext(ctx).Table(bindingFrom(f)).Where("t.removed_at is null")
	if f.Query != "" {
		like := contains(f.Query)
		q = q.Where("(h.name ilike ? or s.name ilike ? or host(e.address) || ':' || e.port like ?)", like, like, like)
	}
	if f.Server != "" {
		q = q.Where("s.name = ?", f.Server)
	}
	if !f.Any() {
		where, args := belonging(f.Among, "h", "h.owner")
		q = q.Where(where, args...)
	}
	if len(f.Verdicts) > 0 {
		q = q.Where("t.verdict in ?", f.Verdicts)
	}
	if f.Leaf != nil {
		q = q.Where("t.leaf = ?", f.Leaf)
	}
	var tie int64
	key, more, err := p.decode(&tie)
	if err != nil {
		return nil, "", err
	}
	if more {
		q = q.Where(fmt.Sprintf("(h.name, t.id) %s (?, ?)", cmp), key, tie)
	}
	var ids []int64
	if err := q.Order(fmt.Sprintf("h.name %s, t.id %s", dir, dir)).Limit(p.Limit+1).Pluck("t.id", &ids).Error; err != nil {
		return nil, "", err
	}
	further := len(ids) > p.Limit
	ids = ids[:min(len(ids), p.Limit)]
	var rows []Binding
	if err := s.db.WithContext(ctx).Raw(bindingRows, arrayOf(ids)).Scan(&rows).Error; err != nil {
		return nil, "", err
	}
	list := inOrder(ids, rows, func(b *Binding) int64 { return b.ID })
	if !further || len(list) == 0 {
		return list, "", nil
	}
	last := &list[len(list)-1]
	return list, encodeCursor(p.Sort, last.Host, last.ID), nil
}

// bindingFrom joins what a filter of bindings looks at.
func bindingFrom(f BindingFilter) string {
	from := "targets t join hosts h on h.id = t.host_id"
	if f.Query != "" || f.Server != "" {
		from += " join endpoints e on e.id = t.endpoint_id join servers s on s.id = e.server_id"
	}
	return from
}

// bindingRows gives what rows of bindings show: with the certificate, the worst
// open finding and the current sighting.
const bindingRows = `select t.id, h.name as host, h.line, h.group_name, h.owner, h.tags, s.name as server, s.kind, host(e.address) as address, e.port, t.verdict, t.wanted, t.configured, t.served,
		f.severity, coalesce(f.cause, '') as cause, coalesce(f.remedy, '') as remedy, coalesce(f.source_file, '') as source_file, coalesce(f.source_line, 0) as source_line,
		coalesce(g.outcome, '') as outcome, coalesce(g.version, 0) as version, coalesce(g.key_group, 0) as key_group,
		t.leaf, coalesce(c.issuer, '') as issuer, c.not_after, g.last_seen
	from targets t join hosts h on h.id = t.host_id join endpoints e on e.id = t.endpoint_id join servers s on s.id = e.server_id
		left join certificates c on c.sha256 = t.leaf
		left join lateral (select severity, cause, remedy, source_file, source_line from findings f where f.target_id = t.id and f.closed_at is null order by severity, code limit 1) f on true
		left join lateral (select outcome, version, key_group, last_seen from sightings g where g.target_id = t.id and g.current order by g.last_seen desc limit 1) g on true
	where t.id = any(cast(? as bigint[]))`

// arrayOf writes numbers as PostgreSQL reads an array.
func arrayOf(ids []int64) string {
	list := make([]string, len(ids))
	for i, id := range ids {
		list[i] = strconv.FormatInt(id, 10)
	}
	return "{" + strings.Join(list, ",") + "}"
}

// inOrder gives the rows in the order of their numbers; what went meanwhile is
// left out.
func inOrder[T any](ids []int64, rows []T, number func(*T) int64) []T {
	at := make(map[int64]int, len(rows))
	for i := range rows {
		at[number(&rows[i])] = i
	}
	list := make([]T, 0, len(ids))
	for _, id := range ids {
		if i, ok := at[id]; ok {
			list = append(list, rows[i])
		}
	}
	return list
}

// VerdictCounts counts bindings by verdict, and the hosts and servers declared.
type VerdictCounts struct{ Broken, AtOdds, Unknown, Agreed, Hosts, Servers int }

// CountBindings counts the whole estate, from what is not agreed and what its
// declaration came to.
func (s *Store) CountBindings(ctx context.Context) (VerdictCounts, error) {
	var c VerdictCounts
	return c, s.db.WithContext(ctx).Raw(`select broken, at_odds, unknown, coalesce(bindings - broken - at_odds - unknown, 0) as agreed,
			coalesce(hosts, 0) as hosts, coalesce(servers, 0) as servers
		from (select count(*) filter (where verdict = 'broken') as broken, count(*) filter (where verdict = 'at-odds') as at_odds,
			count(*) filter (where verdict = 'unknown') as unknown
			from targets where host_id is not null and removed_at is null and verdict <> 'agreed') counts
		left join declarations d on d.current`).Scan(&c).Error
}

// Change is a target that shows something else than before.
type Change struct {
	Host, Server, Address       string     // "" for an endpoint without a name
	Port                        int        // of the endpoint
	BeforeOutcome, AfterOutcome string     // of the looks
	BeforeLeaf, AfterLeaf       []byte     // nil when nothing was served
	BeforeName, AfterName       string     // common names
	BeforeEnds, AfterEnds       *time.Time // ends of validity
	BeforeVersion, AfterVersion int        // numbers of TLS
}

// Changes lists the targets whose sighting after survey upTo differs from the
// one before, for sightings begun in surveys after since.
func (s *Store) Changes(ctx context.Context, since, upTo int64, limit int) ([]Change, error) {
	var list []Change
	return list, s.db.WithContext(ctx).Raw(`with news as (
			select distinct on (target_id, vantage) * from sightings where first_survey > @since and first_survey <= @upto order by target_id, vantage, first_survey desc, id desc)
		select coalesce(h.name, '') as host, s.name as server, host(e.address) as address, e.port,
			coalesce(b.outcome, '') as before_outcome, n.outcome as after_outcome, b.leaf as before_leaf, n.leaf as after_leaf,
			coalesce(bc.common_name, '') as before_name, coalesce(nc.common_name, '') as after_name, bc.not_after as before_ends, nc.not_after as after_ends,
			coalesce(b.version, 0) as before_version, n.version as after_version
		from news n join targets t on t.id = n.target_id join endpoints e on e.id = t.endpoint_id join servers s on s.id = e.server_id left join hosts h on h.id = t.host_id
		left join lateral (select * from sightings o where o.target_id = n.target_id and o.vantage = n.vantage and o.first_survey <= @since order by o.first_survey desc, o.id desc limit 1) b on true
		left join certificates bc on bc.sha256 = b.leaf left join certificates nc on nc.sha256 = n.leaf
		where b.id is null or (b.outcome, b.alert, b.version, b.suite, b.key_group, b.alpn, b.stapled) is distinct from (n.outcome, n.alert, n.version, n.suite, n.key_group, n.alpn, n.stapled) or b.chain is distinct from n.chain
		order by h.name nulls last, t.id limit @limit`, map[string]any{"since": since, "upto": upTo, "limit": limit}).Scan(&list).Error
}

// Lane is a served certificate on the time line.
type Lane struct {
	Sha256              []byte    // of the certificate
	CommonName          string    // of the certificate
	Names               int       // how many it covers
	Hosts               int       // how many show it
	NotBefore, NotAfter time.Time // its validity
}

// Lanes lists the served certificates that end first: it steps along the ends of what is
// served from one certificate to the next.
func (s *Store) Lanes(ctx context.Context, limit int) ([]Lane, error) {
	const served = "t.host_id is not null and t.removed_at is null and t.leaf_ends is not null"
	var list []Lane
	return list, s.db.WithContext(ctx).Raw(`with recursive walk as (
			(select t.leaf_ends, t.leaf, 1 as n from targets t where `+served+` order by t.leaf_ends, t.leaf limit 1)
			union all
			select next.leaf_ends, next.leaf, w.n + 1 from walk w cross join lateral (select t.leaf_ends, t.leaf from targets t
				where `+served+` and (t.leaf_ends, t.leaf) > (w.leaf_ends, w.leaf) order by t.leaf_ends, t.leaf limit 1) next
			where w.n < @limit)
		select c.sha256, c.common_name, jsonb_array_length(c.names) as names, c.not_before, c.not_after,
			(select count(*) from targets t where t.leaf = c.sha256 and t.host_id is not null and t.removed_at is null) as hosts
		from walk w join certificates c on c.sha256 = w.leaf order by c.not_after, c.sha256`, map[string]any{"limit": limit}).Scan(&list).Error
}

// DayCount says how many served certificates end on a day (UTC).
type DayCount struct {
	Day   time.Time // in UTC
	Count int       // certificates that end on it
}

// ShownMark stands for what is served at bindings as a whole: as long as it is the
// same, so is that. Sightings are numbered as they are written and may be stored in
// another order, so what the last surveys began is in it besides.
func (s *Store) ShownMark(ctx context.Context) (mark string, err error) {
	return mark, s.db.WithContext(ctx).Raw(`select (select coalesce(max(id), 0) from declarations) || ' ' ||
			(select coalesce(max(id), 0) from sightings) || ' ' || coalesce(string_agg(survey_id || ':' || begun, ' '
			order by survey_id), '') from (select survey_id, sum(begun) as begun from shards
			where survey_id > (select coalesce(max(id), 0) - 20 from surveys) group by survey_id having sum(begun) > 0) news`).Scan(&mark).Error
}

// Density counts the served certificates by the day they end.
func (s *Store) Density(ctx context.Context) ([]DayCount, error) {
	var list []DayCount
	return list, s.db.WithContext(ctx).Raw(`select (c.not_after at time zone 'UTC')::date as day, count(*) as count from certificates c
		where exists (select 1 from targets t where t.leaf = c.sha256 and t.host_id is not null and t.removed_at is null)
		group by 1 order by 1`).Scan(&list).Error
}

// DueBindings counts bindings with an open finding that hurts at a known date.
func (s *Store) DueBindings(ctx context.Context) (n int, err error) {
	return n, s.db.WithContext(ctx).Raw(`select count(distinct f.target_id) from findings f join targets t on t.id = f.target_id
		where f.closed_at is null and f.accepted_until is null and f.severity = ? and t.verdict <> ?`, check.Due.Rank(), binding.Broken).Scan(&n).Error
}

// Before reads the page's cursor of a list ordered by falling number; 0 means
// the first page.
func (p Page) Before() (int64, error) {
	var id int64
	_, _, err := p.decode(&id)
	return id, err
}

// After makes the cursor that follows a row of a list ordered by falling number.
func (p Page) After(id int64) string { return encodeCursor(p.Sort, "", id) }
