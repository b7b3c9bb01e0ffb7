-- +goose Up
-- The curve engine: docs/storage.md. No foreign keys to run here: checking them would lock the run's row at every batch.

-- What moves with every batch is in no index and has room in its page, so that counting a batch rewrites no index.
drop index leg_unsummarised;
drop index leg_running;
alter table leg set (fillfactor = 50);
alter table leg add sealed bigint not null default 0;      -- last batch whose readings are in blocks
alter table leg add open boolean not null default true;    -- may still have something to count, summarise or seal
create index leg_open on leg (run, number) where open;

-- The journal turns through four volumes: one is written, the others are sealed and then emptied whole.
alter table journal rename to journal_before;
create table journal (
    run        bigint not null,
    leg        int not null,
    batch      bigint not null,
    first_step bigint not null,
    last_step  bigint not null,
    payload    bytea not null,
    volume       smallint not null,
    primary key (run, leg, batch, volume)
) partition by list (volume);
create table journal_0 partition of journal for values in (0);
create table journal_1 partition of journal for values in (1);
create table journal_2 partition of journal for values in (2);
create table journal_3 partition of journal for values in (3);
alter table journal_0 alter column payload set storage external, set (toast_tuple_target = 8160); -- packed already; one page holds a usual batch
alter table journal_1 alter column payload set storage external, set (toast_tuple_target = 8160);
alter table journal_2 alter column payload set storage external, set (toast_tuple_target = 8160);
alter table journal_3 alter column payload set storage external, set (toast_tuple_target = 8160);
insert into journal select run, leg, batch, first_step, last_step, payload, 0 from journal_before;
drop table journal_before;

create table journal_turn (
    turn  bigint not null,                       -- the volume written is turn % 4
    since timestamptz not null
);
insert into journal_turn values (0, now());

-- Points that blocks stand on; curves read at the same points share them.
create table axis (
    run        bigint not null,
    leg        int not null,
    id         int not null,
    uses       int not null,                     -- blocks that stand on it
    first_step bigint not null, last_step  bigint not null,
    first_epoch float8 not null, last_epoch float8 not null,
    first_time bigint not null, last_time  bigint not null,
    payload    bytea not null,
    primary key (run, leg, id)
);
alter table axis alter column payload set storage external;

create table block (
    run        bigint not null,
    curve      int not null,
    leg        int not null,
    seq        int not null,                     -- covers the readings from seq * 4096 on
    axis       int not null,
    n          int not null check (n between 1 and 4096),
    first_step bigint not null,
    last_step  bigint not null,
    payload    bytea not null,
    folds      bytea,                            -- of 128 readings each, where there are more than 128
    primary key (run, curve, leg, seq)
);
alter table block alter column payload set storage external;
alter table block alter column folds set storage main;

-- Coarser levels of full blocks, 256 folds a row.
create table fold (
    run        bigint not null,
    curve      int not null,
    level      smallint not null,
    leg        int not null,
    seq        int not null,
    first_step bigint not null,
    last_step  bigint not null,
    payload    bytea not null,
    primary key (run, curve, level, leg, seq)
);
alter table fold alter column payload set storage external;

-- Sketches are packed now; everything is summarised anew.
truncate curve_summary;
alter table curve_summary drop column sketch;
alter table curve_summary add sketch bytea not null;
alter table curve_summary set (fillfactor = 70);
update leg set summarised = 0;

-- +goose Down
alter table curve_summary drop column sketch;
alter table curve_summary add sketch float8[] not null default '{}';
drop table fold, block, axis, journal_turn, journal;
drop index leg_open;
alter table leg drop column sealed, drop column open;
