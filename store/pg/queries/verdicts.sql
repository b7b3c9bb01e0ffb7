-- query: judgement
-- What judging a run needs.
select r.id, p.key as project, r.number, p.objective, r.state, coalesce(r.stop_rule, p.stop_rule) as rule, r.stop_rule is not null as own,
    r.verdict, r.dispute, r.stopped, r.best_step,
    coalesce((select case when jsonb_typeof(value) = 'number' then value::float8 end from hyper where run = r.id and name = 'epochs'), 'NaN') as epochs
from run r join project p on p.id = r.project where r.id = any(@runs) order by r.id;

-- query: verdict_set
update run set verdict = @verdict where id = @run and verdict is distinct from @verdict::jsonb;

-- query: verdicts_set
-- Of runs that still train: an ended run's last verdict is of all its readings.
update run r set verdict = g.verdict from unnest(@runs::bigint[], @verdicts::jsonb[]) as g(run, verdict)
where r.id = g.run and r.state = 'running' and r.verdict is distinct from g.verdict;

-- query: dispute_set
update run set dispute = @dispute where id = @run;

-- query: stopped_set
-- Only the first time.
update run set stopped = @stopped where id = @run and stopped is null and state = 'running';

-- query: stop_rule_of_run
update run set stop_rule = @rule, stopped = case when state = 'running' then null else stopped end where id = @run;

-- query: stop_rule_of_project
update project set stop_rule = @rule where id = @project;

-- query: project_stop_rule
select stop_rule from project where id = @project;

-- query: runs_with_rules
select r.id from run r join project p on p.id = r.project
where r.id = any(@runs) and r.state = 'running' and r.stopped is null and coalesce(r.stop_rule, p.stop_rule) is not null;

-- query: checkpoint_before
-- The checkpoint nearest at or before a step.
select c.step, c.epoch from checkpoint c where c.run = @run and c.step <= @step and c.dropped is null
    and not exists (select 1 from leg l where l.run = c.run and l.number > c.leg and l.from_step <= c.step)
order by c.step desc limit 1;
