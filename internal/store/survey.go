package store

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
)

// Survey is one pass over the estate, or a part of it, and how far it is.
type Survey struct {
	ID         int64
	State      string
	Scope      string
	Vantage    string
	CreatedAt  time.Time
	FinishedAt *time.Time

	// Sums over the shards; progress is what is stored.
	Targets, Done, Connected, Changed, Opened, Closed int `gorm:"->"`
	Servers, ServersRead                              int `gorm:"->"` // configurations to read, and those done with
}

// The states of a survey.
const (
	Running  = "running"
	Finished = "finished"
)

// Scope narrows a survey; empty means the whole estate.
type Scope struct{ Host, Server string }

func (s Scope) String() string {
	switch {
	case s.Host != "" && s.Server != "":
		return fmt.Sprintf("host %s at server %s", s.Host, s.Server)
	case s.Host != "":
		return "host " + s.Host
	case s.Server != "":
		return "server " + s.Server
	}
	return "whole estate"
}

// ErrNothing says that a scope holds no target.
var ErrNothing = errors.New("nothing to look at")

// shardTargets is how many targets a shard holds, but for an endpoint with
// more hosts than that: an endpoint is never split.
const shardTargets = 500

// scopeClause selects targets t of endpoints e with hosts h; the look without
// SNI belongs to an endpoint, so a survey of one host takes it along.
const scopeClause = ` t.removed_at is null
	and (@server = '' or exists (select 1 from servers s where s.id = e.server_id and s.name = @server))
	and (@host = '' or h.name = @host or (h.id is null and exists (
		select 1 from targets t2 join hosts h2 on h2.id = t2.host_id where t2.endpoint_id = t.endpoint_id and t2.removed_at is null and h2.name = @host)))`

// Enqueue queues a survey's next jobs in a transaction of the store: readings
// of servers by name or, when there are none left, its shards.
type Enqueue func(ctx context.Context, tx pgx.Tx, survey int64, reads []string, shards int) error

// StartSurvey stores a survey with what it has to read and its shards. The
// error is ErrNothing when the scope holds no target.
func (s *Store) StartSurvey(ctx context.Context, scope Scope, vantage string, at time.Time, enqueue Enqueue) (*Survey, error) {
	v := &Survey{State: Running, Scope: scope.String(), Vantage: vantage, CreatedAt: at}
	err := s.tx(ctx, func(db *gorm.DB, ptx pgx.Tx) error {
		if err := db.Create(v).Error; err != nil {
			return err
		}
		shards := db.Exec(`with per_endpoint as (
				select t.endpoint_id, count(*) as n from targets t join endpoints e on e.id = t.endpoint_id left join hosts h on h.id = t.host_id
				where`+scopeClause+` group by t.endpoint_id),
			numbered as (
				select endpoint_id, n, ((sum(n) over (order by endpoint_id) - n) / @size)::int as number from per_endpoint)
			insert into shards (survey_id, number, first_endpoint, last_endpoint, targets)
			select @survey, number, min(endpoint_id), max(endpoint_id), sum(n) from numbered group by number`,
			map[string]any{"host": scope.Host, "server": scope.Server, "size": shardTargets, "survey": v.ID})
		if shards.Error != nil {
			return shards.Error
		}
		if shards.RowsAffected == 0 {
			return ErrNothing
		}
		// Numbers may have gaps; make them run from 0.
		if err := db.Exec(`update shards s set number = -1 - r.n from (
				select number, row_number() over (order by number) - 1 as n from shards where survey_id = ?) r
			where s.survey_id = ? and s.number = r.number`, v.ID, v.ID).Error; err != nil {
			return err
		}
		if err := db.Exec("update shards set number = -1 - number where survey_id = ?", v.ID).Error; err != nil {
			return err
		}
		reads, err := planReads(db, v.ID, scope)
		if err != nil {
			return err
		}
		return enqueue(ctx, ptx, v.ID, reads, int(shards.RowsAffected))
	})
	if err != nil {
		return nil, err
	}
	return s.Survey(ctx, v.ID)
}

