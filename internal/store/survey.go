package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/check"
)

// Survey is one pass over the estate, or a part of it, and how far it is.
type Survey struct {
	ID         int64      // people refer to it
	State      string     // running or finished
	Scope      string     // in words
	Vantage    string     // looked from
	CreatedAt  time.Time  // in UTC
	FinishedAt *time.Time // nil while it runs
	BegunBy    string     // who; "" before that was kept
	Missed     int        // that were due before it and did not come

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
type Scope struct {
	Host     string `json:"host,omitempty"`     // only this one
	Server   string `json:"server,omitempty"`   // only this one
	Group    string `json:"group,omitempty"`    // only hosts of this one
	Common   bool   `json:"common,omitempty"`   // only servers and groups without a schedule of their own
	Troubled bool   `json:"troubled,omitempty"` // only what is broken or due
}

// String is what a survey covers, in words.
func (s Scope) String() string {
	switch {
	case s.Host != "" && s.Server != "":
		return fmt.Sprintf("host %s at server %s", s.Host, s.Server)
	case s.Host != "":
		return "host " + s.Host
	case s.Server != "":
		return "server " + s.Server
	case s.Group != "":
		return "group " + s.Group
	case s.Troubled:
		return "what is broken or due"
	case s.Common:
		return "what has no schedule of its own"
	}
	return "whole estate"
}

// ErrNothing says that a scope holds no target.
var ErrNothing = errors.New("nothing to look at")

// shardTargets is how many targets a shard holds, but for an endpoint with
// more hosts than that: an endpoint is never split.
const shardTargets = 500

// targets selects what a survey looks at, of targets t of endpoints e with hosts h;
// the look without SNI belongs to an endpoint, so a survey of one host takes it along.
// Only what narrows is written, and as lists that are worked out first, so that the
// database begins with them.
func (s Scope) targets() string {
	clause := " t.removed_at is null"
	if s.Server != "" {
		clause += ` and t.endpoint_id = any(array(select e2.id from endpoints e2
			join servers s2 on s2.id = e2.server_id where s2.name = @server))`
	}
	if s.Host != "" {
		clause += ` and (h.id is null or h.name = @host) and t.endpoint_id = any(array(select t2.endpoint_id from targets t2
			join hosts h2 on h2.id = t2.host_id where t2.removed_at is null and h2.name = @host))`
	}
	if s.Group != "" {
		clause += ` and (h.id is null or h.group_name = @group) and t.endpoint_id = any(array(select t2.endpoint_id from targets t2
			join hosts h2 on h2.id = t2.host_id where t2.removed_at is null and h2.group_name = @group))`
	}
	if s.Common {
		clause += ` and (h.id is null or h.every is null) and t.endpoint_id = any(array(select e2.id from endpoints e2 join servers s2 on s2.id = e2.server_id where s2.every is null))`
	}
	if s.Troubled {
		clause += ` and (t.id = any(array(select f.target_id` + troubled + `and f.target_id is not null))
			or t.endpoint_id = any(array(select e2.id from endpoints e2 where e2.server_id = any(array(select f.server_id` + troubled + `and f.server_id is not null)))))`
	}
	return clause
}

// troubled are the open findings that are broken or due.
const troubled = " from findings f where f.closed_at is null and f.accepted_until is null and f.severity <= 1 "

// hosts selects those a survey of a part looks at somewhere, of targets t; the whole
// estate's are all. What was in trouble need not be any more.
func (s Scope) hosts(survey int64) (clause string, args map[string]any) {
	args = map[string]any{"host": s.Host, "server": s.Server, "group": s.Group, "survey": survey}
	switch {
	case s == (Scope{}):
		return "true", args
	case s.Troubled:
		return `t.host_id = any(array(select distinct t3.host_id from sightings g join targets t3 on t3.id = g.target_id
			where g.current and g.last_survey = @survey))`, args
	}
	return `t.host_id = any(array(select distinct t.host_id from targets t left join hosts h on h.id = t.host_id where` + s.targets() + `))`, args
}

// Enqueue queues a survey's next jobs in a transaction of the store: readings
// of servers by name or, when there are none left, its shards.
type Enqueue func(ctx context.Context, tx Tx, survey int64, reads []string, shards int) error

// StartSurvey stores a survey, of which vantage, beginning and who begins it are given, with
// what it has to read and its shards. The error is ErrNothing when the scope holds no target.
func (s *Store) StartSurvey(ctx context.Context, scope Scope, v *Survey, enqueue Enqueue) (*Survey, error) {
	v.State, v.Scope = Running, scope.String()
	err := s.tx(ctx, func(db *gorm.DB, ptx pgx.Tx) error {
		if err := db.Create(v).Error; err != nil {
			return err
		}
		shards := db.Exec(`with per_endpoint as (
				select t.endpoint_id, count(*) as n from targets t join endpoints e on e.id = t.endpoint_id left join hosts h on h.id = t.host_id
				where`+scope.targets()+` group by t.endpoint_id),
			numbered as (
				select endpoint_id, n, ((sum(n) over (order by endpoint_id) - n) / @size)::int as number from per_endpoint)
			insert into shards (survey_id, number, first_endpoint, last_endpoint, targets)
			select @survey, number, min(endpoint_id), max(endpoint_id), sum(n) from numbered group by number`,
			map[string]any{"host": scope.Host, "server": scope.Server, "group": scope.Group, "size": shardTargets, "survey": v.ID})
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
		return enqueue(ctx, Tx{ptx}, v.ID, reads, int(shards.RowsAffected))
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
			and (@group = '' or exists (select 1 from targets t join hosts h on h.id = t.host_id join endpoints e on e.id = t.endpoint_id
				where e.server_id = s.id and h.group_name = @group and t.removed_at is null))
			and (not @common or s.every is null)
			and (not @troubled or exists (select 1`+troubled+`and (f.server_id = s.id or f.target_id in (
				select t.id from targets t join endpoints e on e.id = t.endpoint_id where e.server_id = s.id and t.removed_at is null))))
			returning server_id)
		select s.name from planned p join servers s on s.id = p.server_id order by s.name`,
		map[string]any{"survey": survey, "server": scope.Server, "host": scope.Host, "group": scope.Group, "common": scope.Common,
			"troubled": scope.Troubled}).Scan(&names).Error
}

// surveySums adds up the shards of a survey and what its end found beside them.
const surveySums = `surveys.*, sums.targets, sums.done, sums.connected, sums.changed,
	sums.opened + surveys.extra_opened as opened, sums.closed + surveys.extra_closed as closed,
	reading.servers + surveys.kept_servers as servers, reading.servers_read + surveys.kept_read as servers_read`

// surveyJoin reads them for each survey of a list.
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

// SurveysByID gives some surveys, in no order.
func (s *Store) SurveysByID(ctx context.Context, ids []int64) ([]Survey, error) {
	var list []Survey
	return list, s.db.WithContext(ctx).Select(surveySums).Joins(surveyJoin).Where("surveys.id in ?", ids).Find(&list).Error
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
	ID         int64 // of the host at the endpoint
	EndpointID int64 // looked at
	HostID     int64 // 0: without SNI
	check.Target
	DefaultLeaf []byte // leaf last served without SNI at the endpoint
	ServerID    int64  // whose endpoint it is
}

// targetRow is what a look needs to know of a target.
type targetRow struct {
	ID, EndpointID, HostID, ServerID int64    // and those it joins
	Address                          string   // of the endpoint
	Port                             int      // of the endpoint
	Server, Host                     string   // by name; host "" for a look without one
	Audiences                        []string `gorm:"serializer:json"`
	WantedIssuer, WantedCertificate  string   // by the estate file
	DefaultLeaf                      []byte   // served without a name before
}

// Pending gives the targets of a shard that this survey has not stored yet,
// after the given endpoint and target, in order: by endpoint, the look
// without SNI first.
func (s *Store) Pending(ctx context.Context, survey int64, scope Scope, shard int, after Target,
	limit int) ([]Target, error) {
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
		where sh.survey_id = @survey and sh.number = @shard and `+scope.targets()+`
		and not exists (select 1 from sightings g where g.target_id = t.id and g.vantage = v.vantage and g.current and g.last_survey >= @survey)
		and (t.endpoint_id, coalesce(t.host_id, 0)) > (@endpoint, @after)
		order by t.endpoint_id, coalesce(t.host_id, 0) limit @limit`,
		map[string]any{"survey": survey, "shard": shard, "host": scope.Host, "server": scope.Server, "group": scope.Group,
			"endpoint": after.EndpointID, "after": after.HostID, "limit": limit}).
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
func (s *Store) FinishShard(ctx context.Context, survey int64, shard int,
	enqueue func(context.Context, Tx) error) error {
	return s.tx(ctx, func(db *gorm.DB, ptx pgx.Tx) error {
		// Shards of one survey finish one after the other, so exactly one sees the others done.
		if err := db.Exec("select 1 from surveys where id = ? for update", survey).Error; err != nil {
			return err
		}
		if err := db.Exec("update shards set finished = true where survey_id = ? and number = ?", survey,
			shard).Error; err != nil {
			return err
		}
		var left int64
		if err := db.Table("shards").Where("survey_id = ? and not finished",
			survey).Count(&left).Error; err != nil || left > 0 {
			return err
		}
		return enqueue(ctx, Tx{ptx})
	})
}

// SiblingRow is what one endpoint of a host serves, for the comparison of
// siblings.
type SiblingRow struct {
	TargetID  int64     // one of a host's endpoints
	ServerID  int64     // whose it is
	Host      string    // with the issuer behind it, see DifferingSiblings
	Server    string    // by name
	Address   string    // of the endpoint
	Port      int       // of the endpoint
	Leaf      []byte    // served there
	Issuer    string    // its common name
	NotBefore time.Time // in UTC
	NotAfter  time.Time // in UTC
}

// DifferingSiblings calls each with the endpoints of every host of a survey that
// serve different certificates of one issuer for it, host by host. Bindings that
// serve something not meant for them are left out.
func (s *Store) DifferingSiblings(ctx context.Context, survey int64, scope Scope, each func(host string, list []SiblingRow) error) error {
	hosts, args := scope.hosts(survey)
	args["apart"] = check.With(check.NotItsOwn)
	rows, err := s.db.WithContext(ctx).Raw(`with served as (
			select t.id as target_id, t.host_id, e.server_id, h.name as host, s.name as server, host(e.address) as address, e.port, t.leaf, c.issuer, c.not_before, c.not_after
			from targets t join hosts h on h.id = t.host_id join endpoints e on e.id = t.endpoint_id join servers s on s.id = e.server_id
			join certificates c on c.sha256 = t.leaf
			where t.removed_at is null and not exists (select 1 from findings f where f.target_id = t.id and f.closed_at is null and f.code in @apart)
			and `+hosts+`),
		differing as (select host_id, issuer from served group by host_id, issuer having count(distinct leaf) > 1)
		select v.target_id, v.server_id, v.host || ' ' || v.issuer as host, v.server, v.address, v.port, v.leaf, v.issuer, v.not_before, v.not_after
		from served v join differing d using (host_id, issuer) order by v.host, v.issuer, v.target_id`, args).Rows()
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
		if err := rows.Scan(&r.TargetID, &r.ServerID, &r.Host, &r.Server, &r.Address, &r.Port, &r.Leaf, &r.Issuer,
			&r.NotBefore, &r.NotAfter); err != nil {
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
	TargetID int64 // it is about
	check.Found
}

// Found calls add for every finding of the rules over several targets.
type Found func(add func(TargetFinding) error) error

// FinishSurvey opens, keeps and closes the findings of rules over several
// targets of the survey's hosts, and of those over what was shown one after the other, corrects the verdicts they touch, and ends the survey. Done again, it
// changes nothing.
func (s *Store) FinishSurvey(ctx context.Context, survey int64, scope Scope, found, late Found, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		var v Survey
		if err := db.Raw("select * from surveys where id = ? for update", survey).Scan(&v).Error; err != nil ||
			v.State == Finished {
			return err
		}
		opened, closed, err := sharedFindings(ctx, db, tx, survey, scope, found, at)
		if err != nil {
			return err
		}
		tardy, intime, err := rhythmFindings(ctx, db, tx, survey, scope, late, at)
		if err != nil {
			return err
		}
		opened, closed = opened+tardy, closed+intime
		more, fewer, err := standTogether(ctx, db, tx, survey, at)
		if err != nil {
			return err
		}
		opened, closed = opened+more, closed+fewer
		end := Event{At: at, Kind: SurveyEnded, SurveyID: &survey}
		if _, err := tx.Exec(ctx, eventSQL, end.At, end.Kind, end.SurveyID, nil, nil, nil, nil); err != nil {
			return err
		}
		return db.Exec("update surveys set state = ?, finished_at = ?, extra_opened = extra_opened + ?, extra_closed = "+
			"extra_closed + ? where id = ?", Finished, at, opened, closed, survey).Error
	})
}

// sharedFindings compares the findings of rules over several targets with what
// is open, in batches, and gives how many were opened and closed.
func sharedFindings(ctx context.Context, db *gorm.DB, tx pgx.Tx, survey int64, scope Scope, found Found, at time.Time) (opened,
	closed int, err error) {
	hosts, args := scope.hosts(survey)
	args["codes"] = check.Of(check.OfSiblings)
	rows, err := openFindings(db, "code in @codes and target_id in (select t.id from targets t where "+hosts+")", args)
	if err != nil {
		return 0, 0, err
	}
	open := map[int64][]FindingRow{}
	for _, r := range rows {
		open[*r.TargetID] = append(open[*r.TargetID], r)
	}
	c := findingChanges{survey: survey, at: at}
	older := map[int64]bool{}
	flush := func() error {
		if err := c.write(ctx, db, tx); err != nil {
			return err
		}
		if err := setBesideSiblings(ctx, db, tx, older); err != nil {
			return err
		}
		opened, closed = opened+len(c.opened), closed+c.apart
		c, older = findingChanges{survey: survey, at: at}, map[int64]bool{}
		return nil
	}
	compare := func(target int64, list []check.Found) error {
		codes := c.compare(about{target: target}, open[target], list, check.OfSiblings)
		delete(open, target)
		if older[target] = len(codes) > 0; len(older) < findingsAtOnce {
			return nil
		}
		return flush()
	}
	if err := found(func(f TargetFinding) error { return compare(f.TargetID, []check.Found{f.Found}) }); err != nil {
		return 0, 0, err
	}
	for target := range open {
		if err := compare(target, nil); err != nil {
			return 0, 0, err
		}
	}
	return opened, closed, flush()
}

// setBesideSiblings works out the verdicts of targets anew, each with whether it
// serves an older certificate than its siblings.
func setBesideSiblings(ctx context.Context, db *gorm.DB, tx pgx.Tx, older map[int64]bool) error {
	if len(older) == 0 {
		return nil
	}
	var rows, touched []verdictRow
	if err := db.Raw(`select id, verdict, wanted, configured, served, looked_configured, looked_served, hurt, leaf
		from targets where id in ? order by id for no key update`, slices.Collect(maps.Keys(older))).Scan(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		if r.Served == string(binding.Stale) {
			continue // until it is looked at again
		}
		looked := binding.Faces{Wanted: binding.Face(r.Wanted), Configured: binding.Face(r.LookedConfigured),
			Served: binding.Face(r.LookedServed)}
		if v := verdictOf(r.ID, looked, r.Hurt, older[r.ID], r.Leaf); !v.same(&r) {
			touched = append(touched, v)
		}
	}
	return writeVerdicts(ctx, tx, touched)
}
