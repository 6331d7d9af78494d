-- +goose Up
-- What a monitor's limits would have rung in a part of its past that they were not
-- fitted to, what it has told since, and by how much each rule's limit is raised
-- for it.
alter table monitor add budget jsonb;

-- How far an alert's statistic lay over its limit, and how often what it told of
-- has come back since without being told again.
alter table alert add strength double precision not null default 0;
alter table alert add returns int not null default 0;
alter table alert add returned_at timestamptz;

-- +goose Down
alter table alert drop strength, drop returns, drop returned_at;
alter table monitor drop budget;
