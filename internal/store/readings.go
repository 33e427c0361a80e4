package store

import (
	"bytes"
	"context"
	"errors"
	"net/netip"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/place"
)

// Reading is what was read of a server's configuration, to be stored.
type Reading struct {
	Digest                                          certs.Fingerprint // of what was read, without moments
	Document                                        []byte            // packed JSON
	Main                                            string            // file it begins with
	Files, Sites, Listeners, Certificates, Problems int               // counts, for lists
	// when the running server took its configuration in
	Loaded     *time.Time
	Material   []*certs.Certificate // every certificate that lies there
	Placements []Placement          // which certificates lie where
	Keys       []LyingKey           // which private keys do
}

// LyingKey is a private key in a file of a server.
type LyingKey struct {
	Path   string
	Public string // SHA-256 of its public half, hexadecimal digits
}

// Placement is a certificate file on a server.
type Placement struct {
	Path string      // of the certificate's file
	At   place.Place // that names it; none when nobody does
	Site string      // that names it
	Leaf []byte      // in the file
}

// ReadEnd is how the reading of one server ended: Reading, or else Trouble.
type ReadEnd struct {
	Reading  *Reading             // nil with trouble
	Trouble  *check.Trouble       // nil when it was read
	Findings []check.Found        // about the server as a whole
	Behind   []byte               // what looks at the servers behind it brought, JSON; nil when there are none
	Material []*certs.Certificate // shown there
	Unlisted []Unlisted           // hosts it has sites for, and the estate does not want there; not stored
}

// Unlisted is a host that a server has a site for.
type Unlisted struct {
	Host string
	Port uint16 // TLS is spoken for it at
}

// readingRow is a span of time in which a server's configuration read the same;
// Document is the reading, compressed.
type readingRow struct {
	ID           int64      // of the span
	ServerID     int64      // read
	Digest       []byte     // over the document before it was packed
	Document     []byte     // packed JSON
	Main         string     // file it begins with
	Files        int        // how many
	Sites        int        // how many
	Listeners    int        // how many
	Certificates int        // how many
	Problems     int        // how many
	Loaded       *time.Time // when the running server took its configuration in
	FirstRead    time.Time  // of the span
	LastRead     time.Time  // of the span
	FirstSurvey  int64      // of the span
	LastSurvey   int64      // of the span
	Current      bool       // the span goes on
}

// TableName is GORM's name for the table.
func (readingRow) TableName() string { return "readings" }

// FinishRead stores how the reading of one server ended, in one transaction:
// the span goes on or begins, findings are opened, kept or closed. What a survey
// begun later has brought already stays as it is: this one has read what was there before. With the
// survey's last one, enqueue is called. Done again, it changes nothing. The
// error is ErrNotFound when the survey does not read that server.
func (s *Store) FinishRead(ctx context.Context, survey int64, server string, end *ReadEnd, at time.Time,
	enqueue Enqueue) error {
	return s.tx(ctx, func(db *gorm.DB, ptx pgx.Tx) error {
		if err := db.Exec("select 1 from surveys where id = ? for update", survey).Error; err != nil {
			return err
		}
		var open []struct {
			ServerID   int64
			FinishedAt *time.Time
			Gone       bool
			Later      bool // a survey that was begun later has read it already
		}
		err := db.Raw(`select r.server_id, r.finished_at, s.removed_at is not null or s.reach = '' as gone,
				exists (select 1 from reads l where l.server_id = r.server_id and l.survey_id > r.survey_id and l.finished_at is not null) as later
			from reads r join servers s on s.id = r.server_id where r.survey_id = ? and s.name = ? for update of s`, survey, server).Scan(&open).Error
		switch {
		case err != nil:
			return err
		case len(open) == 0:
			return ErrNotFound
		case open[0].FinishedAt != nil:
			return nil
		}
		if open[0].Gone { // another file was applied meanwhile
			end = &ReadEnd{Trouble: end.Trouble}
		}
		store := storeRead
		if open[0].Later {
			store = endRead
		}
		if err := store(ctx, db, ptx, survey, open[0].ServerID, end, at); err != nil {
			return err
		}
		var left, shards int64
		if err := db.Table("reads").Where("survey_id = ? and finished_at is null",
			survey).Count(&left).Error; err != nil || left > 0 {
			return err
		}
		if err := db.Table("shards").Where("survey_id = ?", survey).Count(&shards).Error; err != nil {
			return err
		}
		return enqueue(ctx, Tx{ptx}, survey, nil, int(shards))
	})
}

