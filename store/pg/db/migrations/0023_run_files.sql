-- +goose Up
-- Files that runs and evaluations wrote and that are no checkpoints. One of the same path takes the place of the one before.
create table run_file (
    run        bigint not null references run on delete cascade,
    id         bigint generated always as identity,
    evaluation bigint,                                   -- null: of the run itself
    key        uuid not null unique,
    path       text not null,
    kind       text not null,                            -- text, table, picture, sound, other
    size       bigint not null,
    digest     bytea not null,
    chunks     bytea not null,                           -- 36 bytes each: digest, length big endian
    leg        int not null default 0,                   -- 0: it was added later
    person     bigint references person on delete set null,
    written    timestamptz not null default now(),
    dropped    timestamptz,                              -- when its bytes went
    primary key (run, id),
    unique nulls not distinct (run, evaluation, path),
    foreign key (run, evaluation) references evaluation (run, id) on delete cascade
);

-- What a project's rule says of such files: {"days": 30}.
alter table project add file_rule jsonb;

-- +goose Down
alter table project drop column file_rule;
drop table run_file;
