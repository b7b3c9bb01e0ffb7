-- query: best_set
-- Keeps the best reading of the project's objective with each run.
update run r set best = x.best
from (select q.id, (select nullif(case when p.objective->>'direction' = 'lower' then s.low_value else s.high_value end, 'NaN')
                    from curve c join curve_summary s on s.run = c.run and s.curve = c.id where c.run = q.id and c.name = p.objective->>'curve') as best
      from run q join project p on p.id = q.project where q.project = @project) x
where r.id = x.id and r.best is distinct from x.best;

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

-- query: judgement
-- What judging a run needs.
select r.id, p.key as project, r.number, p.objective, r.state, coalesce(r.stop_rule, p.stop_rule) as rule, r.stop_rule is not null as own,
    r.verdict, r.dispute, r.stopped, r.best_step,
    coalesce((select case when jsonb_typeof(value) = 'number' then value::float8 end from hyper where run = r.id and name = 'epochs'), 'NaN') as epochs
from run r join project p on p.id = r.project where r.id = any(@runs) order by r.id;

-- query: run_origin
select origin from run where id = @run;

-- query: verdict_set
update run set verdict = @verdict where id = @run and verdict is distinct from @verdict::jsonb;

-- query: verdicts_set
-- Of runs that still train: an ended run's last verdict is of all its readings.
update run r set verdict = g.verdict from unnest(@runs::bigint[], @verdicts::jsonb[]) as g(run, verdict)
where r.id = g.run and r.state = 'running' and r.verdict is distinct from g.verdict;

-- query: dispute_set
update run set dispute = @dispute where id = @run;

-- query: stopped_set
-- Only the first time, and only while the rule that said so is the one in force.
update run r set stopped = @stopped from project p
where r.id = @run and p.id = r.project and r.stopped is null and r.state = 'running' and coalesce(r.stop_rule, p.stop_rule) = @rule;

-- query: stopped_by
update run set stopped = @stopped where id = @run and state = 'running';

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
