-- query: model_project
select p.key from model m join project p on p.id = m.project where m.name = @name;

-- query: model_list
-- Those of projects that whoever asks sees, by name, behind one.
select m.id, m.name, m.title, m.purpose, m.limits, m.contact, p.key as project, m.project as project_id, w.name as who, m.created, (select count(*) from edition e where e.model = m.id)::int as editions
from model m join project p on p.id = m.project join person w on w.id = m.person
where m.name > @after and (@name = '' or m.name = @name) and (@all or p.open and @open or p.key = any(@keys::text[])) and (@only = '' or p.key = @only)
order by m.name limit @limit;

-- query: model_add
insert into model (name, title, purpose, limits, contact, project, person) select @name, @title, @purpose, @limits, @contact, p.id, @person from project p where p.key = @project
on conflict (name) do nothing returning id, project;

-- query: model_change
update model set title = coalesce(@title, title), purpose = coalesce(@purpose, purpose), limits = coalesce(@limits, limits), contact = coalesce(@contact, contact) where id = @id;

-- query: model_lock
-- What happens to a model happens one after another.
select id from model where id = @id for update;

-- query: standing_put
insert into model_standing (model, name, place, approvers, checks, reporters, lowered_by, lowered_from)
values (@model, @name, @place, @approvers, @checks, @reporters, nullif(@lowered_by::bigint, 0), @lowered_from)
on conflict (model, name) do update set place = excluded.place, approvers = excluded.approvers, checks = excluded.checks,
    reporters = excluded.reporters, lowered_by = excluded.lowered_by, lowered_from = excluded.lowered_from;

-- query: standing_drop
-- One that was never asked for or had.
delete from model_standing s where s.model = @model and s.name = @name
    and not exists (select from holding h where h.model = s.model and h.standing = s.name) and not exists (select from asking a where a.model = s.model and a.standing = s.name);

-- query: standing_list
select s.model, s.name, s.approvers, s.checks, s.reporters, coalesce(s.lowered_by, 0)::bigint as lowered_by, s.lowered_from, coalesce(h.seq, 0) as seq, h.edition, h.since, coalesce(p.name, '') as who, coalesce(h.why, '') as why, h.signed
from model_standing s left join holding h on h.model = s.model and h.standing = s.name and h.until is null left join person p on p.id = h.person
where s.model = any(@models::bigint[]) order by s.model, s.place, s.name;

-- query: holding_end
-- By this database's clock, and never before it began.
update holding set until = greatest(clock_timestamp(), since) where model = @model and standing = @standing and until is null returning seq, until;

-- query: holding_add
insert into holding (model, standing, seq, edition, since, person, why, asking, signed)
values (@model, @standing, @seq, @edition, coalesce(@since, clock_timestamp()), @person, @why, @asking, @signed);

-- query: holding_list
-- The latest first.
select h.standing, h.seq, e.number as edition, h.since, h.until, p.name as who, h.why, h.signed
from holding h left join edition e on e.id = h.edition join person p on p.id = h.person
where h.model = @model and (@standing = '' or h.standing = @standing) order by h.since desc, h.seq desc limit @limit;

-- query: edition_list
-- The latest first, below a number (0: from the latest), or of one number.
select e.id, e.model, e.number, e.origin, e.run, e.facts, e.size, e.why, p.name as who, e.entered, coalesce((select max(c.id) from edition_check c where c.edition = e.id), 0)::bigint as latest
from edition e join person p on p.id = e.person
where e.model = @model and (@below::int = 0 or e.number < @below::int) and (@number::int = 0 or e.number = @number::int) and (@id::bigint = 0 or e.id = @id::bigint)
order by e.number desc limit @limit;

-- query: edition_by_origin
select number from edition where model = @model and origin = @origin;

-- query: edition_add
insert into edition (model, number, origin, run, facts, size, why, person)
select @model, coalesce((select max(number) from edition where model = @model), 0) + 1, @origin, @run, @facts, @size, @why, @person returning id, number;

-- query: edition_file_add
insert into edition_file (edition, path, part, size, digest, chunks) values (@edition, @path, @part, @size, @digest, @chunks);

