-- +goose Up
-- Datasets, their snapshots, and which run used which.
create table dataset (
    id      bigint generated always as identity primary key,
    name    text not null unique check (name ~ '^[a-z][a-z0-9-]{0,39}$'),
    title   text not null default '',
    person  bigint not null references person,
    created timestamptz not null default now()
);

create table snapshot (
    id       bigint generated always as identity primary key,
    dataset  bigint not null references dataset,
    number   int not null check (number > 0),
    digest   bytea not null check (length(digest) = 32), -- of its items in order
    items    bigint not null check (items > 0),
    bytes    bigint not null,
    kept     bigint not null,                            -- items whose bytes are in the store
    columns  jsonb not null,                             -- of the team's own: [{name, kind}]
    rows     boolean not null,                           -- items are rows of a table, without bytes
    source   jsonb not null,                             -- what it was made from
    base     int,                                        -- number of the snapshot that it was changed from
    person   bigint not null references person,
    created  timestamptz not null default now(),
    size     bigint not null,                            -- of its file
    file     bytea not null,                             -- digest of the file
    chunks   bytea not null,                             -- 36 bytes each: digest, length big endian
    answers  jsonb,                                      -- null: not looked at yet
    marks    bytea not null default '',                  -- chunks of the marks of each item, 36 bytes each
    failed   text not null default '',                   -- why it could not be looked at
    tries    int not null default 0,                     -- begun and not ended
    tried    timestamptz,
    unique (dataset, number),
    unique (dataset, digest)
);
create index snapshot_unanswered on snapshot (id) where answers is null;

create table snapshot_split (
    snapshot bigint not null references snapshot on delete cascade,
    name     text not null,
    items    bigint not null,
    bytes    bigint not null,
    kept     bigint not null,
    keys     bytea not null,                             -- fingerprints: of keys, of digests, of pairs of these
    digests  bytea not null,
    pairs    bytea not null,
    primary key (snapshot, name)
);
create index snapshot_split_pairs on snapshot_split (pairs);
create index snapshot_split_keys on snapshot_split (keys);
create index snapshot_split_digests on snapshot_split (digests);

-- A snapshot that is being made, in blocks of items that are chunks until then.
create table draft (
    id       uuid primary key,
    dataset  bigint not null references dataset,
    person   bigint not null references person,
    begun    timestamptz not null default now(),
    columns  jsonb not null,
    rows     boolean not null,
    source   jsonb not null,
    base     int,
    sets     jsonb,                                      -- what a change of base sets; null: all items come
    snapshot bigint references snapshot                  -- what became of it
);
create index draft_begun on draft (begun);

create table draft_block (
    draft  uuid not null references draft on delete cascade,
    number int not null check (number > 0),
    digest bytea not null,
    items  int not null,
    primary key (draft, number)
);

-- What a run used, by what for: train, val, test.
create table run_data (
    run      bigint not null references run on delete cascade,
    use      text not null,
    snapshot bigint references snapshot,                 -- null: none that is known
    split    text not null default '',
    items    bigint not null default 0,                  -- handed over by the program; 0: it named the snapshot
    asked    text not null default '',                   -- as the program named it
    address  text not null default '',                   -- hydrophone#3:train, or "" where it is none that is known
    at       timestamptz not null default now(),
    primary key (run, use)
);
create index run_data_snapshot on run_data (snapshot);

-- +goose Down
drop table run_data, draft_block, draft, snapshot_split, snapshot, dataset;
