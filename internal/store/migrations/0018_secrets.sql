-- +goose Up
-- An account's key is bound to its directory; those kept before are bound at the
-- next start.
alter table accounts add bound boolean not null default false;
-- Who may take private keys out of the safe, beside their role.
alter table people add keys boolean not null default false;

-- +goose Down
alter table people drop keys;
alter table accounts drop bound;
