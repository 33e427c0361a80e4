-- +goose Up
-- A site that is taken to https, step by step; each step is stored before the
-- next begins.
create table https_runs (
    id              bigint      generated always as identity primary key,
    server          text        not null,
    host            text        not null,
    state           text        not null check (state in ('drafted', 'checking', 'ordering', 'previewed', 'installing', 'done', 'failed')),
    mandate         text        not null default '', -- name; empty until it is made
    names           jsonb       not null,
    advice          jsonb       not null,
    draft           text        not null, -- of the mandate; empty when there is one
    trials          jsonb       not null default '[]', -- of the pre-flight
    order_id        bigint      references orders,
    installation_id bigint      references installations on delete set null,
    reason          text        not null default '',
    next            text        not null default '',
    by              text        not null,
    created_at      timestamptz not null,
    finished_at     timestamptz
);

-- +goose Down
drop table https_runs;
