-- +goose Up
-- Which process holds a message until leased_to: what a process that is gone held is free.
alter table message add column leased_by int;

-- +goose Down
alter table message drop column leased_by;
