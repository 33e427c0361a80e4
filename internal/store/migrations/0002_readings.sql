-- +goose Up
-- How a server's configuration is reached, in words; '' when it is not.
alter table servers add column reach text not null default '';

-- A reading of a server's configuration is a span: one row as long as nothing
-- changes. loaded is when the running server last took its configuration in.
create table readings (
    id           bigint generated always as identity primary key,
    server_id    bigint      not null references servers,
    digest       bytea       not null check (octet_length(digest) = 32),
    document     bytea       not null, -- compressed JSON
    main         text        not null,
    files        int         not null,
    sites        int         not null,
    listeners    int         not null,
    certificates int         not null,
    problems     int         not null,
    loaded       timestamptz,
    first_read   timestamptz not null,
    last_read    timestamptz not null,
    first_survey bigint      not null references surveys,
    last_survey  bigint      not null references surveys,
    current      boolean     not null
);
create unique index readings_current on readings (server_id) where current;

-- What a survey has to read, and how that ended; finished_at is null until then.
create table reads (
    survey_id    bigint not null references surveys,
    server_id    bigint not null references servers,
    finished_at  timestamptz,
    trouble_code text   not null default '',
    trouble      text   not null default '',
    primary key (survey_id, server_id)
);
create index reads_server on reads (server_id, survey_id desc);

-- Where certificates lie on servers, as last read; spot is the file:line that
-- names the file, '' when none does.
create table placements (
    server_id bigint not null references servers,
    path      text   not null,
    spot      text   not null,
    site      text   not null,
    leaf      bytea  not null references certificates,
    primary key (server_id, path, spot)
);
create index placements_leaf on placements (leaf);

-- A finding is about a target, or about a server as a whole; subject tells
-- several of one code apart, source is a file:line of the server's configuration.
alter table findings
    alter column target_id drop not null,
    add column server_id bigint references servers,
    add column subject text not null default '',
    add column source text not null default '',
    add constraint findings_about check (num_nonnulls(target_id, server_id) = 1);
create unique index findings_server_open on findings (server_id, code, subject) where closed_at is null and server_id is not null;

-- +goose Down
delete from findings where server_id is not null;
drop index findings_server_open;
alter table findings drop constraint findings_about, drop column server_id, drop column subject, drop column source, alter column target_id set not null;
drop table placements, reads, readings;
alter table servers drop column reach;
