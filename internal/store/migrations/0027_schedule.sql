-- +goose Up
-- Who began a survey, and how many that were due before it did not come.
alter table surveys
    add column begun_by text not null default '',
    add column missed int not null default 0,
    -- the configurations it read, once the rows of that are gone
    add column kept_servers int not null default 0,
    add column kept_read int not null default 0;
create index surveys_scope on surveys (scope, created_at desc);
-- A server with a schedule of its own: seconds, 0 for never.
alter table servers add column every int;
-- What the files of a configuration looked like from outside when that was last seen.
create table glances (
    server_id bigint      primary key references servers,
    digest    bytea       not null,
    seen_at   timestamptz not null
);

-- +goose Down
drop table glances;
alter table servers drop column every;
drop index surveys_scope;
alter table surveys drop column kept_read, drop column kept_servers, drop column missed, drop column begun_by;