// planReads notes which configurations a survey has to read, and gives their
// servers' names.
func planReads(db *gorm.DB, survey int64, scope Scope) (names []string, err error) {
	return names, db.Raw(`with planned as (
			insert into reads (survey_id, server_id) select @survey, s.id from servers s
			where s.reach <> '' and s.removed_at is null and (@server = '' or s.name = @server)
			and (@host = '' or exists (select 1 from targets t join hosts h on h.id = t.host_id join endpoints e on e.id = t.endpoint_id
				where e.server_id = s.id and h.name = @host and t.removed_at is null))
			returning server_id)
		select s.name from planned p join servers s on s.id = p.server_id order by s.name`,
		map[string]any{"survey": survey, "server": scope.Server, "host": scope.Host}).Scan(&names).Error
}

const surveySums = `surveys.*, sums.targets, sums.done, sums.connected, sums.changed,
	sums.opened + surveys.extra_opened as opened, sums.closed + surveys.extra_closed as closed, reading.servers, reading.servers_read`

const surveyJoin = `join lateral (select coalesce(sum(targets), 0) as targets, coalesce(sum(done), 0) as done, coalesce(sum(connected), 0) as connected,
	coalesce(sum(changed), 0) as changed, coalesce(sum(opened), 0) as opened, coalesce(sum(closed), 0) as closed
	from shards where survey_id = surveys.id) sums on true
	join lateral (select count(*) as servers, count(finished_at) as servers_read from reads where survey_id = surveys.id) reading on true`

// Survey gives one survey; ErrNotFound when there is none.
func (s *Store) Survey(ctx context.Context, id int64) (*Survey, error) {
	var v Survey
	err := s.db.WithContext(ctx).Select(surveySums).Joins(surveyJoin).Where("surveys.id = ?", id).Take(&v).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, ErrNotFound
	}
	return &v, err
}

// Surveys lists surveys, newest first, older than before (0: from the newest).
func (s *Store) Surveys(ctx context.Context, before int64, limit int) ([]Survey, error) {
	q := s.db.WithContext(ctx).Select(surveySums).Joins(surveyJoin).Order("surveys.id desc").Limit(limit)
	if before > 0 {
		q = q.Where("surveys.id < ?", before)
	}
	var list []Survey
	return list, q.Find(&list).Error
}

