-- +goose Up
-- From when on a series that became another one can be fitted by what it is now.
alter table baseline add column refit_at timestamptz;

-- +goose Down
alter table baseline drop column refit_at;
