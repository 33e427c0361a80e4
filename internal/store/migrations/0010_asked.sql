-- +goose Up
-- When a CA is asked again for the window it wants a certificate renewed in.
alter table mandates add ask_at timestamptz;
create index mandates_ask on mandates (ask_at) where ask_at is not null and removed_at is null;
-- What was ordered of late, and what failed.
create index orders_issued on orders (finished_at desc) where state = 'issued' and not rehearsal;
create index orders_failed on orders (finished_at desc) where state = 'failed' and not rehearsal;

-- +goose Down
drop index orders_issued, orders_failed;
alter table mandates drop column ask_at;
