-- query: keep_rules
-- The rule of a project and, where a run is named, the run's own.
select p.keep_rule as project, (select r.keep_rule from run r where r.id = @run and r.project = p.id) as run from project p where p.id = @project;

-- query: keep_rule_of_project
update project set keep_rule = @rule where id = @project;

-- query: keep_rule_of_run
update run set keep_rule = @rule where id = @run;

-- query: projects_keeping
-- Projects in which a rule may say that something goes, or that it no longer does.
select p.id, p.key, p.objective from project p
where p.keep_rule is not null or exists (select 1 from run r where r.project = p.id and r.keep_rule is not null)
    or exists (select 1 from run r join checkpoint c on c.run = r.id where r.project = p.id and c.goes is not null and c.dropped is null and c.by_rule) order by p.id;

-- query: keep_candidates
-- What there is of the checkpoints of a project's runs, or of some, by run and from the first on.
select r.id as run, r.number, r.state, coalesce(r.keep_rule, p.keep_rule) as rule, c.id, c.leg, c.step, c.epoch, exists (select 1 from leg l where l.run = c.run and l.number > c.leg and l.from_step <= c.step) as replaced,
    exists (select 1 from checkpoint d where d.run = c.run and d.epoch = c.epoch and d.step > c.step
            and not exists (select 1 from leg l where l.run = d.run and l.number > d.leg and l.from_step <= d.step)) as shared,
    c.saved, c.size, c.figures, c.pinned, c.goes, c.by_rule
from checkpoint c join run r on r.id = c.run join project p on p.id = r.project
where r.project = @project and (@numbers::bigint[] is null or r.number = any(@numbers::bigint[])) and c.dropped is null and r.doomed is null
order by r.number, c.step, c.leg;

-- query: beginnings
-- Runs that began from a checkpoint, and legs that went on from one of another run.
select p.key || '/' || r.number as address, r.origin ->> 'from' as from, coalesce((r.origin ->> 'step')::bigint, 0) as step
from run r join project p on p.id = r.project where r.origin ->> 'kind' = 'branch'
union all
select p.key || '/' || r.number, l.resumed ->> 'from', coalesce((l.resumed ->> 'step')::bigint, 0)
from leg l join run r on r.id = l.run join project p on p.id = r.project where l.resumed is not null;

-- query: checkpoints_go
-- Their grace period begins. What a person said is not changed by a rule.
update checkpoint c set goes = now() + @grace::float8 * interval '1 second', why_goes = @why, by_rule = @by_rule
where c.id = any(@checkpoints) and c.dropped is null and (c.goes is null or not @by_rule) and not (@by_rule and c.pinned);

-- query: checkpoints_stay
update checkpoint c set goes = null, why_goes = '', by_rule = false where c.id = any(@checkpoints) and c.dropped is null and c.goes is not null and (c.by_rule or not @by_rule);

-- query: checkpoint_pin
update checkpoint set pinned = @pinned, goes = case when @pinned then null else goes end, why_goes = case when @pinned then '' else why_goes end,
    by_rule = by_rule and not @pinned
where run = @run and id = @checkpoint and dropped is null;

-- query: checkpoint_due
-- The next whose grace period is over; another replica's are left to it.
select c.run, c.id, c.step, c.why_goes as why from checkpoint c where c.goes <= now() and c.dropped is null and c.id > @after order by c.id limit 1 for update skip locked;

-- query: checkpoint_drop
update checkpoint set dropped = now() where run = @run and id = @checkpoint;

-- query: sizes
-- What checkpoints hold, by project, run or checkpoint, or all in one: bytes of the different chunks, as stored, and of that what nothing
-- else holds.
with held as (
    select case @by::text when 'project' then r.project when 'run' then r.id when 'checkpoint' then c.id else 0 end as part,
        substring(f.chunks from 36 * i + 1 for 32) as digest, count(distinct c.id) as n
    from checkpoint c join run r on r.id = c.run join checkpoint_file f on f.run = c.run and f.checkpoint = c.id
    cross join lateral generate_series(0, length(f.chunks) / 36 - 1) i
    where c.dropped is null and (@project::bigint = 0 or r.project = @project) and (@run::bigint = 0 or r.id = @run)
        and (@checkpoints::bigint[] is null or c.id = any(@checkpoints::bigint[]))
    group by 1, 2)
select h.part, sum(k.size)::bigint as bytes, sum(k.stored)::bigint as stored, coalesce(sum(k.stored) filter (where k.uses <= h.n), 0)::bigint as own
from held h join chunk k on k.digest = h.digest group by h.part;

-- query: checkpoint_sums
-- Checkpoints by project or run: how many there are and their bytes, each whole; of that, what goes; and how many went.
select case @by::text when 'project' then r.project else r.id end as part, count(*) filter (where c.dropped is null) as checkpoints,
    coalesce(sum(c.size) filter (where c.dropped is null), 0)::bigint as whole, count(*) filter (where c.goes is not null and c.dropped is null) as going,
    count(*) filter (where c.dropped is not null) as dropped, count(*) filter (where c.pinned and c.dropped is null) as pinned,
    max(case @by::text when 'project' then p.key else p.key || '/' || r.number end) as address, max(case @by::text when 'project' then p.title else r.title end) as title
from checkpoint c join run r on r.id = c.run join project p on p.id = r.project
where @project::bigint = 0 or r.project = @project
group by 1;
