-- query: journal_read
select j.leg, j.batch, j.payload from journal j join leg l on l.run = j.run and l.number = j.leg
where j.run = @run and j.leg >= @leg and j.batch > l.sealed and (j.leg, j.batch) > (@leg, @batch)
    and j.last_step >= @from and j.first_step <= @to order by j.leg, j.batch;

-- query: axis_steps
-- Which steps a stretch of epochs or times covers, as far as it is sealed.
select coalesce(min(first_step), 1) as first, coalesce(max(last_step), 0) as last from axis
where run = @run and case when @epochs::boolean then last_epoch >= @from::float8 and first_epoch <= @to::float8
                          else last_time >= @from::float8 and first_time <= @to::float8 end;

-- query: fold_parts
select f.curve, f.leg, f.seq, f.payload
from unnest(@curves::int[], @legs::int[], @firsts::int[], @lasts::int[]) as g(curve, leg, first, last)
join fold f on f.run = @run and f.level = @level and f.curve = g.curve and f.leg = g.leg and f.seq between g.first and g.last
where f.last_step >= @from and f.first_step <= @to;

-- query: block_folds
select b.curve, b.leg, b.seq, b.folds as payload
from unnest(@curves::int[], @legs::int[], @firsts::int[], @lasts::int[]) as g(curve, leg, first, last)
join block b on b.run = @run and b.curve = g.curve and b.leg = g.leg and b.seq between g.first and g.last
where b.last_step >= @from and b.first_step <= @to;

-- query: block_parts
select b.curve, b.leg, b.seq, b.axis, b.payload
from unnest(@curves::int[], @legs::int[], @firsts::int[], @lasts::int[]) as g(curve, leg, first, last)
join block b on b.run = @run and b.curve = g.curve and b.leg = g.leg and b.seq between g.first and g.last
where b.last_step >= @from and b.first_step <= @to;

-- query: block_read
select curve, leg, seq, axis, payload from block
where run = @run and curve = @curve and leg = @leg and seq >= @seq and last_step >= @from and first_step <= @to
order by seq limit @limit;

-- query: sealed_readings
-- How many readings of each curve and leg lie in blocks: all but the last block are full.
select c.curve, l.leg, b.seq * 4096::bigint + b.n as n
from unnest(@curves::int[]) as c(curve) cross join unnest(@legs::int[]) as l(leg)
cross join lateral (select seq, n from block where run = @run and curve = c.curve and leg = l.leg order by seq desc limit 1) b;

-- query: axis_read
select leg, id, payload from axis where run = @run and (leg, id) in (select * from unnest(@legs::int[], @ids::int[]));

-- query: turn
select turn, extract(epoch from now() - since)::float8 as age,
    pg_total_relation_size(('journal_' || turn % 4)::regclass) as bytes from journal_turn;

-- query: turn_next
-- Only where nobody else turned it meanwhile.
update journal_turn set turn = turn + 1, since = now() where turn = @turn;

-- query: volume_empty
select not exists (select from journal where volume = @volume);

-- query: volumes_unsealed
select j.run, j.leg, max(j.batch) as upto from journal j join leg l on l.run = j.run and l.number = j.leg
where j.volume <> @volume and j.batch > l.sealed group by j.run, j.leg order by j.run, j.leg;

-- query: volume_sealed
-- Whether all of a volume is sealed; what belongs to no leg any more counts as sealed.
select not exists (select from journal j join leg l on l.run = j.run and l.number = j.leg where j.volume = @volume and j.batch > l.sealed);

-- query: seal_rows
select leg, batch, payload from journal where run = @run and leg = @leg and batch > @sealed and batch <= @upto order by batch limit @limit;

-- query: seal_tails
-- The last block of each curve, its bytes only where there is room in it.
select c.curve, b.seq, b.axis, b.n, case when b.n < 4096 then b.payload end as payload
from unnest(@curves::int[]) as c(curve)
cross join lateral (select * from block where run = @run and curve = c.curve and leg = @leg order by seq desc limit 1) b;

-- query: fold_tails
select c.curve, f.level, f.seq, f.payload
from unnest(@curves::int[]) as c(curve) cross join generate_series(2, 8) as v(level)
cross join lateral (select * from fold where run = @run and curve = c.curve and level = v.level and leg = @leg order by seq desc limit 1) f
order by c.curve, f.level;

-- query: axis_last
select coalesce(max(id), 0) from axis where run = @run and leg = @leg;

-- query: axis_write
insert into axis (run, leg, id, uses, first_step, last_step, first_epoch, last_epoch, first_time, last_time, payload)
select @run, @leg, * from unnest(@ids::int[], @uses::int[], @first_steps::bigint[], @last_steps::bigint[],
    @first_epochs::float8[], @last_epochs::float8[], @first_times::bigint[], @last_times::bigint[], @payloads::bytea[]);

-- query: axis_unuse
update axis a set uses = a.uses - g.n from unnest(@ids::int[], @uses::int[]) as g(id, n) where a.run = @run and a.leg = @leg and a.id = g.id;