// LastSurvey gives the newest survey, nil when there was none.
func (s *Store) LastSurvey(ctx context.Context) (*Survey, error) {
	list, err := s.Surveys(ctx, 0, 1)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// Target is one thing to look at.
type Target struct {
	ID         int64
	EndpointID int64
	HostID     int64 // 0: without SNI
	check.Target
	DefaultLeaf []byte // leaf last served without SNI at the endpoint
	ServerID    int64
}

type targetRow struct {
	ID, EndpointID, HostID, ServerID int64
	Address                          string
	Port                             int
	Server, Host                     string
	Audiences                        []string `gorm:"serializer:json"`
	WantedIssuer, WantedCertificate  string
	DefaultLeaf                      []byte
}

// Pending gives the targets of a shard that this survey has not stored yet,
// after the given endpoint and target, in order: by endpoint, the look
// without SNI first.
func (s *Store) Pending(ctx context.Context, survey int64, scope Scope, shard int, after Target, limit int) ([]Target, error) {
	var rows []targetRow
	err := s.db.WithContext(ctx).Raw(`select t.id, t.endpoint_id, coalesce(t.host_id, 0) as host_id, e.server_id, host(e.address) as address, e.port, s.name as server,
			coalesce(h.name, '') as host, coalesce(h.audiences, '[]') as audiences, coalesce(h.wanted_issuer, '') as wanted_issuer,
			coalesce(h.wanted_certificate, '') as wanted_certificate, d.leaf as default_leaf
		from shards sh
		join targets t on t.endpoint_id between sh.first_endpoint and sh.last_endpoint
		join endpoints e on e.id = t.endpoint_id
		join servers s on s.id = e.server_id
		join surveys v on v.id = sh.survey_id
		left join hosts h on h.id = t.host_id
		left join targets d on d.endpoint_id = t.endpoint_id and d.host_id is null
		where sh.survey_id = @survey and sh.number = @shard and `+scopeClause+`
		and not exists (select 1 from sightings g where g.target_id = t.id and g.vantage = v.vantage and g.current and g.last_survey >= @survey)
		and (t.endpoint_id, coalesce(t.host_id, 0)) > (@endpoint, @after)
		order by t.endpoint_id, coalesce(t.host_id, 0) limit @limit`,
		map[string]any{"survey": survey, "shard": shard, "host": scope.Host, "server": scope.Server, "endpoint": after.EndpointID, "after": after.HostID, "limit": limit}).
		Scan(&rows).Error
	list := make([]Target, 0, len(rows))
	for _, r := range rows {
		addr, perr := netip.ParseAddr(r.Address)
		if perr != nil {
			return nil, perr
		}
		t := Target{ID: r.ID, EndpointID: r.EndpointID, HostID: r.HostID, ServerID: r.ServerID, DefaultLeaf: r.DefaultLeaf}
		t.Host, t.Endpoint, t.Server, t.Audiences = r.Host, netip.AddrPortFrom(addr, uint16(r.Port)), r.Server, r.Audiences
		t.Wanted.Issuer, t.Wanted.Certificate = r.WantedIssuer, r.WantedCertificate
		list = append(list, t)
	}
	return list, err
}

// FinishShard marks a shard finished; last is true when it was the survey's
// last one, and then enqueue is called in the same transaction.
func (s *Store) FinishShard(ctx context.Context, survey int64, shard int, enqueue func(context.Context, pgx.Tx) error) error {
	return s.tx(ctx, func(db *gorm.DB, ptx pgx.Tx) error {
		// Shards of one survey finish one after the other, so exactly one sees the others done.
		if err := db.Exec("select 1 from surveys where id = ? for update", survey).Error; err != nil {
			return err
		}
		if err := db.Exec("update shards set finished = true where survey_id = ? and number = ?", survey, shard).Error; err != nil {
			return err
		}
		var left int64
		if err := db.Table("shards").Where("survey_id = ? and not finished", survey).Count(&left).Error; err != nil || left > 0 {
			return err
		}
		return enqueue(ctx, ptx)
	})
}

// SiblingRow is what one endpoint of a host serves, for the comparison of
// siblings.
type SiblingRow struct {
	TargetID  int64
	ServerID  int64
	Host      string // with the issuer behind it, see DifferingSiblings
	Server    string
	Address   string
	Port      int
	Leaf      []byte
	Issuer    string
	NotBefore time.Time
	NotAfter  time.Time
}

// DifferingSiblings calls each with the endpoints of every host that serve
// different certificates of one issuer for it, host by host. Bindings whose
// certificate does not cover the host are left out.
func (s *Store) DifferingSiblings(ctx context.Context, each func(host string, list []SiblingRow) error) error {
	rows, err := s.db.WithContext(ctx).Raw(`with served as (
			select t.id as target_id, t.host_id, e.server_id, h.name as host, s.name as server, host(e.address) as address, e.port, t.leaf, c.issuer, c.not_before, c.not_after
			from targets t join hosts h on h.id = t.host_id join endpoints e on e.id = t.endpoint_id join servers s on s.id = e.server_id
			join certificates c on c.sha256 = t.leaf
			where t.removed_at is null and not exists (select 1 from findings f where f.target_id = t.id and f.closed_at is null and f.code in ('name-not-covered', 'other-site-answers', 'site-not-enabled', 'not-reloaded', 'wrong-file'))),
		differing as (select host_id, issuer from served group by host_id, issuer having count(distinct leaf) > 1)
		select v.target_id, v.server_id, v.host || ' ' || v.issuer as host, v.server, v.address, v.port, v.leaf, v.issuer, v.not_before, v.not_after
		from served v join differing d using (host_id, issuer) order by v.host, v.issuer, v.target_id`).Rows()
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	var group []SiblingRow
	key := ""
	flush := func() error {
		if len(group) == 0 {
			return nil
		}
		host := key[:len(key)-len(group[0].Issuer)-1]
		err := each(host, group)
		group = nil
		return err
	}
	for rows.Next() {
		var r SiblingRow
		if err := rows.Scan(&r.TargetID, &r.ServerID, &r.Host, &r.Server, &r.Address, &r.Port, &r.Leaf, &r.Issuer, &r.NotBefore, &r.NotAfter); err != nil {
			return err
		}
		if r.Host != key {
			if err := flush(); err != nil {
				return err
			}
			key = r.Host
		}
		group = append(group, r)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return flush()
}

// TargetFinding is a finding of a rule over several targets.
type TargetFinding struct {
	TargetID int64
	Leaf     certs.Fingerprint
	check.Finding
}

// Found calls add for every finding of the rules over several targets.
type Found func(add func(TargetFinding) error) error

// findingsAtOnce is how many findings are written together.
const findingsAtOnce = 500

// FinishSurvey opens and closes the findings of rules over several targets
// (code), corrects the verdicts they touch, and ends the survey. Done again,
// it changes nothing.
func (s *Store) FinishSurvey(ctx context.Context, survey int64, code string, found Found, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, ptx pgx.Tx) error {
		var v Survey
		if err := db.Raw("select * from surveys where id = ? for update", survey).Scan(&v).Error; err != nil || v.State == Finished {
			return err
		}
		if err := db.Exec("create temporary table still (target_id bigint) on commit drop").Error; err != nil {
			return err
		}
		opened, err := openShared(ctx, ptx, survey, found, at)
		if err != nil {
			return err
		}
		res := db.Exec("update findings set closed_at = ?, closed_survey = ? where code = ? and closed_at is null and target_id not in (select target_id from still)", at, survey, code)
		if res.Error != nil {
			return res.Error
		}
		if err := correctFaces(db, survey, code); err != nil {
			return err
		}
		return db.Exec("update surveys set state = ?, finished_at = ?, extra_opened = extra_opened + ?, extra_closed = extra_closed + ? where id = ?", Finished, at, opened, res.RowsAffected, survey).Error
	})
}

