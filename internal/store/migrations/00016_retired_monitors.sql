-- +goose Up
-- A monitor that is no longer needed judges nothing and keeps its past.
alter table monitor add column retired_at timestamptz;

-- +goose Down
alter table monitor drop column retired_at;