// storeRead ends the reading of one server in one survey, well or not.
func storeRead(ctx context.Context, db *gorm.DB, ptx pgx.Tx, survey, server int64, end *ReadEnd, at time.Time) error {
	if end.Trouble == nil && end.Reading != nil {
		if err := storeReading(ctx, db, ptx, survey, server, end.Reading, at); err != nil {
			return err
		}
		if err := storeBehind(ctx, db, ptx, server, end, at); err != nil {
			return err
		}
	}
	if err := endRead(ctx, db, ptx, survey, server, end, at); err != nil {
		return err
	}
	return serverFindings(ctx, db, ptx, survey, server, end, at)
}

// endRead notes that a survey has read a server, or in vain, and nothing of what came of it.
func endRead(_ context.Context, db *gorm.DB, _ pgx.Tx, survey, server int64, end *ReadEnd, at time.Time) error {
	trouble := check.Trouble{}
	if end.Trouble != nil {
		trouble = *end.Trouble
	}
	return db.Exec("update reads set finished_at = ?, trouble_code = ?, trouble = ? where survey_id = ? and server_id = ?",
		at, trouble.Code, text(trouble.Text), survey, server).Error
}

// storeReading lets the span of an unchanged reading grow, or begins a new one.
func storeReading(ctx context.Context, db *gorm.DB, ptx pgx.Tx, survey, server int64, r *Reading, at time.Time) error {
	same := db.Exec("update readings set last_read = ?, last_survey = ?, loaded = ? where server_id = ? and current and "+
		"digest = ?", at, survey, r.Loaded, server, r.Digest[:])
	if same.Error != nil || same.RowsAffected > 0 {
		return same.Error
	}
	if err := db.Exec("update readings set current = false where server_id = ? and current", server).Error; err != nil {
		return err
	}
	row := readingRow{ServerID: server, Digest: r.Digest[:], Document: r.Document, Main: r.Main, Files: r.Files,
		Sites: r.Sites, Listeners: r.Listeners, Certificates: r.Certificates,
		Problems: r.Problems, Loaded: r.Loaded, FirstRead: at, LastRead: at, FirstSurvey: survey, LastSurvey: survey,
		Current: true}
	if err := db.Create(&row).Error; err != nil {
		return err
	}
	b := batch{ctx: ctx, tx: ptx, at: at}
	for _, c := range r.Material {
		b.certificates = append(b.certificates, rowOf(c))
	}
	if err := b.writeMaterial(); err != nil {
		return err
	}
	if err := storePlacements(ctx, db, ptx, server, r.Placements); err != nil {
		return err
	}
	return storeKeys(ctx, db, ptx, server, r.Keys)
}

// storeKeys replaces which private keys lie in which files of the server.
func storeKeys(ctx context.Context, db *gorm.DB, ptx pgx.Tx, server int64, list []LyingKey) error {
	if err := db.Exec("delete from lying_keys where server_id = ?", server).Error; err != nil {
		return err
	}
	var paths, keys []string
	for _, k := range list {
		paths, keys = append(paths, text(k.Path)), append(keys, k.Public)
	}
	_, err := ptx.Exec(ctx, `insert into lying_keys (server_id, path, public)
		select $1::bigint, * from unnest($2::text[], $3::text[]) on conflict do nothing`, server, paths, keys)
	return err
}

// KeysElsewhere gives the other servers where the same private keys lie, by the
// public half; at most keysNamed of one key.
func (s *Store) KeysElsewhere(ctx context.Context, server int64, public []string) (map[string][]string, error) {
	const keysNamed = 20
	out := map[string][]string{}
	if len(public) == 0 {
		return out, nil
	}
	var rows []struct{ Public, Name string }
	err := s.db.WithContext(ctx).Raw(`select distinct k.public, s.name from lying_keys k join servers s on s.id = k.server_id
		where k.public in ? and s.id <> ? and s.removed_at is null and s.reach <> '' order by k.public, s.name`, public, server).Scan(&rows).Error
	for _, r := range rows {
		if len(out[r.Public]) < keysNamed {
			out[r.Public] = append(out[r.Public], r.Name)
		}
	}
	return out, err
}

