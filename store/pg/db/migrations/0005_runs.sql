-- +goose Up
alter table run add tags text[] not null default '{}';
alter table run add note text not null default '';
alter table run add best float8;                 -- best reading of the project's objective; null: none
update run r set best = nullif(case when split_part(p.objective, ' ', 2) = 'lower' then s.low_value else s.high_value end, 'NaN')
from project p, curve c, curve_summary s
where p.id = r.project and c.run = r.id and c.name = split_part(p.objective, ' ', 1) and s.run = c.run and s.curve = c.id;
create index run_best on run (project, best, number desc);
create index run_best_down on run (project, best desc nulls last, number desc);
-- A hyperparameter's number, null where it is none, or none that a float64 holds.
alter table hyper add number float8 generated always as
    (case when jsonb_typeof(value) = 'number' then case when abs((value #>> '{}')::numeric) < 1e308 then (value #>> '{}')::numeric::float8 end end) stored;
create index hyper_number on hyper (name, number, run);

-- +goose Down
drop index hyper_number, run_best, run_best_down;
alter table hyper drop column number;
alter table run drop column tags, drop column note, drop column best;
