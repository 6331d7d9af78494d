-- +goose Up
-- People sign in with a password or through a provider, too, and may be limited to some
-- datasets; teams give their members a role. A role of none is what teams give alone.
alter table account drop constraint account_role_check;
alter table account add constraint account_role_check check (role in ('admin', 'editor', 'responder', 'reader', 'none'));
alter table account
    add column datasets jsonb not null default '[]', -- names, * for any part, or tag:NAME; none: all
    add column password text  not null default '',   -- argon2id in PHC form; empty: no password
    add column subject  text  unique;                -- who it is for a provider: issuer and subject
alter table token add column datasets jsonb not null default '[]';

create table team (
    id       bigint generated always as identity primary key,
    name     text  not null unique,
    role     text  not null check (role in ('admin', 'editor', 'responder', 'reader')),
    datasets jsonb not null default '[]'
);
create table team_member (
    team_id    bigint not null references team on delete cascade,
    account_id bigint not null references account on delete cascade,
    given      boolean not null default false, -- by a provider's groups, and taken back by them
    primary key (team_id, account_id)
);
create index team_member_account on team_member (account_id);

-- A browser that has signed in. Its secret changes as it is used; the one before is good
-- until the new one has come, and a minute longer.
create table session (
    id         bigint generated always as identity primary key,
    account_id bigint not null references account on delete cascade,
    token_id   bigint references token on delete cascade, -- signed in with: the session says no more
    hash       bytea  not null unique,
    before     bytea,
    seen       boolean not null default true, -- whether the newest secret has come yet
    turned_at  timestamptz not null,          -- when the secret changed
    by         text not null check (by in ('token', 'password', 'provider')),
    origin     text not null,
    agent      text not null,
    created_at timestamptz not null,
    used_at    timestamptz not null
);
create index session_account on session (account_id);
create index session_before on session (before);

-- Tries to sign in with a password, by name and by where they came from.
create table attempt (
    name      text not null,
    origin    text not null,
    failed    integer not null default 0, -- since the last that went well
    failed_at timestamptz,
    went_at   timestamptz, -- the last that went well
    primary key (name, origin)
);
create index attempt_origin on attempt (origin, failed_at);

-- +goose Down
drop table attempt;
drop table session;
drop table team_member;
drop table team;
alter table token drop column datasets;
alter table account drop column datasets, drop column password, drop column subject;
update account set role = 'reader' where role = 'none';
alter table account drop constraint account_role_check;
alter table account add constraint account_role_check check (role in ('admin', 'editor', 'responder', 'reader'));
