-- +goose Up
-- What a declaration came to is counted when it is put in force: the whole estate
-- is then counted from what is not agreed, which an index holds.
alter table declarations add hosts int not null default 0, add servers int not null default 0, add bindings int not null default 0;
update declarations set hosts = (select count(*) from hosts where removed_at is null),
    servers = (select count(*) from servers where removed_at is null),
    bindings = (select count(*) from targets where host_id is not null and removed_at is null) where current;

-- +goose Down
alter table declarations drop hosts, drop servers, drop bindings;
