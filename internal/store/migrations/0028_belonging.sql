-- +goose Up
-- What hosts and servers belong to.
alter table hosts
    add column group_name text not null default '',
    add column owner text not null default '', -- its own, its group's or the estate's
    add column tags jsonb not null default '[]',
    -- the schedule of its group: seconds, 0 for never
    add column every int;
create index hosts_group on hosts (group_name) where removed_at is null and group_name <> '';
create index hosts_owner on hosts (owner) where removed_at is null and owner <> '';
alter table servers add column owner text not null default '';
-- A finding that is known and let be until a day.
alter table findings
    add column accepted_until timestamptz,
    add column accepted_at timestamptz,
    add column accepted_by text not null default '',
    add column accepted_reason text not null default '',
    add constraint findings_accepted check (num_nonnulls(accepted_until, accepted_at) in (0, 2));
create index findings_accepted on findings (accepted_until) where closed_at is null and accepted_until is not null;

-- +goose Down
drop index findings_accepted;
alter table findings drop constraint findings_accepted, drop column accepted_reason, drop column accepted_by, drop column accepted_at, drop column accepted_until;
alter table servers drop column owner;
drop index hosts_owner, hosts_group;
alter table hosts drop column every, drop column tags, drop column owner, drop column group_name;
