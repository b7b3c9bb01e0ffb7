-- +goose Up
-- Who may: roles of people and teams, on the service (project null) or on a project.
create type role as enum ('reader', 'recorder', 'member', 'approver', 'owner');

create table team (
    id      bigint generated always as identity primary key,
    name    text not null check (length(name) between 1 and 80),
    created timestamptz not null default now()
);
create unique index team_name on team (lower(name));

create table team_member (
    team   bigint not null references team on delete cascade,
    person bigint not null references person on delete cascade,
    primary key (team, person)
);
create index team_member_person on team_member (person);

alter table person
    add column kind   text not null default 'person' check (kind in ('person', 'machine')),
    add column email  text not null default '',
    add column team   bigint references team on delete set null, -- that a machine belongs to
    add column closed timestamptz;                               -- signs in no more

create table given_role (
    id      bigint generated always as identity primary key,
    project bigint references project on delete cascade,         -- null: the service
    person  bigint references person on delete cascade,
    team    bigint references team on delete cascade,
    role    role not null,
    given   timestamptz not null default now(),
    check (num_nonnulls(person, team) = 1)
);
create unique index given_role_once on given_role (coalesce(project, 0), coalesce(person, 0), coalesce(team, 0));
create index given_role_person on given_role (person) where person is not null;
create index given_role_team on given_role (team) where team is not null;

alter table project add column open boolean not null default true; -- everybody who is signed in sees it

-- Everybody may go on with what they did.
insert into given_role (person, role) select id, 'member' from person;
insert into given_role (project, person, role) select id, creator, 'owner' from project;

alter table token
    add column role      role,                                   -- at most; null: all that its person may
    add column project   bigint references project on delete cascade, -- only there; null: everywhere
    add column networks  text[] not null default '{}',           -- from these addresses only; empty: from all
    add column used_from text not null default '';
alter table session
    add column id      bigint generated always as identity,
    add column created timestamptz not null default now(),
    add column used    timestamptz not null default now(),
    add column place   text not null default '';                 -- address from which it was opened

-- Events are the audit: they have a verb, a subject and data, outlive what they are of, and are never changed. event_chain gives each the digest
-- over it and the one before.
alter table event drop constraint event_project_fkey, drop constraint event_run_fkey, drop constraint event_person_fkey;
alter table event rename column what to verb;
alter table event
    add column subject text not null default '',
    add column data    jsonb not null default '{}',
    add column place   text not null default '';                 -- address from which it was done

create table event_chain (
    seq    bigint primary key,
    event  bigint not null unique,
    xact   xid8 not null,
    digest bytea not null
);

-- +goose StatementBegin
create function refuse_change() returns trigger language plpgsql as $$
begin
    raise exception 'events are written once and never changed';
end $$;
-- +goose StatementEnd
create trigger event_stays before update or delete or truncate on event for each statement execute function refuse_change();
create trigger event_chain_stays before update or delete or truncate on event_chain for each statement execute function refuse_change();

-- +goose Down
drop trigger event_stays on event;
drop trigger event_chain_stays on event_chain;
drop function refuse_change;
drop table event_chain;
alter table event drop column subject, drop column data, drop column place;
alter table event rename column verb to what;
alter table session drop column id, drop column created, drop column used, drop column place;
alter table token drop column role, drop column project, drop column networks, drop column used_from;
alter table project drop column open;
drop table given_role;
alter table person drop column kind, drop column email, drop column team, drop column closed;
drop table team_member, team;
drop type role;
