-- query: event_add
insert into event (kind, verb, subject, project, run, person, data, place)
values (@kind, @verb, @subject, @project, @run, @person, @data, @place);

-- query: event_after
-- Up to the oldest transaction still open, so that none is overtaken and missed.
select e.xact::text as xact, e.id, e.kind, e.verb, e.subject, coalesce(p.key, '') as project, coalesce(r.number, 0) as run, e.data,
       coalesce(n.name, '') as who, e.place, e.at
from event e left join project p on p.id = e.project left join run r on r.id = e.run left join person n on n.id = e.person
where (e.xact, e.id) > (@xact::text::xid8, @id) and e.xact < pg_snapshot_xmin(pg_current_snapshot())
order by e.xact, e.id limit 500;

-- query: event_now
select pg_snapshot_xmin(pg_current_snapshot())::text;

-- query: event_audit
-- The project by its number (0: of all), so that its own events are found by their index.
select e.xact::text as xact, e.id, e.kind, e.verb, e.subject, coalesce(p.key, '') as project, coalesce(r.number, 0) as run, e.data,
       coalesce(n.name, '') as who, e.place, e.at
from event e left join project p on p.id = e.project left join run r on r.id = e.run left join person n on n.id = e.person
where (@before::bigint = 0 or e.id < @before::bigint)
  and (@project::bigint = 0 or e.project = @project::bigint) and (@who = '' or lower(n.name) = lower(@who))
  and (@kind = '' or e.kind = @kind) and (@verb = '' or e.verb = @verb)
  and (@subject = '' or e.subject = @subject or e.subject like @under)
  and (@since::timestamptz is null or e.at >= @since) and (@until::timestamptz is null or e.at < @until)
order by e.id desc limit @limit;

-- query: event_project
select id from project where key = @key;

-- query: chain_lock
select pg_try_advisory_xact_lock(hashtext('kembrel event chain'));

-- query: chain_end
select seq, event, xact::text as xact, digest from event_chain order by seq desc limit 1;

-- query: chain_next
-- In the order in which events became visible: none comes before one that is chained already.
select e.xact::text as xact, e.id, jsonb_build_array(e.id, extract(epoch from e.at)::text, e.kind, e.verb, e.subject, e.project, e.run, e.person, e.data, e.place)::text as text
from event e
where (e.xact, e.id) > (@xact::text::xid8, @event) and e.xact < pg_snapshot_xmin(pg_current_snapshot())
order by e.xact, e.id limit @limit;

-- query: chain_add
insert into event_chain (seq, event, xact, digest)
select seq, event, xact::xid8, digest
from unnest(@seqs::bigint[], @events::bigint[], @xacts::text[], @digests::bytea[]) as c(seq, event, xact, digest);

-- query: chain_read
select c.seq, c.event, c.digest, e.id is null as gone,
       coalesce(jsonb_build_array(e.id, extract(epoch from e.at)::text, e.kind, e.verb, e.subject, e.project, e.run, e.person, e.data, e.place)::text, '') as text
from event_chain c left join event e on e.id = c.event
where c.seq > @after order by c.seq limit @limit;

-- query: chain_beside
-- Events that came in beside the chain: older than its end, yet not in it.
select e.id from event e
where (e.xact, e.id) <= (@xact::text::xid8, @event) and not exists (select from event_chain c where c.event = e.id)
order by e.id limit 1;

-- query: run_names
select r.id, p.key as project, r.number from run r join project p on p.id = r.project where r.id = any(@runs);

-- query: run_of
select r.id, p.id as project, p.key, r.number from run r join project p on p.id = r.project where r.id = @run;

-- query: project_place
select id, open from project where key = @key;

-- query: run_maker
select r.creator from run r join project p on p.id = r.project where p.key = @project and r.number = @number;

-- query: role
select current_user::text;

-- query: event_future
-- Events of transactions that this cluster has not had: the database was restored into another.
select exists (select from event where xact >= pg_snapshot_xmax(pg_current_snapshot()));

-- query: arrive_begin
set local statement_timeout = 0;

-- query: arrive_lock
lock table event, event_chain, subscription in access exclusive mode;

-- query: arrive_open_events
alter table event disable trigger event_stays;

-- query: arrive_open_chain
alter table event_chain disable trigger event_chain_stays;

-- query: arrive_subscriptions
-- To be told of at least what they were not: those in the chain come first now, in order of their ids, then the others.
with untold as (
    select s.id, min(e.id) filter (where c.event is not null) as chained, min(e.id) filter (where c.event is null) as fresh
    from subscription s join event e on (e.xact, e.id) > (s.xact, s.event) left join event_chain c on c.event = e.id group by s.id)
update subscription s set xact = (case when u.chained is not null then '3' else '5' end)::xid8,
    event = coalesce(u.chained - 1, u.fresh - 1, (select coalesce(max(id), 0) from event))
from subscription t left join untold u on u.id = t.id where s.id = t.id;

-- query: arrive_events
update event e set xact = (case when exists (select from event_chain c where c.event = e.id) then '3' else '5' end)::xid8;

-- query: arrive_chain
-- Its end is behind all that is in it, and before all that is not.
update event_chain set xact = (case when seq = (select max(seq) from event_chain) then '4' else '3' end)::xid8;

-- query: arrive_close_events
alter table event enable trigger event_stays;

-- query: arrive_close_chain
alter table event_chain enable trigger event_chain_stays;
