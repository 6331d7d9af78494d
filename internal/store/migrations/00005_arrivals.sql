-- +goose Up

-- Points that came by OTLP, until the periods they lie in are over. The same
-- point sent twice is one row.
create table point (
    series_id bigint not null references series on delete cascade,
    at        timestamptz not null,
    stream    bigint not null,     -- which of the emitters that share the series
    shape     smallint not null,   -- 0 gauge, 1 sum since the last point, 2 sum since a start
    value     double precision not null,
    weight    double precision,    -- how many values a histogram summed up
    primary key (series_id, at, stream)
);
create index point_at on point (at);
create table point_due (
    series_id bigint not null references series on delete cascade,
    at        timestamptz not null, -- start of a period whose sample is to be made
    ends_at   timestamptz not null,
    primary key (series_id, at)
);
create index point_due_end on point_due (ends_at);
alter table metric add column otlp_name text not null default '';
create unique index metric_otlp on metric (otlp_name) where otlp_name <> '';

-- Runs of jobs and what they read and wrote.
create table job (
    id        bigint generated always as identity primary key,
    namespace text not null,
    name      text not null,
    silent_since timestamptz,
    unique (namespace, name)
);
create table run (
    id         uuid primary key,
    job_id     bigint not null references job on delete cascade,
    state      text not null check (state in ('running', 'complete', 'failed', 'aborted')),
    started_at timestamptz,
    ended_at   timestamptz,
    heard_at   timestamptz not null, -- time of the newest event
    message    text not null default '',
    parent     uuid
);
create index run_job on run (job_id, heard_at desc);
create table run_dataset (
    run_id    uuid not null references run on delete cascade,
    namespace text not null,
    name      text not null,
    direction text not null check (direction in ('input', 'output')),
    rows      bigint,
    bytes     bigint,
    primary key (run_id, direction, namespace, name)
);
create index run_dataset_name on run_dataset (name, namespace);
-- Which job reads and writes what, as last heard.
create table job_dataset (
    job_id    bigint not null references job on delete cascade,
    namespace text not null,
    name      text not null,
    direction text not null check (direction in ('input', 'output')),
    heard_at  timestamptz not null,
    primary key (job_id, direction, namespace, name)
);
create index job_dataset_name on job_dataset (name, namespace);

-- Files that landed.
alter table dataset add column pattern text not null default ''; -- which files of its folder are its
create table delivery (
    id         bigint generated always as identity primary key,
    dataset_id bigint not null references dataset on delete cascade,
    path       text not null,
    segment    text not null default '',
    bytes      bigint not null,
    rows       bigint,
    columns    jsonb not null default '[]',
    digest     bytea,
    landed_at  timestamptz not null, -- when the file was last written
    seen_at    timestamptz not null,
    state      text not null check (state in ('growing', 'taken', 'doubled', 'broken')),
    message    text not null default '',
    unique (dataset_id, path)
);
create index delivery_landed on delivery (dataset_id, landed_at);
create index delivery_digest on delivery (dataset_id, digest);
alter table source drop constraint source_kind_check, add constraint source_kind_check check (kind in ('postgresql', 'push', 'folder'));

alter table alert add column of_job bigint references job on delete cascade;
alter table alert drop constraint alert_check;
alter table alert add constraint alert_about check (monitor_id is not null and series_id is not null or of_source is not null or of_job is not null);

-- +goose Down
alter table alert drop constraint alert_about;
delete from alert where of_job is not null;
alter table alert drop column of_job, add constraint alert_check check (monitor_id is not null and series_id is not null or of_source is not null);
alter table source drop constraint source_kind_check, add constraint source_kind_check check (kind in ('postgresql', 'push'));
alter table dataset drop column pattern;
drop table delivery, job_dataset, run_dataset, run, job, point_due, point;
drop index metric_otlp;
alter table metric drop column otlp_name;
