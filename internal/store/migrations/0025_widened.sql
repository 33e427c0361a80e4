-- +goose Up
-- What a mandate was for before a run has it hold more names: it is for these again when
-- nothing comes of the run.
alter table https_runs add column widens jsonb;

-- +goose Down
alter table https_runs drop column widens;
