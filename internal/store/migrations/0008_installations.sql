-- +goose Up
-- A certificate going to a server; as a preview first, with all that will change.
create table installations (
    id          bigint      generated always as identity primary key,
    mandate_id  bigint      not null references mandates,
    order_id    bigint      not null references orders, -- that brought the certificate
    server      text        not null,
    folder      text        not null,
    version     text        not null,
    before      text        not null, -- version in use until then; empty for none
    leaf        text        not null, -- SHA-256 of the new certificate
    edits       jsonb       not null,
    test        text        not null,
    reload      text        not null,
    doors       jsonb       not null,
    notes       jsonb       not null, -- what else the reload takes in
    state       text        not null check (state in ('previewed', 'staging', 'testing', 'switching', 'reloading', 'looking', 'done', 'returning', 'returned', 'stuck')),
    switched    boolean     not null default false,
    tries       int         not null default 0,
    reason      text        not null default '',
    advice      text        not null default '',
    by          text        not null,
    created_at  timestamptz not null,
    started_at  timestamptz,
    finished_at timestamptz,
    check ((state = 'previewed') = (started_at is null))
);
-- One at a time on a server, whichever worker does it.
create unique index installations_running on installations (server) where started_at is not null and finished_at is null;
create unique index installations_previews on installations (mandate_id, server) where started_at is null;
create index installations_mandate on installations (mandate_id, id desc);
create index installations_order on installations (order_id, server);

create table installation_steps (
    installation_id bigint      not null references installations on delete cascade,
    number          int         not null,
    step            text        not null,
    outcome         text        not null check (outcome in ('doing', 'done', 'failed')),
    words           text        not null,
    at              timestamptz not null,
    primary key (installation_id, number)
);

-- +goose Down
drop table installation_steps, installations;
