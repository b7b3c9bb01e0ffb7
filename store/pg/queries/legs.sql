-- query: leg_by_key
select number, recorder, state, host, batches, upto, seen, started, seen > now() - make_interval(secs => @alive) as alive
from leg where run = @run and key = @key for update;

-- query: leg_newest
select number, recorder, state, host, batches, upto, seen, started, seen > now() - make_interval(secs => @alive) as alive
from leg where run = @run order by number desc limit 1;

-- query: leg_replace
-- A new leg begins: those before end here.
update leg set state = 'lost', ended = coalesce(ended, seen) where run = @run and state = 'running';

-- query: leg_key_elsewhere
select exists (select 1 from leg where key = @key and run <> @run);

-- query: run_lock
select id, state from run where id = @run for update;

-- query: leg_add
insert into leg (run, number, key, recorder, host, from_step, last_step, last_epoch, started, resumed)
select @run, coalesce(max(number), 0) + 1, @key, @recorder, @host, @from_step, @from_step, @from_epoch, @started, @resumed from leg where run = @run
returning number;

-- query: leg_claim
update leg set recorder = @recorder, seen = now() where run = @run and number = @number;

-- query: leg_list
select number, state, host, from_step, last_step, last_epoch, started, ended, seen, exit_code, signal, why, tail, batches, summarised, sealed, points, resumed
from leg where run = @run order by number;

-- query: leg_state
select number, recorder, state, batches, upto, last_step, points, host, summarised, sealed from leg where run = @run and number = @leg;

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

-- query: leg_seen
update leg set seen = now() where run = @run and number = @leg and recorder = @recorder returning state;

-- query: leg_news
-- What a recorder that shows it lives is to hear, and whether it was heard a moment ago anyway.
select l.recorder, l.state::text as leg_state, l.seen > now() - interval '2 seconds' as fresh, n.number as newest, n.host as newest_host, n.started as newest_started,
    p.objective, coalesce(r.stop_rule, p.stop_rule) as rule, r.stopped, r.state::text as state, r.start is not null as told_start
from leg l join run r on r.id = l.run join project p on p.id = r.project
cross join lateral (select number, host, started from leg where run = l.run order by number desc limit 1) n
where l.run = @run and l.number = @leg;

-- query: leg_alive_again
update leg set state = 'running', ended = null where run = @run and number = @leg and state = 'lost'
    and number = (select max(number) from leg where run = @run);

-- query: leg_end
update leg set state = @state, ended = @ended, seen = now(), exit_code = @exit_code, signal = @signal, why = @why, tail = @tail
where run = @run and number = @leg and recorder = @recorder returning number = (select max(number) from leg where run = @run) as newest;

-- query: leg_lose
-- The runs are held first, in the order of all.
with held as (
    select id from run where id in (select run from leg where open and state = 'running' and seen < now() - make_interval(secs => @after))
    order by id for update
)
update leg set state = 'lost', ended = seen from held
where leg.run = held.id and open and leg.state = 'running' and seen < now() - make_interval(secs => @after)
returning run, ended, number = (select max(number) from leg l where l.run = leg.run) as newest;

-- query: run_project
select project from run where id = @run;

-- query: curve_list
select id, name from curve where run = @run order by id;

-- query: curve_add
insert into curve (run, id, name)
select @run, coalesce((select max(id) from curve where run = @run), 0) + n.i, n.name
from unnest(@names::text[]) with ordinality as n(name, i);

-- query: unsummarised
select distinct run from leg where open and batches > summarised order by run;

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
select r.id as run, coalesce(c.id, 0) as curve, coalesce(t.id, 0) as train, split_part(p.objective, ' ', 2) = 'lower' as lower
from run r join project p on p.id = r.project
left join curve c on c.run = r.id and c.name = split_part(p.objective, ' ', 1)
left join curve t on t.run = r.id and split_part(p.objective, ' ', 1) ~ '\.(val|test)$'
    and t.name = regexp_replace(split_part(p.objective, ' ', 1), '\.(val|test)$', '.train')
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

-- query: output_add
insert into output (run, leg, stream, start, size, text) values (@run, @leg, @stream, @start, @size, @text)
on conflict (run, leg, stream, start) do nothing;

-- query: output_grow
update leg set output = output + @size, seen = now() where run = @run and number = @leg and recorder = @recorder returning output;

-- query: output_trim
-- Drops the oldest stretches until at most that many bytes of the leg are left.
with kept as (
    select id, sum(size) over (order by id desc) as sum, size from output where run = @run and leg = @leg
), gone as (
    delete from output o using kept k where o.run = @run and o.id = k.id and k.sum > @keep returning o.size
)
update leg set output = output - (select coalesce(sum(size), 0) from gone) where run = @run and number = @leg;

-- query: output_list
select id, leg, stream, start, size, text from output where run = @run and id > @after order by id limit 200;

-- query: summary_clear
with anew as (update run set best_step = null where id = @run)
delete from curve_summary where run = @run;
