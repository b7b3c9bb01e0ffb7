-- +goose Up
-- Prediction sheets of runs, and what is wrong by the latest of each split.
create table sheet (
    run           bigint not null references run on delete cascade,
    id            bigint generated always as identity,
    number        int not null check (number > 0),
    key           uuid not null unique,
    leg           int not null,                          -- 0: it was added later
    step          bigint not null,
    epoch         float8 not null,
    split         text not null,
    task          text not null,
    classes       jsonb not null,                        -- ["tug", ...]
    probabilities boolean,                               -- as it was said; null: it was not
    examples      bigint not null,
    labelled      bigint not null,
    figures       jsonb not null,                        -- [{name, value, low, high}]
    assessed      jsonb not null,                        -- all that it comes to
    alarms        jsonb not null,                        -- [{kind, ...}]
    held          text[] not null default '{}',          -- curves whose figures were held against the answers
    compared      boolean not null default false,        -- no other curve is waited for
    data          text not null default '',              -- hydrophone#3:val
    source        text not null default '',
    size          bigint not null,
    person        bigint not null references person,
    created       timestamptz not null default now(),
    primary key (run, id),
    unique (run, number)
);
create index sheet_uncompared on sheet (created) where not compared;

create table sheet_file (
    run    bigint not null,
    sheet  bigint not null,
    name   text not null,
    size   bigint not null,
    chunks bytea not null,                               -- 36 bytes each: digest, length big endian
    primary key (run, sheet, name),
    foreign key (run, sheet) references sheet (run, id) on delete cascade
);

-- Kinds of alarms by the latest sheet of each split.
alter table run add alarms text[] not null default '{}';

-- +goose Down
alter table run drop alarms;
drop table sheet_file, sheet;
