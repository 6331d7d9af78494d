-- +goose Up
create table account (
    id         bigint generated always as identity primary key,
    name       text not null unique,
    role       text not null check (role in ('admin', 'editor', 'reader')),
    created_at timestamptz not null default now()
);

create table token (
    id         bigint generated always as identity primary key,
    account_id bigint not null references account on delete cascade,
    name       text not null,
    hash       bytea not null unique,
    created_at timestamptz not null default now()
);

create table source (
    id         bigint generated always as identity primary key,
    name       text not null unique,
    kind       text not null check (kind in ('postgresql', 'push')),
    login      bytea,                   -- encrypted connection string
    address    text not null default '', -- the same without the password
    state      text not null default 'ready',
    message    text not null default '',
    created_at timestamptz not null default now()
);

create table dataset (
    id         bigint generated always as identity primary key,
    source_id  bigint not null references source on delete cascade,
    namespace  text not null,
    name       text not null,
    owner      text not null default '',
    zone       text not null default 'UTC',
    loaded_by  text not null default '', -- column that holds the time of loading
    created_at timestamptz not null default now(),
    unique (namespace, name)
);

create table metric (
    id              bigint generated always as identity primary key,
    dataset_id      bigint not null references dataset on delete cascade,
    name            text not null unique,
    measure         text not null,
    column_name     text not null default '',
    time_column     text not null default '',
    segment_by      jsonb not null default '[]',
    row_filter      text not null default '',
    kind            text not null check (kind in ('count', 'share', 'value', 'duration')),
    unit            text not null default '',
    period_seconds  bigint not null,
    zone            text not null,
    settle_seconds  bigint not null default 0,
    lookback_seconds bigint not null default 0,
    every_seconds   bigint not null default 0, -- 0: pushed
    next_at         timestamptz,
    collected_to    timestamptz,
    state           text not null default 'ready',
    message         text not null default '',
    created_at      timestamptz not null default now()
);
create index metric_dataset on metric (dataset_id);

create table series (
    id        bigint generated always as identity primary key,
    metric_id bigint not null references metric on delete cascade,
    segment   text not null default '', -- values of the dimension columns, joined by ' / '
    unique (metric_id, segment)
);

-- rows is how many rows a share or mean was taken from; null where unknown.
create table sample (
    series_id bigint not null,
    at        timestamptz not null,
    value     double precision,
    rows      double precision,
    primary key (series_id, at)
);

-- Distinct load times of a dataset.
create table load (
    dataset_id bigint not null references dataset on delete cascade,
    at         timestamptz not null,
    rows       bigint not null,
    primary key (dataset_id, at)
);

create table monitor (
    id         bigint generated always as identity primary key,
    metric_id  bigint not null references metric on delete cascade,
    name       text not null unique,
    owner      text not null default '',
    settings   jsonb not null,
    version    int not null default 1,
    paused     boolean not null default false,
    learned_at timestamptz,
    created_at timestamptz not null default now()
);
create index monitor_metric on monitor (metric_id);

-- One fitted baseline per monitor and series. fitted is the state right after
-- fitting, judged the state after the last judged period.
create table baseline (
    monitor_id   bigint not null references monitor on delete cascade,
    series_id    bigint not null references series on delete cascade,
    fitted_at    timestamptz not null,
    trained_from timestamptz not null,
    trained_to   timestamptz not null,
    excluded     jsonb not null default '[]',
    fitted       bytea not null,
    judged       bytea not null,
    judged_to    timestamptz not null,
    message      text not null default '',
    primary key (monitor_id, series_id)
);

create table alert (
    id            bigint generated always as identity primary key,
    monitor_id    bigint not null references monitor on delete cascade,
    series_id     bigint not null references series on delete cascade,
    cause         text not null,
    direction     text not null,
    severity      text not null,
    since         timestamptz not null,
    raised_at     timestamptz not null,
    ended_at      timestamptz,
    closed_at     timestamptz,
    close_reason  text not null default '',
    peak          double precision not null default 0,
    peak_at       timestamptz,
    observed      double precision not null default 0,
    expected      double precision not null default 0,
    return_period_seconds double precision not null default 0,
    sentence      text not null,
    planned       boolean not null default false,
    from_history  boolean not null default false, -- found when the monitor was fitted to the past
    verdict       text not null default '',
    unique (monitor_id, series_id, raised_at, cause)
);
create index alert_open on alert (raised_at desc) where closed_at is null;
create index alert_raised on alert (raised_at desc, id desc);
create index alert_series on alert (series_id, raised_at);

-- Every verdict ever given; the newest of an alert is in force.
create table label (
    id       bigint generated always as identity primary key,
    alert_id bigint not null references alert on delete cascade,
    verdict  text not null check (verdict in ('fault', 'noise', 'planned', '')),
    cause    text not null default '',
    note     text not null default '',
    author   text not null,
    at       timestamptz not null default now()
);
create index label_alert on label (alert_id, id);

create table incident (
    id         bigint generated always as identity primary key,
    reference  text not null unique,
    dataset_id bigint not null references dataset on delete cascade,
    measure    text not null default '', -- empty: any
    segment    text not null default '', -- empty: any
    started_at timestamptz not null,
    ended_at   timestamptz,
    title      text not null,
    cause      text not null default '',
    severity   text not null default 'warning',
    note       text not null default '',
    author     text not null default '',
    known_at   timestamptz not null default now(),
    check (ended_at is null or ended_at > started_at)
);
create index incident_dataset on incident (dataset_id, started_at);

create table planned_event (
    id         bigint generated always as identity primary key,
    calendar   text not null,
    uid        text not null,
    summary    text not null,
    dataset    text not null default '', -- empty: all datasets
    holiday    boolean not null default false,
    started_at timestamptz not null,
    ended_at   timestamptz not null,
    known_at   timestamptz not null default now(),
    unique (calendar, uid, started_at),
    check (ended_at > started_at)
);

-- Long work whose progress people follow.
create table task (
    id          bigint generated always as identity primary key,
    what        text not null,
    subject     text not null,
    done        int not null default 0,
    total       int not null default 0,
    state       text not null default 'running' check (state in ('running', 'done', 'failed')),
    message     text not null default '',
    started_at  timestamptz not null default now(),
    finished_at timestamptz
);

-- +goose Down
drop table task, planned_event, incident, label, alert, baseline, monitor, load, sample, series, metric, dataset, source, token, account;
