-- +goose Up

-- Days that are over, packed: one row per series and day (UTC, counted from
-- 1970). A row of sample for the same time is newer and stands above it.
create table sample_day (
    series_id bigint not null,
    day       int not null,
    packed    bytea not null,
    primary key (series_id, day)
);
alter table sample_day alter column packed set storage external;

-- How long samples are kept; 0: the service's own rule.
alter table dataset add column keep_days int not null default 0 check (keep_days >= 0);

-- +goose Down
drop table sample_day;
alter table dataset drop column keep_days;
