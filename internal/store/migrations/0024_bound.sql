-- +goose Up
-- How many bindings a server has is counted when a declaration is put in force, as
-- the whole estate's are: a list of servers is then counted from what is not agreed.
alter table servers add bindings int not null default 0;
update servers s set bindings = n.bindings from (select e.server_id, count(*) as bindings from targets t
    join endpoints e on e.id = t.endpoint_id where t.host_id is not null and t.removed_at is null group by e.server_id) n where n.server_id = s.id;

-- Of looks, how many began a sighting: as long as none did, what is shown is the same.
alter table shards add begun int not null default 0;

-- +goose Down
alter table shards drop begun;
alter table servers drop bindings;
