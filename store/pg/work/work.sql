-- query: work_add
insert into work (key, kind, run, person, request) values (@key, @kind, @run, @person, @request)
on conflict (key) do nothing;

-- query: work_one
select w.key::text, w.kind, w.run, w.person, p.name as who, w.request, w.progress::float8, w.tries, w.problem, w.result, w.created, w.ended
from work w join person p on p.id = w.person where w.key = @key;

-- query: work_claim
with mine as (
    update work set holder = @holder, beat = now()
    where key = @key and ended is null and (beat is null or beat < now() - @patience::interval) returning *
)
select w.key::text, w.kind, w.run, w.person, p.name as who, w.request, w.progress::float8, w.tries, w.problem, w.result, w.created, w.ended
from mine w join person p on p.id = w.person;

-- query: work_begin
update work set tries = tries + 1 where key = @key and holder = @holder and ended is null returning tries;

-- query: work_left
select key::text from work where ended is null and (beat is null or beat < now() - @patience::interval)
order by created limit 20;

-- query: work_beat
update work set beat = now(), progress = @progress where key = @key and holder = @holder and ended is null;

-- query: work_release
update work set beat = null, holder = null, progress = 0, tries = tries - @begun::boolean::int
where key = @key and holder = @holder and ended is null;

-- query: work_end
update work set ended = now(), progress = 1, result = @result, problem = @problem
where key = @key and holder = @holder and ended is null;

-- query: work_drop
delete from work where key = @key and ended is not null;

-- query: work_clear
delete from work where ended < now() - interval '1 day';

-- query: work_of_run
select w.key::text, w.kind, w.run, w.person, p.name as who, w.request, w.progress::float8, w.tries, w.problem, w.result, w.created, w.ended
from work w join person p on p.id = w.person
where w.run = @run and w.kind = @kind and w.ended is null order by w.created desc limit 100;
