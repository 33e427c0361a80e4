package store

import (
	"context"
	"fmt"
	"strings"
	"time"
)

// InUse is where the certificate of an order is.
type InUse struct {
	Installed []string // servers, by name
	Seen      int      // bindings that show it
}

// String tells it in words; "" when it is nowhere.
func (u InUse) String() string {
	var parts []string
	if len(u.Installed) > 0 {
		parts = append(parts, "installed on "+strings.Join(u.Installed, ", "))
	}
	if u.Seen > 0 {
		parts = append(parts, fmt.Sprintf("seen at %d bindings", u.Seen))
	}
	return strings.Join(parts, ", ")
}

// InUse gives where certificates are that orders brought, by order: installed by
// this program, and shown when it was last looked.
func (s *Store) InUse(ctx context.Context, orders []int64) (map[int64]InUse, error) {
	out := map[int64]InUse{}
	if len(orders) == 0 {
		return out, nil
	}
	var installed []struct {
		OrderID int64
		Server  string
	}
	err := s.db.WithContext(ctx).Raw(`select l.order_id, l.server from (
			select distinct on (i.mandate_id, i.server) i.order_id, i.server, i.state from installations i
			where i.mandate_id in (select mandate_id from orders where id in ?) and not i.rehearsal and i.started_at is not null
			order by i.mandate_id, i.server, i.id desc) l
		where l.state = 'done' and l.order_id in ? order by l.server`, orders, orders).Scan(&installed).Error
	if err != nil {
		return nil, err
	}
	for _, r := range installed {
		v := out[r.OrderID]
		v.Installed = append(v.Installed, r.Server)
		out[r.OrderID] = v
	}
	var seen []struct {
		ID    int64
		Count int
	}
	err = s.db.WithContext(ctx).Raw(`select o.id, count(t.id) as count from orders o join targets t on t.leaf = o.leaf
		where o.id in ? and t.removed_at is null and t.host_id is not null group by o.id`, orders).Scan(&seen).Error
	for _, r := range seen {
		v := out[r.ID]
		v.Seen = r.Count
		out[r.ID] = v
	}
	return out, err
}

// Orphan is a certificate whose mandate is no more.
type Orphan struct {
	Leaf      []byte // SHA-256
	Mandate   string // by name
	RemovedAt time.Time
}

// orphansMost bounds how many are told apart in one survey.
const orphansMost = 5000

// Orphans gives the certificates still valid at a time whose mandates were
// removed, those of the last removals first. What a mandate that stands asks for as
// well is none.
func (s *Store) Orphans(ctx context.Context, at time.Time) ([]Orphan, error) {
	var list []Orphan
	return list, s.db.WithContext(ctx).Raw(`select o.leaf, m.name as mandate, m.removed_at from orders o join mandates m on m.id = o.mandate_id
		where m.removed_at is not null and o.state = 'issued' and not o.rehearsal and o.not_after > ? and o.leaf is not null
		and not exists (select from mandates n where n.removed_at is null and n.spec->'names' @> (m.spec->'names'))
		order by m.removed_at desc limit ?`, at, orphansMost).Scan(&list).Error
}
