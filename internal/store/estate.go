package store

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
)

// Declaration is an applied estate file with the certificate files it names.
type Declaration struct {
	ID        int64             // grows with each one applied
	Name      string            // of the estate
	File      string            // as it was named
	Content   []byte            // its text; nothing where several files declare it together
	Parts     []estate.Text     `gorm:"serializer:json"` // those; File is their folder
	Files     map[string][]byte `gorm:"serializer:json"` // what it mentions, by path
	Made      []estate.Made     `gorm:"serializer:json"` // hosts taken in here, beside it
	Digest    []byte            // over all of it
	Endpoints int               // it declares
	Hosts     int               // it declares
	Servers   int               // it declares
	Bindings  int               // of its hosts to its endpoints
	AppliedAt time.Time         // in UTC
	Current   bool              // one row at most
	Act       *Act              `gorm:"-"` // for the journal, when it is applied
	Replaces  int64             `gorm:"-"` // the one that has to be in force; 0 for any
}

// ErrReplaced says that another declaration has come into force meanwhile.
var ErrReplaced = errors.New("another declaration is in force by now")

// digest tells two declarations apart by file and everything it mentions, with
// lengths, so that no two texts run into each other.
func (d *Declaration) digest() []byte {
	h := sha256.New()
	fmt.Fprintf(h, "%s\x00%d\x00%s", d.File, len(d.Content), d.Content)
	for _, p := range d.Parts {
		fmt.Fprintf(h, "%s\x00%d\x00%s", p.File, len(p.Data), p.Data)
	}
	for _, path := range slices.Sorted(maps.Keys(d.Files)) {
		fmt.Fprintf(h, "%s\x00%d\x00%s", path, len(d.Files[path]), d.Files[path])
	}
	if len(d.Made) > 0 {
		fmt.Fprintf(h, "\x00%s", jsonText(d.Made))
	}
	return h.Sum(nil)
}

// Texts are its files.
func (d *Declaration) Texts() []estate.Text {
	if len(d.Parts) > 0 {
		return d.Parts
	}
	return []estate.Text{{File: d.File, Data: d.Content}}
}

// Text is what its files hold, one behind the other with their names where they are several.
func (d *Declaration) Text() string {
	if len(d.Parts) == 0 {
		return string(d.Content)
	}
	var b strings.Builder
	for _, p := range d.Parts {
		fmt.Fprintf(&b, "# %s\n%s\n", p.File, p.Data)
	}
	return b.String()
}

// Estate parses the declaration back into the model, with the hosts taken in here;
// servers are of some kinds.
func (d *Declaration) Estate(kinds estate.Kinds) (*estate.Estate, error) {
	e, err := estate.ParseAll(d.Texts(), kinds, func(path string) ([]byte, error) {
		if data, ok := d.Files[path]; ok {
			return data, nil
		}
		return nil, errors.New("it was not sent along")
	})
	if err == nil {
		e.Take(d.Made)
	}
	return e, err
}

// Declared gives the declaration in force; ErrNotFound when none was applied.
func (s *Store) Declared(ctx context.Context) (*Declaration, error) {
	var d Declaration
	err := s.db.WithContext(ctx).Where("current").Take(&d).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, ErrNotFound
	}
	return &d, err
}

// DeclaredWhen gives the declaration that was in force at a time; ErrNotFound before the
// first.
func (s *Store) DeclaredWhen(ctx context.Context, at time.Time) (*Declaration, error) {
	var d Declaration
	return found(&d, s.db.WithContext(ctx).Where("applied_at <= ?", at).Order("id desc").Take(&d).Error)
}

// DeclaredAt gives when a declaration was applied.
func (s *Store) DeclaredAt(ctx context.Context, id int64) (time.Time, error) {
	var d Declaration
	err := s.db.WithContext(ctx).Select("applied_at").Take(&d, id).Error
	return d.AppliedAt, err
}

