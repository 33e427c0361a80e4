-- +goose Up
-- Hosts that were taken in here, beside what the file declares.
alter table declarations add column made jsonb not null default '[]';

-- +goose Down
alter table declarations drop column made;
