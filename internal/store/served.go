package store

import (
	"context"
)

// ServedList is a list of certificates that servers send, and for which hosts.
type ServedList struct {
	Certificates [][]byte // SHA-256, as sent
	Hosts        []string // each once
	Bindings     int      // that send it
}

// ServedLists calls each list that servers send now.
func (s *Store) ServedLists(ctx context.Context, each func(*ServedList) error) error {
	rows, err := s.pool.Query(ctx, `select c.certificates, array_agg(distinct h.name), count(*) from sightings g join targets t on t.id = g.target_id
			join hosts h on h.id = t.host_id join chains c on c.sha256 = g.chain
		where g.current and t.removed_at is null group by c.sha256, c.certificates order by min(h.name)`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var v ServedList
		if err := rows.Scan(&v.Certificates, &v.Hosts, &v.Bindings); err != nil {
			return err
		}
		if err := each(&v); err != nil {
			return err
		}
	}
	return rows.Err()
}

// DERs gives certificates by their SHA-256; those that are not there are left out.
func (s *Store) DERs(ctx context.Context, prints [][]byte) (map[string][]byte, error) {
	rows, err := s.pool.Query(ctx, "select sha256, der from certificates where sha256 = any($1)", prints)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := make(map[string][]byte, len(prints))
	for rows.Next() {
		var print, der []byte
		if err := rows.Scan(&print, &der); err != nil {
			return nil, err
		}
		out[string(print)] = der
	}
	return out, rows.Err()
}

// InForceOf gives, by the SHA-256 of a certificate in force, the mandate it is of.
func (s *Store) InForceOf(ctx context.Context) (map[string]string, error) {
	rows, err := s.pool.Query(ctx, `select o.leaf, m.name from mandates m join lateral (select leaf from orders where mandate_id = m.id and state = 'issued' and not rehearsal
		order by id desc limit 1) o on true where m.removed_at is null and o.leaf is not null`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var leaf []byte
		var name string
		if err := rows.Scan(&leaf, &name); err != nil {
			return nil, err
		}
		out[string(leaf)] = name
	}
	return out, rows.Err()
}
