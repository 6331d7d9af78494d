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

-- +goose Down
alter table alert drop rang_to, drop worst_from, drop worst_to, drop worst_observed, drop worst_expected, drop figures,
	drop onset_spread, drop effect, drop effect_error;
