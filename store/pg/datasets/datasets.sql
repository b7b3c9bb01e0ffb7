-- query: dataset_make
-- By name; it is made where there is none.
insert into dataset (name, person) values (@name, @person) on conflict (name) do nothing;

-- query: dataset_lock
-- So that no number of a snapshot is given twice.
select id from dataset where id = @dataset for update;

-- query: dataset_list
-- By name, behind one, with the latest snapshot of each.
select d.id, d.name, d.title, p.name as who, d.created, coalesce(n.n, 0)::int as snapshots, coalesce(s.number, 0) as number, coalesce(s.items, 0) as items, coalesce(s.bytes, 0) as bytes,
    s.created as latest, s.answers
from dataset d join person p on p.id = d.person
left join lateral (select * from snapshot where dataset = d.id order by number desc limit 1) s on true
left join lateral (select count(*) as n from snapshot where dataset = d.id) n on true
where d.name > @after and (@name = '' or d.name = @name) and s.id is not null
order by d.name limit @limit;

-- query: dataset_id
select id from dataset where name = @name;

-- query: snapshot_list
-- The newest first, below a number (0: from the newest).
select s.id, d.name as dataset, s.number, s.digest, s.items, s.bytes, s.kept, s.columns, s.rows, s.source, s.base, p.name as who, s.created, s.size, s.chunks, s.answers, s.marks, s.failed
from snapshot s join dataset d on d.id = s.dataset join person p on p.id = s.person
where d.name = @name and (@below::bigint = 0 or s.number < @below::bigint) order by s.number desc limit @limit;

-- query: snapshot_one
-- By the dataset's name and a number; 0: the newest.
select s.id, d.name as dataset, s.number, s.digest, s.items, s.bytes, s.kept, s.columns, s.rows, s.source, s.base, p.name as who, s.created, s.size, s.chunks, s.answers, s.marks, s.failed
from snapshot s join dataset d on d.id = s.dataset join person p on p.id = s.person
where d.name = @name and (@number = 0 or s.number = @number) order by s.number desc limit 1;

-- query: snapshot_by_id
select s.id, d.name as dataset, s.number, s.digest, s.items, s.bytes, s.kept, s.columns, s.rows, s.source, s.base, p.name as who, s.created, s.size, s.chunks, s.answers, s.marks, s.failed
from snapshot s join dataset d on d.id = s.dataset join person p on p.id = s.person
where s.id = @id;

-- query: snapshot_same
select id, number from snapshot where dataset = @dataset and digest = @digest;

-- query: snapshot_add
insert into snapshot (dataset, number, digest, items, bytes, kept, columns, rows, source, base, person, size, file, chunks)
select @dataset, coalesce((select max(number) from snapshot where dataset = @dataset), 0) + 1, @digest, @items, @bytes, @kept, @columns, @rows, @source, @base, @person, @size, @file, @chunks
returning id, number;

-- query: snapshot_split_add
insert into snapshot_split (snapshot, name, items, bytes, kept, keys, digests, pairs) values (@snapshot, @name, @items, @bytes, @kept, @keys, @digests, @pairs);

-- query: snapshot_splits
select name, items, bytes, kept, keys, digests, pairs from snapshot_split where snapshot = @snapshot;

-- query: snapshot_unanswered
-- Those that were not looked at yet. One at which that failed, or was cut off five times, is tried again every hour.
select id from snapshot where answers is null and (failed = '' and tries < 5 or tried < now() - interval '1 hour') order by id limit 20;

-- query: snapshot_try
update snapshot set tries = tries + 1, tried = now() where id = @id and answers is null;

-- query: snapshot_answer
update snapshot set answers = @answers, marks = @marks, failed = '' where id = @id and answers is null;

-- query: snapshot_untried
-- The try ended, though without answers: it counts for nothing, or it failed and says why.
update snapshot set tries = greatest(tries - 1, 0), failed = @failed where id = @id and answers is null;

-- query: split_find
-- The latest snapshots that have a split with a fingerprint, those of a dataset first.
select s.id as snapshot, d.name as dataset, s.number, t.name as split, t.items
from snapshot_split t join snapshot s on s.id = t.snapshot join dataset d on d.id = s.dataset
where (@pairs::bytea is not null and t.pairs = @pairs) or (@keys::bytea is not null and t.keys = @keys) or (@digests::bytea is not null and t.digests = @digests)
order by (d.name = @dataset) desc, s.id desc limit 20;

-- query: draft_add
insert into draft (id, dataset, person, columns, rows, source, base, sets) values (@id, @dataset, @person, @columns, @rows, @source, @base, @sets) on conflict (id) do nothing;

