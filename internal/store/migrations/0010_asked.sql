-- +goose Up
-- When a CA is asked again for the window it wants a certificate renewed in.
alter table mandates add ask_at timestamptz;
create index mandates_ask on mandates (ask_at) where ask_at is not null and removed_at is null;

-- +goose Down
alter table mandates drop column ask_at;
