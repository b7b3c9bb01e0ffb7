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

-- query: leg_add
insert into leg (run, number, key, recorder, host, from_step, last_step, last_epoch, started, resumed)
select @run, coalesce(max(number), 0) + 1, @key, @recorder, @host, @from_step, @from_step, @from_epoch, @started, @resumed from leg where run = @run
returning number;

-- query: leg_unstop
-- Who goes on with a run that a person had asked to stop means it.
update run set stopped = null where id = @run and stopped ? 'who';

-- query: leg_claim
update leg set recorder = @recorder, seen = now() where run = @run and number = @number;

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
