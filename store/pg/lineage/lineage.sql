-- query: lineage_up
-- What the things named were made with: runs by id, others by two lists in step.
select m.*, coalesce(p.key, '') as project from (
select 'checkpoint' as from_kind, e.run as from_run, e.checkpoint as from_id, 'evaluation' as to_kind, e.run as to_run, e.id as to_id, 'evaluated' as how, '' as use, '' as data, '' as address
from unnest(@found_runs::bigint[], @founds::bigint[]) k(run, id) join evaluation e on e.run = k.run and e.id = k.id
union all
select 'snapshot', 0, e.snapshot, 'evaluation', e.run, e.id, 'evaluated-on', '', e.data, ''
from unnest(@found_runs::bigint[], @founds::bigint[]) k(run, id) join evaluation e on e.run = k.run and e.id = k.id where e.snapshot is not null
union all
select 'run', k.run, 0, 'checkpoint', k.run, k.id, 'saved', '', '', '' from unnest(@point_runs::bigint[], @points::bigint[]) k(run, id)
union all
select 'snapshot', 0, u.snapshot, 'run', u.run, 0, 'data', u.use, u.address, ''
from run_data u where u.run = any(@runs::bigint[]) and u.snapshot is not null
union all
select case when c.id is not null then 'checkpoint' when x.kind = 'rerun' and o.id is not null then 'run' else '' end, coalesce(o.id, 0), coalesce(c.id, 0), 'run', x.id, 0, x.kind, '', '', x.address
from (select r.id, r.origin ->> 'kind' as kind, r.origin ->> 'from' as address, split_part(r.origin ->> 'from', '@', 1) as run, (r.origin ->> 'leg')::int as leg, (r.origin ->> 'step')::bigint as step
        from run r where r.id = any(@runs::bigint[]) and r.origin is not null) x
left join project p on p.key = split_part(x.run, '/', 1)
left join run o on o.project = p.id and o.number = case when split_part(x.run, '/', 2) ~ '^[0-9]{1,9}$' then split_part(x.run, '/', 2)::int end
left join checkpoint c on x.kind = 'branch' and c.run = o.id and c.leg = x.leg and c.step = coalesce(x.step, 0)
union all
select 'checkpoint', k.run, k.id, 'run', r.id, 0, 'equal-weights', '', '', ''
from run r cross join lateral (select coalesce(case when r.start ->> 'digest' ~ '^b3:[0-9a-f]{64}$' then decode(substr(r.start ->> 'digest', 4), 'hex') end,
        (select t.weights from checkpoint c join checkpoint_file f on f.run = c.run and f.checkpoint = c.id and f.part = 'weights' join tensor_file t on t.digest = f.digest
            where c.run = r.id and c.step = 0 and t.weights is not null order by c.leg limit 1)) as weights) w
cross join lateral (select c.run, c.id from tensor_file t join checkpoint_file f on f.digest = t.digest and f.part = 'weights' join checkpoint c on c.run = f.run and c.id = f.checkpoint
        where t.weights = w.weights and c.run < r.id order by c.kept, c.id limit 1) k
where r.id = any(@runs::bigint[]) and r.origin is null
union all
select 'snapshot', 0, b.id, 'snapshot', 0, s.id, 'changed', '', '', ''
from snapshot s join snapshot b on b.dataset = s.dataset and b.number = s.base where s.id = any(@snapshots::bigint[])
union all
select case when c.id is null then '' else 'checkpoint' end, coalesce(e.run, 0), coalesce(c.id, 0), 'edition', 0, e.id, 'entered', '', '', e.origin
from edition e left join checkpoint c on c.run = e.run and c.leg = substring(e.origin from 'leg([0-9]{1,9})$')::int and c.step = substring(e.origin from '@s([0-9]{1,18})')::bigint
where e.id = any(@editions::bigint[])
) m left join run r on r.id = m.from_run left join project p on p.id = r.project;

-- query: lineage_down
-- What was made with the things named, that whoever asks sees: at most so many. Of a run, its checkpoints that something uses.
with seen as (select id from project p where (@all or p.open and @open or p.key = any(@keys::text[])) and (@only = '' or p.key = @only)),
points as (
    select k.run, k.id, c.leg, c.step, p.key || '/' || r.number as address
    from unnest(@point_runs::bigint[], @points::bigint[]) k(run, id) join checkpoint c on c.run = k.run and c.id = k.id join run r on r.id = k.run join project p on p.id = r.project),
