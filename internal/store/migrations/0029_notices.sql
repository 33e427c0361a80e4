-- +goose Up
-- What happened, by the transaction that wrote it: whoever reads on from a transaction
-- misses nothing, in whatever order they end.
alter table events
    add column tx bigint not null default (pg_current_xact_id()::text::bigint),
    add column note text not null default '', -- in words, where nothing else tells it
    drop constraint events_kind_check,
    add constraint events_kind_check check (kind in ('survey-ended', 'finding-opened', 'finding-closed', 'finding-returned',
        'order-issued', 'order-failed', 'installed', 'came-back', 'stuck', 'due', 'stale', 'asked'));
create index events_tx on events (tx);
-- How far each owner has been told.
create table notice_owners (
    owner     text        primary key,
    tx        bigint      not null, -- events of transactions before it are told
    told_at   timestamptz not null default '-infinity', -- last message but digests
    digest_at timestamptz not null default now()
);
-- Messages to owners.
create table notices (
    id           bigint      generated always as identity primary key,
    owner        text        not null,
    kind         text        not null check (kind in ('events', 'digest', 'test')),
    by           text        not null check (by in ('mail', 'webhook')),
    receiver     text        not null,
    subject      text        not null,
    text         text        not null,
    html         text        not null default '',
    payload      jsonb       not null,
    made_at      timestamptz not null,
    tries        int         not null default 0,
    next_at      timestamptz,          -- of the next try; nothing when there is none
    delivered_at timestamptz,
    gave_up_at   timestamptz,
    trouble      text        not null default '', -- of the last try
    check (num_nonnulls(delivered_at, gave_up_at) <= 1)
);
create index notices_open on notices (owner, receiver) where delivered_at is null;
-- Certificates whose end was told, and how many days before.
create table notice_ends (
    owner text  not null,
    leaf  bytea not null references certificates on delete cascade,
    days  int   not null,
    primary key (owner, leaf, days)
);
-- Hours or days somebody wants to hear nothing.
create table silences (
    id       bigint      generated always as identity primary key,
    owner    text        not null default '', -- nothing for all
    until    timestamptz not null,
    reason   text        not null,
    by       text        not null,
    made_at  timestamptz not null,
    ended_at timestamptz
);
-- A finding may be about the service itself.
alter table findings drop constraint findings_about, add constraint findings_about check (num_nonnulls(target_id, server_id) <= 1);
alter table findings alter column opened_survey drop not null;
create unique index findings_own_open on findings (code, subject) where closed_at is null and target_id is null and server_id is null;
-- An address that gives the calendar to whoever has it.
create table feeds (
    id         bigint      generated always as identity primary key,
    name       text        not null,
    token      bytea       not null unique, -- its SHA-256
    owner      text        not null default '', -- only what is theirs; nothing for all
    person_id  bigint      not null references people,
    made_at    timestamptz not null,
    used_at    timestamptz,
    revoked_at timestamptz
);

-- +goose Down
drop table feeds;
drop index findings_own_open;
delete from findings where target_id is null and server_id is null;
alter table findings alter column opened_survey set not null;
alter table findings drop constraint findings_about, add constraint findings_about check (num_nonnulls(target_id, server_id) = 1);
drop table silences, notice_ends, notices, notice_owners;
delete from events where kind in ('finding-returned', 'stale', 'asked');
drop index events_tx;
alter table events drop constraint events_kind_check,
    add constraint events_kind_check check (kind in ('survey-ended', 'finding-opened', 'finding-closed', 'order-issued', 'order-failed',
                                                     'installed', 'came-back', 'stuck', 'due')),
    drop column note, drop column tx;
