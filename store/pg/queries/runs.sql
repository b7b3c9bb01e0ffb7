-- query: project_add
insert into project (key, title, objective, creator) values (@key, @title, @objective, @creator)
on conflict (key) do nothing returning id;

-- query: project_by_key
select id, key, title, objective, created, creator, coalesce(baseline, 0) as baseline from project where key = @key;

-- query: project_list
select p.id, p.key, p.title, p.objective, p.created, p.creator, coalesce(p.baseline, 0) as baseline, c.runs, c.running, c.lost
from project p
cross join lateral (select coalesce(sum(runs), 0)::bigint as runs, coalesce(sum(running), 0)::bigint as running, coalesce(sum(lost), 0)::bigint as lost
                    from run_tally where project = p.id) c
where (@key = '' or p.key = @key) and p.key > @after order by p.key limit @limit;

-- query: project_best_lower
-- The best run of a project by its objective, which each run's best is of: the first or the last in an index, past those left out.
select id, number from run where project = @project and archived is null and doomed is null and best is not null order by best, number desc limit 1;

-- query: project_best_higher
select id, number from run where project = @project and archived is null and doomed is null and best is not null order by best desc nulls last, number desc limit 1;

-- query: tally_gather
-- Brings each project's rows together. Rows that another replica is at are left to it.
with gone as (
    delete from run_tally where ctid in (
        select ctid from run_tally where project in (select project from run_tally group by project having count(*) > 20) for update skip locked)
    returning *
)
insert into run_tally select project, sum(runs), sum(running), sum(lost) from gone group by project;

-- query: project_change
update project set title = coalesce(@title, title), objective = coalesce(@objective, objective) where id = @id;

-- query: run_by_key
select id, number, project from run where key = @key;

-- query: run_number
update project set runs = runs + 1 where id = @project returning runs;

-- query: run_add
insert into run (project, number, key, title, creator, host, recipe, origin, started, search, trial)
values (@project, @number, @key, @title, @creator, @host, @recipe, @origin, @started, nullif(@search, 0), nullif(@trial, 0)) returning id;

-- query: run_id
select r.id from run r join project p on p.id = r.project where p.key = @project and r.number = @number::bigint;

-- query: run_list
select r.id, r.number, r.title, r.state, p.name as who, r.host, r.started, r.ended,
       coalesce(r.took, l.took, 0)::float8 as took, case when r.state = 'running' then l.started end as since,
       coalesce((select jsonb_object_agg(h.name, h.value) from hyper h where h.run = r.id), '{}') as hyper,
       coalesce(l.last_step, 0) as step, coalesce(l.last_epoch, 'NaN') as epoch, r.verdict, r.dispute, r.needs, r.origin, r.start, r.repeats, r.tags, r.note, r.archived, r.doomed, r.creator, coalesce(r.search, 0) as search, coalesce(r.trial, 0) as trial
from run r join person p on p.id = r.creator
left join lateral (select last_step, last_epoch, started, (select extract(epoch from sum(g.ended - g.started)) from leg g where g.run = r.id and g.ended is not null) as took
                   from leg where run = r.id order by number desc limit 1) l on true
where r.project = @project and r.number = any(@numbers::bigint[]);

-- query: run_says
-- What the program told of itself goes into the recipe, but for what is null.
update run set recipe = recipe || jsonb_strip_nulls(@recipe::jsonb), needs = coalesce(@needs::text[], needs), start = coalesce(@start::jsonb, start)
where id = @run;

-- query: repeats_set
update run set repeats = @repeats where id = @run;

-- query: run_recipe
select recipe from run where id = @run;

-- query: run_recipes
select id, recipe from run where id = any(@runs::bigint[]);

-- query: hyper_list
select name, value from hyper where run = @run;

-- query: run_find
-- Its marks are filled in by filter.go.
select r.number::bigint as number, v.value from run r /*joins*/ cross join lateral (select r.number/*value*/ as value) v
where r.project = @project and (true/*shown*/) and (true/*where*/) and (true/*behind*/)
order by v.value /*order*/, r.number desc limit @limit;

