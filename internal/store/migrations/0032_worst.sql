-- +goose Up
-- What comes first among findings that are as bad: how many visitors' names have it, and how
-- soon the certificate ends.
alter table findings add column names int not null default 1, add column ends timestamptz;
update findings f set ends = c.not_after from certificates c where c.sha256 = f.leaf and f.closed_at is null;
update findings f set names = n.n from (select under, count(*) as n from findings where under is not null and closed_at is null group by under) n
    where n.under = f.id;
drop index findings_rank;
create index findings_rank on findings (severity, (-names), coalesce(ends, 'infinity'), id) where closed_at is null;

-- +goose Down
drop index findings_rank;
create index findings_rank on findings (severity, id) where closed_at is null;
alter table findings drop column ends, drop column names;
