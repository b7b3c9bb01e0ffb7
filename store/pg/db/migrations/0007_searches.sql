-- +goose Up
create table search (
    id       bigint generated always as identity primary key,
    project  bigint not null references project on delete cascade,
    number   int not null check (number > 0),
    key      uuid not null unique,               -- idempotency key of its making
    title    text not null default '',
    strategy text not null,
    space    text not null,                      -- docs/search.md
    seed     bigint not null,
    budget   int not null,
    command  jsonb not null,
    person   bigint not null references person,
    started  timestamptz not null default now(),
    unique (project, number)
);
alter table run add search int;                  -- number of the search in its project; null: none
alter table run add trial int;                   -- its place in it, from 1
create index run_search on run (project, search, trial) where search is not null;

-- +goose Down
alter table run drop column search, drop column trial;
drop table search;
