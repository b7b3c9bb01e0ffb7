-- query: sheet_list
-- The latest first; where only the last are asked for, those of the training before those of evaluations. Those that a later leg replaced, or a later sheet of the same step, are left out where only the last are asked for.
select s.run, s.id, s.number, s.key::text, s.leg, s.step, s.epoch, s.split, s.task, s.classes, s.probabilities, s.examples, s.labelled, s.figures,
    case when @whole then s.assessed else 'null' end as assessed, s.alarms, s.held, s.compared, s.data, v.number as evaluation, s.source, s.size, p.name as who, s.created
from sheet s join person p on p.id = s.person left join evaluation v on v.run = s.run and v.id = s.evaluation
where s.run = @run and (@split = '' or s.split = @split) and (not @like or s.data = @data and (s.evaluation is null) = @own) and (@below = 0 or s.number < @below::int) and (@number = 0 or s.number = @number::int) and (@at::bigint is null or s.step = @at)
    and (not @last or not exists (select 1 from leg l where l.run = s.run and s.leg > 0 and l.number > s.leg and l.from_step <= s.step)
        and not exists (select 1 from sheet o where o.run = s.run and o.split = s.split and o.step = s.step and o.data = s.data
            and (o.evaluation is null) = (s.evaluation is null) and o.number > s.number))
order by case when @last then (s.evaluation is null)::int end desc, case when @last then s.step end desc, s.number desc limit @limit;

-- query: sheet_by_key
select s.run, s.number from sheet s where s.key = @key;

-- query: sheet_lock
-- Numbers are given one after another.
select id from run where id = @run for update;

-- query: sheet_add
insert into sheet (run, number, key, leg, step, epoch, split, task, classes, probabilities, examples, labelled, figures, assessed, alarms, data, evaluation, source, size, person)
values (@run, (select coalesce(max(number), 0) + 1 from sheet where run = @run), @key, @leg, @step, @epoch, @split, @task, @classes, @probabilities, @examples, @labelled,
    @figures, @assessed, @alarms, @data, nullif(@evaluation::bigint, 0), @source, @size, @person)
returning id, number;

-- query: sheet_file_add
insert into sheet_file (run, sheet, name, size, chunks) values (@run, @sheet, @name, @size, @chunks);

-- query: sheet_files
select name, size, chunks from sheet_file where run = @run and sheet = @sheet;

-- query: sheet_uncompared
-- Of the last hour: a curve that did not come by then will not.
select run, id from sheet where not compared and created > now() - interval '1 hour' order by created limit 100;

-- query: sheet_one
select s.run, s.id, s.number, s.key::text, s.leg, s.step, s.epoch, s.split, s.task, s.classes, s.probabilities, s.examples, s.labelled, s.figures,
    s.assessed, s.alarms, s.held, s.compared, s.data, v.number as evaluation, s.source, s.size, p.name as who, s.created
from sheet s join person p on p.id = s.person left join evaluation v on v.run = s.run and v.id = s.evaluation where s.run = @run and s.id = @id;

-- query: sheet_compared
-- Only where nobody has noted others meanwhile: what happens twice is told once.
update sheet set compared = @compared, alarms = @alarms, held = @held where run = @run and id = @id and not compared and alarms = @had;

-- query: run_alarms
-- The kinds of alarms by the latest sheet of each split, of the training alone, that no later leg replaced.
with latest as (
    select distinct on (s.split) s.alarms from sheet s
    where s.run = @run and s.evaluation is null and not exists (select 1 from leg l where l.run = s.run and s.leg > 0 and l.number > s.leg and l.from_step <= s.step)
    order by s.split, s.step desc, s.number desc),
kinds as (select coalesce(array_agg(distinct a ->> 'kind' order by a ->> 'kind'), '{}') as list from latest cross join lateral jsonb_array_elements(latest.alarms) a)
update run r set alarms = kinds.list from kinds where r.id = @run and r.alarms <> kinds.list;

-- query: mark_put
insert into example_mark (project, scope, key, person, mark, label, was) values (@project, @scope, @key, @person, @mark, @label, @was)
on conflict (project, scope, key, person) do update set mark = excluded.mark, label = excluded.label, was = excluded.was, at = now();

-- query: mark_drop
delete from example_mark where project = @project and scope = @scope and key = @key and person = @person;

-- query: mark_list
-- The latest last.
select m.key, m.mark, m.label, m.was, p.name as who, m.person, m.at from example_mark m join person p on p.id = m.person
where m.project = @project and m.scope = @scope and (@keys::text[] is null or m.key = any(@keys)) order by m.at, m.key limit 200000;

-- query: names_files
-- Small JSON files of the part preprocess: of the latest checkpoint of a run that has one, up to a step, or else of the first after it.
select f.path, f.size, f.chunks from checkpoint_file f join checkpoint c on c.run = f.run and c.id = f.checkpoint
where f.run = @run and f.part = 'preprocess' and f.path like '%.json' and f.size <= @most and c.dropped is null
order by (c.step <= @step) desc, abs(c.step - @step), f.path limit 5;
