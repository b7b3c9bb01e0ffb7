-- +goose Up
-- Models that the team hands on: their editions, which stand on their own when the run is gone, and their standings.
create table model (
    id      bigint generated always as identity primary key,
    name    text not null unique check (name ~ '^[a-z][a-z0-9-]{0,39}$'),
    title   text not null default '',
    purpose text not null default '',
    project bigint not null references project,          -- whose roles say who may
    person  bigint not null references person,
    created timestamptz not null default now()
);
create index model_project on model (project);

create table model_standing (
    model     bigint not null references model,
    name      text not null check (name ~ '^[a-z][a-z0-9-]{0,39}$' and name <> 'proposed'),
    place     int not null,                              -- in the order in which they are shown
    approvers int not null default 0 check (approvers >= 0),
    checks    text[] not null default '{}',
    primary key (model, name)
);

create table edition (
    id      bigint generated always as identity primary key,
    model   bigint not null references model,
    number  int not null check (number > 0),
    origin  text not null,                               -- vessels/17@s480.leg1
    run     bigint references run on delete set null,    -- null: it is gone
    facts   jsonb not null,                              -- what was known of it when it was entered
    size    bigint not null,
    why     text not null default '',
    person  bigint not null references person,
    entered timestamptz not null default now(),
    unique (model, number),
    unique (model, origin)
);
create index edition_run on edition (run) where run is not null;
create index edition_origin on edition (origin);

create table edition_file (
    edition bigint not null references edition,
    path    text not null,
    part    text not null,
    size    bigint not null,
    digest  bytea not null,
    chunks  bytea not null,                              -- 36 bytes each: digest, length big endian
    primary key (edition, path)
);

-- Who had a standing from when until when. Each begins when the one before ends; one without an edition says that nobody had it.
create table holding (
    model    bigint not null,
    standing text not null,
    seq      int not null check (seq > 0),
    edition  bigint references edition,
    since    timestamptz not null,
    until    timestamptz check (until >= since),
    person   bigint not null references person,
    why      text not null default '',
    asking   bigint,                                     -- that led to it; null: none was needed
    primary key (model, standing, seq),
    foreign key (model, standing) references model_standing
);
create unique index holding_now on holding (model, standing) where until is null;

-- An edition that is asked for a guarded standing: one at a time.
create table asking (
    id       bigint generated always as identity primary key,
    model    bigint not null,
    standing text not null,
    edition  bigint not null references edition,
    person   bigint not null references person,
    why      text not null default '',
    asked    timestamptz not null default now(),
    ended    timestamptz,
    outcome  text not null default '' check (outcome in ('', 'taken', 'withdrawn') and (outcome = '') = (ended is null)),
    ender    bigint references person,
    because  text not null default '',
    foreign key (model, standing) references model_standing
);
create unique index asking_now on asking (model, standing) where ended is null;

create table sign_off (
    asking    bigint not null references asking,
    person    bigint not null references person,
    why       text not null,
    at        timestamptz not null default now(),
    upto      bigint not null,                           -- the latest check on the edition by then; 0: none
    withdrawn timestamptz,
    primary key (asking, person)
);

create table edition_check (
    id      bigint generated always as identity primary key,
    edition bigint not null references edition,
    name    text not null,
    passed  boolean not null,
    figures jsonb not null default '{}',
    text    text not null default '',
    link    text not null default '',
    person  bigint not null references person,
    at      timestamptz not null default now()
);
create index edition_check_latest on edition_check (edition, name, id desc);

create table consumer (
    model   bigint not null references model,
    place   text not null,
    edition bigint not null references edition,
    person  bigint not null references person,
    since   timestamptz not null default now(),          -- it uses this edition
    heard   timestamptz not null default now(),
    primary key (model, place)
);

-- +goose StatementBegin
create function edition_stays() returns trigger language plpgsql as $$
begin
    if tg_op = 'UPDATE' and tg_table_name = 'edition' and new.run is null and to_jsonb(new) - 'run' = to_jsonb(old) - 'run' then
        return new;                                      -- its run is deleted
    end if;
    raise exception 'editions never change' using errcode = 'KM001';
end $$;
-- +goose StatementEnd
create trigger edition_stays before update or delete on edition for each row execute function edition_stays();
create trigger edition_file_stays before update or delete on edition_file for each row execute function edition_stays();
create trigger edition_check_stays before update or delete on edition_check for each row execute function edition_stays();

-- +goose StatementBegin
create function holding_follows() returns trigger language plpgsql as $$
declare before holding;
begin
    if tg_op = 'DELETE' then
        raise exception 'the history of a standing stays' using errcode = 'KM001';
    end if;
    if tg_op = 'UPDATE' then
        if old.until is not null or new.until is null or to_jsonb(new) - 'until' <> to_jsonb(old) - 'until' then
            raise exception 'the history of a standing stays' using errcode = 'KM001';
        end if;
        return new;
    end if;
    select * into before from holding where model = new.model and standing = new.standing order by seq desc limit 1;
    if new.until is not null or new.seq <> coalesce(before.seq, 0) + 1 or before.seq is not null and before.until is distinct from new.since then
        raise exception 'a standing is held from when the one before ends' using errcode = 'KM001';
    end if;
    if new.edition is not null and not exists (select from edition e where e.id = new.edition and e.model = new.model) then
        raise exception 'the edition is of another model' using errcode = 'KM001';
    end if;
    return new;
end $$;
-- +goose StatementEnd
create trigger holding_follows before insert or update or delete on holding for each row execute function holding_follows();

-- +goose Down
drop table consumer, edition_check, sign_off, asking, holding, edition_file, edition, model_standing, model;
drop function edition_stays, holding_follows;
