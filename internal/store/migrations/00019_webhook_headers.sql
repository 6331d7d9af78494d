-- +goose Up
-- Headers that a webhook wants, such as an authorisation: encrypted; their names are for
-- people to see.
alter table channel add column headers bytea;
alter table channel add column header_names jsonb not null default '[]';

-- +goose Down
alter table channel drop column headers, drop column header_names;
