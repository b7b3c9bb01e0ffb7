-- +goose Up
-- Sign-in elsewhere, by OpenID Connect: who somebody is there, tries under way, and which sessions came of it.
create table identity (
    provider text not null,
    subject  text not null,
    person   bigint not null references person on delete cascade,
    joined   timestamptz not null default now(),
    primary key (provider, subject)
);
create index identity_person on identity (person);

create table sign_in_try (
    state    bytea primary key,                  -- SHA-256 of what goes to the provider and comes back
    provider text not null,
    verifier text not null,                      -- PKCE
    nonce    text not null,
    next     text not null,                      -- page to go to
    expires  timestamptz not null
);

alter table session
    add column provider text not null default '',
    add column subject  text not null default '',
    add column sid      text not null default '', -- the session there
    add column id_token text not null default ''; -- with which it is ended there
create index session_provider on session (provider, subject) where provider <> '';

-- +goose Down
alter table session drop column provider, drop column subject, drop column sid, drop column id_token;
drop table sign_in_try, identity;