// openShared writes findings in batches and notes their targets in the
// temporary table still.
func openShared(ctx context.Context, tx pgx.Tx, survey int64, found Found, at time.Time) (opened int64, err error) {
	var batch []TargetFinding
	flush := func() error {
		n := len(batch)
		targets, ranks, leaves := make([]int64, n), make([]int16, n), make([][]byte, n)
		texts := [5][]string{}
		for i := range batch {
			f := &batch[i]
			targets[i], ranks[i], leaves[i] = f.TargetID, int16(f.Severity.Rank()), f.Leaf[:]
			for j, v := range [...]string{f.Code, text(f.Cause), text(f.Remedy), jsonText(f.Evidence), text(f.Source)} {
				texts[j] = append(texts[j], v)
			}
		}
		if _, err := tx.Exec(ctx, "insert into still select unnest($1::bigint[])", targets); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `insert into findings (target_id, severity, leaf, code, cause, remedy, evidence, source, opened_at, opened_survey)
			select *, $9::timestamptz, $10::bigint from unnest($1::bigint[], $2::smallint[], $3::bytea[], $4::text[], $5::text[], $6::text[], $7::jsonb[], $8::text[])
			on conflict (target_id, code) where closed_at is null do nothing`, targets, ranks, leaves, texts[0], texts[1], texts[2], texts[3], texts[4], at, survey)
		opened += tag.RowsAffected()
		batch = batch[:0]
		return err
	}
	err = found(func(f TargetFinding) error {
		if batch = append(batch, f); len(batch) < findingsAtOnce {
			return nil
		}
		return flush()
	})
	if err == nil && len(batch) > 0 {
		err = flush()
	}
	return opened, err
}

// correctFaces makes the served face, and the configured one behind it, differ
// where a finding of the code is open, and agree again where one was just
// closed and nothing else differs.
func correctFaces(db *gorm.DB, survey int64, code string) error {
	if err := db.Exec(`update targets t set served = 'agrees', configured = case when configured = 'differs' then 'agrees' else configured end, verdict = case when verdict = 'at-odds' then 'agreed' else verdict end
		where t.served = 'differs' and exists (select 1 from findings f where f.target_id = t.id and f.code = ? and f.closed_survey = ?)
		and not exists (select 1 from findings f where f.target_id = t.id and f.closed_at is null
			and f.code in ('other-issuer', 'other-certificate', 'name-not-covered', 'other-site-answers', 'site-not-enabled', 'not-reloaded', 'wrong-file', 'served-from-elsewhere', 'key-of-another-certificate', 'chain-missing-on-disk'))`, code, survey).Error; err != nil {
		return err
	}
	return db.Exec(`update targets set served = 'differs', configured = case when configured = 'agrees' then 'differs' else configured end, verdict = case when verdict = 'agreed' then 'at-odds' else verdict end
		where id in (select target_id from still) and (served <> 'differs' or verdict = 'agreed')`).Error
}
