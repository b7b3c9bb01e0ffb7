-- +goose Up
-- Rules by which runs enter a model by themselves, and what became of the runs.
create table entering (
    id         bigint generated always as identity primary key,
    model      bigint not null references model,
    number     int not null check (number > 0),
    filter     text not null default '',
    checkpoint text not null check (checkpoint in ('best', 'last')),
    margin     double precision check (margin >= 0),         -- null: the noise between seeds
    ask        text not null default '',
    each       boolean not null default false,
    person     bigint not null references person,            -- in whose name runs enter
    created    timestamptz not null default now(),
    cleared    timestamptz,
    event      bigint not null default 0,                    -- runs were looked at after it
    heard      timestamptz,                                  -- when something had last happened in the project
    trouble    text not null default '',
    unique (model, number)
);

create table entering_run (
    entering   bigint not null references entering,
    run        int not null,                                 -- its number in the model's project
    ended      timestamptz not null,
    fate       text not null,
    said       jsonb not null,                               -- figures, as they were
    at         timestamptz not null default now(),
    primary key (entering, run)
);
create index entering_run_latest on entering_run (entering, at desc);

-- +goose Down
drop table entering_run, entering;
