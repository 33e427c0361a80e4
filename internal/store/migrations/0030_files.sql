-- +goose Up
-- Several files may declare an estate together.
alter table declarations add column parts jsonb not null default '[]';
alter table hosts add column file text not null default '';
alter table servers add column file text not null default '';

-- +goose Down
alter table servers drop column file;
alter table hosts drop column file;
alter table declarations drop column parts;
