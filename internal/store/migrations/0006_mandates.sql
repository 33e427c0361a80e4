-- +goose Up
-- Secrets that were entered: sealed by the vault, never shown.
create table secrets (
    name       text        primary key,
    sealed     bytea       not null,
    changed_at timestamptz not null
);

-- One account at each directory of a CA. Its key is there before the CA hears
-- of it.
create table accounts (
    id        bigint      generated always as identity primary key,
    ca        text        not null,
    directory text        not null unique,
    url       text        not null default '',
    sealed    bytea       not null,
    terms     text        not null,
    agreed_by text        not null,
    agreed_at timestamptz not null
);

create table mandates (
    id         bigint      generated always as identity primary key,
    name       text        not null unique,
    ca         text        not null,
    spec       jsonb       not null,
    generation bigint      references declarations, -- null: made by command or in the console
    line       int         not null default 0,
    made_by    text        not null default '',
    next_at    timestamptz, -- when it is due; null: nothing to do by itself
    next_why   text        not null default '',
    failures   int         not null default 0, -- in a row
    removed_at timestamptz
);
create index mandates_due on mandates (next_at) where next_at is not null and removed_at is null;

create table orders (
    id          bigint      generated always as identity primary key,
    mandate_id  bigint      not null references mandates,
    ca          text        not null,
    account_id  bigint      references accounts,
    rehearsal   boolean     not null,
    spec        jsonb       not null, -- the mandate as it was
    state       text        not null check (state in ('begun', 'ordering', 'proving', 'finalizing', 'fetching', 'issued', 'failed')),
    url         text        not null default '',
    sealed      bytea, -- the private key
    request     bytea,
    replaces    text        not null default '',
    chain       bytea,
    leaf        bytea,
    not_after   timestamptz,
    tries       int         not null default 0,
    failure     jsonb,
    by          text        not null,
    created_at  timestamptz not null,
    finished_at timestamptz
);
-- Nothing is ordered twice: one order of a mandate is under way at a time.
create unique index orders_running on orders (mandate_id) where finished_at is null;
create index orders_mandate on orders (mandate_id, id desc);
create index orders_budget on orders (ca, finished_at) where state = 'issued' and not rehearsal;
-- A CA may give the same order again after one here has failed.
create unique index orders_url on orders (url) where url <> '' and finished_at is null;

create table order_steps (
    order_id bigint      not null references orders on delete cascade,
    number   int         not null,
    step     text        not null,
    outcome  text        not null check (outcome in ('doing', 'done', 'failed')),
    words    text        not null,
    at       timestamptz not null,
    primary key (order_id, number)
);

-- What stands on servers and in zones for an order.
create table publications (
    order_id bigint not null references orders on delete cascade,
    kind     text   not null,
    name     text   not null,
    token    text   not null,
    content  text   not null,
    primary key (order_id, kind, name, token, content)
);

create index publications_asked on publications (name, token);

-- What a pre-flight has put up for a moment.
create table probes (
    mandate_id bigint not null references mandates,
    kind       text   not null,
    name       text   not null,
    token      text   not null,
    content    text   not null,
    primary key (mandate_id, kind, name, token, content)
);

-- +goose Down
drop table probes, publications, order_steps, orders, mandates, accounts, secrets;
