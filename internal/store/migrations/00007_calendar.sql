-- +goose Up

-- The file a calendar was read from, as it came.
create table calendar (
    name   text primary key,
    ical   text not null,
    put_at timestamptz not null default now()
);

-- +goose Down
drop table calendar;
