-- +goose Up
-- Who may do what. A name is used once: the journal tells people apart by it.
create table people (
    id         bigint      generated always as identity primary key,
    name       text        not null unique check (name ~ '^[a-z0-9][a-z0-9._-]{0,62}$'),
    role       text        not null check (role in ('viewer', 'operator', 'admin')),
    passphrase text        not null default '', -- argon2id; empty until it was chosen
    added_at   timestamptz not null,
    removed_at timestamptz
);

-- One-time links with which somebody chooses a passphrase. The first admin's has
-- no person yet.
create table invitations (
    hash       bytea       primary key check (octet_length(hash) = 32),
    person_id  bigint      unique references people on delete cascade,
    expires_at timestamptz not null
);
create unique index invitations_first on invitations ((1)) where person_id is null;

create table sessions (
    hash       bytea       primary key check (octet_length(hash) = 32),
    person_id  bigint      not null references people on delete cascade,
    began_at   timestamptz not null,
    seen_at    timestamptz not null,
    expires_at timestamptz not null
);
create index sessions_person on sessions (person_id);

create table tokens (
    id         bigint      generated always as identity primary key,
    hash       bytea       not null unique check (octet_length(hash) = 32),
    person_id  bigint      not null references people on delete cascade,
    name       text        not null check (length(name) between 1 and 100),
    scope      text        not null check (scope in ('viewer', 'operator', 'admin')),
    made_at    timestamptz not null,
    expires_at timestamptz not null,
    used_at    timestamptz,
    revoked_at timestamptz
);
create index tokens_person on tokens (person_id);

-- +goose Down
drop table tokens, sessions, invitations, people;
