-- +goose Up
-- A segment's alerts may have an owner of their own.
alter table alert add column owner text not null default '';

-- +goose Down
alter table alert drop column owner;
