-- +goose Up
-- How many bindings a server has is counted when a declaration is put in force, as
-- the whole estate's are: a list of servers is then counted from what is not agreed.
alter table servers add bindings int not null default 0;
update servers s set bindings = n.bindings from (select e.server_id, count(*) as bindings from targets t
    join endpoints e on e.id = t.endpoint_id where t.host_id is not null and t.removed_at is null group by e.server_id) n where n.server_id = s.id;

-- Of looks, how many began a sighting: as long as none did, what is shown is the same.
alter table shards add begun int not null default 0;

-- When what is served at a binding ends: those that end first are then found at once,
-- however many certificates were seen and are in use no more.
alter table targets add leaf_ends timestamptz;
update targets t set leaf_ends = c.not_after from certificates c where c.sha256 = t.leaf;
create index targets_ends on targets (leaf_ends, leaf) where host_id is not null and removed_at is null and leaf_ends is not null;

-- +goose Down
alter table targets drop leaf_ends;
alter table shards drop begun;
alter table servers drop bindings;
