-- +goose Up

-- Alerts told as one. A group that turned out to be part of another is merged
-- into it.
create table alert_group (
    id            bigint generated always as identity primary key,
    began_at      timestamptz not null,            -- start of the first deviating period
    opened_at     timestamptz not null,            -- when its first alert was raised
    closed_at     timestamptz,
    severity      text not null,
    origin        text not null default '',        -- the place it likely began
    origin_alert  bigint references alert on delete set null,
    from_history  boolean not null default false,  -- its alerts are of the past: nobody is told
    merged_into   bigint references alert_group on delete cascade,
    taken_by      text not null default '',        -- who said that they look after it
    taken_at      timestamptz,
    snoozed_until timestamptz
);
create index alert_group_open on alert_group (opened_at desc) where closed_at is null;
create index alert_group_opened on alert_group (opened_at desc, id desc);

alter table alert add column group_id bigint references alert_group on delete set null;
create index alert_group_id on alert (group_id);

-- Alerts that opened, went on or closed since they were last put into groups and
-- told of. Written in the transaction that changes the alert; rows are only added,
-- so that who judges and who groups never wait for each other here.
create table alert_change (
    id       bigint generated always as identity primary key,
    alert_id bigint not null references alert on delete cascade
);
create index alert_change_alert on alert_change (alert_id);

create table channel (
    id            bigint generated always as identity primary key,
    name          text not null unique,
    kind          text not null check (kind in ('email', 'webhook')),
    settings      jsonb not null,
    secret        bytea,                            -- encrypted: password, or signing secret
    old_secret    bytea,                            -- the signing secret before, signed with too for a while
    old_until     timestamptz,
    hourly_limit  int not null default 30,          -- messages; beyond it one summary
    paused        boolean not null default false,
    message       text not null default '',         -- why the last delivery failed
    failing_since timestamptz,
    created_at    timestamptz not null default now()
);

create table route (
    id               bigint generated always as identity primary key,
    name             text not null unique,
    channel_id       bigint not null references channel on delete cascade,
    datasets         jsonb not null default '[]',   -- patterns; none: all
    owners           jsonb not null default '[]',
    severity         text not null default 'warning' check (severity in ('warning', 'critical')),
    hours            jsonb not null default '[]',   -- when it tells; none: always
    zone             text not null default 'UTC',
    wait_seconds     bigint not null default 10,    -- for other alerts of the same cause
    remind_seconds   bigint not null default 0,
    escalate_seconds bigint not null default 0,
    escalate_to      bigint references channel on delete set null,
    recovery         boolean not null default true,
    created_at       timestamptz not null default now()
);

-- What is to be said to whom. The id is the idempotency key.
create table message (
    id         uuid primary key,
    channel_id bigint not null references channel on delete cascade,
    route_id   bigint references route on delete set null,
    group_id   bigint references alert_group on delete cascade,
    what       text not null check (what in ('opened', 'changed', 'again', 'reminder', 'asked', 'escalated', 'recovered', 'summary', 'test')),
    turn       int not null default 0,              -- which of its kind for the group
    state      text not null default 'waiting' check (state in ('waiting', 'sent', 'failed', 'dropped', 'summed')),
    created_at timestamptz not null,
    due_at     timestamptz not null,
    leased_to  timestamptz,                         -- a process is sending it until then
    attempts   int not null default 0,
    sent_at    timestamptz,
    error      text not null default '',
    subject    text not null default '',
    body       jsonb,                               -- as rendered at the first attempt; the same in every later one
    summary_id uuid references message on delete set null,
    unique (group_id, channel_id, what, turn)
);
create index message_waiting on message (due_at) where state = 'waiting';
create index message_channel on message (channel_id, created_at desc);
create index message_group on message (group_id);
create index message_sent on message (channel_id, sent_at desc) where state = 'sent';

alter table monitor
    add column snoozed_until timestamptz,
    add column snoozed_by text not null default '';

-- Deliveries that were promised.
create table sla (
    id           bigint generated always as identity primary key,
    dataset_id   bigint not null references dataset on delete cascade,
    name         text not null unique,
    owner        text not null default '',
    counts       text not null check (counts in ('rows', 'loads', 'files')),
    at_least     double precision not null check (at_least > 0),
    days         text not null,
    from_minute  int not null,
    to_minute    int not null,
    zone         text not null,
    segment      text not null default '',
    lead_seconds bigint not null default 3600,
    calendars    jsonb not null default '[]',       -- whose holidays and events are exceptions; none: all
    paused       boolean not null default false,
    created_at   timestamptz not null default now()
);
-- How each window ended.
create table sla_day (
    sla_id   bigint not null references sla on delete cascade,
    day      date not null,
    standing text not null check (standing in ('met', 'missed')),
    have     double precision not null,
    at_least double precision not null,
    met_at   timestamptz,
    due_at   timestamptz not null,
    primary key (sla_id, day)
);
alter table alert add column of_sla bigint references sla on delete cascade;
alter table alert drop constraint alert_about;
alter table alert add constraint alert_about check (monitor_id is not null and series_id is not null or of_source is not null or of_job is not null or of_sla is not null);

alter table planned_event
    add column effect text not null default 'mute' check (effect in ('mute', 'widen', 'leave out'));
alter table calendar
    add column country text not null default '',    -- whose holidays it holds; empty: events of a file or by hand
    add column dataset text not null default '',    -- that it is for; empty: all
    add column zone text not null default '',       -- by whose clocks holidays begin
    add column effect text not null default 'mute' check (effect in ('mute', 'widen', 'leave out'));

-- States are written with every sample: where the server knows it, they are
-- packed by the method that costs ten times less.
-- +goose StatementBegin
do $$ begin
    alter table baseline alter column fitted set compression lz4, alter column judged set compression lz4;
exception when feature_not_supported then null;
end $$;
-- +goose StatementEnd

-- +goose Down
alter table calendar drop column country, drop column dataset, drop column zone, drop column effect;
alter table planned_event drop column effect;
alter table alert drop constraint alert_about;
delete from alert where of_sla is not null;
alter table alert drop column of_sla;
alter table alert add constraint alert_about check (monitor_id is not null and series_id is not null or of_source is not null or of_job is not null);
drop table sla_day, sla;
alter table monitor drop column snoozed_until, drop column snoozed_by;
drop table message, route, channel, alert_change;
alter table alert drop column group_id;
drop table alert_group;
