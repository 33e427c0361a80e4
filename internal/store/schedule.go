package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
)

// LastBegun gives when a survey of each of some scopes was begun last, by the scope in words. One
// of a time to come was begun while the clock was wrong, and counts for nothing.
func (s *Store) LastBegun(ctx context.Context, scopes []string, now time.Time) (map[string]time.Time, error) {
	var rows []struct {
		Scope string
		At    time.Time
	}
	err := s.db.WithContext(ctx).Raw("select scope, max(created_at) as at from surveys where scope in ? and created_at <= ? group by scope", scopes, now.Add(clockSlack)).Scan(&rows).Error
	out := make(map[string]time.Time, len(rows))
	for _, r := range rows {
		out[r.Scope] = r.At
	}
	return out, err
}

// clockSlack is how far the clocks of two workers may differ.
const clockSlack = time.Minute

// RunningScopes gives the scopes of surveys that run and were begun after a time, in words.
func (s *Store) RunningScopes(ctx context.Context, after time.Time) (out []string, err error) {
	return out, s.db.WithContext(ctx).Raw("select distinct scope from surveys where state = ? and created_at > ?", Running, after).Scan(&out).Error
}

// FoldSurveys puts what was counted for the parts of surveys that ended before a time
// together, so that records grow with what changed and not with time. What is known of a
// server's last reading stays.
func (s *Store) FoldSurveys(ctx context.Context, before time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		for _, statement := range []string{
			`update surveys v set kept_servers = v.kept_servers + r.servers, kept_read = v.kept_read + r.servers_read from (
				select survey_id, count(*) as servers, count(finished_at) as servers_read from reads o` + oldReads + `group by survey_id) r where v.id = r.survey_id`,
			`delete from reads o` + oldReads,
			`with old as (select survey_id from shards join surveys v on v.id = survey_id
					where v.state = 'finished' and v.finished_at < @before group by survey_id having count(*) > 1),
				summed as (select survey_id, min(first_endpoint) as first_endpoint, max(last_endpoint) as last_endpoint, sum(targets) as targets, sum(done) as done,
					sum(connected) as connected, sum(changed) as changed, sum(begun) as begun, sum(opened) as opened, sum(closed) as closed
					from shards where survey_id in (select survey_id from old) group by survey_id),
				rest as (delete from shards where survey_id in (select survey_id from old) and number > 0)
				update shards s set first_endpoint = m.first_endpoint, last_endpoint = m.last_endpoint, targets = m.targets, done = m.done,
					connected = m.connected, changed = m.changed, begun = m.begun, opened = m.opened, closed = m.closed
				from summed m where s.survey_id = m.survey_id and s.number = 0`,
		} {
			if err := db.Exec(statement, map[string]any{"before": before}).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// oldReads are the readings of surveys that ended before a time, but for the last of each
// server.
const oldReads = ` where exists (select 1 from surveys v where v.id = o.survey_id and v.state = 'finished' and v.finished_at < @before)
	and exists (select 1 from reads l where l.server_id = o.server_id and l.survey_id > o.survey_id and l.finished_at is not null) `

// MarkStale shows the faces of bindings as stale that were looked at before a time: common,
// or twice the interval of a group or server that has one of its own, or else without where that is
// never. What was trouble stays trouble; nothing goes on agreeing. It gives how many came to it.
func (s *Store) MarkStale(ctx context.Context, now, common, without time.Time) (int64, error) {
	done := s.db.WithContext(ctx).Exec(`with old as (
			select t.id from targets t join endpoints e on e.id = t.endpoint_id join servers s on s.id = e.server_id left join hosts h on h.id = t.host_id
			join sightings g on g.target_id = t.id and g.current
			where t.removed_at is null and t.served not in ('stale', 'unread')
			group by t.id, s.every, h.every having max(g.last_seen) <
				case when coalesce(h.every, s.every) is null then cast(@common as timestamptz) when coalesce(h.every, s.every) = 0 then cast(@without as timestamptz)
					else cast(@now as timestamptz) - make_interval(secs => 2 * coalesce(h.every, s.every)) end)
		update targets t set verdict = case t.verdict when 'agreed' then 'unknown' else t.verdict end,
			wanted = case when t.wanted in ('agrees', 'differs') then 'stale' else t.wanted end,
			configured = case t.configured when 'unread' then 'unread' else 'stale' end, served = 'stale'
		from old where t.id = old.id`, map[string]any{"now": now, "common": common, "without": without})
	return done.RowsAffected, done.Error
}

// CountStale counts the bindings that were looked at longer ago than the schedule allows.
func (s *Store) CountStale(ctx context.Context) (n int, err error) {
	return n, s.db.WithContext(ctx).Raw(`select count(*) from targets where host_id is not null and removed_at is null and served = 'stale'`).Scan(&n).Error
}

// Troubled says whether anything is broken or due.
func (s *Store) Troubled(ctx context.Context) (is bool, err error) {
	return is, s.db.WithContext(ctx).Raw("select exists (select 1" + troubled + ")").Scan(&is).Error
}

// Glanced is a server whose configuration was read, and what its folders looked like from
// outside.
type Glanced struct {
	Server  string // by name
	Reading int64  // its number
	Digest  []byte // of the folders as they were seen last; nil for not yet
}

// Glances gives what the files of read configurations looked like.
func (s *Store) Glances(ctx context.Context) (list []Glanced, err error) {
	return list, s.db.WithContext(ctx).Raw(`select s.name as server, r.id as reading, g.digest from servers s
		join readings r on r.server_id = s.id and r.current left join glances g on g.server_id = s.id
		where s.removed_at is null and s.reach <> '' order by s.name`).Scan(&list).Error
}

// SaveGlance keeps what the files of a server's configuration look like.
func (s *Store) SaveGlance(ctx context.Context, server string, digest []byte, at time.Time) error {
	return s.db.WithContext(ctx).Exec(`insert into glances (server_id, digest, seen_at) select id, ?, ? from servers where name = ?
		on conflict (server_id) do update set digest = excluded.digest, seen_at = excluded.seen_at`, digest, at, server).Error
}