// storeBehind keeps the last looks at the servers behind one.
func storeBehind(ctx context.Context, db *gorm.DB, ptx pgx.Tx, server int64, end *ReadEnd, at time.Time) error {
	if end.Behind == nil {
		return db.Exec("delete from behind where server_id = ?", server).Error
	}
	b := batch{ctx: ctx, tx: ptx, at: at}
	for _, c := range end.Material {
		b.certificates = append(b.certificates, rowOf(c))
	}
	if err := b.writeMaterial(); err != nil {
		return err
	}
	return db.Exec("insert into behind (server_id, document, looked_at) values (?, ?, ?) on conflict (server_id) "+
		"do update set document = excluded.document, looked_at = excluded.looked_at", server, end.Behind, at).Error
}

// Behind gives what the last looks at the servers behind some brought, by server.
func (s *Store) Behind(ctx context.Context, servers []int64) (map[int64][]byte, error) {
	var rows []struct {
		ServerID int64
		Document []byte
	}
	err := s.db.WithContext(ctx).Table("behind").Where("server_id in ?", servers).Find(&rows).Error
	out := make(map[int64][]byte, len(rows))
	for _, r := range rows {
		out[r.ServerID] = r.Document
	}
	return out, err
}

// Verifying is a server that verifies what is shown to it at some address behind.
type Verifying struct {
	Name     string // of the server
	Document []byte // what the last looks brought
}

// VerifyingAt gives the servers that verify what is behind them at an address, by
// name.
func (s *Store) VerifyingAt(ctx context.Context, at netip.Addr) (list []Verifying, err error) {
	err = s.db.WithContext(ctx).Raw(`select s.name, b.document from behind b join servers s on s.id = b.server_id
		where s.removed_at is null and s.reach <> '' and exists (select 1 from jsonb_array_elements(b.document) h
			where (h->>'checked')::boolean and starts_with(h->>'address', ?)) order by s.name`,
		strings.TrimSuffix(netip.AddrPortFrom(at, 0).String(), "0")).Scan(&list).Error
	return list, err
}

// ServersAt gives the servers of the estate that have an address, by name; of each
// number and name alone.
func (s *Store) ServersAt(ctx context.Context, at netip.Addr) ([]Server, error) {
	var list []Server
	err := s.db.WithContext(ctx).Raw(`select distinct s.id, s.name from servers s join endpoints e on e.server_id = s.id
		where s.removed_at is null and e.removed_at is null and e.address = ?::inet order by s.name`, at.String()).Scan(&list).Error
	return list, err
}

// storePlacements replaces which certificates lie in which files of the server.
func storePlacements(ctx context.Context, db *gorm.DB, ptx pgx.Tx, server int64, list []Placement) error {
	if err := db.Exec("delete from placements where server_id = ?", server).Error; err != nil {
		return err
	}
	var paths, files, sites []string
	var lines []int
	var leaves [][]byte
	for _, p := range list {
		paths, files, lines = append(paths, text(p.Path)), append(files, text(p.At.File)), append(lines, p.At.Line)
		sites, leaves = append(sites, text(p.Site)), append(leaves, p.Leaf)
	}
	_, err := ptx.Exec(ctx, `insert into placements (server_id, path, named_file, named_line, site, leaf)
		select $1::bigint, * from unnest($2::text[], $3::text[], $4::int[], $5::text[], $6::bytea[]) on conflict do nothing`, server, paths, files, lines, sites, leaves)
	return err
}

// serverFindings opens, keeps and closes the findings about a server. When it
// could not be read, those about its configuration stay as they are.
func serverFindings(ctx context.Context, db *gorm.DB, tx pgx.Tx, survey, server int64, end *ReadEnd,
	at time.Time) error {
	open, err := openFindings(db, "server_id = ?", server)
	if err != nil {
		return err
	}
	judged := []check.Speaks{check.OfReach, check.OfServer}
	if end.Trouble != nil {
		judged = judged[:1]
	}
	c := findingChanges{survey: survey, at: at}
	c.compare(about{server: server}, open, end.Findings, judged...)
	if err := c.write(ctx, db, tx); err != nil {
		return err
	}
	return db.Exec("update surveys set extra_opened = extra_opened + ?, extra_closed = extra_closed + ? where id = ?",
		len(c.opened), len(c.closed), survey).Error
}