-- query: axis_clear
delete from axis where run = @run and leg = @leg and id = any(@ids) and uses = 0;

-- query: block_write
insert into block (run, leg, curve, seq, axis, n, first_step, last_step, payload, folds)
select @run, @leg, * from unnest(@curves::int[], @seqs::int[], @axes::int[], @ns::int[], @first_steps::bigint[], @last_steps::bigint[],
    @payloads::bytea[], @folds::bytea[])
on conflict (run, curve, leg, seq) do update set axis = excluded.axis, n = excluded.n, last_step = excluded.last_step,
    payload = excluded.payload, folds = excluded.folds;

-- query: fold_write
insert into fold (run, leg, curve, level, seq, first_step, last_step, payload)
select @run, @leg, * from unnest(@curves::int[], @levels::smallint[], @seqs::int[], @first_steps::bigint[], @last_steps::bigint[], @payloads::bytea[])
on conflict (run, curve, level, leg, seq) do update set last_step = excluded.last_step, payload = excluded.payload;

-- query: sealed
update leg set sealed = @sealed where run = @run and number = @leg;

-- query: leg_close
-- A leg at rest, with everything summarised and sealed, needs no more looking at.
update leg set open = false where open and state <> 'running' and batches = summarised and batches = sealed;

-- query: extent
-- Where a run's readings begin and end on an axis: step, epoch or time. Before the first summary the time of the last sign of life serves.
select case @by::text when 'step' then coalesce(min(l.from_step), 0) when 'epoch' then 0
            else least(extract(epoch from min(l.started)) * 1000, min(s.first)) end::float8 as "from",
       case @by::text when 'step' then coalesce(max(l.last_step), -1) when 'epoch' then coalesce(max(nullif(l.last_epoch, 'NaN')), -1)
            else coalesce(max(s.last), extract(epoch from max(l.seen)) * 1000, -1) end::float8 as "to"
from leg l, lateral (select min(last_time) as first, max(last_time) as last from curve_summary where run = l.run) s
where l.run = @run;

-- query: leg_list
select number, state, host, from_step, last_step, last_epoch, started, ended, seen, exit_code, signal, why, tail, batches, summarised, sealed, points, resumed
from leg where run = @run order by number;

-- query: batches_count
-- Counts each batch once and keeps its readings: no row comes back where the number is not the next one, the recorder another, or
-- the step falls. At most one batch of a leg.
with given as (
    select * from unnest(@runs::bigint[], @legs::int[], @recorders::uuid[], @numbers::bigint[], @uptos::bigint[], @points::bigint[],
                         @firsts::bigint[], @lasts::bigint[], @epochs::float8[], @payloads::bytea[])
        as g(run, leg, recorder, number, upto, points, first_step, last_step, last_epoch, payload)
), counted as (
    update leg l set batches = g.number, upto = g.upto, seen = now(), open = true, points = l.points + g.points,
        last_step = greatest(l.last_step, g.last_step), last_epoch = case when g.last_epoch = 'NaN' then l.last_epoch else g.last_epoch end
    from given g
    where l.run = g.run and l.number = g.leg and l.recorder = g.recorder and l.batches = g.number - 1
        and (g.payload is null or l.last_step <= g.first_step)
    returning l.run, l.number as leg, l.state::text as state, l.points - g.points as before
), kept as (
    insert into journal
    select g.run, g.leg, g.number, g.first_step, g.last_step, g.payload, (select turn % 4 from journal_turn)
    from given g join counted using (run, leg) where g.payload is not null
)
select run, leg, state, before from counted;

-- query: curve_list
select id, name from curve where run = @run order by id;

-- query: curve_add
insert into curve (run, id, name)
select @run, coalesce((select max(id) from curve where run = @run), 0) + n.i, n.name
from unnest(@names::text[]) with ordinality as n(name, i);

-- query: unsummarised
select distinct run from leg where open and batches > summarised order by run;

-- query: is_unsummarised
select exists (select from leg where run = @run and batches > summarised);

-- query: summary_locks
-- Those of some runs that nobody else summarises just now.
select run from unnest(@runs::bigint[]) as run where pg_try_advisory_xact_lock(7420, hashint8(run)) order by run;

-- query: summary_legs
select run, number, from_step, last_step, batches, summarised from leg where run = any(@runs::bigint[]) order by run, number;

-- query: journal_new
select j.run, j.leg, j.batch, j.payload
from unnest(@runs::bigint[], @legs::int[], @from::bigint[], @upto::bigint[]) as g(run, leg, first, last)
join journal j on j.run = g.run and j.leg = g.leg and j.batch > g.first and j.batch <= g.last
order by j.run, j.leg, j.batch limit @limit;

-- query: summarised_upto
update leg l set summarised = g.batches from unnest(@runs::bigint[], @legs::int[], @batches::bigint[]) as g(run, leg, batches)
where l.run = g.run and l.number = g.leg and l.summarised < g.batches;

