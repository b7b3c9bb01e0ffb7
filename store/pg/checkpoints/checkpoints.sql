-- query: chunk_places
select digest, size, pack, at, stored, bad from chunk where digest = any(@digests);

-- query: chunk_add
-- A chunk that is known keeps its place, unless it is marked or is being moved.
insert into chunk (digest, size, pack, at, stored)
select c.digest, c.size, c.pack, c.at, c.stored
from unnest(@digests::bytea[], @sizes::int[], @packs::text[], @ats::bigint[], @storeds::int[]) c(digest, size, pack, at, stored) order by c.digest
on conflict (digest) do update set pack = excluded.pack, at = excluded.at, stored = excluded.stored, bad = '', kept = now() where chunk.bad <> '';

-- query: chunk_move
-- Only from the place that was read: another replica may have moved it.
update chunk c set pack = m.pack, at = m.at, stored = m.stored
from unnest(@digests::bytea[], @packs::text[], @ats::bigint[], @storeds::int[], @olds::text[]) m(digest, pack, at, stored, old)
where c.digest = m.digest and c.pack = m.old and c.bad = '';

-- query: chunk_mark
update chunk set bad = @bad where digest = @digest and pack = @pack and at = @at and bad <> @bad;

-- query: chunk_lease
-- What somebody was told is here stays for a while, though no checkpoint holds it yet.
update chunk set kept = now() where digest = any(@digests) and kept < now() - interval '5 minutes';

-- query: chunk_use
-- In the order of digests, so that two commits do not wait for each other.
with here as (select digest from chunk where digest = any(@digests) and bad = '' order by digest for update)
update chunk c set uses = uses + 1 from here where c.digest = here.digest returning c.digest, c.size;

-- query: chunk_release
-- The chunks of a run's checkpoints, prediction sheets and files, or of one checkpoint, are used by so many fewer.
with used as (
    select digest, count(*) as n from (
        select distinct f.checkpoint, substring(f.chunks from 36 * i + 1 for 32) as digest
        from checkpoint_file f join checkpoint c on c.run = f.run and c.id = f.checkpoint and c.dropped is null
        cross join lateral generate_series(0, length(f.chunks) / 36 - 1) i
        where f.run = @run and (@checkpoint = 0 or f.checkpoint = @checkpoint)
        union all
        select * from (select distinct f.sheet, substring(f.chunks from 36 * i + 1 for 32) as digest
        from sheet_file f cross join lateral generate_series(0, length(f.chunks) / 36 - 1) i where f.run = @run and @checkpoint = 0) s
        union all
        select * from (select distinct f.id, substring(f.chunks from 36 * i + 1 for 32) as digest
        from run_file f cross join lateral generate_series(0, length(f.chunks) / 36 - 1) i where f.run = @run and @checkpoint = 0 and f.dropped is null) w) d group by digest),
here as (select c.digest, u.n from chunk c join used u on u.digest = c.digest order by c.digest for update of c)
update chunk c set uses = uses - here.n, kept = now() from here where c.digest = here.digest;

-- query: chunk_clean
-- Chunks that no checkpoint holds and nobody was told of lately.
with loose as (select digest from chunk where uses = 0 and kept < now() - @grace::float8 * interval '1 second' order by kept limit 5000 for update skip locked)
delete from chunk c using loose where c.digest = loose.digest;

-- query: pack_live
-- What of each pack is still known.
select pack, count(*) as chunks, sum(stored)::bigint as stored from chunk where pack <> '' group by pack;

-- query: pack_chunks
select digest, size, pack, at, stored, bad from chunk where pack = @pack and bad = '' order by at limit 500;

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
select id, key, leg, step, epoch, why, figures, saved, size, pinned, goes, dropped, why_goes, by_rule from checkpoint where run = @run order by step desc, leg desc limit 5000;

-- query: file_at
select f.checkpoint, f.path, f.part, f.size, f.digest, f.chunks, c.saved
from checkpoint c join checkpoint_file f on f.run = c.run and f.checkpoint = c.id
where c.run = @run and c.leg = @leg and c.step = @step and c.dropped is null and f.path = @path;

-- query: file_list
select checkpoint, path, part, size, digest, chunks from checkpoint_file
where run = @run and (@checkpoint = 0 or checkpoint = @checkpoint) order by checkpoint, part, path;

-- query: checkpoint_stats
select count(*) as count, coalesce(sum(size), 0)::bigint as size from checkpoint where run = @run and dropped is null;

-- query: chunk_slice
-- Chunks in the order of their digests.
select digest, size, pack, at, stored, bad from chunk
where digest > @after and (@upto::bytea is null or digest <= @upto::bytea) order by digest limit @limit;

-- query: chunk_behind
-- Chunks in the order in which they lie, or of them those that a sample takes: digests are as good as random.
select digest, size, pack, at, stored, bad from chunk
where (pack, at, digest) > (@pack, @at::bigint, @digest::bytea) and get_byte(digest, 30) * 256 + get_byte(digest, 31) < @share::int order by pack, at, digest limit @limit;

-- query: chunk_holders
-- Checkpoints that hold a chunk. It looks through all manifests.
select distinct p.key as project, r.number, c.leg, c.step, c.epoch, exists (select 1 from leg l where l.run = c.run and l.number > c.leg and l.from_step <= c.step) as replaced,
    exists (select 1 from checkpoint d where d.run = c.run and d.epoch = c.epoch and d.step > c.step
            and not exists (select 1 from leg l where l.run = d.run and l.number > d.leg and l.from_step <= d.step)) as shared
from checkpoint_file f
join checkpoint c on c.run = f.run and c.id = f.checkpoint join run r on r.id = c.run join project p on p.id = r.project
where c.dropped is null and position(@digest::bytea in f.chunks) > 0 and (position(@digest::bytea in f.chunks) - 1) % 36 = 0 order by p.key, r.number, c.step limit 200;

-- query: chunk_totals
select count(*) as chunks, coalesce(sum(size), 0)::bigint as bytes, coalesce(sum(stored), 0)::bigint as stored, count(*) filter (where bad = 'damaged') as damaged, count(*) filter (where bad = 'missing') as missing,
    coalesce(sum(stored) filter (where uses = 0), 0)::bigint as loose, coalesce((select sum(size) from checkpoint where dropped is null), 0)::bigint as held, (select count(*) from checkpoint where dropped is null) as checkpoints from chunk;

-- query: sized_beside
-- What runs of a project (0: all) keep beside checkpoints.
select 'predictions' as kind, count(*) as count, coalesce(sum(s.size), 0)::bigint as bytes from sheet s join run r on r.id = s.run where @project = 0 or r.project = @project::bigint
union all
select 'files', count(*), coalesce(sum(f.size), 0)::bigint from run_file f join run r on r.id = f.run where f.dropped is null and (@project = 0 or r.project = @project::bigint)
union all
select 'editions', count(*), coalesce(sum(e.size), 0)::bigint from edition e join model m on m.id = e.model where e.run is null and (@project = 0 or m.project = @project::bigint)
union all
select 'checks', count(*), coalesce(sum(f.size), 0)::bigint from check_file f join edition_check c on c.id = f.check_id join edition e on e.id = c.edition
    join model m on m.id = e.model where @project = 0 or m.project = @project::bigint
order by kind;