// DeclaredAs gives the name of the estate in force and of its file; ErrNotFound when
// none was applied.
func (s *Store) DeclaredAs(ctx context.Context) (name, file string, err error) {
	var d Declaration
	err = s.db.WithContext(ctx).Select("name", "file").Where("current").Take(&d).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return "", "", ErrNotFound
	}
	return d.Name, d.File, err
}

// DeclaredID gives the number of the declaration in force; ErrNotFound when
// none was applied.
func (s *Store) DeclaredID(ctx context.Context) (int64, error) {
	return s.declared.get(ctx, struct{}{}, func(ctx context.Context) (int64, error) {
		var id int64
		err := s.pool.QueryRow(ctx, "select id from declarations where current").Scan(&id)
		if errors.Is(err, pgx.ErrNoRows) {
			return 0, ErrNotFound
		}
		return id, err
	})
}

// serverRow is a server as stored; Reach is the way to it as text, by which a
// changed one is noticed.
type serverRow struct {
	ID         int64      // stays when the server is declared again
	Name       string     // unique
	Kind       string     // of a registry
	Line       int        // in the estate file
	File       string     // that file, where several declare the estate; "" else
	Reach      string     // the way to it as text
	Every      *int       // seconds between two looks by itself, 0 for never; nil as the estate has it
	Owner      string     // of the server as a whole; "" for nobody
	Generation int64      // declaration that last had it
	RemovedAt  *time.Time // nil while it is declared
}

// TableName is GORM's name for the table.
func (serverRow) TableName() string { return "servers" }

// endpointRow is one address and port.
type endpointRow struct {
	ID         int64      // stays when it is declared again
	ServerID   int64      // whose it is
	Address    string     `gorm:"type:inet"`
	Port       int        // from 1
	Generation int64      // declaration that last had it
	RemovedAt  *time.Time // nil while it is declared
}

// TableName is GORM's name for the table.
func (endpointRow) TableName() string { return "endpoints" }

// hostRow is a host name as declared.
type hostRow struct {
	ID                int64      // stays when it is declared again
	Name              string     // in ASCII, lower case
	Audiences         []string   `gorm:"serializer:json"`
	WantedIssuer      string     // common name, "" for any
	WantedCertificate string     // fingerprint, "" for any
	Line              int        // in the estate file
	File              string     // that file, where several declare the estate; "" else
	GroupName         string     // "" for none
	Owner             string     // its own, its group's or the estate's; "" for nobody
	Tags              []string   `gorm:"serializer:json"`
	Every             *int       // of its group's schedule, as a server's
	Generation        int64      // declaration that last had it
	RemovedAt         *time.Time // nil while it is declared
}

// TableName is GORM's name for the table.
func (hostRow) TableName() string { return "hosts" }

// rowsAtOnce keeps a statement within PostgreSQL's 65,535 parameters.
const rowsAtOnce = 1000

// refsAtOnce is how many references of hosts to servers are resolved together.
const refsAtOnce = 5000

// Apply puts a declaration in force, in one transaction: what it declares is
// created or changed, what only the one before declared is removed. Applying
// the same again changes nothing and gives false.
func (s *Store) Apply(ctx context.Context, d *Declaration, e *estate.Estate) (applied bool, err error) {
	d.Made, d.Parts = append([]estate.Made{}, d.Made...), append([]estate.Text{}, d.Parts...)
	if d.Content == nil {
		d.Content = []byte{}
	}
	d.Digest = d.digest()
	err = s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		// One at a time: two applies must not mix.
		if err := db.Exec("lock table declarations in exclusive mode").Error; err != nil {
			return err
		}
		var same int64
		if err := db.Model(&Declaration{}).Where("current and digest = ?",
			d.Digest).Count(&same).Error; err != nil || same > 0 {
			return err
		}
		applied = true
		former := db.Model(&Declaration{}).Where("current")
		if d.Replaces != 0 {
			former = former.Where("id = ?", d.Replaces)
		}
		if done := former.Update("current", false); done.Error != nil {
			return done.Error
		} else if d.Replaces != 0 && done.RowsAffected == 0 {
			return ErrReplaced
		}
		d.Current = true
		if err := db.Create(d).Error; err != nil {
			return err
		}
		if err := expand(ctx, db, tx, d, e); err != nil || d.Act == nil {
			return err
		}
		return d.Act.write(db, d.AppliedAt)
	})
	return applied, err
}

