-- +goose Up
alter table dataset add column loaded_type text not null default '';

-- +goose Down
alter table dataset drop column loaded_type;
