-- +goose Up
-- Addresses that are told of events. What a subscription has been told is a place in the order of events and, behind it, deliveries: one for each
-- event that it was told or is to be told.
create table subscription (
    id           bigint generated always as identity primary key,
    project      bigint not null references project on delete cascade,
    name         text not null check (name ~ '^[a-z][a-z0-9-]{0,39}$'),
    url          text not null,
    kinds        text[] not null default '{}',           -- empty: all
    subject      text not null default '',               -- this, or what is of it; '': all
    filter       text not null default '',               -- that a run must fulfil
    binary_mode  boolean not null default false,
    secret       bytea not null,
    secret_before bytea,                                 -- still signs, until:
    before_until timestamptz,
    machine      bigint references person on delete set null, -- in whose name the receiver may report back
    report_key   bytea not null,
    person       bigint not null references person,
    created      timestamptz not null default now(),
    paused       timestamptz,
    why_paused   text not null default '',
    xact         xid8 not null,                          -- told of all up to this event, or not to be told
    event        bigint not null,
    fails        int not null default 0,                 -- in a row
    holder       uuid,                                   -- the process that sends, until:
    held         timestamptz,
    unique (project, name)
);

create table delivery (
    subscription bigint not null references subscription on delete cascade,
    event        bigint not null,
    subject      text not null,
    state        text not null check (state in ('waiting', 'delivered', 'parked')),
    attempts     int not null default 0,
    first        timestamptz,                            -- attempt, since it was last asked for
    last         timestamptz,
    next         timestamptz,                            -- not tried before; null: when those of its subject before it are through
    status       int not null default 0,                 -- answered; 0: nothing was
    trouble      text not null default '',               -- why it was not taken
    answer       text not null default '',
    took         int not null default 0,                 -- milliseconds
    primary key (subscription, event)
);
create index delivery_waiting on delivery (subscription, subject, event) where state = 'waiting';
create index delivery_done on delivery (last) where state = 'delivered';

-- What was reported back on an event: each purpose once.
create table report (
    subscription bigint not null references subscription on delete cascade,
    event        bigint not null,
    purpose      text not null,
    at           timestamptz not null default now(),
    primary key (subscription, event, purpose)
);

-- +goose Down
drop table report, delivery, subscription;
