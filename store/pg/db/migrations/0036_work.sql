-- +goose Up
-- Work that a request began and that is done whether or not anybody waits for it, such as assessing a prediction sheet.
create table work (
    key uuid primary key,              -- the request's own: the same request sent again is the same work
    kind text not null,                -- sheet, snapshot
    run bigint references run on delete cascade,
    person bigint not null references person,
    request jsonb not null,
    progress real not null default 0,  -- 0 to 1
    tries int not null default 0,
    holder uuid,                       -- the replica that does it
    beat timestamptz,                  -- when that replica was last heard of
    problem jsonb,                     -- why it failed
    result jsonb,
    created timestamptz not null default now(),
    ended timestamptz
);
create index work_open on work (beat) where ended is null;
create index work_run on work (run);

-- +goose Down
drop table work;
