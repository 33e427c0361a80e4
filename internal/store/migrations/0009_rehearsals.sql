-- +goose Up
-- A rehearsed certificate is tried on its servers as well: staged and tested,
-- and nothing changed.
alter table installations add rehearsal boolean not null default false;
alter table installations drop constraint installations_state_check;
alter table installations add constraint installations_state_check
    check (state in ('previewed', 'staging', 'testing', 'switching', 'reloading', 'looking', 'done', 'rehearsed', 'returning', 'returned', 'stuck'));
drop index installations_previews;
create unique index installations_previews on installations (mandate_id, server, rehearsal) where started_at is null;

-- +goose Down
delete from installations where rehearsal;
drop index installations_previews;
create unique index installations_previews on installations (mandate_id, server) where started_at is null;
alter table installations drop constraint installations_state_check;
alter table installations add constraint installations_state_check
    check (state in ('previewed', 'staging', 'testing', 'switching', 'reloading', 'looking', 'done', 'returning', 'returned', 'stuck'));
alter table installations drop column rehearsal;
