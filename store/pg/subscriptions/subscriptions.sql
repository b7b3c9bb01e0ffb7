-- query: subscription_list
select s.id, coalesce(p.key, '*') as project, coalesce(s.project, 0) as project_id, s.name, s.url, s.kinds, s.subject, s.filter, s.binary_mode as binary, s.machine,
       coalesce(m.name, '') as machine_name, w.name as who, s.created, s.paused, s.why_paused, s.xact::text || '-' || s.event as mark, s.fails,
       (select count(*) from delivery d where d.subscription = s.id and d.state = 'waiting') as waiting,
       (select count(*) from delivery d where d.subscription = s.id and d.state = 'parked') as parked,
       (select max(d.last) from delivery d where d.subscription = s.id and d.state = 'delivered') as delivered
from subscription s left join project p on p.id = s.project join person w on w.id = s.person left join person m on m.id = s.machine
where coalesce(p.key, '*') = @project and (@name = '' or s.name = @name) order by s.name limit 500;

-- query: subscription_held
-- What the sender needs of one that this process holds.
select s.id, coalesce(p.key, '*') as project, coalesce(s.project, 0) as project_id, s.name, s.url, s.kinds, s.subject, s.filter, s.binary_mode as binary, s.machine,
       coalesce(m.name, '') as machine_name, ''::text as who, s.created, s.paused, s.why_paused, s.xact::text || '-' || s.event as mark, s.fails,
       0::bigint as waiting, 0::bigint as parked, null::timestamptz as delivered
from subscription s left join project p on p.id = s.project left join person m on m.id = s.machine
where s.id = @id and s.holder = @holder::uuid and s.paused is null;

-- query: subscription_keys
select secret, case when before_until > now() then secret_before end as before, report_key as report from subscription where id = @id;

-- query: subscription_add
-- Told of what happens from now on; * is the whole service.
insert into subscription (project, name, url, kinds, subject, filter, binary_mode, secret, machine, report_key, person, xact, event)
select p.id, @name, @url, @kinds, @subject, @filter, @binary, @secret, @machine, @report, @person, pg_snapshot_xmin(pg_current_snapshot()), 0
from (select id from project where key = @project union all select null where @project = '*') p on conflict (project, name) do nothing returning id;

-- query: subscription_count
select count(*) from subscription s left join project p on p.id = s.project where coalesce(p.key, '*') = @project;

-- query: subscription_change
update subscription set url = coalesce(@url, url), subject = coalesce(@subject, subject), filter = coalesce(@filter, filter),
    kinds = coalesce(@kinds, kinds), binary_mode = coalesce(@binary, binary_mode),
    machine = case when @machine::bigint is null then machine when @machine::bigint = 0 then null else @machine::bigint end
where id = @id;

-- query: subscription_secret
update subscription set secret = @secret, secret_before = secret, before_until = now() + interval '1 day' where id = @id;

-- query: subscription_pause
-- Who is told again begins with what waits.
update subscription set paused = case when @paused then coalesce(paused, now()) end, why_paused = @why, fails = 0 where id = @id;

-- query: subscription_due
-- What waits is tried at once.
update delivery set next = now() where subscription = @id and state = 'waiting' and next > now();

-- query: subscription_drop
delete from subscription where id = @id;

-- query: subscription_hold
-- Each is served by one process at a time, for as long as that says that it lives.
update subscription set holder = @holder::uuid, held = now() + @long::interval
where paused is null and (holder is null or holder = @holder::uuid or held < now())
returning id;

-- query: subscription_release
update subscription set holder = null, held = null where holder = @holder::uuid;

-- query: subscription_tell
-- How far it was told, by who holds it.
update subscription set xact = @xact::text::xid8, event = @event, fails = @fails where id = @id and holder = @holder::uuid;

-- query: subscription_fails
update subscription set fails = @fails where id = @id and holder = @holder::uuid;

-- query: event_one
select e.xact::text as xact, e.id, e.kind, e.verb, e.subject, coalesce(p.key, '') as project, coalesce(r.number, 0) as run, e.data,
       coalesce(n.name, '') as who, e.place, e.at
from event e left join project p on p.id = e.project left join run r on r.id = e.run left join person n on n.id = e.person
where e.id = @id;

-- query: delivery_put
insert into delivery (subscription, event, subject, state, attempts, first, last, next, status, trouble, answer, took)
select @subscription, * from unnest(@events::bigint[], @subjects::text[], @states::text[], @attempts::int[], @firsts::timestamptz[], @lasts::timestamptz[],
    @nexts::timestamptz[], @statuses::int[], @troubles::text[], @answers::text[], @tooks::int[])
on conflict (subscription, event) do update set state = excluded.state, attempts = excluded.attempts, first = excluded.first, last = excluded.last,
    next = excluded.next, status = excluded.status, trouble = excluded.trouble, answer = excluded.answer, took = excluded.took;

-- query: delivery_due
-- The first that waits of each subject, where its time has come.
select d.event, d.subject, d.state, d.attempts, d.first, d.last, d.next, d.status, d.trouble, d.answer, d.took, e.xact::text as xact, e.kind, e.verb,
       coalesce(p.key, '') as of_project, coalesce(r.number, 0) as run, e.data, coalesce(n.name, '') as who, e.place, e.at
from (select distinct on (w.subject) w.* from delivery w where w.subscription = @subscription and w.state = 'waiting' order by w.subject, w.event) d
join event e on e.id = d.event left join project p on p.id = e.project left join run r on r.id = e.run left join person n on n.id = e.person
where coalesce(d.next, '-infinity') <= @now order by coalesce(d.next, '-infinity'), d.event limit @limit;

-- query: delivery_subjects
-- Those of which something waits already.
select distinct subject from delivery where subscription = @subscription and state = 'waiting';

-- query: delivery_list
-- The latest event first.
select d.event, d.subject, d.state, d.attempts, d.first, d.last, d.next, d.status, d.trouble, d.answer, d.took, e.xact::text as xact, e.kind, e.verb,
       coalesce(p.key, '') as of_project, coalesce(r.number, 0) as run, e.data, coalesce(n.name, '') as who, e.place, e.at
from delivery d join event e on e.id = d.event left join project p on p.id = e.project left join run r on r.id = e.run left join person n on n.id = e.person
where d.subscription = @subscription and (@state = '' or d.state = @state) and (@event::bigint = 0 or d.event = @event::bigint)
  and (@below::bigint = 0 or d.event < @below::bigint)
order by d.event desc limit @limit;

-- query: delivery_again
update delivery set state = 'waiting', attempts = 0, first = null, next = now() where subscription = @subscription
    and (@event::bigint = 0 and state = 'parked' or event = @event::bigint);

-- query: delivery_clear
-- What was taken is shown for a while.
delete from delivery where state = 'delivered' and last < now() - interval '14 days';

-- query: report_by
select s.report_key as key, s.machine, m.name, m.closed, p.key as project, e.kind, e.subject, e.at
from subscription s join person m on m.id = s.machine join event e on e.id = @event and e.project = coalesce(s.project, e.project)
join project p on p.id = e.project where s.id = @subscription;

-- query: report_once
insert into report (subscription, event, purpose) select @subscription, @event, @purpose
where (select count(*) from report where subscription = @subscription and event = @event) < @most on conflict do nothing;
