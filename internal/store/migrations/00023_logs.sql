-- +goose Up
-- What lines say: streams of log lines, the sentences that they are made from, and how
-- often each came. Lines themselves are not kept, but a few of each sentence, masked.
create table log (
    id           bigint generated always as identity primary key,
    name         text not null unique,
    dataset_id   bigint not null references dataset on delete cascade,
    keep_samples int not null default 3 check (keep_samples between 0 and 20),
    watched      jsonb not null default '[]', -- severities of which a new sentence is told
    rare_seconds   bigint not null default 1209600, -- how rare a new sentence must be here to be told
    normal_seconds bigint not null default 604800,  -- after which it is part of what is usual
    lines        bigint not null default 0,
    overflow     bigint not null default 0,
    version      bigint not null default 0,
    next         int not null default 1,
    first_at     timestamptz,
    last_at      timestamptz,
    counted_to   timestamptz, -- up to where its counts are samples
    touched_from timestamptz, -- lines came from here on since
    created_at   timestamptz not null default now()
);
create table log_template (
    log_id      bigint not null references log on delete cascade,
    number      int not null,
    places      jsonb not null,
    text        text not null,
    severity    text not null,
    lines       bigint not null,
    first_at    timestamptz not null,
    last_at     timestamptz not null,
    merged_into int not null default 0,
    kept        boolean not null default true,
    usual       boolean not null default false, -- a person says that it is no news
    followed    boolean not null default false, -- its lines are a series of their own
    primary key (log_id, number)
);
create table log_count (
    log_id   bigint not null references log on delete cascade,
    number   int not null,
    at       timestamptz not null,
    severity text not null,
    n        bigint not null,
    primary key (log_id, at, number, severity)
);
create table log_sample (
    id     bigint generated always as identity primary key,
    log_id bigint not null references log on delete cascade,
    number int not null,
    at     timestamptz not null,
    line   text not null
);
create index on log_sample (log_id, number);
-- How far a file was pushed, so that lines that come again do not count again.
create table log_seen (
    log_id   bigint not null references log on delete cascade,
    source   text not null,
    position bigint not null,
    at       timestamptz not null default now(),
    primary key (log_id, source)
);
-- An alert may be about a dataset alone: what its logs say.
alter table alert drop constraint alert_about;
alter table alert add constraint alert_about check (monitor_id is not null and series_id is not null or of_source is not null or of_job is not null or of_sla is not null or of_comparison is not null or of_dataset is not null);

-- +goose Down
alter table alert drop constraint alert_about;
delete from alert where cause = 'sentence';
alter table alert add constraint alert_about check (monitor_id is not null and series_id is not null or of_source is not null or of_job is not null or of_sla is not null or of_comparison is not null);
drop table log_seen, log_sample, log_count, log_template, log;
