-- query: run_lock
select id, state from run where id = @run for update;

-- query: journal_lock
-- Taken before the snapshot of a reading transaction: emptying a volume waits for it, and would not be hidden by the snapshot.
lock table journal in access share mode;

-- query: seal_lock
select pg_advisory_xact_lock(7421, hashint8(@run::bigint));

-- query: vitals_jobs
select kind, state::text as state, count(*) as jobs from jobs.river_job group by kind, state;

-- query: vitals_recorders
select count(*) from leg where open and state = 'running' and seen > now() - interval '1 minute';
