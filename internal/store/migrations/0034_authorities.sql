-- +goose Up
-- CAs of one's own: roots and those below them that issue. A key that is null is kept
-- elsewhere, and asked for.
create table authorities (
    id          bigint      generated always as identity primary key,
    ca          text        not null,
    role        text        not null check (role in ('root', 'issuing', 'cross')),
    certificate bytea       not null,
    encrypted   bytea,
    parent_id   bigint      references authorities, -- null for a root
    made_by     text        not null,
    made_at     timestamptz not null,
    retired_at  timestamptz,                        -- issues nothing more
    list_number bigint      not null default 0,
    list        bytea,                              -- its newest revocation list
    list_at     timestamptz,
    list_stale  boolean     not null default false, -- something was revoked since
    check (role <> 'cross' or encrypted is null)
);
-- One of each name issues at a time: a second one in force is never by mistake.
create unique index authorities_issuing on authorities (ca) where role = 'issuing' and retired_at is null;
create unique index authorities_root on authorities (ca) where role = 'root' and retired_at is null;

create table issued (
    authority_id bigint      not null references authorities,
    serial       bytea       not null,
    order_id     bigint      unique references orders, -- null: for a request somebody gave
    der          bytea       not null,
    names        jsonb       not null,
    profile      text        not null,
    not_after    timestamptz not null,
    by           text        not null,
    at           timestamptz not null,
    revoked_at   timestamptz,
    reason       int         not null default 0,
    primary key (authority_id, serial)
);
create index issued_revoked on issued (authority_id) where revoked_at is not null;
create index issued_at on issued (authority_id, at desc);

-- +goose Down
drop table issued, authorities;
