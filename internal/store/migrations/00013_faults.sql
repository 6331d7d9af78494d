-- +goose Up
-- What rang: the stretch of it begins with since. The worst stretch so far is about
-- as long. Where an alert began is known with a spread, and so is how large it is.
alter table alert add rang_to timestamptz;
alter table alert add worst_from timestamptz;
alter table alert add worst_to timestamptz;
alter table alert add worst_observed double precision not null default 0;
alter table alert add worst_expected double precision not null default 0;
alter table alert add figures text not null default '';
alter table alert add onset_spread double precision not null default 0;
alter table alert add effect double precision not null default 0;
alter table alert add effect_error double precision not null default 0;

-- A person said which fault it belongs to: it is not moved any more.
alter table alert add fixed boolean not null default false;

-- Where a fault began: a dataset, a job or a source by its name, and the segment as
-- pairs of column and value.
alter table alert_group add origin_kind text not null default 'dataset' check (origin_kind in ('dataset', 'job', 'source'));
alter table alert_group add origin_segment jsonb not null default '[]';
update alert_group g set origin_kind = 'job', origin = j.name from job j where g.origin = 'job:' || j.id;
update alert_group g set origin_kind = 'source', origin = s.name from source s where g.origin = 'source:' || s.id;

-- Groups that a person said are not the same fault.
create table group_apart (
    one   bigint not null references alert_group on delete cascade,
    other bigint not null references alert_group on delete cascade,
    primary key (one, other)
);

-- What people said of groups: evidence for whoever wants to learn from it.
create table group_answer (
    id       bigint generated always as identity primary key,
    at       timestamptz not null,
    author   text not null,
    says     text not null check (says in ('same', 'not the same')),
    group_id bigint not null references alert_group on delete cascade,
    other_id bigint not null references alert_group on delete cascade,
    alerts   jsonb not null                         -- those that changed their group
);

-- How long after its upstream a dataset shows a disturbance, and which share of its
-- rows comes from there.
create table lineage_lag (
    from_name  text not null,
    to_name    text not null,
    low        double precision not null,           -- seconds
    high       double precision not null,
    spread     double precision not null,
    pass       double precision not null,           -- 0: not known
    learned    text not null check (learned in ('rows', 'faults', 'runs')),
    learned_at timestamptz not null,
    primary key (from_name, to_name)
);

-- Which share of a dataset's rows a value of a column has.
create table segment_share (
    dataset text not null,
    col     text not null,
    value   text not null,
    share   double precision not null,
    primary key (dataset, col, value)
);

-- Why a message is sent, where its kind alone does not say it.
alter table message add why text not null default '';

-- Columns of a dataset whose values are never shown.
alter table dataset add hidden jsonb not null default '[]';

-- Who looked at rows, and what else must be answered for.
create table audit (
    id    bigint generated always as identity primary key,
    at    timestamptz not null,
    who   text not null,
    what  text not null,
    about text not null,
    note  text not null default ''
);
create index audit_at on audit (at desc, id desc);

-- Two stages compared by the same aggregate: the difference is a metric.
create table reconciliation (
    id          bigint generated always as identity primary key,
    name        text not null unique,
    up_metric   bigint not null references metric on delete cascade,
    down_metric bigint not null references metric on delete cascade,
    metric_id   bigint not null references metric on delete cascade,
    lag_seconds bigint not null,
    tolerance   double precision not null,
    up_key      text not null default '',
    down_key    text not null default '',
    created_at  timestamptz not null,
    compared_to timestamptz,
    message     text not null default ''
);

-- +goose Down
drop table reconciliation;
drop table audit;
alter table dataset drop hidden;
alter table message drop why;
drop table segment_share;
drop table lineage_lag;
drop table group_answer;
drop table group_apart;
update alert_group g set origin = 'job:' || j.id from job j where g.origin_kind = 'job' and g.origin = j.name;
update alert_group g set origin = 'source:' || s.id from source s where g.origin_kind = 'source' and g.origin = s.name;
alter table alert_group drop origin_kind, drop origin_segment;
alter table alert drop fixed;
alter table alert drop rang_to, drop worst_from, drop worst_to, drop worst_observed, drop worst_expected, drop figures,
	drop onset_spread, drop effect, drop effect_error;
