-- +goose Up
create table person (
    id            bigint generated always as identity primary key,
    name          text not null check (length(name) between 1 and 80),
    password      text,                          -- argon2id in PHC form; null: none set
    administrator boolean not null default false,
    created       timestamptz not null default now()
);
create unique index person_name on person (lower(name));

create table token (
    id      bigint generated always as identity primary key,
    person  bigint not null references person on delete cascade,
    name    text not null,
    hash    bytea not null unique,               -- SHA-256 of the secret
    created timestamptz not null default now(),
    expires timestamptz not null,
    revoked timestamptz,
    used    timestamptz
);
create index token_person on token (person, id);

create table session (
    hash    bytea primary key,                   -- SHA-256 of the cookie's value
    person  bigint not null references person on delete cascade,
    expires timestamptz not null
);
create index session_expires on session (expires);

create table sign_in_link (
    hash    bytea primary key,                   -- SHA-256 of the code; a row is deleted when used
    person  bigint not null references person on delete cascade,
    expires timestamptz not null
);

create table project (
    id        bigint generated always as identity primary key,
    key       text not null unique check (key ~ '^[a-z][a-z0-9-]{0,39}$'),
    title     text not null default '',
    objective text not null,                     -- curve and direction: 'loss.val lower'
    created   timestamptz not null default now(),
    creator   bigint not null references person,
    runs      int not null default 0             -- number given to the latest run
);

create type run_state as enum ('running', 'finished', 'stopped', 'failed', 'lost');

create table run (
    id      bigint generated always as identity primary key,
    project bigint not null references project,
    number  int not null check (number > 0),
    key     uuid not null unique,                -- idempotency key of its creation
    title   text not null default '',
    state   run_state not null default 'running',
    creator bigint not null references person,
    host    text not null default '',
    recipe  jsonb not null default '{}',
    created timestamptz not null default now(),
    started timestamptz not null,
    ended   timestamptz,
    unique (project, number)
);
create index run_state_project on run (project, state);

-- Every large table leads its key with the run, so that it can be spread by run.
create table hyper (
    run   bigint not null references run on delete cascade,
    name  text not null,
    value jsonb not null,
    primary key (run, name)
);

create table leg (
    run        bigint not null references run on delete cascade,
    number     int not null check (number > 0),
    key        uuid not null unique,
    recorder   uuid not null,                    -- the only recorder process that may write
    state      run_state not null default 'running',
    host       text not null default '',
    from_step  bigint not null default 0,
    started    timestamptz not null,
    ended      timestamptz,
    seen       timestamptz not null default now(),
    batches    bigint not null default 0,        -- last batch counted
    upto       bigint not null default 0,        -- last record of the spool in it
    summarised bigint not null default 0,        -- last batch that curve_summary includes
    points     bigint not null default 0,
    last_step  bigint not null default 0,
    last_epoch float8 not null default 'NaN',
    exit_code  int,
    signal     text not null default '',
    why        text not null default '',
    tail       text not null default '',
    output     bigint not null default 0,        -- bytes of output kept
    primary key (run, number)
);
create index leg_unsummarised on leg (run, number) where batches > summarised;
create index leg_running on leg (seen) where state = 'running';

create table curve (
    run  bigint not null references run on delete cascade,
    id   int not null,
    name text not null,
    primary key (run, id),
    unique (run, name)
);

-- One row per batch, all its curves packed over a shared axis: docs/storage.md.
create table journal (
    run        bigint not null references run on delete cascade,
    leg        int not null,
    batch      bigint not null,
    first_step bigint not null,
    last_step  bigint not null,
    payload    bytea not null,
    primary key (run, leg, batch)
);
alter table journal alter column payload set storage external; -- packed already

create table curve_summary (
    run        bigint not null references run on delete cascade,
    curve      int not null,
    count      bigint not null,
    nan        bigint not null,
    infinite   bigint not null,
    last_step  bigint not null, last_epoch float8 not null, last_time bigint not null, last_value float8 not null,
    low_step   bigint not null, low_epoch  float8 not null, low_time  bigint not null, low_value  float8 not null,
    high_step  bigint not null, high_epoch float8 not null, high_time bigint not null, high_value float8 not null,
    sketch_every bigint not null,
    sketch       float8[] not null,
    primary key (run, curve)
);

create table note (
    run  bigint not null references run on delete cascade,
    id   bigint generated always as identity,
    leg  int not null,
    at   timestamptz not null,
    text text not null,
    primary key (run, id)
);

create table output (
    run    bigint not null references run on delete cascade,
    id     bigint generated always as identity,
    leg    int not null,
    stream text not null check (stream in ('stdout', 'stderr')),
    start  bigint not null,
    size   bigint not null,
    text   text not null,
    primary key (run, id),
    unique (run, leg, stream, start)
);

create table chunk (
    digest bytea primary key check (length(digest) = 32), -- BLAKE3-256
    size   int not null check (size > 0),
    kept   timestamptz not null default now()
);

create table checkpoint (
    run     bigint not null references run on delete cascade,
    id      bigint generated always as identity,
    key     uuid not null unique,
    leg     int not null,
    step    bigint not null,
    epoch   float8 not null,
    why     text not null default '',
    figures jsonb not null default '{}',
    saved   timestamptz not null,
    kept    timestamptz not null default now(),
    size    bigint not null,
    primary key (run, id),
    unique (run, leg, step)
);
create index checkpoint_step on checkpoint (run, step);

create table checkpoint_file (
    run        bigint not null,
    checkpoint bigint not null,
    path       text not null,
    part       text not null,
    size       bigint not null,
    digest     bytea not null,
    chunks     bytea not null,                   -- 36 bytes each: digest, length big endian
    primary key (run, checkpoint, path),
    foreign key (run, checkpoint) references checkpoint on delete cascade
);

-- Every change of state: the audit trail and the live stream. Read in the order (xact, id), up to the oldest open transaction.
create table event (
    id      bigint generated always as identity primary key,
    xact    xid8 not null default pg_current_xact_id(),
    at      timestamptz not null default now(),
    kind    text not null,
    project bigint references project on delete cascade,
    run     bigint references run on delete cascade,
    person  bigint references person on delete set null,
    what    text not null default ''
);
create index event_order on event (xact, id);
create index event_run on event (run, id) where run is not null;

-- +goose Down
drop table event, checkpoint_file, checkpoint, chunk, output, note, curve_summary, journal, curve, leg, hyper, run, project,
    sign_in_link, session, token, person;
drop type run_state;
