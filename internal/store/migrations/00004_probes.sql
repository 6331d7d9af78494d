-- +goose Up

alter table metric
    add column quantile double precision not null default 0.5,  -- of the measure quantile
    add column matches text not null default '',                -- of value_share: the value whose share is taken
    add column expression text not null default '',             -- of expression: an SQL aggregate
    add column time_type text not null default 'timestamptz',   -- of the time column
    add column cron text not null default '',                   -- five fields, in the metric's zone; instead of every_seconds
    add column max_segments int not null default 500,
    add column kept_segments jsonb not null default '[]',       -- those measured one by one; empty: all
    add column fingerprint text not null default '';            -- of the table when it was last read

-- What a table's columns were, each time they changed.
create table column_version (
    id         bigint generated always as identity primary key,
    dataset_id bigint not null references dataset on delete cascade,
    seen_at    timestamptz not null,
    columns    jsonb not null,
    changes    jsonb not null default '[]'
);
create index column_version_dataset on column_version (dataset_id, id desc);

-- Alerts of no monitor: a source or dataset that cannot be read, columns that
-- changed.
alter table alert
    alter column monitor_id drop not null,
    alter column series_id drop not null,
    add column of_source bigint references source on delete cascade,
    add column of_dataset bigint references dataset on delete cascade,
    add check (monitor_id is not null and series_id is not null or of_source is not null);
create index alert_of_source on alert (of_source) where of_source is not null and closed_at is null;
alter table source add column failing_since timestamptz;
alter table dataset
    add column failing_since timestamptz,
    add column state text not null default 'ready',
    add column message text not null default '';

-- Backfills go on where they were.
alter table task
    add column metrics jsonb not null default '[]',
    add column from_at timestamptz,
    add column to_at timestamptz,
    add column position timestamptz,
    add column touched_at timestamptz not null default now(),
    drop constraint task_state_check,
    add constraint task_state_check check (state in ('running', 'paused', 'done', 'failed', 'cancelled'));
create index task_running on task (touched_at) where state = 'running';

-- +goose Down
drop index task_running;
alter table task drop constraint task_state_check, add constraint task_state_check check (state in ('running', 'done', 'failed')),
    drop column metrics, drop column from_at, drop column to_at, drop column position, drop column touched_at;
delete from alert where monitor_id is null;
alter table dataset drop column failing_since, drop column state, drop column message;
alter table source drop column failing_since;
alter table alert drop column of_source, drop column of_dataset, alter column monitor_id set not null, alter column series_id set not null;
drop table column_version;
alter table metric drop column quantile, drop column matches, drop column expression, drop column time_type, drop column cron,
    drop column max_segments, drop column kept_segments, drop column fingerprint;
