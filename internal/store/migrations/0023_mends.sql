-- +goose Up
-- An installation may mend findings instead of bringing the certificate of a mandate.
alter table installations alter column mandate_id drop not null;
alter table installations alter column order_id drop not null;
alter table installations add column mends jsonb not null default '[]'; -- findings, and what mends each
alter table installations add column source jsonb; -- where certificate and key are taken from: another server
alter table installations add column survey_id bigint references surveys on delete set null;
alter table installations add check ((mandate_id is null) = (order_id is null));

-- +goose Down
delete from installations where mandate_id is null;
alter table installations drop column mends, drop column source, drop column survey_id;
alter table installations alter column mandate_id set not null;
alter table installations alter column order_id set not null;