-- query: run_places
-- Every so manyth run of an order, and the last: where pages can begin. Its marks are filled in as those of run_find.
select number, value, place from (
    select r.number::bigint as number, v.value, row_number() over (order by v.value /*order*/, r.number desc) as place, count(*) over () as total
    from run r /*joins*/ cross join lateral (select r.number/*value*/ as value) v
    where r.project = @project and (true/*shown*/) and (true/*where*/)) all_places
where place % @every = 0 or place = total order by place;

-- query: run_titles
select id, number, title from run where project = @project and number = any(@numbers::bigint[]);

-- query: run_hypers
-- All of a run's lie together: they are read so and then chosen from, which costs less than looking up each name. The fence ("offset 0") keeps it so.
select r.number::bigint, h.name, h.value::text from run r cross join lateral (select name, value from hyper where run = r.id offset 0) h
where r.project = @project and r.number = any(@numbers::bigint[]) and h.name = any(@names::text[]);

-- query: run_figures
select r.number::bigint, c.name, s.last_value, s.low_value, s.high_value, coalesce(s.at_best, 'NaN')
from run r cross join lateral (select run, id, name from curve where run = r.id offset 0) c
cross join lateral (select last_value, low_value, high_value, at_best from curve_summary where run = c.run and curve = c.id offset 0) s
where r.project = @project and r.number = any(@numbers::bigint[]) and c.name = any(@names::text[]);

-- query: run_values
-- What columns of a table say of some runs; the mark is filled in by filter.go.
select r.number::bigint as number, array[/*values*/]::jsonb[] as values from run r
join person p on p.id = r.creator left join lateral (select last_step, last_epoch from leg where run = r.id order by number desc limit 1) l on true
where r.project = @project and r.number = any(@numbers::bigint[]);

-- query: hyper_is_number
-- Whether any of the newest runs that have a hyperparameter has a number for it; null where none has it.
select bool_or(h.number is not null) from (select id from run where project = @project order by number desc limit 300) r join hyper h on h.run = r.id and h.name = @name;

-- query: best_set
-- Keeps the best reading of the project's objective with each run.
update run r set best = x.best
from (select q.id, (select nullif(case when split_part(p.objective, ' ', 2) = 'lower' then s.low_value else s.high_value end, 'NaN')
                    from curve c join curve_summary s on s.run = c.run and s.curve = c.id where c.run = q.id and c.name = split_part(p.objective, ' ', 1)) as best
      from run q join project p on p.id = q.project where q.project = @project) x
where r.id = x.id and r.best is distinct from x.best;

-- query: run_change
update run set title = coalesce(@title, title), tags = coalesce(@tags::text[], tags), note = coalesce(@note, note) where id = @id;

-- query: run_state
update run set state = @state, ended = @ended,
    took = case when @ended::timestamptz is not null then coalesce((select sum(greatest(0, extract(epoch from g.ended - g.started))) from leg g where g.run = @id and g.ended is not null),
                                                                   extract(epoch from @ended::timestamptz - started)) end
where id = @id and (state <> @state or ended is distinct from @ended);

-- query: summaries
-- The parts are fenced off by "offset 0": where many runs have begun a moment ago the statistics know nothing of them, and the plan would read whole tables.
select c.run, c.name, s.count, s.nan, s.infinite, s.last_step, s.last_epoch, s.last_time, s.last_value,
       s.low_step, s.low_epoch, s.low_time, s.low_value, s.high_step, s.high_epoch, s.high_time, s.high_value,
       s.sketch_every, s.sketch, c.id as curve
from (select run, id, name from curve where run = any(@runs) offset 0) c
cross join lateral (select * from curve_summary where run = c.run and curve = c.id offset 0) s order by c.run, c.name;

-- query: summaries_behind
-- Summaries that the rows of curves have not all of yet.
select run, payload from run_summary where run = any(@runs::bigint[]) and behind;

-- query: curves_of
select run, id, name from curve where run = any(@runs::bigint[]) and (@name = '' or name = @name);

-- query: summaries_named
-- The same by one name: with "or" in one query the index on run and name would not serve.
select c.run, c.name, s.count, s.nan, s.infinite, s.last_step, s.last_epoch, s.last_time, s.last_value,
       s.low_step, s.low_epoch, s.low_time, s.low_value, s.high_step, s.high_epoch, s.high_time, s.high_value,
       s.sketch_every, s.sketch, c.id as curve
