-- query: event_add
insert into event (kind, project, run, person, what) values (@kind, @project, @run, @person, @what);

-- query: event_after
-- Up to the oldest transaction still open, so that none is overtaken and missed.
select e.xact::text as xact, e.id, e.kind, coalesce(p.key, '') as project, coalesce(r.number, 0) as run, e.what, coalesce(n.name, '') as who, e.at
from event e left join project p on p.id = e.project left join run r on r.id = e.run left join person n on n.id = e.person
where (e.xact, e.id) > (@xact::text::xid8, @id) and e.xact < pg_snapshot_xmin(pg_current_snapshot())
order by e.xact, e.id limit 500;

-- query: event_now
select pg_snapshot_xmin(pg_current_snapshot())::text;

-- query: run_names
select r.id, p.key as project, r.number from run r join project p on p.id = r.project where r.id = any(@runs);
