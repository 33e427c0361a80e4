package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/check"
)

// Shown is a certificate in the order they were shown at one target.
type Shown struct {
	TargetID  int64     // where
	Host      string    // by name
	Leaf      []byte    // SHA-256
	Der       []byte    // of it
	NotAfter  time.Time // in UTC
	FirstSeen time.Time // there
	Current   bool      // it is shown now
}

// rhythmMost is how many certificates of one target are looked through, the newest.
const rhythmMost = 8

// Rhythms calls each with the certificates that followed each other at every target of a
// survey's hosts where one was replaced at least twice, oldest first. What a mandate renews is
// left out: that is due by the mandate.
func (s *Store) Rhythms(ctx context.Context, survey int64, scope Scope, each func([]Shown) error) error {
	hosts, args := scope.hosts(survey)
	args["most"] = rhythmMost
	rows, err := s.db.WithContext(ctx).Raw(`select t.id as target_id, h.name as host, g.leaf, c.der, c.not_after, g.seen as first_seen, g.leaf = t.leaf as current
		from targets t join hosts h on h.id = t.host_id
			join lateral (select leaf, min(first_seen) as seen from sightings g where g.target_id = t.id and g.leaf is not null group by leaf order by min(first_seen) desc limit @most) g on true
			join certificates c on c.sha256 = g.leaf
		where t.replaced >= 2 and t.removed_at is null and t.leaf is not null and `+hosts+`
			and not exists (select from orders o join mandates m on m.id = o.mandate_id where o.leaf = t.leaf and m.removed_at is null)
		order by t.id, g.seen`, args).Rows()
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	var list []Shown
	for rows.Next() {
		var v Shown
		if err := rows.Scan(&v.TargetID, &v.Host, &v.Leaf, &v.Der, &v.NotAfter, &v.FirstSeen, &v.Current); err != nil {
			return err
		}
		if len(list) > 0 && list[0].TargetID != v.TargetID {
			if err := each(list); err != nil {
				return err
			}
			list = nil
		}
		list = append(list, v)
	}
	if err := rows.Err(); err != nil || len(list) == 0 {
		return err
	}
	return each(list)
}

// ShownAt gives the certificates that followed each other where one is shown now, oldest
// first, of the target where most did.
func (s *Store) ShownAt(ctx context.Context, leaf []byte) (list []Shown, err error) {
	return list, s.db.WithContext(ctx).Raw(`select t.id as target_id, h.name as host, g.leaf, c.der, c.not_after, g.seen as first_seen, g.leaf = t.leaf as current
		from (select * from targets where leaf = ? and host_id is not null and removed_at is null order by replaced desc, id limit 1) t join hosts h on h.id = t.host_id
			join lateral (select leaf, min(first_seen) as seen from sightings g where g.target_id = t.id and g.leaf is not null group by leaf order by min(first_seen) desc limit ?) g on true
			join certificates c on c.sha256 = g.leaf order by g.seen`, leaf, rhythmMost).Scan(&list).Error
}

// rhythmFindings compares the findings about how certificates followed each other with what
// is open.
func rhythmFindings(ctx context.Context, db *gorm.DB, tx pgx.Tx, survey int64, scope Scope, found Found, at time.Time) (opened, closed int, err error) {
	hosts, args := scope.hosts(survey)
	args["codes"] = check.Of(check.OfRhythm)
	rows, err := openFindings(db, "code in @codes and target_id in (select t.id from targets t where "+hosts+")", args)
	if err != nil {
		return 0, 0, err
	}
	open, now := map[int64][]FindingRow{}, map[int64][]check.Found{}
	for _, r := range rows {
		open[*r.TargetID] = append(open[*r.TargetID], r)
		now[*r.TargetID] = nil
	}
	if err := found(func(f TargetFinding) error { now[f.TargetID] = append(now[f.TargetID], f.Found); return nil }); err != nil {
		return 0, 0, err
	}
	c := findingChanges{survey: survey, at: at}
	for target, list := range now {
		c.compare(about{target: target}, open[target], list, check.OfRhythm)
	}
	return len(c.opened), c.apart, c.write(ctx, db, tx)
}
