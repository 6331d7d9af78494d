-- +goose Up

-- A planned event after which things do not go back to what they were.
alter table planned_event add column lasting boolean not null default false;

-- A person's word that what a series shows since a time is its new normal.
create table level_change (
    id        bigint generated always as identity primary key,
    series_id bigint not null references series on delete cascade,
    from_at   timestamptz not null,
    to_at     timestamptz not null,
    author    text not null,
    known_at  timestamptz not null default now(),
    unique (series_id, from_at),
    check (to_at > from_at)
);

-- +goose Down
drop table level_change;
alter table planned_event drop column lasting;
