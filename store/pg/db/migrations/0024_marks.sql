-- +goose Up
-- What people say of the labels of examples. The scope is the snapshot that they are items of, hydrophone#3, or where none is known the run and the split,
-- vessels/3:val.
create table example_mark (
    project bigint not null references project on delete cascade,
    scope   text not null,
    key     text not null,
    person  bigint not null references person on delete cascade,
    mark    text not null check (mark in ('right', 'wrong', 'unclear')),
    label   text not null default '',                    -- what a wrong one should be; "": it was not said
    was     text not null,                               -- the label that was looked at
    at      timestamptz not null default now(),
    primary key (project, scope, key, person)
);

-- +goose Down
drop table example_mark;
