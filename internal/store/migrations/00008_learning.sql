-- +goose Up

-- What speaks for an alert at each look, what surrounded it when it opened, and
-- what the filter makes of it.
alter table alert
    add column looks jsonb not null default '[]',
    add column recent int not null default 0,   -- alerts of the series in the fortnight before
    add column company int not null default 0,  -- other series of the monitor that alerted within an hour
    add column chance double precision,         -- that it is a fault; null while the filter has not seen it
    add column held text not null default '' check (held in ('', 'shadow', 'held')),
    add column held_why text not null default '',
    add column label_id bigint not null default 0, -- the label in force
    add column disputed boolean not null default false;
create index alert_unlabelled on alert (raised_at desc) where verdict = '' and monitor_id is not null;
update alert set label_id = coalesce((select max(id) from label where alert_id = alert.id), 0);

-- Verdicts on a stretch of a series where no alert was.
create table stretch (
    id         bigint generated always as identity primary key,
    series_id  bigint not null references series on delete cascade,
    from_at    timestamptz not null,
    to_at      timestamptz not null,
    verdict    text not null check (verdict in ('fault', 'noise', 'planned')),
    cause      text not null default '',
    note       text not null default '',
    author     text not null,
    at         timestamptz not null default now(),
    incident   text not null default '', -- reference of the incident that a fault became
    check (to_at > from_at)
);
create index stretch_series on stretch (series_id, from_at);

alter table incident
    add column impact text not null default '',
    add column downstream boolean not null default false; -- what reads the dataset is hit too

-- What a monitor was set to, version by version.
create table monitor_version (
    monitor_id bigint not null references monitor on delete cascade,
    version    int not null,
    settings   jsonb not null,
    paused     boolean not null default false,
    author     text not null default '',
    reason     text not null default '',
    at         timestamptz not null default now(),
    primary key (monitor_id, version)
);
insert into monitor_version (monitor_id, version, settings, paused, at) select id, version, settings, paused, created_at from monitor;
alter table monitor add column always_tell boolean not null default false; -- its alerts are never held back

-- Settings that tuning proposes; nothing changes until a person accepts.
create table proposal (
    id         bigint generated always as identity primary key,
    monitor_id bigint not null references monitor on delete cascade,
    version    int not null, -- of the monitor that it would replace
    settings   jsonb not null,
    gain       jsonb not null,
    made_at    timestamptz not null default now(),
    state      text not null default 'open' check (state in ('open', 'accepted', 'rejected', 'outdated')),
    decided_by text not null default '',
    decided_at timestamptz,
    note       text not null default ''
);
create index proposal_monitor on proposal (monitor_id, id desc);

-- How the service learns: one row.
create table learning (
    one         boolean primary key default true check (one),
    state       text not null default 'off' check (state in ('off', 'shadow', 'active')),
    limit_lost  double precision not null default 0.01,
    nightly     boolean not null default false, -- tuning runs by itself
    tuned_at    timestamptz,
    model       jsonb,
    learned_at  timestamptz,
    changed_by  text not null default '',
    changed_at  timestamptz not null default now()
);
insert into learning default values;

alter table task add column result jsonb;

-- +goose Down
alter table task drop column result;
drop table learning, proposal;
alter table monitor drop column always_tell;
drop table monitor_version;
alter table incident drop column impact, drop column downstream;
drop table stretch;
drop index alert_unlabelled;
alter table alert drop column looks, drop column recent, drop column company, drop column chance, drop column held, drop column held_why, drop column label_id, drop column disputed;
