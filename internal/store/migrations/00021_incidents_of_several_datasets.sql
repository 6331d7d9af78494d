-- +goose Up
alter table incident add column also jsonb not null default '[]';

-- +goose Down
alter table incident drop column also;