-- query: edition_files
select 0::bigint as checkpoint, path, part, size, digest, chunks from edition_file where edition = @edition order by part, path;

-- query: asking_list
-- Those that wait first, then the latest.
select a.id, a.model, a.standing, a.edition, e.number, a.person, p.name as who, a.why, a.asked, a.ended, a.outcome, x.name as ender, a.because, a.rule
from asking a join edition e on e.id = a.edition join person p on p.id = a.person left join person x on x.id = a.ender
where a.model = any(@models::bigint[]) and (@id::bigint = 0 or a.id = @id::bigint) and (not @waiting or a.ended is null)
order by (a.ended is null) desc, a.id desc limit @limit;

-- query: asking_add
insert into asking (model, standing, edition, person, why, rule) values (@model, @standing, @edition, @person, @why, @rule) returning id;

-- query: asking_end
update asking set ended = clock_timestamp(), outcome = @outcome, ender = @ender, because = @because where id = @id and ended is null;

-- query: sign_off_put
insert into sign_off (asking, person, why, upto) values (@asking, @person, @why, @upto)
on conflict (asking, person) do update set why = excluded.why, upto = excluded.upto, at = now(), withdrawn = null;

-- query: sign_off_withdraw
update sign_off set withdrawn = now() where asking = @asking and person = @person and withdrawn is null;

-- query: sign_off_list
-- may: whoever signed is an approver of the model's project now, as Who.On says.
select s.asking, s.person, p.name as who, s.why, s.at, s.upto, s.withdrawn, p.closed is not null as closed,
    p.administrator or exists (select from given_role g where (g.project = j.id or g.project is null and j.open) and g.role >= 'approver'
        and (g.person = p.id or g.team in (select team from team_member where person = p.id))) as may
from sign_off s join person p on p.id = s.person join asking a on a.id = s.asking join model m on m.id = a.model join project j on j.id = m.project
where s.asking = any(@askings::bigint[]) order by s.at;

-- query: edition_check_add
insert into edition_check (edition, name, passed, figures, text, link, person) values (@edition, @name, @passed, @figures, @text, @link, @person) returning id;

-- query: edition_check_list
-- The latest of each name by each who reported it, the latest of a name first.
select * from (
    select distinct on (c.edition, c.name, c.person) c.id, c.edition, c.name, c.passed, c.figures, c.text, c.link, p.name as who, c.at
    from edition_check c join person p on p.id = c.person where c.edition = any(@editions::bigint[]) order by c.edition, c.name, c.person, c.id desc) latest
order by edition, name, id desc;

-- query: edition_outcomes
-- The latest of each name by each who reported it and is still here: nobody takes the place of another.
select distinct on (c.edition, c.name, c.person) c.id, c.edition, c.name, c.passed, p.name as who
from edition_check c join person p on p.id = c.person
where c.edition = any(@editions::bigint[]) and p.closed is null order by c.edition, c.name, c.person, c.id desc;

-- query: check_file_add
insert into check_file (check_id, path, size, digest, chunks) values (@check, @path, @size, @digest, @chunks);

-- query: check_files
select check_id as check, path, size, digest, chunks from check_file where check_id = any(@checks::bigint[]) order by check_id, path;

-- query: consumer_put
insert into consumer (model, place, edition, person) values (@model, @place, @edition, @person)
on conflict (model, place) do update set since = case when consumer.edition = excluded.edition then consumer.since else now() end,
    edition = excluded.edition, person = excluded.person, heard = now();

-- query: consumer_drop
delete from consumer where model = @model and place = @place;

-- query: consumer_list
select c.model, c.place, e.number, p.name as who, c.since, c.heard from consumer c join edition e on e.id = c.edition join person p on p.id = c.person
where c.model = any(@models::bigint[]) order by c.model, c.place limit 1000;

-- query: approvers
-- People who may sign off what a project's models wait for.
select p.name from person p where p.kind = 'person' and p.closed is null and (p.administrator or exists (
    select from given_role g where (g.project is null or g.project = (select id from project where key = @project)) and g.role >= 'approver'
        and (g.person = p.id or g.team in (select team from team_member where person = p.id))))
order by lower(p.name) limit 100;
