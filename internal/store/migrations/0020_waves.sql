-- +goose Up
-- The certificate of one order going to several servers, group after group.
create table waves (
    id          bigint      generated always as identity primary key,
    mandate_id  bigint      not null references mandates,
    order_id    bigint      not null references orders,
    groups      jsonb       not null, -- names of servers, in lists that go together
    there       jsonb       not null, -- servers that have it already
    state       text        not null check (state in ('previewed', 'running', 'stopped', 'done', 'returning', 'returned', 'kept')),
    reason      text        not null default '', -- why it stopped
    advice      text        not null default '',
    by          text        not null,
    created_at  timestamptz not null,
    started_at  timestamptz,
    finished_at timestamptz,
    check ((state = 'previewed') = (started_at is null))
);
create unique index waves_running on waves (mandate_id) where started_at is not null and finished_at is null;
create unique index waves_previews on waves (mandate_id) where started_at is null;
create index waves_mandate on waves (mandate_id, id desc);
alter table installations add column wave_id bigint references waves on delete set null;
create index installations_wave on installations (wave_id) where wave_id is not null;

-- +goose Down
alter table installations drop column wave_id;
drop table waves;
