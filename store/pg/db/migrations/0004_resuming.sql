-- +goose Up
alter table run add needs text[];                -- parts that resuming it needs, as its program declared; null: the usual ones
alter table run add origin jsonb;                -- the run it branched from or repeats
alter table run add start jsonb;                 -- its starting weights, as its program said
alter table run add repeats jsonb;               -- of a rerun: how its curves compare with its origin's
alter table leg add resumed jsonb;               -- the checkpoint it goes on from, and with which parts

-- What a person's evaluation of a restored checkpoint gave.
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

-- What is known of the tensors in a file of weights, whichever checkpoints hold it.
create table tensor_file (
    digest  bytea primary key,                   -- of the file
    weights bytea,                               -- fingerprint of the tensors; null where the file could not be read
    problem text not null default '',
    tensors jsonb not null                       -- in the order of the file: name, dtype, shape, statistics
);
create index tensor_file_weights on tensor_file (weights);
create index checkpoint_file_weights on checkpoint_file (digest) where part = 'weights';

-- +goose Down
drop index checkpoint_file_weights;
drop table tensor_file, verification;
alter table leg drop column resumed;
alter table run drop column needs, drop column origin, drop column start, drop column repeats;
