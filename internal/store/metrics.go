package store

import (
	"context"
	"time"
)

// BindingEnd is when the certificate served at a binding ends.
type BindingEnd struct {
	Host, Server, Address string
	Port                  int
	Ends                  time.Time
}

// BindingEnds gives the bindings whose certificates end first, and how many more serve one.
func (s *Store) BindingEnds(ctx context.Context, most int) (list []BindingEnd, left int, err error) {
	const served = " from targets t where t.host_id is not null and t.removed_at is null and t.leaf_ends is not null"
	if err := s.db.WithContext(ctx).Raw(`select h.name as host, s.name as server, host(e.address) as address, e.port, t.leaf_ends as ends
		from (select t.*`+served+` order by t.leaf_ends, t.id limit ?) t join hosts h on h.id = t.host_id join endpoints e on e.id = t.endpoint_id
		join servers s on s.id = e.server_id order by t.leaf_ends, t.id`, most).Scan(&list).Error; err != nil {
		return nil, 0, err
	}
	if len(list) < most {
		return list, 0, nil
	}
	var all int
	err = s.db.WithContext(ctx).Raw("select count(*)" + served).Scan(&all).Error
	return list, all - len(list), err
}
