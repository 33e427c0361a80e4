package store

import (
	"context"
	"net"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/place"
)

// shared is a finding that stands for those of several bindings, by number.
type shared struct {
	check.Shared
	server  int64   // whose it is; 0 for those of several
	scope   int64   // as of its rows
	owner   string  // whose hosts these are, where they are of several servers
	members []int64 // findings it stands for
}

// sharedRow is one open finding that may have the cause of others.
type sharedRow struct {
	ID, ServerID               int64 // of the finding, and whose it is
	Scope                      int64 // its server, where only those of one server are told together; else 0
	Owner                      string
	Code, Cause, Remedy, Key   string
	Host, Server, Address      string
	Leaf                       []byte
	Port, Severity, SourceLine int
	SourceFile                 string
}

// together gathers the open findings that several bindings have for one reason: of one
// server, or of one owner's on several.
func together(db *gorm.DB) (list []*shared, err error) {
	rows, err := db.Raw(`select f.id, e.server_id, case when f.code in ? then e.server_id else 0 end as scope, case when f.code in ? then '' else h.owner end as owner, f.code, f.cause, f.remedy, f.leaf,
			case when f.code in ? then f.remedy when f.code in ? then f.cause else coalesce(encode(f.leaf, 'hex'), '') end as key, h.name as host, s.name as server, host(e.address) as address, e.port,
			f.severity, f.source_line, f.source_file
		from findings f join targets t on t.id = f.target_id join hosts h on h.id = t.host_id join endpoints e on e.id = t.endpoint_id join servers s on s.id = e.server_id
		where f.closed_at is null and f.code in ? order by scope, owner, f.code, key, e.server_id, e.id, h.name, f.id`, check.With(check.AtEndpoint), check.With(check.AtEndpoint), check.With(check.AtEndpoint), check.With(check.OfOneIssuer),
		check.Foldable()).Rows()
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	var g *shared
	end := func() {
		if g != nil && g.Folds() {
			list = append(list, g)
		}
	}
	for rows.Next() {
		var r sharedRow
		if err := db.ScanRows(rows, &r); err != nil {
			return nil, err
		}
		if g == nil || g.scope != r.Scope || g.owner != r.Owner || string(g.Code) != r.Code || g.Key != r.Key {
			end()
			g = &shared{Shared: check.Shared{Server: r.Server, Code: check.Code(r.Code), Key: r.Key, Cause: r.Cause, Remedy: r.Remedy}, server: r.ServerID,
				scope: r.Scope, owner: r.Owner}
			copy(g.Leaf[:], r.Leaf)
		}
		if g.server != r.ServerID {
			g.server = 0
		}
		g.Add(r.Server, r.Host, net.JoinHostPort(r.Address, strconv.Itoa(r.Port)), check.Severities[r.Severity],
			place.Place{File: r.SourceFile, Line: r.SourceLine})
		g.members = append(g.members, r.ID)
	}
	end()
	return list, rows.Err()
}

// standTogether opens, keeps and closes the findings that stand for those of
// several bindings, and puts these under them. It gives by how much more or less
// a survey opened and closed than its looks counted.
func standTogether(ctx context.Context, db *gorm.DB, tx pgx.Tx, survey int64, at time.Time) (opened, closed int,
	err error) {
	list, err := together(db)
	if err != nil {
		return 0, 0, err
	}
	rows, err := openFindings(db, "code in ? and target_id is null", check.Foldable())
	if err != nil {
		return 0, 0, err
	}
	open, found := map[int64][]FindingRow{}, map[int64][]check.Found{}
	for _, r := range rows {
		at := orNone(r.ServerID)
		open[at] = append(open[at], r)
		found[at] = nil
	}
	for _, g := range list {
		f := check.Together(&g.Shared)
		f.Subject = g.subject()
		found[g.server] = append(found[g.server], f)
	}
	c := findingChanges{survey: survey, at: at}
	for server, now := range found {
		c.compare(about{server: server}, open[server], now, check.OfServed)
	}
	if err := c.write(ctx, db, tx); err != nil {
		return 0, 0, err
	}
	opened, closed = len(c.opened), len(c.closed)
	for _, g := range list {
		news, err := g.put(ctx, tx, survey)
		if err != nil {
			return 0, 0, err
		}
		opened -= news
	}
	return opened, closed, db.Exec(`update findings f set under = null from findings u
		where u.id = f.under and f.closed_at is null and u.closed_at is not null`).Error
}

// subject tells it apart from others of its code on the same server, or in the estate.
func (g *shared) subject() string {
	if g.server != 0 || g.owner == "" {
		return g.Key
	}
	return g.owner + " " + g.Key
}

// orNone is a number that may be missing.
func orNone(id *int64) int64 {
	if id == nil {
		return 0
	}
	return *id
}

// put puts the findings a shared one stands for under it, and gives how many of
// them this survey opened.
func (g *shared) put(ctx context.Context, tx pgx.Tx, survey int64) (news int, err error) {
	return news, tx.QueryRow(ctx, `with head as (select id from findings where target_id is null and server_id is not distinct from nullif($1::bigint, 0) and code = $2 and subject = $3 and closed_at is null),
		counted as (update findings f set names = $6 from head where f.id = head.id and f.names <> $6),
		put as (update findings f set under = head.id from head where f.id = any($4) and f.under is distinct from head.id returning f.opened_survey)
		select count(*) from put where opened_survey = $5`, g.server, g.Code, clipped(g.subject()), g.members, survey, g.Names).Scan(&news)
}
