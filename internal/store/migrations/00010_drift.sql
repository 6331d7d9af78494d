-- +goose Up
-- Drift comparisons: what of a dataset is compared with which reference.
create table comparison (
	id bigint generated always as identity primary key,
	dataset_id bigint not null references dataset on delete cascade,
	name text not null unique check (name <> ''),
	owner text not null default '',
	settings jsonb not null,
	features jsonb not null default '[]',
	layouts jsonb not null default '[]',
	referred jsonb not null default '{}',
	state text not null default 'new',
	message text not null default '',
	revision int not null default 0,
	counted_to timestamptz,
	computed_to timestamptz,
	task_id bigint not null default 0,
	run_at timestamptz,
	next_at timestamptz,
	created_at timestamptz not null default now()
);
create index on comparison (dataset_id);

-- Counts of each local day, of the periods' side or the reference's. They can be
-- added up, so that any stretch is judged without reading its rows again.
create table drift_day (
	comparison_id bigint not null references comparison on delete cascade,
	reference boolean not null,
	day timestamptz not null,
	counts bytea not null,
	primary key (comparison_id, reference, day)
);

-- What was found in each period.
create table drift_period (
	comparison_id bigint not null references comparison on delete cascade,
	from_at timestamptz not null,
	to_at timestamptz not null,
	over int not null,
	found jsonb not null,
	computed_at timestamptz not null,
	primary key (comparison_id, from_at)
);

-- A metric that a comparison writes the samples of.
alter table metric add column comparison text not null default '';

-- +goose Down
alter table metric drop column comparison;
drop table drift_period, drift_day, comparison;
