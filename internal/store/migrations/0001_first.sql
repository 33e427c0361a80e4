-- +goose Up
-- What is declared. Rows are never deleted by applying a file: removed_at hides
-- them, so that their history stays.
create table declarations (
    id         bigint generated always as identity primary key,
    name       text        not null,
    file       text        not null,
    content    bytea       not null,
    files      jsonb       not null, -- attached certificate files by path
    digest     bytea       not null, -- of content and files
    endpoints  int         not null,
    applied_at timestamptz not null,
    current    boolean     not null
);
create unique index declarations_current on declarations (current) where current;

create table servers (
    id         bigint generated always as identity primary key,
    name       text   not null unique,
    kind       text   not null,
    line       int    not null,
    generation bigint not null,
    removed_at timestamptz
);
create table endpoints (
    id          bigint generated always as identity primary key,
    server_id   bigint  not null references servers,
    address     inet    not null,
    port        int     not null check (port between 1 and 65535),
    generation  bigint  not null,
    removed_at  timestamptz,
    unique (address, port)
);
create index endpoints_server on endpoints (server_id);
create table hosts (
    id                 bigint generated always as identity primary key,
    name               text   not null unique,
    audiences          jsonb  not null,
    wanted_issuer      text   not null,
    wanted_certificate text   not null,
    line               int    not null,
    generation         bigint not null,
    removed_at         timestamptz
);

-- Certificates and served lists, once each by SHA-256.
create table certificates (
    sha256      bytea       primary key check (octet_length(sha256) = 32),
    der         bytea       not null,
    common_name text        not null,
    issuer      text        not null,
    names       jsonb       not null,
    not_before  timestamptz not null,
    not_after   timestamptz not null,
    key         text        not null,
    serial      text        not null,
    is_ca       boolean     not null,
    first_seen  timestamptz not null
);
create index certificates_by_end on certificates (not_after, sha256) where not is_ca;
create index certificates_by_name on certificates (common_name, sha256) where not is_ca;
create index certificates_ca on certificates (not_after, sha256) where is_ca;
create table chains (
    sha256       bytea   primary key check (octet_length(sha256) = 32),
    certificates bytea[] not null
);
create index chains_members on chains using gin (certificates);

-- A target is a host at an endpoint (a binding), or an endpoint looked at
-- without a host name. verdict to leaf are what the last look came to.
create table targets (
    id          bigint generated always as identity primary key,
    endpoint_id bigint not null references endpoints,
    host_id     bigint references hosts,
    generation  bigint not null,
    removed_at  timestamptz,
    verdict     text   not null default 'unknown' check (verdict in ('broken', 'at-odds', 'unknown', 'agreed')),
    wanted      text   not null default 'agrees',
    configured  text   not null default 'unread',
    served      text   not null default 'unread',
    leaf        bytea, -- copied from the current sighting, which references it
    unique nulls not distinct (endpoint_id, host_id)
);
create index targets_host on targets (host_id);
create index targets_leaf on targets (leaf) where host_id is not null and removed_at is null;
create index targets_trouble on targets (verdict) where host_id is not null and removed_at is null and verdict <> 'agreed';

create table surveys (
    id          bigint generated always as identity primary key,
    state       text        not null check (state in ('running', 'finished')),
    scope       text        not null,
    vantage     text        not null,
    created_at  timestamptz not null,
    finished_at timestamptz,
    extra_opened int        not null default 0, -- by rules over several targets
    extra_closed int        not null default 0
);
create table shards (
    survey_id      bigint not null references surveys,
    number         int    not null,
    first_endpoint bigint not null,
    last_endpoint  bigint not null,
    targets        int    not null,
    done           int    not null default 0,
    connected      int    not null default 0,
    changed        int    not null default 0,
    opened         int    not null default 0,
    closed         int    not null default 0,
    finished       boolean not null default false,
    primary key (survey_id, number)
);

-- A sighting is a span: one row as long as nothing changes.
create table sightings (
    id           bigint generated always as identity primary key,
    target_id    bigint      not null references targets,
    vantage      text        not null,
    outcome      text        not null,
    alert        smallint    not null default 0,
    detail       text        not null default '',
    chain        bytea references chains,
    leaf         bytea references certificates,
    version      int         not null default 0,
    suite        int         not null default 0,
    key_group    int         not null default 0,
    alpn         text        not null default '',
    stapled      boolean     not null default false,
    connect_us   int         not null default 0,
    handshake_us int         not null default 0,
    first_seen   timestamptz not null,
    last_seen    timestamptz not null,
    first_survey bigint      not null references surveys,
    last_survey  bigint      not null check (last_survey >= first_survey),
    current      boolean     not null
) with (fillfactor = 80);
create unique index sightings_current on sightings (target_id, vantage) where current;
create index sightings_leaf on sightings (leaf, target_id);
create index sightings_first on sightings (first_survey);

create table findings (
    id            bigint generated always as identity primary key,
    target_id     bigint      not null references targets,
    code          text        not null,
    severity      smallint    not null check (severity between 0 and 3),
    cause         text        not null,
    remedy        text        not null,
    evidence      jsonb       not null,
    leaf          bytea references certificates,
    opened_at     timestamptz not null,
    opened_survey bigint      not null references surveys,
    closed_at     timestamptz,
    closed_survey bigint references surveys
);
create unique index findings_open on findings (target_id, code) where closed_at is null;
create index findings_rank on findings (severity, id) where closed_at is null;
create index findings_opened on findings (opened_survey);
create index findings_closed on findings (closed_survey);
create index findings_leaf on findings (leaf) where closed_at is null;

-- +goose Down
drop table findings, sightings, shards, surveys, targets, chains, certificates, hosts, endpoints, servers, declarations;
