-- query: weights_first
select t.weights from checkpoint c join checkpoint_file f on f.run = c.run and f.checkpoint = c.id and f.part = 'weights'
join tensor_file t on t.digest = f.digest where c.run = @run and c.step = 0 and t.weights is not null order by c.leg limit 1;

-- query: weights_known
select p.key as project, r.number, c.leg, c.step, c.epoch, exists (select 1 from leg l where l.run = c.run and l.number > c.leg and l.from_step <= c.step) as replaced,
    exists (select 1 from checkpoint d where d.run = c.run and d.epoch = c.epoch and d.step > c.step
            and not exists (select 1 from leg l where l.run = d.run and l.number > d.leg and l.from_step <= d.step)) as shared
from tensor_file t join checkpoint_file f on f.digest = t.digest and f.part = 'weights'
join checkpoint c on c.run = f.run and c.id = f.checkpoint join run r on r.id = c.run join project p on p.id = r.project
where t.weights = @weights and r.id < @run order by c.kept, c.id limit 1;

-- query: tensors_pending
-- Files of weights that nobody has looked into yet.
select f.digest, f.run, f.checkpoint, f.path from checkpoint_file f join checkpoint c on c.run = f.run and c.id = f.checkpoint and c.dropped is null
where f.part = 'weights' and f.path not like '%.json' and not exists (select 1 from tensor_file t where t.digest = f.digest and (t.again is null or t.again > now())) order by f.run desc, f.checkpoint limit 50;

-- query: tensors_set
insert into tensor_file (digest, weights, problem, tensors, parameters, again) values (@digest, @weights, @problem, @tensors, @parameters, @again)
on conflict (digest) do update set weights = excluded.weights, problem = excluded.problem, tensors = excluded.tensors, parameters = excluded.parameters, again = excluded.again
where tensor_file.again is not null;

-- query: tensors_of
select t.digest, t.weights, t.problem, t.tensors, t.parameters, t.again from tensor_file t where t.digest = any(@digests);
