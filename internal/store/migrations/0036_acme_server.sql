-- +goose Up
-- What clients of a CA of one's own have made over ACME: accounts, orders, authorizations.
-- A change is made over a version, so that of two at a time one counts.
create table acme_objects (
    ca         text        not null,
    kind       text        not null check (kind in ('account', 'order', 'authorization')),
    id         text        not null,
    owner      text        not null, -- the account
    key        text,                 -- of an account: the thumbprint of its key
    document   jsonb       not null,
    version    int         not null default 1,
    created_at timestamptz not null,
    expires_at timestamptz,          -- null: it is kept
    primary key (ca, kind, id),
    check ((kind = 'account') = (key is not null))
);
create unique index acme_objects_key on acme_objects (ca, key) where key is not null;
create index acme_objects_owner on acme_objects (ca, owner, kind, created_at desc, id);
create index acme_objects_expires on acme_objects (expires_at) where expires_at is not null;

-- Customers whose accounts are bound to them.
create table acme_customers (
    ca        text        not null,
    name      text        not null, -- the key id
    encrypted bytea       not null,
    by        text        not null,
    at        timestamptz not null,
    primary key (ca, name)
);

-- Who ordered what was issued over ACME.
alter table issued add column account text not null default '', add column acme_order text unique;

-- +goose Down
alter table issued drop column account, drop column acme_order;
drop table acme_customers, acme_objects;
