-- query: search_add
-- Numbers count up from 1 in each project; the project's row is locked so that none is given twice.
insert into search (project, number, key, title, strategy, space, seed, budget, command, person)
select @project, coalesce((select max(number) from search where project = @project), 0) + 1, @key, @title, @strategy, @space, @seed, @budget, @command, @person
from (select id from project where id = @project for update) p
on conflict (key) do nothing;

-- query: search_list
-- One by its number or its key, or all (0 and null), the newest first.
select s.number, s.project, s.title, s.strategy, s.space, s.seed, s.budget, s.command, p.name as who, s.started
from search s join person p on p.id = s.person
where (@project = 0 or s.project = @project) and (@number = 0 or s.number = @number) and (@key::uuid is null or s.key = @key::uuid) order by s.number desc limit 1000;

-- query: search_budget
update search set budget = @budget where project = @project and number = @number;

-- query: search_trials
-- The newest run of each trial.
select distinct on (r.search, r.trial) r.search, r.trial, r.number, r.state::text, r.best, r.started, r.ended, coalesce(r.took, 0)::float8 as took, coalesce(l.signal, '') as signal from run r
left join lateral (select signal from leg where run = r.id order by number desc limit 1) l on true
where r.project = @project and r.search = any(@searches) order by r.search, r.trial, r.number desc;
