-- +goose Up
-- What a monitor's limits would have rung in a part of its past that they were not
-- fitted to, what it has told since, and by how much each rule's limit is raised
-- for it.
alter table monitor add budget jsonb;

-- How far an alert's statistic lay over its limit, and how often what it told of
-- has come back since without being told again.
alter table alert add strength double precision not null default 0;
alter table alert add returns int not null default 0;
alter table alert add returned_at timestamptz;

-- Stretches of the past that somebody says are ordinary: no fault, and part of what
-- limits follow from.
create table ordinary (
    id         bigint generated always as identity primary key,
    dataset_id bigint not null references dataset on delete cascade,
    measure    text not null default '',   -- empty: any
    segment    text not null default '',   -- empty: any
    from_at    timestamptz not null,
    to_at      timestamptz not null check (to_at > from_at),
    author     text not null,
    note       text not null default '',
    at         timestamptz not null default now()
);
create index ordinary_dataset on ordinary (dataset_id);

-- +goose Down
drop table ordinary;
alter table alert drop strength, drop returns, drop returned_at;
alter table monitor drop budget;
