-- query: leg_by_key
select number, recorder, state, batches, upto, seen > now() - make_interval(secs => @alive) as alive, host
from leg where run = @run and key = @key for update;

-- query: leg_key_elsewhere
select exists (select 1 from leg where key = @key and run <> @run);

-- query: run_lock
select id, state from run where id = @run for update;

-- query: leg_add
insert into leg (run, number, key, recorder, host, from_step, last_step, started)
select @run, coalesce(max(number), 0) + 1, @key, @recorder, @host, @from_step, @from_step, @started from leg where run = @run
returning number;

-- query: leg_claim
update leg set recorder = @recorder, seen = now() where run = @run and number = @number;

-- query: leg_list
select number, state, host, from_step, last_step, last_epoch, started, ended, seen, exit_code, signal, why, tail, batches, summarised, points
from leg where run = @run order by number;

-- query: leg_state
select number, recorder, state, batches, upto, last_step, points, host from leg where run = @run and number = @leg;

-- query: leg_count
-- Counts a batch once: no row comes back where the number is not the next one, the recorder another, or the step falls.
update leg set batches = @number, upto = @upto, seen = now(), points = points + @points,
    last_step = greatest(last_step, @last_step), last_epoch = case when @last_epoch::float8 = 'NaN' then last_epoch else @last_epoch end
where run = @run and number = @leg and recorder = @recorder and batches = @number - 1 and (@points = 0 or last_step <= @first_step)
returning state, points - @points as before;

-- query: leg_seen
update leg set seen = now() where run = @run and number = @leg and recorder = @recorder returning state;

-- query: leg_alive_again
update leg set state = 'running', ended = null where run = @run and number = @leg and state = 'lost';

-- query: leg_end
update leg set state = @state, ended = @ended, seen = now(), exit_code = @exit_code, signal = @signal, why = @why, tail = @tail
where run = @run and number = @leg and recorder = @recorder returning number = (select max(number) from leg where run = @run) as newest;

-- query: leg_lose
update leg set state = 'lost', ended = seen where state = 'running' and seen < now() - make_interval(secs => @after)
returning run, ended, number = (select max(number) from leg l where l.run = leg.run) as newest;

-- query: run_project
select project from run where id = @run;

-- query: curve_list
select id, name from curve where run = @run order by id;

-- query: curve_add
insert into curve (run, id, name)
select @run, coalesce((select max(id) from curve where run = @run), 0) + n.i, n.name
from unnest(@names::text[]) with ordinality as n(name, i);

-- query: journal_add
insert into journal (run, leg, batch, first_step, last_step, payload) values (@run, @leg, @batch, @first_step, @last_step, @payload);

-- query: journal_read
select leg, batch, payload from journal
where run = @run and (leg, batch) > (@leg, @batch) and last_step >= @from and first_step <= @to order by leg, batch;

-- query: unsummarised
select distinct run from leg where batches > summarised order by run limit 64;

-- query: summary_lock
select pg_try_advisory_xact_lock(7420, hashint8(@run::bigint));

-- query: summarised
update leg set summarised = @batches where run = @run and number = @leg;

-- query: summary_set
insert into curve_summary values (@run, @curve, @count, @nan, @infinite, @last_step, @last_epoch, @last_time, @last_value,
    @low_step, @low_epoch, @low_time, @low_value, @high_step, @high_epoch, @high_time, @high_value, @sketch_every, @sketch)
on conflict (run, curve) do update set count = @count, nan = @nan, infinite = @infinite,
    last_step = @last_step, last_epoch = @last_epoch, last_time = @last_time, last_value = @last_value,
    low_step = @low_step, low_epoch = @low_epoch, low_time = @low_time, low_value = @low_value,
    high_step = @high_step, high_epoch = @high_epoch, high_time = @high_time, high_value = @high_value,
    sketch_every = @sketch_every, sketch = @sketch;

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
delete from curve_summary where run = @run;
