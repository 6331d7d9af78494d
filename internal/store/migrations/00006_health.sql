-- +goose Up

-- What the overview shows of a dataset, as of its last collection.
create table health (
    dataset_id  bigint primary key references dataset on delete cascade,
    summary     json not null, -- passed on as it is
    computed_at timestamptz not null
);

-- +goose Down
drop table health;
