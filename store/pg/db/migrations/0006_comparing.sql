-- +goose Up
alter table curve_summary add at_best float8;    -- the curve's reading when the objective was best; null: none, or not looked up yet
alter table run add best_step bigint;            -- of the best reading that at_best was looked up for; null: not yet
alter table run add archived timestamptz;        -- put out of the way; null: not
alter table run add doomed timestamptz;          -- when it will be deleted; null: it stays
create index run_doomed on run (doomed) where doomed is not null;
create index run_unlooked on run (id) where best is not null and best_step is null;
alter table project add baseline int;            -- number of the run that others are held against; null: none
alter table tensor_file add parameters bigint;   -- values in all tensors; null: not known
update tensor_file f set parameters = (
    select coalesce(sum((select coalesce(round(exp(sum(ln(nullif(d::float8, 0))))), 1) * (count(*) filter (where d::float8 = 0) = 0)::int
                         from jsonb_array_elements_text(t -> 'shape') d)), 0)::bigint
    from jsonb_array_elements(f.tensors) t) where problem = '';

-- What a person wants to see again: a filter, columns and their order.
create table view (
    id      bigint generated always as identity primary key,
    project bigint not null references project on delete cascade,
    person  bigint references person on delete cascade, -- whose it is; null: everybody's in the project
    name    text not null check (length(name) between 1 and 80),
    look    text not null,                       -- the query of the console's link
    changed timestamptz not null default now(),
    unique nulls not distinct (project, person, name)
);

-- +goose Down
drop table view;
alter table tensor_file drop column parameters;
alter table project drop column baseline;
drop index run_doomed, run_unlooked;
alter table run drop column best_step, drop column archived, drop column doomed;
alter table curve_summary drop column at_best;