-- query: draft_one
select f.id::text, f.dataset, d.name, f.person, f.begun, f.columns, f.rows, f.source, f.base, f.sets, f.snapshot, coalesce(b.n, 0)::int as blocks, coalesce(b.items, 0)::bigint as items
from draft f join dataset d on d.id = f.dataset
left join lateral (select count(*) as n, sum(items) as items from draft_block where draft = f.id) b on true
where f.id = @id;

-- query: draft_block_put
insert into draft_block (draft, number, digest, items) values (@draft, @number, @digest, @items)
on conflict (draft, number) do update set digest = excluded.digest, items = excluded.items;

-- query: draft_blocks
select number, digest, items from draft_block where draft = @draft order by number;

-- query: draft_done
update draft set snapshot = @snapshot where id = @id;

-- query: draft_block_clear
delete from draft_block where draft = @draft;

-- query: draft_clear
-- Those begun long ago: the chunks of their blocks are gone by now.
delete from draft where begun < now() - interval '2 days';

-- query: run_data_put
insert into run_data (run, use, snapshot, split, items, asked, address) values (@run, @use, @snapshot, @split, @items, @asked, @address)
on conflict (run, use) do update set snapshot = excluded.snapshot, split = excluded.split, items = excluded.items, asked = excluded.asked, address = excluded.address;

-- query: run_data_list
select run, use, snapshot, split, items, asked, address, at from run_data where run = any(@runs) order by run, array_position(array['train', 'val', 'test'], use), use;

-- query: data_users
-- Runs that used a snapshot and that whoever asks sees, the newest first.
select p.key as project, r.number, r.title, u.use, u.split, m.name as who, r.started, r.state::text
from run_data u join run r on r.id = u.run join project p on p.id = r.project join person m on m.id = r.creator
where u.snapshot = @snapshot and r.doomed is null and (@all or p.open and @open or p.key = any(@keys::text[])) and (@only = '' or p.key = @only)
order by r.started desc, r.number desc limit @limit;

-- query: test_looks
-- What was seen of the test split of this snapshot: readings on runs' own curves, what evaluations gave, and the sheets of runs that read no such curve. All are counted,
-- whoever asks; what may not be seen is not named.
with looks as (
    select r.id as run, m.name as who, u.split, c.name as curve, s.count as looks, s.last_value as last, s.low_value as lowest, s.high_value as highest, r.started as first,
        to_timestamp(s.last_time / 1000.0) as latest
    from run_data u join run r on r.id = u.run join person m on m.id = r.creator
    join curve c on c.run = r.id and c.name like '%.test' join curve_summary s on s.run = r.id and s.curve = c.id
    where u.snapshot = @snapshot and (u.use = 'test' or u.split = 'test') and s.count > 0
    union all
    select e.run, (array_agg(m.name order by e.number desc))[1], 'test', f.name || '.test', count(*), (array_agg(f.value order by e.number desc))[1], min(f.value), max(f.value),
        min(e.ended), max(e.ended)
    from evaluation e left join person m on m.id = e.person
    cross join lateral (select key as name, value::float8 as value from jsonb_each_text(e.measures) where value <> 'NaN') f
    where e.snapshot = @snapshot and e.split = 'test' and (e.figures ? f.name or e.figures ? (f.name || '.test') or f.name in ('accuracy', 'mae', 'exact_match', 'iou_mean_of_classes'))
    group by e.run, f.name
    union all
    select s.run, (array_agg(m.name order by s.number desc))[1], 'test', (s.figures #>> '{0,name}') || '.test', count(*),
        (array_agg((s.figures #>> '{0,value}')::float8 order by s.number desc))[1], min((s.figures #>> '{0,value}')::float8), max((s.figures #>> '{0,value}')::float8), min(s.created),
        max(s.created)
    from snapshot n join dataset d on d.id = n.dataset join sheet s on s.data = d.name || '#' || n.number || ':test' join person m on m.id = s.person
    where n.id = @snapshot and s.evaluation is null and s.figures #>> '{0,name}' in ('accuracy', 'mean absolute error', 'exact match', 'IoU, mean of classes')
        and not exists (select 1 from curve c where c.run = s.run and c.name = (s.figures #>> '{0,name}') || '.test')
    group by s.run, s.figures #>> '{0,name}')
select case when (@all or p.open and @open or p.key = any(@keys::text[])) and (@only = '' or p.key = @only) then p.key else '' end as project, r.id as run, r.number,
    coalesce(l.who, '') as who, l.split, l.curve, l.looks, l.last, l.lowest, l.highest, l.first, l.latest
from looks l join run r on r.id = l.run join project p on p.id = r.project
order by l.first, r.number, l.curve limit 5000;