// upsert brings back a row that was removed, with what it is now; its history
// stays with it.
func upsert(key []string, set ...string) clause.OnConflict {
	cols := make([]clause.Column, len(key))
	for i, k := range key {
		cols[i].Name = k
	}
	return clause.OnConflict{Columns: cols, DoUpdates: clause.AssignmentColumns(append(set, "generation", "removed_at"))}
}

// expand writes the rows a declaration stands for under its generation, and
// marks those of older generations removed.
func expand(ctx context.Context, db *gorm.DB, tx pgx.Tx, d *Declaration, e *estate.Estate) error {
	servers := make([]serverRow, len(e.Servers))
	for i, v := range e.Servers {
		servers[i] = serverRow{Name: v.Name, Kind: v.Kind, Line: v.Place.Line, Reach: v.Reach.String(), Generation: d.ID,
			Every: seconds(v.Every), Owner: e.OfServer(&v).Owner, File: d.fileOf(v.Place)}
	}
	if err := db.Clauses(upsert([]string{"name"}, "kind", "line", "reach", "every", "owner", "file")).CreateInBatches(&servers,
		rowsAtOnce).Error; err != nil {
		return err
	}
	hosts := make([]hostRow, len(e.Hosts))
	for i, h := range e.Hosts {
		hosts[i] = hostRow{Name: h.Name, Audiences: h.Audiences, WantedIssuer: h.Wanted.Issuer,
			WantedCertificate: h.Wanted.Certificate, Line: h.Place.Line, Generation: d.ID}
		b := e.OfHost(&h)
		hosts[i].File, hosts[i].GroupName, hosts[i].Owner, hosts[i].Tags = d.fileOf(h.Place), b.Group, b.Owner, append([]string{}, b.Tags...)
		if g := e.Group(h.Group); g != nil {
			hosts[i].Every = seconds(g.Every)
		}
	}
	if err := db.Clauses(upsert([]string{"name"}, "audiences", "wanted_issuer", "wanted_certificate",
		"line", "group_name", "owner", "tags", "every", "file")).CreateInBatches(&hosts, rowsAtOnce).Error; err != nil {
		return err
	}
	if err := expandEndpoints(db, d, e, servers); err != nil {
		return err
	}
	if err := expandTargets(ctx, db, tx, d, e, hosts); err != nil {
		return err
	}
	if err := expandMandates(db, d, e); err != nil {
		return err
	}
	if err := retire(db, d); err != nil {
		return err
	}
	return counted(db, d, e)
}

// fileOf is the file something is declared in, where that is not the declaration's only one.
func (d *Declaration) fileOf(at estate.Place) string {
	if len(d.Parts) == 0 {
		return ""
	}
	return at.File
}

// seconds is an interval as it is stored; nil stays nil.
func seconds(every *time.Duration) *int {
	if every == nil {
		return nil
	}
	n := int(every.Seconds())
	return &n
}

// counted keeps what the declaration came to.
func counted(db *gorm.DB, d *Declaration, e *estate.Estate) error {
	var bindings int64
	if err := db.Table("targets").Where("host_id is not null and removed_at is null").Count(&bindings).Error; err != nil {
		return err
	}
	if err := db.Exec(`update servers s set bindings = coalesce(n.bindings, 0) from servers o left join (
			select e.server_id, count(*) as bindings from targets t join endpoints e on e.id = t.endpoint_id
			where t.host_id is not null and t.removed_at is null group by e.server_id) n on n.server_id = o.id
		where o.id = s.id and s.bindings <> coalesce(n.bindings, 0)`).Error; err != nil {
		return err
	}
	d.Hosts, d.Servers, d.Bindings = len(e.Hosts), len(e.Servers), int(bindings)
	return db.Model(d).Select("endpoints", "hosts", "servers", "bindings").Updates(d).Error
}

