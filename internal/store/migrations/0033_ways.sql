-- +goose Up
-- How a certificate came: '' from the CA of its mandate, taken from files that somebody gave.
alter table orders add column way text not null default '' check (way in ('', 'taken'));
-- An order that a person carries: when and where its request was sent, until when a reply
-- is expected, and that reply.
alter table orders add column sent_at timestamptz;
alter table orders add column sent_to text not null default '';
alter table orders add column expected_at timestamptz;
alter table orders add column reply bytea;
alter table orders add column waits boolean not null default false;
-- When the key of a former certificate was destroyed.
alter table orders add column key_gone_at timestamptz;
-- Keys are told apart by their public half: a reply is matched to its request by it.
alter table orders add column public bytea;
create index orders_public on orders (public) where public is not null;

-- +goose Down
alter table orders drop column way, drop column sent_at, drop column sent_to, drop column expected_at, drop column reply, drop column waits,
    drop column key_gone_at, drop column public;
