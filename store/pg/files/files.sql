-- query: run_file_list
select f.run, f.id, e.number as evaluation, f.key::text, f.path, f.kind, f.size, f.digest, f.chunks, f.leg, coalesce(p.name, '') as who, f.written, f.dropped
from run_file f left join evaluation e on e.run = f.run and e.id = f.evaluation left join person p on p.id = f.person
where f.run = @run and (@evaluation = -1 or coalesce(e.number, 0) = @evaluation::int) and (@path = '' or f.path = @path)
    and (@after = '' or (f.path collate "C", coalesce(e.number, 0)) > (@after collate "C", @since::int))
order by f.path collate "C", coalesce(e.number, 0) limit @limit;

-- query: run_file_by_key
select f.run, f.path, coalesce(e.number, 0) as evaluation from run_file f left join evaluation e on e.run = f.run and e.id = f.evaluation where f.key = @key;

-- query: run_file_lock
select id from run where id = @run for update;

-- query: run_file_count
select count(*) from run_file where run = @run;

-- query: run_file_release
-- The chunks of a file that still has its bytes are used by one fewer each.
with used as (
    select distinct substring(f.chunks from 36 * i + 1 for 32) as digest
    from run_file f cross join lateral generate_series(0, length(f.chunks) / 36 - 1) i
    where f.run = @run and f.evaluation is not distinct from nullif(@evaluation::bigint, 0) and f.path = @path and f.dropped is null),
here as (select c.digest from chunk c join used u on u.digest = c.digest order by c.digest for update of c)
update chunk c set uses = uses - 1, kept = now() from here where c.digest = here.digest;

-- query: run_file_put
insert into run_file (run, evaluation, key, path, kind, size, digest, chunks, leg, person)
values (@run, nullif(@evaluation::bigint, 0), @key, @path, @kind, @size, @digest, @chunks, @leg, @person)
on conflict (run, evaluation, path) do update set key = excluded.key, kind = excluded.kind, size = excluded.size, digest = excluded.digest, chunks = excluded.chunks,
    leg = excluded.leg, person = excluded.person, written = now(), dropped = null;

-- query: run_file_drop
update run_file f set dropped = now() where f.run = @run and f.evaluation is not distinct from nullif(@evaluation::bigint, 0) and f.path = @path and f.dropped is null;

-- query: run_file_due
-- Files whose project's rule lets them go: so many days after they were written, of runs that are neither pinned to stay by a checkpoint nor running.
select f.run, coalesce(f.evaluation, 0) as evaluation, f.path, f.size
from run_file f join run r on r.id = f.run join project p on p.id = r.project
where p.file_rule is not null and f.dropped is null and r.state <> 'running' and f.written < now() - (p.file_rule ->> 'days')::float8 * interval '1 day'
    and not exists (select 1 from checkpoint c where c.run = r.id and c.pinned)
order by f.written limit 500;

-- query: file_rule
select file_rule from project where id = @project;

-- query: file_rule_set
update project set file_rule = @rule where id = @project;
