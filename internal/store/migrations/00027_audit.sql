-- +goose Up
-- Who did what, from where, what was there before and after, each entry sealed with the one
-- before it. Entries are added and never changed.
alter table audit
    add column role    text not null default '',
    add column origin  text not null default '', -- address that the request came from
    add column request text not null default '', -- its id, which the log has too
    add column before  json,
    add column after   json,
    add column seal    bytea; -- SHA-256 over the seal before and this entry; null of entries from before there were seals
create index audit_who on audit (who, id desc);
-- +goose StatementBegin
create function audit_stays() returns trigger language plpgsql as $$
begin
    raise exception 'entries of the audit trail are neither changed nor removed';
end $$;
-- +goose StatementEnd
create trigger audit_stays before update or delete or truncate on audit for each statement execute function audit_stays();

-- +goose Down
drop trigger audit_stays on audit;
drop function audit_stays();
drop index audit_who;
alter table audit drop column role, drop column origin, drop column request, drop column before, drop column after, drop column seal;
