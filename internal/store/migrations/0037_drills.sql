-- +goose Up
-- Plans to replace everything that hangs on one thing, and what was done of them.
create table drills (
    id          bigint      generated always as identity primary key,
    kind        text        not null check (kind in ('ca', 'certificate', 'key')),
    what        text        not null,
    within      bigint      not null, -- seconds
    by          text        not null,
    at          timestamptz not null,
    plan        jsonb       not null,
    begun_at    timestamptz,
    begun_by    text        not null default '',
    rehearsal   boolean     not null default false
);
-- What was begun of each: an order, or why not.
create table drill_orders (
    drill_id bigint not null references drills on delete cascade,
    mandate  text   not null,
    order_id bigint references orders,
    left_for text   not null default '',
    primary key (drill_id, mandate)
);

-- +goose Down
drop table drill_orders, drills;
