-- +goose Up
-- The finding about a server that stands for those of its bindings that have the
-- same cause: they are kept, and left out of lists while it is open.
alter table findings add under bigint references findings;
create index findings_under on findings (under) where under is not null;

-- +goose Down
alter table findings drop under;
