-- +goose Up
-- A responder answers alerts and writes incidents, and sets up nothing. A token may say less
-- than its account, and end.
alter table account drop constraint account_role_check;
alter table account add constraint account_role_check check (role in ('admin', 'editor', 'responder', 'reader'));
alter table token
    add column role       text check (role in ('admin', 'editor', 'responder', 'reader')), -- null: its account's
    add column expires_at timestamptz,
    add column used_at    timestamptz;
-- The key with which secrets of this database are kept, by a hash: processes with another
-- would write what none of the others can read.
create table secret_key (
    one         boolean primary key default true check (one),
    fingerprint bytea not null
);

-- +goose Down
drop table secret_key;
alter table token drop column role, drop column expires_at, drop column used_at;
update account set role = 'reader' where role = 'responder';
alter table account drop constraint account_role_check;
alter table account add constraint account_role_check check (role in ('admin', 'editor', 'reader'));
