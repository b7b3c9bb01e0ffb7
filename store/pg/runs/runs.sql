-- query: run_by_key
select id, number, project from run where key = @key;

-- query: run_number
update project set runs = runs + 1 where id = @project returning runs;

-- query: run_add
insert into run (project, number, key, title, creator, host, recipe, origin, started, search, trial)
values (@project, @number, @key, @title, @creator, @host, @recipe, @origin, @started, nullif(@search, 0), nullif(@trial, 0)) returning id;

-- query: run_id
select r.id from run r join project p on p.id = r.project where p.key = @project and r.number = @number::bigint;

-- query: run_list
select r.id, r.number, r.title, r.state, p.name as who, r.host, r.started, r.ended,
       coalesce(r.took, l.took, 0)::float8 as took, case when r.state = 'running' then l.started end as since,
       coalesce((select jsonb_object_agg(h.name, h.value) from hyper h where h.run = r.id), '{}') as hyper,
       coalesce(l.last_step, 0) as step, coalesce(l.last_epoch, 'NaN') as epoch, r.verdict, r.dispute, r.needs, r.origin, r.start, r.repeats, r.tags, r.alarms, r.note, r.archived, r.doomed, r.creator, coalesce(r.search, 0) as search, coalesce(r.trial, 0) as trial
from run r join person p on p.id = r.creator
left join lateral (select last_step, last_epoch, started, (select extract(epoch from sum(g.ended - g.started)) from leg g where g.run = r.id and g.ended is not null) as took
                   from leg where run = r.id order by number desc limit 1) l on true
where r.project = @project and r.number = any(@numbers::bigint[]);

-- query: run_says
-- What the program told of itself goes into the recipe, but for what is null.
update run set recipe = recipe || jsonb_strip_nulls(@recipe::jsonb), needs = coalesce(@needs::text[], needs), start = coalesce(@start::jsonb, start)
where id = @run;

-- query: repeats_set
update run set repeats = @repeats where id = @run;

-- query: run_recipe
select recipe from run where id = @run;

-- query: run_recipes
select id, recipe from run where id = any(@runs::bigint[]);

-- query: hyper_list
select name, value from hyper where run = @run;

-- query: run_titles
select id, number, title from run where project = @project and number = any(@numbers::bigint[]);

-- query: run_change
update run set title = coalesce(@title, title), tags = coalesce(@tags::text[], tags), note = coalesce(@note, note) where id = @id;

-- query: run_state
update run set state = @state, ended = @ended,
    took = case when @ended::timestamptz is not null then coalesce((select sum(greatest(0, extract(epoch from g.ended - g.started))) from leg g where g.run = @id and g.ended is not null),
                                                                   extract(epoch from @ended::timestamptz - started)) end
where id = @id and (state <> @state or ended is distinct from @ended);

-- query: hyper_set
insert into hyper (run, name, value) values (@run, @name, @value) on conflict (run, name) do update set value = excluded.value;

-- query: note_add
insert into note (run, leg, at, text) values (@run, @leg, @at, @text);

-- query: note_list
select leg, at, text from note where run = @run order by at, id limit 1000;

-- query: run_archive
update run set archived = case when @archived then coalesce(archived, now()) end where id = @run;

-- query: run_doom
-- @days: until it is deleted; null: it stays.
update run set doomed = now() + @days::float8 * interval '1 day' where id = @run;

-- query: runs_due
select r.id, p.key as project, r.number, p.id as project_id from run r join project p on p.id = r.project where r.doomed <= now() order by r.doomed limit 20;

-- query: run_erase
with j as (delete from journal where run = @run), b as (delete from block where run = @run), a as (delete from axis where run = @run),
     f as (delete from fold where run = @run), s as (delete from curve_summary where run = @run), m as (delete from run_summary where run = @run)
delete from run where id = @run and doomed <= now();
-- query: run_start
select id, start, origin from run where id = @run;
