-- query: entering_list
-- Those of a model, or all that are in force.
select e.id, e.model, m.name as model_name, p.key as project, m.project as project_id, e.number, e.filter, e.checkpoint, e.margin, e.ask, e.each,
       e.person, w.name as who, e.created, e.event, e.heard, e.trouble,
       coalesce((select max(v.id) from event v where v.id > e.event and v.project = m.project), 0) as latest,
       coalesce((select max(id) from event), 0) as newest
from entering e join model m on m.id = e.model join project p on p.id = m.project join person w on w.id = e.person
where (@model = '' or m.name = @model) and e.cleared is null order by e.model, e.number limit 1000;

-- query: entering_add
insert into entering (model, number, filter, checkpoint, margin, ask, each, person, event)
select m.id, coalesce((select max(number) from entering where model = m.id), 0) + 1, @filter, @checkpoint, @margin, @ask, @each, @person,
       coalesce((select max(id) from event), 0)
from model m where m.name = @model returning number;

-- query: entering_lock
select id from model where name = @model for update;

-- query: entering_clear
update entering set cleared = now() where id = @id and cleared is null;

-- query: entering_looked
update entering set event = greatest(event, @event), heard = coalesce(@heard, heard), trouble = @trouble where id = @id;

-- query: entering_runs
select entering, run, ended, fate, said from entering_run where entering = any(@rules) and (cardinality(@runs::int[]) = 0 or run = any(@runs))
order by at desc, run desc limit @limit;

-- query: entering_run_put
insert into entering_run (entering, run, ended, fate, said) values (@entering, @run, @ended, @fate, @said)
on conflict (entering, run) do update set ended = excluded.ended, fate = excluded.fate, said = excluded.said, at = now();