from (select run, id, name from curve where run = any(@runs) and name = @name offset 0) c
cross join lateral (select * from curve_summary where run = c.run and curve = c.id offset 0) s order by c.run;

-- query: hyper_set
insert into hyper (run, name, value) values (@run, @name, @value) on conflict (run, name) do update set value = excluded.value;

-- query: note_add
insert into note (run, leg, at, text) values (@run, @leg, @at, @text);

-- query: note_list
select leg, at, text from note where run = @run order by at, id limit 1000;

-- query: event_add
insert into event (kind, project, run, person, what) values (@kind, @project, @run, @person, @what);

-- query: event_after
-- Up to the oldest transaction still open, so that none is overtaken and missed.
select e.xact::text as xact, e.id, e.kind, coalesce(p.key, '') as project, coalesce(r.number, 0) as run, e.what, coalesce(n.name, '') as who, e.at
from event e left join project p on p.id = e.project left join run r on r.id = e.run left join person n on n.id = e.person
where (e.xact, e.id) > (@xact::text::xid8, @id) and e.xact < pg_snapshot_xmin(pg_current_snapshot())
order by e.xact, e.id limit 500;

-- query: event_now
select pg_snapshot_xmin(pg_current_snapshot())::text;

-- query: run_names
select r.id, p.key as project, r.number from run r join project p on p.id = r.project where r.id = any(@runs);

-- query: project_words
-- What the newest runs of a project offer to a filter, by kind.
with newest as (select id, state::text, title, host, creator, tags, recipe ->> 'commit' as commit, verdict ->> 'kind' as verdict
    from run where project = @project order by number desc limit 1000)
select kind, word from (
    select distinct 'hyper' as kind, h.name as word from newest n join hyper h on h.run = n.id
    union select distinct 'curve', c.name from newest n join curve c on c.run = n.id where c.name not like 'host.%'
    union select distinct 'tags', unnest(tags) from newest
    union select distinct 'host', host from newest
    union select distinct 'commit', commit from newest
    union select distinct 'verdict', verdict from newest
    union select distinct 'who', p.name from newest n join person p on p.id = n.creator
) w where word <> '' order by kind, word limit 8000;

-- query: project_baseline
update project set baseline = nullif(@number::int, 0) where id = @id;

-- query: run_archive
update run set archived = case when @archived then coalesce(archived, now()) end where id = @run;

-- query: run_doom
-- @days: until it is deleted; null: it stays.
update run set doomed = now() + @days::float8 * interval '1 day' where id = @run;

-- query: runs_due
select r.id, p.key as project, r.number, p.id as project_id from run r join project p on p.id = r.project where r.doomed <= now() order by r.doomed limit 20;

-- query: run_erase
with j as (delete from journal where run = @run), b as (delete from block where run = @run), a as (delete from axis where run = @run),
     f as (delete from fold where run = @run), s as (delete from curve_summary where run = @run), m as (delete from run_summary where run = @run)
delete from run where id = @run and doomed <= now();

-- query: at_best_set
update curve_summary s set at_best = v.value from unnest(@curves::int[], @values::float8[]) v(curve, value)
where s.run = @run and s.curve = v.curve and s.at_best is distinct from v.value;

-- query: best_step_set
update run set best_step = @step where id = @run and best_step is distinct from @step;

-- query: best_step_forget
update run set best_step = null where project = @project and best_step is not null;

-- query: runs_unlooked
-- Ended runs whose figures at the objective's best have not been looked up.
select id from run where best is not null and best_step is null and state <> 'running' order by id desc limit 50;

-- query: view_list
select v.id, v.name, v.look, coalesce(p.name, '') as who, v.person is null as everybody, v.changed from view v left join person p on p.id = v.person
where v.project = @project and (v.person is null or v.person = @person) order by lower(v.name), v.id;

-- query: view_set
insert into view (project, person, name, look) values (@project, @person, @name, @look)
on conflict (project, person, name) do update set look = excluded.look, changed = now() returning id;

-- query: view_drop
-- One's own, or everybody's.
delete from view where id = @id and project = @project and (person is null or person = @person);