made as (
    select 'run' as kind, u.run, 0::bigint as id from run_data u where u.snapshot = any(@snapshots::bigint[])
    union
    select 'evaluation', e.run, e.id from evaluation e where e.snapshot = any(@snapshots::bigint[])
    union
    select 'snapshot', 0, s.id from snapshot b join snapshot s on s.dataset = b.dataset and s.base = b.number where b.id = any(@snapshots::bigint[])
    union
    select 'run', b.id, 0 from run r join project p on p.id = r.project join run b on split_part(b.origin ->> 'from', '@', 1) = p.key || '/' || r.number and b.origin ->> 'kind' = 'rerun'
    where r.id = any(@runs::bigint[])
    union
    select 'checkpoint', e.run, e.checkpoint from evaluation e where e.run = any(@runs::bigint[])
    union
    select 'checkpoint', c.run, c.id from run r join project p on p.id = r.project
    join run b on split_part(b.origin ->> 'from', '@', 1) = p.key || '/' || r.number and b.origin ->> 'kind' = 'branch'
    join checkpoint c on c.run = r.id and c.leg = (b.origin ->> 'leg')::int and c.step = coalesce((b.origin ->> 'step')::bigint, 0)
    where r.id = any(@runs::bigint[])
    union
    select 'checkpoint', f.run, f.checkpoint from checkpoint_file f join tensor_file t on t.digest = f.digest and t.weights is not null
    join run b on b.start ->> 'digest' = 'b3:' || encode(t.weights, 'hex') and b.origin is null and b.id > f.run where f.run = any(@runs::bigint[]) and f.part = 'weights'
    union
    select 'checkpoint', c.run, c.id from edition e
    join checkpoint c on c.run = e.run and c.leg = substring(e.origin from 'leg([0-9]{1,9})$')::int and c.step = substring(e.origin from '@s([0-9]{1,18})')::bigint where e.run = any(@runs::bigint[])
    union
    select 'edition', 0, e.id from points k join edition e on e.run = k.run and e.origin = k.address || '@s' || k.step || '.leg' || k.leg
    union
    select 'evaluation', e.run, e.id from points k join evaluation e on e.run = k.run and e.checkpoint = k.id
    union
    select 'run', b.id, 0 from points k join run b on split_part(b.origin ->> 'from', '@', 1) = k.address and b.origin ->> 'kind' = 'branch' and (b.origin ->> 'leg')::int = k.leg
        and coalesce((b.origin ->> 'step')::bigint, 0) = k.step
    union
    select 'run', b.id, 0 from points k join checkpoint_file f on f.run = k.run and f.checkpoint = k.id and f.part = 'weights' join tensor_file t on t.digest = f.digest and t.weights is not null
    join run b on b.start ->> 'digest' = 'b3:' || encode(t.weights, 'hex') and b.origin is null and b.id > k.run)
select m.kind, m.run, m.id from made m left join run r on r.id = m.run
where m.kind = 'snapshot' or r.doomed is null and r.project in (select id from seen)
    or m.kind = 'edition' and exists (select from edition e join model o on o.id = e.model where e.id = m.id and o.project in (select id from seen))
order by m.run desc, m.kind desc, m.id desc limit @limit;

-- query: lineage_nodes
-- What is shown of the things named.
select 'snapshot' as kind, 0::bigint as run, s.id, '' as project, 0 as number, d.name as dataset, s.number as of, 0 as leg, 0::bigint as step, 'NaN'::float8 as epoch, false as replaced, false as shared,
    '' as title, p.name as who, s.created as at, '' as state, false as doomed, s.items, '' as "on", '{}'::jsonb as made, 0::bigint as saved
from snapshot s join dataset d on d.id = s.dataset join person p on p.id = s.person where s.id = any(@snapshots::bigint[])
union all
select 'run', r.id, 0, j.key, r.number, '', 0, 0, 0, 'NaN', false, false, r.title, p.name, r.started, r.state::text, r.doomed is not null, 0, '', '{}',
    (select count(*) from checkpoint c where c.run = r.id and c.dropped is null)
from run r join project j on j.id = r.project join person p on p.id = r.creator where r.id = any(@runs::bigint[])
union all
select 'checkpoint', c.run, c.id, j.key, r.number, '', 0, c.leg, c.step, c.epoch, exists (select 1 from leg l where l.run = c.run and l.number > c.leg and l.from_step <= c.step),
    exists (select 1 from checkpoint d where d.run = c.run and d.epoch = c.epoch and d.step > c.step
        and not exists (select 1 from leg l where l.run = d.run and l.number > d.leg and l.from_step <= d.step)),
    '', '', c.saved, '', r.doomed is not null, 0, '', '{}', 0
from unnest(@point_runs::bigint[], @points::bigint[]) k(run, id) join checkpoint c on c.run = k.run and c.id = k.id join run r on r.id = c.run join project j on j.id = r.project
union all
select 'evaluation', e.run, e.id, j.key, r.number, '', e.number, 0, 0, 'NaN', false, false, '', coalesce(p.name, ''), e.ended, '', r.doomed is not null, 0,
    coalesce(nullif(e.split, ''), e.data), e.measures, 0
from unnest(@found_runs::bigint[], @founds::bigint[]) k(run, id) join evaluation e on e.run = k.run and e.id = k.id join run r on r.id = e.run join project j on j.id = r.project
left join person p on p.id = e.person
union all
select 'edition', 0, e.id, j.key, 0, m.name, e.number, 0, 0, 'NaN', false, false,
    coalesce((select string_agg(replace(h.standing, '-', ' '), ', ' order by h.standing) from holding h where h.edition = e.id and h.until is null), ''), p.name, e.entered, '', false, 0, '',
    (select coalesce(jsonb_agg(c.place order by c.place), '[]') from (select place from consumer u where u.edition = e.id order by place limit 100) c), 0
from edition e join model m on m.id = e.model join project j on j.id = m.project join person p on p.id = e.person where e.id = any(@editions::bigint[]);

-- query: edition_named
select e.id, p.key as project from edition e join model m on m.id = e.model join project p on p.id = m.project where m.name = @model and e.number = @number;
