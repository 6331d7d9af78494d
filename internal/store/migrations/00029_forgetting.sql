-- +goose Up
-- The oldest entries of the audit trail go when a policy says so, and by that alone; where
-- the trail begins since is kept, and is an entry of the trail itself.
create table audit_begins (
    one  boolean primary key default true check (one),
    upto bigint not null, -- id of the last entry that is gone
    seal bytea  not null  -- its seal, which the first that is left follows from
);
-- +goose StatementBegin
create or replace function audit_stays() returns trigger language plpgsql as $$
begin
    if tg_op = 'DELETE' and current_setting('tinbell.forgetting', true) = 'on' then
        return null;
    end if;
    raise exception 'entries of the audit trail are neither changed nor removed';
end $$;
-- +goose StatementEnd
create index run_heard on run (heard_at);
create index message_created on message (created_at);

-- +goose Down
drop index message_created;
drop index run_heard;
-- +goose StatementBegin
create or replace function audit_stays() returns trigger language plpgsql as $$
begin
    raise exception 'entries of the audit trail are neither changed nor removed';
end $$;
-- +goose StatementEnd
drop table audit_begins;
