-- +goose Up
-- What of a webhook's address is secret: the whole of it, encrypted, where its settings show
-- it without. Null: its settings say all.
alter table channel add column address bytea;

-- +goose Down
alter table channel drop column address;