-- query: drawn_curves
-- Of each run the curve of its project's objective and, where that is of validation or test, the same measure in training; 0 where there is none.
select r.id as run, coalesce(c.id, 0) as curve, coalesce(t.id, 0) as train, p.objective->>'direction' = 'lower' as lower
from run r join project p on p.id = r.project
left join curve c on c.run = r.id and c.name = p.objective->>'curve'
left join curve t on t.run = r.id and (p.objective->>'curve') ~ '\.(val|test)$'
    and t.name = regexp_replace(p.objective->>'curve', '\.(val|test)$', '.train')
where r.id = any(@runs::bigint[]);

-- query: sketch_set
update curve_summary set sketch_every = @every, sketch = @sketch where run = @run and curve = @curve and sketch_every < 0;

-- query: run_summaries
select run, payload from run_summary where run = any(@runs::bigint[]);

-- query: run_summary_lock
select 1 from run_summary where run = @run for update;

-- query: run_summaries_set
insert into run_summary (run, payload, behind) select g.run, g.payload, true from unnest(@runs::bigint[], @payloads::bytea[]) as g(run, payload)
on conflict (run) do update set payload = excluded.payload, behind = excluded.behind;

-- query: bests_set
update run r set best = g.best from unnest(@runs::bigint[], @bests::float8[]) as g(run, best) where r.id = g.run and r.best is distinct from g.best;

-- query: run_summaries_behind
select run, payload from run_summary where behind and (@only::bigint[] is null or run = any(@only::bigint[])) order by written limit @limit for update skip locked;

-- query: run_summaries_written
update run_summary set behind = false, written = now() where run = any(@runs::bigint[]);

-- query: summary_set
insert into curve_summary (run, curve, count, nan, infinite, last_step, last_epoch, last_time, last_value,
    low_step, low_epoch, low_time, low_value, high_step, high_epoch, high_time, high_value, sketch_every, sketch)
select * from unnest(@runs::bigint[], @curves::int[], @counts::bigint[], @nans::bigint[], @infinites::bigint[],
    @last_steps::bigint[], @last_epochs::float8[], @last_times::bigint[], @last_values::float8[],
    @low_steps::bigint[], @low_epochs::float8[], @low_times::bigint[], @low_values::float8[],
    @high_steps::bigint[], @high_epochs::float8[], @high_times::bigint[], @high_values::float8[], @everies::bigint[], @sketches::bytea[])
on conflict (run, curve) do update set count = excluded.count, nan = excluded.nan, infinite = excluded.infinite,
    last_step = excluded.last_step, last_epoch = excluded.last_epoch, last_time = excluded.last_time, last_value = excluded.last_value,
    low_step = excluded.low_step, low_epoch = excluded.low_epoch, low_time = excluded.low_time, low_value = excluded.low_value,
    high_step = excluded.high_step, high_epoch = excluded.high_epoch, high_time = excluded.high_time, high_value = excluded.high_value,
    sketch_every = excluded.sketch_every, sketch = excluded.sketch
where curve_summary.count <> excluded.count or curve_summary.sketch_every <> excluded.sketch_every;

-- query: summary_clear
with anew as (update run set best_step = null where id = @run)
delete from curve_summary where run = @run;

-- query: summaries
-- The parts are fenced off by "offset 0": where many runs have begun a moment ago the statistics know nothing of them, and the plan would read whole tables.
select c.run, c.name, s.count, s.nan, s.infinite, s.last_step, s.last_epoch, s.last_time, s.last_value,
       s.low_step, s.low_epoch, s.low_time, s.low_value, s.high_step, s.high_epoch, s.high_time, s.high_value,
       s.sketch_every, s.sketch, c.id as curve
from (select run, id, name from curve where run = any(@runs) offset 0) c
cross join lateral (select * from curve_summary where run = c.run and curve = c.id offset 0) s order by c.run, c.name;

-- query: summaries_behind
-- Summaries that the rows of curves have not all of yet.
select run, payload from run_summary where run = any(@runs::bigint[]) and behind;

-- query: curves_of
select run, id, name from curve where run = any(@runs::bigint[]) and (@name = '' or name = @name);

-- query: summaries_named
-- The same by one name: with "or" in one query the index on run and name would not serve.
select c.run, c.name, s.count, s.nan, s.infinite, s.last_step, s.last_epoch, s.last_time, s.last_value,
       s.low_step, s.low_epoch, s.low_time, s.low_value, s.high_step, s.high_epoch, s.high_time, s.high_value,
       s.sketch_every, s.sketch, c.id as curve
from (select run, id, name from curve where run = any(@runs) and name = @name offset 0) c
cross join lateral (select * from curve_summary where run = c.run and curve = c.id offset 0) s order by c.run;

-- query: leg_state
select number, recorder, state, batches, upto, last_step, points, host, summarised, sealed from leg where run = @run and number = @leg;
