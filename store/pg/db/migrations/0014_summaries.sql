-- +goose Up
-- The summaries of a run's curves in one row (docs/storage.md), brought up to date with every pass. curve_summary, a row for each curve for filters and
-- orders, is written from it: at once where there is little to do, and as there is time where very many runs train.
create table run_summary (
    run     bigint primary key references run on delete cascade,
    payload bytea not null,
    behind  boolean not null,                    -- curve_summary has not all of it yet
    written timestamptz not null default now()   -- when curve_summary had
) with (fillfactor = 50);
alter table run_summary alter column payload set storage external, set (toast_tuple_target = 8160);
create index run_summary_behind on run_summary (written) where behind;

-- +goose Down
drop table run_summary;
