-- +goose Up
-- Who else may get something else when a site is taken to https, as a person
-- agreed to.
alter table https_runs add column also jsonb not null default '[]';

-- +goose Down
alter table https_runs drop column also;
