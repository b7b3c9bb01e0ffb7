-- query: chunk_known
select digest from chunk where digest = any(@digests);

-- query: chunk_add
insert into chunk (digest, size) values (@digest, @size) on conflict (digest) do nothing;

-- query: chunk_sizes
select digest, size from chunk where digest = any(@digests) for share;

-- query: checkpoint_by_key
select run, id, step from checkpoint where key = @key;

-- query: checkpoint_add
insert into checkpoint (run, key, leg, step, epoch, why, figures, saved, size)
values (@run, @key, @leg, @step, @epoch, @why, @figures, @saved, @size)
on conflict (run, leg, step) do nothing returning id;

-- query: file_add
insert into checkpoint_file (run, checkpoint, path, part, size, digest, chunks)
values (@run, @checkpoint, @path, @part, @size, @digest, @chunks);

-- query: checkpoint_list
select id, leg, step, epoch, why, figures, saved, size from checkpoint where run = @run order by step desc, leg desc limit 5000;

-- query: file_list
select checkpoint, path, part, size, digest, chunks from checkpoint_file
where run = @run and (@checkpoint = 0 or checkpoint = @checkpoint) order by checkpoint, part, path;

-- query: checkpoint_stats
select count(*) as count, coalesce(sum(size), 0)::bigint as size from checkpoint where run = @run;

-- query: weights_first
select t.weights from checkpoint c join checkpoint_file f on f.run = c.run and f.checkpoint = c.id and f.part = 'weights'
join tensor_file t on t.digest = f.digest where c.run = @run and c.step = 0 and t.weights is not null order by c.leg limit 1;

-- query: weights_known
select p.key as project, r.number, c.step, c.epoch
from tensor_file t join checkpoint_file f on f.digest = t.digest and f.part = 'weights'
join checkpoint c on c.run = f.run and c.id = f.checkpoint join run r on r.id = c.run join project p on p.id = r.project
where t.weights = @weights and r.id < @run order by c.kept, c.id limit 1;

-- query: run_start
select id, start, origin from run where id = @run;

-- query: tensors_pending
-- Files of weights that nobody has looked into yet.
select f.digest, f.run, f.checkpoint, f.path from checkpoint_file f
where f.part = 'weights' and f.path not like '%.json' and not exists (select 1 from tensor_file t where t.digest = f.digest) order by f.run desc, f.checkpoint limit 50;

-- query: tensors_lock
select pg_try_advisory_xact_lock(7421, hashtext(encode(@digest::bytea, 'hex')));

-- query: tensors_set
insert into tensor_file (digest, weights, problem, tensors, parameters) values (@digest, @weights, @problem, @tensors, @parameters) on conflict (digest) do nothing;

-- query: tensors_of
select t.digest, t.weights, t.problem, t.tensors, t.parameters from tensor_file t where t.digest = any(@digests);

-- query: verification_add
insert into verification (run, checkpoint, person, host, result) values (@run, @checkpoint, @person, @host, @result);

-- query: verification_list
select v.checkpoint, v.at, coalesce(p.name, '') as who, v.host, v.result from verification v left join person p on p.id = v.person
where v.run = @run order by v.checkpoint, v.id desc;
