-- query: journal_lock
-- Taken before the snapshot of a reading transaction: emptying a volume waits for it, and would not be hidden by the snapshot.
lock table journal in access share mode;

-- query: journal_read
select j.leg, j.batch, j.payload from journal j join leg l on l.run = j.run and l.number = j.leg
where j.run = @run and j.leg >= @leg and j.batch > l.sealed and (j.leg, j.batch) > (@leg, @batch)
    and j.last_step >= @from and j.first_step <= @to order by j.leg, j.batch;

-- query: axis_steps
-- Which steps a stretch of epochs or times covers, as far as it is sealed.
select coalesce(min(first_step), 1) as first, coalesce(max(last_step), 0) as last from axis
where run = @run and case when @epochs::boolean then last_epoch >= @from::float8 and first_epoch <= @to::float8
                          else last_time >= @from::float8 and first_time <= @to::float8 end;

-- query: fold_read
select curve, leg, seq, payload from fold
where run = @run and level = @level and curve = any(@curves) and last_step >= @from and first_step <= @to
order by curve, leg, seq;

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

-- query: seal_lock
select pg_advisory_xact_lock(7421, hashint8(@run::bigint));

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
