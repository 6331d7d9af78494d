-- +goose Up
-- What happened when, for everybody who looks at a dataset's charts.
create table note (
	id         bigint generated always as identity primary key,
	dataset_id bigint references dataset on delete cascade,
	at         timestamptz not null,
	text       text not null check (text <> ''),
	link       text not null default '',
	author     text not null default '',
	created_at timestamptz not null default now()
);
create index on note (dataset_id, at);

-- +goose Down
drop table note;
