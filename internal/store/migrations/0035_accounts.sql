-- +goose Up
-- What a CA was told as contact, and the key an account is about to have: it is kept
-- before the CA hears of it, so that neither is lost when the process dies in between.
alter table accounts add column contact text not null default '', add column next_key bytea,
    add column next_at timestamptz, -- when it was kept
    add column ended_at timestamptz; -- deactivated: its key is of no use any more
-- What was taken back at its CA.
alter table orders add column revoked_at timestamptz, add column revoked_for text not null default '';

-- +goose Down
alter table orders drop column revoked_at, drop column revoked_for;
alter table accounts drop column contact, drop column next_key, drop column next_at, drop column ended_at;
