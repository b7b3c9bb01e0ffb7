-- query: project_add
insert into project (key, title, objective, creator, runs)
values (@key, @title, @objective, @creator, coalesce((select runs from project_gone where key = @key), 0))
on conflict (key) do nothing returning id;

-- query: project_by_key
select id, key, title, objective, created, creator, coalesce(baseline, 0) as baseline, open, archived from project where key = @key;

-- query: project_list
select p.id, p.key, p.title, p.objective, p.created, p.creator, coalesce(p.baseline, 0) as baseline, p.open, p.archived, c.runs, c.running, c.lost
from project p
cross join lateral (select coalesce(sum(runs), 0)::bigint as runs, coalesce(sum(running), 0)::bigint as running, coalesce(sum(lost), 0)::bigint as lost
                    from run_tally where project = p.id) c
where (@all or p.open and @open or p.key = any(@keys::text[])) and (@only = '' or p.key = @only) and (@key = '' or p.key = @key) and (@key <> '' or @shown = 'all' or (p.archived is not null) = (@shown = 'archived'))
    and p.key > @after order by p.key limit @limit;

-- query: project_best_lower
-- The best run of a project by its objective, which each run's best is of: the first or the last in an index, past those left out.
select id, number from run where project = @project and archived is null and doomed is null and best is not null order by best, number desc limit 1;

-- query: project_best_higher
select id, number from run where project = @project and archived is null and doomed is null and best is not null order by best desc nulls last, number desc limit 1;

-- query: improvements
-- Runs whose best beat those of all runs before them, newest first: the blocks of runs in which there is one are found by each block's best.
with best as materialized (
    select g as number, case when @lower
        then (select min(best) from run where project = p.id and number / 2000 = g and best is not null and archived is null and doomed is null)
        else -(select max(best) from run where project = p.id and number / 2000 = g and best is not null and archived is null and doomed is null) end as badness
    from project p cross join generate_series(0, p.runs / 2000) g where p.id = @project),
block as (
    select number, badness, min(badness) over (order by number rows between unbounded preceding and 1 preceding) as before from best where badness is not null),
found as (select number, before from block where badness < coalesce(before, 'infinity') order by number desc limit @limit),
ordered as (
    select r.*, min(r.badness) over (partition by f.number order by r.number rows between unbounded preceding and 1 preceding) as before
    from found f cross join lateral (
        select r.number, r.best, r.started, case when @lower then r.best else -r.best end as badness from run r
        where r.project = @project and r.number / 2000 = f.number and r.best is not null and r.archived is null and r.doomed is null
            and r.best < case when @lower then coalesce(f.before, 'infinity') else 'infinity' end
            and r.best > case when @lower then '-infinity' else -coalesce(f.before, 'infinity') end limit 2000) r)
select number, best, started from ordered where badness < coalesce(before, 'infinity') order by number desc limit @limit;

-- query: improvement_since
select count(*) from (select from run where project = @project and number > @number and best is not null and archived is null and doomed is null
    order by number limit @limit) r;

-- query: tally_gather
-- Brings each project's rows together. Rows that another replica is at are left to it.
with gone as (
    delete from run_tally where ctid in (
        select ctid from run_tally where project in (select project from run_tally group by project having count(*) > 20) for update skip locked)
    returning *
)
insert into run_tally select project, sum(runs), sum(running), sum(lost) from gone group by project;

-- query: project_change
update project set title = coalesce(@title, title), objective = coalesce(@objective, objective), open = coalesce(@open, open),
    archived = case when @archived::boolean is null then archived when @archived::boolean then coalesce(archived, now()) end where id = @id;

-- query: project_delete
-- One that has runs or models stays: they refer to it.
with gone as (
    delete from project p where id = @id and not exists (select from run r where r.project = p.id)
        and not exists (select from model m where m.project = p.id) returning key, runs)
insert into project_gone select key, runs from gone on conflict (key) do update set runs = excluded.runs;

-- query: project_baseline
update project set baseline = nullif(@number::int, 0) where id = @id;

-- query: view_list
select v.id, v.name, v.look, coalesce(p.name, '') as who, v.person is null as everybody, v.changed from view v left join person p on p.id = v.person
where v.project = @project and (v.person is null or v.person = @person) order by lower(v.name), v.id;

-- query: view_set
insert into view (project, person, name, look) values (@project, @person, @name, @look)
on conflict (project, person, name) do update set look = excluded.look, changed = now() returning id;

-- query: view_drop
-- One's own, or, where that is enough, everybody's.
delete from view where id = @id and project = @project and (person is null and @everybodys or person = @person);
