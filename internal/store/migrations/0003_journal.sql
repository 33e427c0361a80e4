-- +goose Up
-- Who did what. Entries are only added: the database itself refuses anything else.
create table journal (
    id      bigint      primary key check (id > 0),
    at      timestamptz not null,
    actor   text        not null,
    action  text        not null,
    subject text        not null,
    detail  text        not null, -- JSON, kept as it was hashed
    before  bytea       not null check (octet_length(before) = 32),
    hash    bytea       not null unique check (octet_length(hash) = 32)
);
-- +goose StatementBegin
create function journal_is_append_only() returns trigger language plpgsql as $$
begin
    raise exception 'the journal is append-only';
end $$;
-- +goose StatementEnd
create trigger journal_append_only before update or delete or truncate on journal for each statement execute function journal_is_append_only();

-- +goose Down
drop table journal;
drop function journal_is_append_only;
