-- +goose Up
-- Where private keys lie on servers, by the public half: the same key on several
-- servers is told.
create table lying_keys (
    server_id bigint not null references servers on delete cascade,
    path      text   not null,
    public    text   not null, -- SHA-256 of the public half, hexadecimal digits
    primary key (server_id, path)
);
create index lying_keys_public on lying_keys (public);

-- +goose Down
drop table lying_keys;