// expandEndpoints stores every address with every port, in batches: a range of
// ports may make thousands.
func expandEndpoints(db *gorm.DB, d *Declaration, e *estate.Estate, servers []serverRow) error {
	batch := make([]endpointRow, 0, rowsAtOnce)
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		err := db.Clauses(upsert([]string{"address", "port"}, "server_id")).Create(&batch).Error
		batch = batch[:0]
		return err
	}
	for i := range e.Servers {
		for ep := range e.Servers[i].Endpoints() {
			d.Endpoints++
			batch = append(batch,
				endpointRow{ServerID: servers[i].ID, Address: ep.Addr().String(), Port: int(ep.Port()), Generation: d.ID})
			if len(batch) == cap(batch) {
				if err := flush(); err != nil {
					return err
				}
			}
		}
	}
	if err := flush(); err != nil {
		return err
	}
	return db.Model(d).Update("endpoints", d.Endpoints).Error
}

// expandTargets lets the database join hosts with endpoints, so that a
// declaration of many endpoints needs no memory here. The look without SNI
// comes first at every endpoint.
func expandTargets(ctx context.Context, db *gorm.DB, tx pgx.Tx, d *Declaration, e *estate.Estate, hosts []hostRow) error {
	const conflict = ` on conflict (endpoint_id, host_id) do update set generation = excluded.generation, removed_at = null`
	var bare []string
	for _, v := range e.Servers {
		if v.WithoutSNI {
			bare = append(bare, v.Name)
		}
	}
	if len(bare) > 0 {
		if err := db.Exec(`insert into targets (endpoint_id, host_id, generation)
			select e.id, null::bigint, ? from endpoints e join servers s on s.id = e.server_id
			where e.generation = ? and s.name in ? order by e.id`+conflict, d.ID, d.ID, bare).Error; err != nil {
			return err
		}
	}
	var list struct {
		hosts   []int64
		servers []string
		ports   []int32
	}
	flush := func() error {
		// A host may be at a server and at one of its ports: that is one target.
		_, err := tx.Exec(ctx, `insert into targets (endpoint_id, host_id, generation)
			select distinct e.id, v.host, $1::bigint from unnest($2::bigint[], $3::text[], $4::int[]) as v(host, server, port)
			join servers s on s.name = v.server join endpoints e on e.server_id = s.id and e.generation = $1 and (v.port = 0 or e.port = v.port)
			order by e.id, v.host`+conflict, d.ID, list.hosts, list.servers, list.ports)
		list.hosts, list.servers, list.ports = list.hosts[:0], list.servers[:0], list.ports[:0]
		return err
	}
	for i, h := range e.Hosts {
		for _, ref := range h.At {
			list.hosts, list.servers = append(list.hosts, hosts[i].ID), append(list.servers, ref.Server)
			list.ports = append(list.ports, int32(ref.Port))
		}
		if len(list.hosts) >= refsAtOnce { // all of a host in one statement
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

// retire hides what the new declaration no longer holds and closes the
// findings there.
func retire(db *gorm.DB, d *Declaration) error {
	for _, table := range []string{"servers", "endpoints", "hosts", "targets"} {
		if err := db.Exec("update "+table+" set removed_at = ? where generation <> ? and removed_at is null", d.AppliedAt,
			d.ID).Error; err != nil {
			return err
		}
	}
	if err := db.Exec(
		`delete from placements p using servers s where s.id = p.server_id and (s.removed_at is not null or s.reach = '')`).Error; err != nil {
		return err
	}
	return db.Exec(`with gone as (
			update findings f set closed_at = @at where f.closed_at is null and (
				exists (select from servers s where s.id = f.server_id and (s.removed_at is not null or s.reach = '' and f.code not in @served))
				or exists (select from targets t where t.id = f.target_id and t.removed_at is not null))
			returning id)
		insert into events (at, kind, finding_id) select @at, @kind, id from gone`, map[string]any{"at": d.AppliedAt, "kind": FindingClosed,
		"served": check.Foldable()}).Error
}

// jsonText is for values of which it is known that they can be written.
func jsonText(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // only strings and plain structs are stored
	}
	return string(b)
}
