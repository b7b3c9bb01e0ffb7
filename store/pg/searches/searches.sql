-- query: search_add
-- Numbers count up from 1 in each project; the project's row is locked so that none is given twice.
insert into search (project, number, key, title, strategy, space, seed, budget, command, person)
select @project, coalesce((select max(number) from search where project = @project), 0) + 1, @key, @title, @strategy, @space, @seed, @budget, @command, @person
from (select id from project where id = @project for update) p
on conflict (key) do nothing;

-- query: search_one
-- One by its number or its key (0 and null: not by that).
select s.number, s.project, s.title, s.strategy, s.space, s.seed, s.budget, s.command, p.name as who, s.started, s.archived
from search s join person p on p.id = s.person
where s.deleted is null and (@project = 0 or s.project = @project) and (@number = 0 or s.number = @number) and (@key::uuid is null or s.key = @key::uuid);

-- query: search_list
-- The newest first, below a number (0: from the newest), archived ones or the others, or both.
select s.number, s.project, s.title, s.strategy, s.space, s.seed, s.budget, s.command, p.name as who, s.started, s.archived
from search s join person p on p.id = s.person
where s.deleted is null and s.project = @project and (@below::bigint = 0 or s.number < @below::bigint) and (@shown = 'all' or (s.archived is not null) = (@shown = 'archived'))
order by s.number desc limit @limit;

-- query: search_sums
-- How far some searches are, by the newest run of each trial. A trial is done, and going on with the search leaves it, where it ended by itself or by a
-- rule: not where a signal ended it, or it ended because of one, or nobody saw its end (its machine went down). The same stands in search_trials.
select t.search, count(*) as started, count(*) filter (where t.done) as done, count(*) filter (where t.state = 'running') as running,
    count(*) filter (where t.state = 'failed') as failed, count(*) filter (where t.state = 'lost') as lost,
    (array_agg(t.number order by case when @lower then t.best else -t.best end, t.trial) filter (where t.best is not null))[1] as best_run,
    (array_agg(t.trial order by case when @lower then t.best else -t.best end, t.trial) filter (where t.best is not null))[1] as best_trial,
    (array_agg(t.best order by case when @lower then t.best else -t.best end, t.trial) filter (where t.best is not null))[1] as best
from (select distinct on (r.search, r.trial) r.search, r.trial, r.number, r.state::text as state, r.best,
          r.state = 'finished' or coalesce(l.signal, '') = '' and (r.state = 'stopped' or r.state = 'failed' and l.exit_code is not null)
              or r.state = 'stopped' and r.stopped is not null as done
      from run r left join lateral (select signal, exit_code from leg where run = r.id order by number desc limit 1) l on true
      where r.project = @project and r.search = any(@searches) order by r.search, r.trial, r.number desc) t
group by t.search;

-- query: search_archive
update search set archived = case when @archived then coalesce(archived, now()) end where project = @project and number = @number;

-- query: search_delete
-- Its runs stay, as runs of their own; its number and key stay used.
with freed as (update run set search = null, trial = null where project = @project and search = @number)
update search set deleted = now(), title = '', space = '', command = '[]' where project = @project and number = @number;

-- query: search_budget
update search set budget = @budget where project = @project and number = @number;

-- query: search_trials
-- The newest run of each trial.
select distinct on (r.search, r.trial) r.search, r.trial, r.number, r.state::text, r.best, r.started, r.ended, coalesce(r.took, 0)::float8 as took,
    r.state = 'finished' or coalesce(l.signal, '') = '' and (r.state = 'stopped' or r.state = 'failed' and l.exit_code is not null)
              or r.state = 'stopped' and r.stopped is not null as done from run r
left join lateral (select signal, exit_code from leg where run = r.id order by number desc limit 1) l on true
where r.project = @project and r.search = any(@searches) order by r.search, r.trial, r.number desc;
