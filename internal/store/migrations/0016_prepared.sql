-- +goose Up
-- What has to be changed on a server before a CA can be asked, and how far that is.
alter table https_runs add column preparation jsonb;
alter table https_runs drop constraint https_runs_state_check;
alter table https_runs add constraint https_runs_state_check check (state in ('drafted', 'checking', 'prepared', 'preparing', 'ordering', 'previewed', 'installing', 'done', 'failed'));

-- +goose Down
update https_runs set state = 'failed' where state in ('prepared', 'preparing');
alter table https_runs drop constraint https_runs_state_check;
alter table https_runs add constraint https_runs_state_check check (state in ('drafted', 'checking', 'ordering', 'previewed', 'installing', 'done', 'failed'));
alter table https_runs drop column preparation;
