-- +goose Up
-- One sealed mark for each key that has sealed something: a service whose
-- vault cannot open every mark has lost a key and does not start.
create table vault_marks (
    key_id  text        primary key,
    mark    bytea       not null,
    made_at timestamptz not null
);

-- +goose Down
drop table vault_marks;
