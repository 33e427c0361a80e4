-- +goose Up
-- What the last looks at the servers behind one brought: replaced at each reading.
create table behind (
    server_id bigint      primary key references servers on delete cascade,
    document  jsonb       not null, -- one entry a way from a site to a server
    looked_at timestamptz not null
);

-- +goose Down
drop table behind;
