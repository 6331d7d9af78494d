-- +goose Up
-- Calendars that are fetched by address. The address may hold a password or a key, and
-- is kept encrypted; the host is for people to see.
create table calendar_feed (
	calendar      text primary key,
	host          text not null,
	address       bytea not null,
	dataset       text not null default '',
	effect        text not null default 'mute',
	every_seconds bigint not null check (every_seconds > 0),
	etag          text not null default '',
	fetched_at    timestamptz,
	next_at       timestamptz not null,
	failing_since timestamptz,
	message       text not null default ''
);

-- +goose Down
drop table calendar_feed;
