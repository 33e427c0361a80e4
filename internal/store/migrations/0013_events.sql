-- +goose Up
-- What happened, written in the transaction of what it tells; whoever wants to
-- know (the event stream, messages, feeds) reads on from the last one it has.
create table events (
    id              bigint      generated always as identity primary key,
    at              timestamptz not null,
    kind            text        not null check (kind in ('survey-ended', 'finding-opened', 'finding-closed', 'order-issued', 'order-failed',
                                                         'installed', 'came-back', 'stuck', 'due')),
    survey_id       bigint references surveys on delete cascade,
    finding_id      bigint references findings on delete cascade,
    mandate_id      bigint references mandates on delete cascade,
    order_id        bigint references orders on delete cascade,
    installation_id bigint references installations on delete cascade
);
create index events_at on events (at);
-- An end that is stored again is told once.
create unique index events_installation on events (installation_id, kind) where installation_id is not null;
create unique index events_order on events (order_id, kind) where installation_id is null and order_id is not null;

-- +goose Down
drop table events;
