-- +goose Up
-- A comparison that cannot be computed is an alert about it.
alter table comparison add column failing_since timestamptz;
alter table alert add column of_comparison bigint references comparison on delete cascade;
alter table alert drop constraint alert_about;
alter table alert add constraint alert_about check (monitor_id is not null and series_id is not null or of_source is not null or of_job is not null or of_sla is not null or of_comparison is not null);

-- +goose Down
delete from alert where of_comparison is not null;
alter table alert drop column of_comparison;
alter table alert add constraint alert_about check (monitor_id is not null and series_id is not null or of_source is not null or of_job is not null or of_sla is not null);
alter table comparison drop column failing_since;
