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
-- What columns of a table say of some runs; the marks are filled in by filter.go.
select r.number::bigint as number, array[/*values*/]::jsonb[] as values from run r /*joins*/
where r.project = @project and r.number = any(@numbers::bigint[]);

-- query: hyper_is_number
-- Whether any of the newest runs that have a hyperparameter has a number for it; null where none has it.
select bool_or(h.number is not null) from (select id from run where project = @project order by number desc limit 300) r join hyper h on h.run = r.id and h.name = @name;

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
