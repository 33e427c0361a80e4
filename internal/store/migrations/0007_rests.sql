-- +goose Up
-- A CA that limits its rate is left alone for a while.
alter table accounts add column rest_until timestamptz, add column rest_why text not null default '';

-- +goose Down
alter table accounts drop column rest_until, drop column rest_why;