// ReadingHead says what is known of a server's configuration now.
type ReadingHead struct {
	ServerID    int64      // read
	ReadingID   int64      // 0 when it was never read
	Loaded      *time.Time // when the running server took its configuration in
	LastRead    *time.Time // nil for never
	TroubleCode string     // of the last attempt; "" when it was read
	Trouble     string     // of the last try, "" for none
	TriedAt     *time.Time // last, well or not
}

// ReadingHeads gives the heads of servers that are reached.
func (s *Store) ReadingHeads(ctx context.Context, servers []int64) (map[int64]ReadingHead, error) {
	var list []ReadingHead
	err := s.db.WithContext(ctx).Raw(`select s.id as server_id, coalesce(r.id, 0) as reading_id, r.loaded, r.last_read, coalesce(a.trouble_code, '') as trouble_code, coalesce(a.trouble, '') as trouble, a.finished_at as tried_at
		from servers s left join readings r on r.server_id = s.id and r.current
		left join lateral (select * from reads where server_id = s.id and finished_at is not null order by survey_id desc limit 1) a on true
		where s.id in ? and s.reach <> ''`, servers).Scan(&list).Error
	out := make(map[int64]ReadingHead, len(list))
	for _, h := range list {
		out[h.ServerID] = h
	}
	return out, err
}

// Document gives a reading's document.
func (s *Store) Document(ctx context.Context, reading int64) ([]byte, error) {
	var r readingRow
	err := s.db.WithContext(ctx).Select("document").Where("id = ?", reading).Take(&r).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, ErrNotFound
	}
	return bytes.Clone(r.Document), err
}

// ReadingSpan is a time in which a server's configuration read the same.
type ReadingSpan struct {
	ID                  int64
	FirstRead, LastRead time.Time
	Document            []byte // packed JSON
}

// ReadingSpans gives the spans of a server's readings, the newest first: those
// before one, or with 0 all; at most limit.
func (s *Store) ReadingSpans(ctx context.Context, server, before int64, limit int) (list []ReadingSpan, err error) {
	q := s.db.WithContext(ctx).Table("readings").Where("server_id = ?", server)
	if before > 0 {
		q = q.Where("id <= ?", before)
	}
	err = q.Order("id desc").Limit(limit).Find(&list).Error
	return list, err
}

// Server is a server of the estate with what is known of it.
type Server struct {
	ID int64 // stays when it is declared again
	// unique; kind; way to it; file its configuration begins with
	Name, Kind, Reach, Main                         string
	Line                                            int        // in the estate file
	Endpoints, Bindings                             int        // counts
	Broken, AtOdds, Agreed, Unknown                 int        // bindings by verdict
	Findings                                        int        // open ones, of the server and its bindings
	Worst                                           *int       // severity of its worst finding, nil for none
	Files, Sites, Listeners, Certificates, Problems int        // counts of the reading
	LastRead, Loaded, TriedAt                       *time.Time // read; configuration taken in; last tried
	TroubleCode, Trouble                            string     // of the last try, and its words
}

// ServerFilter narrows the list of servers; zero values do not.
type ServerFilter struct {
	Query string // part of a name, kind or way
	Name  string // one alone
	Read  *bool  // its configuration is known
}

