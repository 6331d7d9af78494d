-- +goose Up
-- References of incidents that are given none.
create sequence incident_reference;
select setval('incident_reference', (select coalesce(max(id), 0) + 1 from incident), false);

-- Datasets are known by their names alone.
update dataset set name = name || ' (' || namespace || ')'
where exists (select from dataset earlier where earlier.name = dataset.name and earlier.id < dataset.id);
create unique index dataset_name on dataset (name);

-- Processes that work on this database. Each holds an advisory lock under its
-- number while it lives, and says so again every few seconds.
create table process (
    id         int generated always as identity primary key,
    started_at timestamptz not null default now(),
    beat_at    timestamptz not null default now()
);

-- Why a monitor cannot judge a series yet, or not any more, and since when.
create table series_state (
    monitor_id bigint not null references monitor on delete cascade,
    series_id  bigint not null references series on delete cascade,
    state      text not null check (state in ('waiting', 'failed')),
    since      timestamptz not null,
    message    text not null,
    tried_at   timestamptz not null,
    first_at   timestamptz,     -- its first sample, where it waits
    ready_at   timestamptz,     -- a sample from here on may make it ready
    primary key (monitor_id, series_id)
);

-- Series whose samples changed before what a monitor's baseline was fitted to, and
-- from when on; and how often a series changed so far back at all, so that a fit
-- knows whether one did while it was under way.
create table late_change (
    monitor_id bigint not null references monitor on delete cascade,
    series_id  bigint not null references series on delete cascade,
    from_at    timestamptz not null,
    primary key (monitor_id, series_id)
);
alter table series add late int not null default 0;

-- The label queue and the scorecard read by what was said.
create index alert_unanswered on alert (monitor_id, raised_at desc) where verdict = '' and monitor_id is not null and not planned;
create index alert_answered on alert (verdict, monitor_id, series_id) where verdict in ('fault', 'noise');

-- Up to when a stored state stands, where it is older than what was judged; from
-- there it is stepped forward again.
alter table baseline add state_to timestamptz;

-- From when on samples came that a monitor could not judge before its first fit:
-- what that raises of them is news, and no history.
alter table monitor add news_from timestamptz;

-- From when on a pushed metric has samples; null: not said.
alter table metric add starts_at timestamptz;

-- +goose Down
alter table metric drop starts_at;
alter table baseline drop state_to;
alter table monitor drop news_from;
alter table series drop late;
drop table late_change, series_state, process;
drop index dataset_name;
drop sequence incident_reference;
drop index alert_unanswered, alert_answered;
