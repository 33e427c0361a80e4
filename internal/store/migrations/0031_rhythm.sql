-- +goose Up
-- How often the certificate at a target was replaced by another.
alter table targets add column replaced int not null default 0;
update targets t set replaced = n.n - 1 from (select target_id, count(distinct leaf) as n from sightings where leaf is not null group by target_id) n
    where n.target_id = t.id and n.n > 1;
create index targets_replaced on targets (id) where replaced >= 2 and removed_at is null;
create index sightings_target on sightings (target_id, first_seen);

-- +goose Down
drop index sightings_target, targets_replaced;
alter table targets drop column replaced;
