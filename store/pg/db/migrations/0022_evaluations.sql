-- +goose Up
-- What programs found of checkpoints on some data. A verification is one that was compared with what was recorded.
create table evaluation (
    run        bigint not null,
    id         bigint generated always as identity,
    number     int not null check (number > 0),
    key        uuid not null unique,
    checkpoint bigint not null,
    data       text not null default '',                 -- hydrophone#3:test
    split      text not null default '',                 -- of that, or as it was named; "": it was not said
    snapshot   bigint references snapshot,
    figures    jsonb not null,                           -- {"accuracy.test": 0.93}, as the program said
    measures   jsonb not null,                           -- {"accuracy": 0.93}: these by measure, and what its sheets give instead
    verified   jsonb,                                    -- {same, figures}; null: it was not compared
    command    jsonb not null,
    notes      jsonb not null default '[]',
    host       text not null default '',
    person     bigint references person on delete set null,
    started    timestamptz,                              -- null: not known
    ended      timestamptz not null,
    primary key (run, id),
    unique (run, number),
    foreign key (run, checkpoint) references checkpoint on delete cascade
);
create index evaluation_data on evaluation (run, data);
create index evaluation_snapshot on evaluation (snapshot) where snapshot is not null;

insert into evaluation (run, number, key, checkpoint, figures, measures, verified, command, host, person, ended)
select v.run, row_number() over (partition by v.run order by v.id), gen_random_uuid(), v.checkpoint,
    (select coalesce(jsonb_object_agg(f ->> 'curve', f -> 'found'), '{}') from jsonb_array_elements(v.result -> 'figures') f),
    '{}', jsonb_build_object('same', v.result -> 'same', 'figures', v.result -> 'figures'), coalesce(v.result -> 'command', '[]'), v.host, v.person, v.at
from verification v;
drop table verification;

alter table sheet add evaluation bigint, add foreign key (run, evaluation) references evaluation (run, id) on delete cascade;
create index sheet_evaluation on sheet (run, evaluation) where evaluation is not null;
create index sheet_data on sheet (data) where data <> '';

-- +goose Down
delete from sheet where evaluation is not null;
drop index sheet_data;
alter table sheet drop column evaluation;
create table verification (
    run        bigint not null,
    checkpoint bigint not null,
    id         bigint generated always as identity,
    at         timestamptz not null default now(),
    person     bigint references person on delete set null,
    host       text not null default '',
    result     jsonb not null,
    primary key (run, checkpoint, id),
    foreign key (run, checkpoint) references checkpoint on delete cascade
);
insert into verification (run, checkpoint, at, person, host, result)
select run, checkpoint, ended, person, host, verified || jsonb_build_object('command', command) from evaluation where verified is not null order by run, number;
drop table evaluation;
