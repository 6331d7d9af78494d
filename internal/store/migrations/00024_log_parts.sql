-- +goose Up
-- Whose lines a log holds, where files of it land, what of its lines is counted apart and
-- masked, and what is told.
alter table log
    add column job           text not null default '', -- that writes it
    add column service       text not null default '', -- or this
    add column source_id     bigint references source on delete set null, -- the folder where its files land
    add column pattern       text not null default '', -- which of them
    add column by_attributes jsonb not null default '[]', -- counted apart
    add column masked        jsonb not null default '[]', -- words and expressions, beside those always masked
    add column kinds         jsonb not null default '["new", "burst", "vanished"]'; -- told
alter table log_template add column shape bigint not null default 0; -- of the lines that it was found in
-- A file of a log that is followed, by its beginning and by the end of what was counted.
create table log_file (
    id      bigint generated always as identity primary key,
    log_id  bigint not null references log on delete cascade,
    path    text not null,
    head    bytea not null, -- hash of its first line
    tail    bytea not null, -- hash of the last bytes that were counted
    counted bigint not null, -- bytes of it, unpacked
    lines   bigint not null,
    size    bigint not null, -- of the file when it was looked at last, packed or not
    changed timestamptz not null,
    message text not null default '', -- why it cannot be read
    at      timestamptz not null default now()
);
create index on log_file (log_id, path);
-- What was counted by the value of an attribute, and the values told apart.
create table log_part (
    log_id    bigint not null references log on delete cascade,
    at        timestamptz not null,
    number    int not null,
    attribute text not null,
    value     text not null,
    n         bigint not null,
    primary key (log_id, at, number, attribute, value)
);
create table log_attribute (
    log_id    bigint not null references log on delete cascade,
    attribute text not null,
    value     text not null,
    primary key (log_id, attribute, value)
);
-- What stood in the variable parts of a sentence on a day.
create table log_value (
    log_id  bigint not null references log on delete cascade,
    number  int not null,
    place   int not null,
    day     date not null,
    summary jsonb not null,
    primary key (log_id, number, place, day)
);
-- What became part of what, and what people corrected.
create table log_change (
    id     bigint generated always as identity primary key,
    log_id bigint not null references log on delete cascade,
    at     timestamptz not null default now(),
    what   text not null check (what in ('merged', 'joined', 'held', 'varied')),
    number int not null,
    other  int not null default 0,
    place  int not null default -1,
    word   text not null default '',
    author text not null default ''
);
create index on log_change (log_id, number);

-- +goose Down
alter table log_template drop column shape;
drop table log_change, log_value, log_attribute, log_part, log_file;
alter table log drop column job, drop column service, drop column source_id, drop column pattern, drop column by_attributes, drop column masked, drop column kinds;
