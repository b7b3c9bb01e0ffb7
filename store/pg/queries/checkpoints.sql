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