// Servers lists servers by name and gives the next page's cursor.
func (s *Store) Servers(ctx context.Context, f ServerFilter, p Page) ([]Server, string, error) {
	q := s.db.WithContext(ctx).Table("servers s").Where("s.removed_at is null")
	if f.Query != "" {
		like := contains(f.Query)
		q = q.Where("(s.name ilike ? or s.kind ilike ? or s.reach ilike ? or exists (select 1 from endpoints e where "+
			"e.server_id = s.id and host(e.address) like ?))", like, like, like, like)
	}
	if f.Name != "" {
		q = q.Where("s.name = ?", f.Name)
	}
	if f.Read != nil {
		q = q.Where("exists (select 1 from readings r where r.server_id = s.id and r.current) = ?", *f.Read)
	}
	_, dir, cmp := p.column(map[string]string{"name": "s.name"})
	var tie int64
	key, more, err := p.decode(&tie)
	if err != nil {
		return nil, "", err
	}
	if more {
		q = q.Where("(s.name, s.id) "+cmp+" (?, ?)", key, tie)
	}
	var ids []int64
	if err := q.Order("s.name "+dir+", s.id "+dir).Limit(p.Limit+1).Pluck("s.id", &ids).Error; err != nil {
		return nil, "", err
	}
	further := len(ids) > p.Limit
	ids = ids[:min(len(ids), p.Limit)]
	var rows []Server
	if err := s.db.WithContext(ctx).Raw(serverRows, map[string]any{"ids": arrayOf(ids)}).Scan(&rows).Error; err != nil {
		return nil, "", err
	}
	list := inOrder(ids, rows, func(v *Server) int64 { return v.ID })
	if !further || len(list) == 0 {
		return list, "", nil
	}
	last := &list[len(list)-1]
	return list, encodeCursor(p.Sort, last.Name, last.ID), nil
}

// serverRows gives what rows of servers show. What is counted is counted once for
// all of them, not for each; what agrees is what is left of all that was declared.
const serverRows = `with page as (select * from servers where id = any(cast(@ids as bigint[]))),
	at as (select e.id, e.server_id from endpoints e join page on page.id = e.server_id),
	odd as (select at.server_id, count(*) filter (where verdict = 'broken') as broken, count(*) filter (where verdict = 'at-odds') as at_odds,
			count(*) filter (where verdict = 'unknown') as unknown
		from targets t join at on at.id = t.endpoint_id where t.host_id is not null and t.removed_at is null and t.verdict <> 'agreed' group by at.server_id),
	found as (select server_id, count(*) as findings, min(severity) as worst from (
			select f.server_id, f.severity from findings f join page on page.id = f.server_id where f.closed_at is null
			union all select at.server_id, f.severity from findings f join targets t on t.id = f.target_id join at on at.id = t.endpoint_id
			where f.closed_at is null and f.under is null) u group by server_id)
	select s.id, s.name, s.kind, s.line, s.reach, coalesce(r.main, '') as main, coalesce(r.files, 0) as files, coalesce(r.sites, 0) as sites,
		coalesce(r.listeners, 0) as listeners, coalesce(r.certificates, 0) as certificates, coalesce(r.problems, 0) as problems, r.last_read, r.loaded,
		a.finished_at as tried_at, coalesce(a.trouble_code, '') as trouble_code, coalesce(a.trouble, '') as trouble,
		(select count(*) from endpoints e where e.server_id = s.id and e.removed_at is null) as endpoints,
		s.bindings, coalesce(o.broken, 0) as broken, coalesce(o.at_odds, 0) as at_odds, coalesce(o.unknown, 0) as unknown,
		s.bindings - coalesce(o.broken, 0) - coalesce(o.at_odds, 0) - coalesce(o.unknown, 0) as agreed, coalesce(f.findings, 0) as findings, f.worst
	from page s left join readings r on r.server_id = s.id and r.current and s.reach <> ''
		left join lateral (select * from reads where server_id = s.id and finished_at is not null and s.reach <> ''
			order by survey_id desc limit 1) a on true
		left join odd o on o.server_id = s.id left join found f on f.server_id = s.id`

// ServerPlacement is a file a certificate lies in, with its server.
type ServerPlacement struct {
	Server string // by name
	Placement
}

// Placements lists the files a certificate lies in as the first one.
func (s *Store) Placements(ctx context.Context, leaf []byte, limit int) ([]ServerPlacement, error) {
	var rows []struct {
		Server, Path, NamedFile, Site string
		NamedLine                     int
	}
	err := s.db.WithContext(ctx).Raw(`select s.name as server, p.path, p.named_file, p.named_line, p.site from placements p join servers s on s.id = p.server_id
		where p.leaf = ? order by s.name, p.path, p.named_file, p.named_line limit ?`, leaf, limit).Scan(&rows).Error
	list := make([]ServerPlacement, len(rows))
	for i, r := range rows {
		list[i] = ServerPlacement{r.Server,
			Placement{Path: r.Path, At: place.Place{File: r.NamedFile, Line: r.NamedLine}, Site: r.Site, Leaf: leaf}}
	}
	return list, err
}
