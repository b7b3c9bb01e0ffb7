-- query: person_count
select count(*) from person;

-- query: person_add
insert into person (name, password, administrator, kind, email, team)
values (@name, @password, @administrator, @kind, @email, (select id from team where lower(name) = lower(@team))) returning id;

-- query: person_by_name
select id, name, password, administrator, kind, email, closed from person where lower(name) = lower(@name);

-- query: person_by_id
select id, name, password, administrator, kind, email, closed from person where id = @id;

-- query: person_first_administrator
select id, name, password, administrator, kind, email, closed from person where administrator and closed is null order by id limit 1;

-- query: person_list
select p.id, p.name, p.password, p.administrator, p.kind, p.email, p.closed, coalesce(t.name, '') as team,
       (select g.role::text from given_role g where g.person = p.id and g.project is null) as role,
       coalesce((select array_agg(m.name order by m.name) from team_member tm join team m on m.id = tm.team where tm.person = p.id), '{}') as teams
from person p left join team t on t.id = p.team
where p.id > @after and (@name = '' or lower(p.name) = lower(@name)) order by p.id limit @limit;

-- query: person_change
update person set administrator = coalesce(@administrator, administrator), email = coalesce(@email, email),
    closed = case when @closed::boolean is null then closed when @closed then coalesce(closed, now()) end
where id = @id;

-- query: administrators_lock
-- Held by whoever takes an administrator away, so that two do not take each other's.
select pg_advisory_xact_lock(hashtext('kembrel administrators'));

-- query: administrators_left
select count(*) from person where administrator and closed is null;

-- query: person_set_password
update person set password = @password where id = @id;

-- query: person_roles
-- What a person is, by themselves and through teams: the highest role of each place.
select coalesce(p.key, '') as project, max(g.role)::text as role
from given_role g left join project p on p.id = g.project
where g.person = @person or g.team in (select team from team_member where person = @person)
group by 1;

-- query: session_add
insert into session (hash, person, expires, parent, place, provider, subject, sid, id_token)
values (@hash, @person, now() + make_interval(hours => @hours), @parent, @place, @provider, @subject, @sid, @id_token);

-- query: session_person
select p.id, p.name, p.password, p.administrator, p.kind, p.email, p.closed, s.parent, s.used < now() - interval '1 minute' as stale,
       t.role::text as role, j.key as project, coalesce(t.networks, '{}') as networks
from session s join person p on p.id = s.person left join token t on t.id = s.parent left join project j on j.id = t.project
where s.hash = @hash and s.expires > now() and p.closed is null;

-- query: session_touch
update session set used = now() where hash = @hash;

-- query: session_list
select id, created, used, expires, place, hash from session where person = @person and expires > now() order by id;

-- query: session_end
delete from session where hash = @hash;

-- query: session_end_one
delete from session where person = @person and id = @id;

-- query: session_end_all
delete from session where person = @person and hash is distinct from @keep;

-- query: link_add
insert into sign_in_link (hash, person, expires, parent) values (@hash, @person, now() + interval '15 minutes', @parent) returning expires;

-- query: link_use
with used as (delete from sign_in_link where hash = @hash returning person, expires, parent)
select p.id, p.name, p.password, p.administrator, p.kind, p.email, p.closed, u.parent, false as stale,
       t.role::text as role, j.key as project, coalesce(t.networks, '{}') as networks
from used u join person p on p.id = u.person left join token t on t.id = u.parent left join project j on j.id = t.project
where u.expires > now() and p.closed is null;

-- query: link_end_all
delete from sign_in_link where person = @person;

-- query: token_add
with made as (
    insert into token (person, name, hash, expires, parent, role, project, networks)
    values (@person, @name, @hash, now() + make_interval(days => @days), @parent, @role::text::role, @project, @networks)
    returning *
)
select m.id, m.name, m.created, m.expires, m.revoked, m.used, m.used_from, m.parent, m.role::text as role, j.key as project, m.networks
from made m left join project j on j.id = m.project;

-- query: token_person
select t.id as token, t.expires <= now() as expired, t.revoked is not null or p.closed is not null as revoked,
       coalesce(t.used < now() - interval '1 minute', true) as stale, t.role::text as role, j.key as project, t.networks,
       p.id, p.name, p.password, p.administrator, p.kind, p.email, p.closed
from token t join person p on p.id = t.person left join project j on j.id = t.project where t.hash = @hash;

-- query: token_touch
update token set used = now(), used_from = @place where id = @id;

-- query: token_list
select t.id, t.name, t.created, t.expires, t.revoked, t.used, t.used_from, t.parent, t.role::text as role, j.key as project, t.networks
from token t left join project j on j.id = t.project where t.person = @person order by t.id;

-- query: token_revoke
-- With what was made with them, to any depth; how many that were. A token that has ended keeps the moment at which it did.
with recursive ended as (
    select id from token where id = any(@ids::bigint[]) and person = @person
    union select t.id from token t join ended e on t.parent = e.id
), sessions as (delete from session where parent in (select id from ended)),
links as (delete from sign_in_link where parent in (select id from ended)),
tokens as (update token set revoked = coalesce(revoked, now()) where id in (select id from ended))
select count(*) from ended;

-- query: tokens_but
-- A person's good tokens, without one, its parents and its children.
with recursive up as (
    select id, parent from token where id = @keep
    union select t.id, t.parent from token t join up on t.id = up.parent
), down as (
    select id from token where id = @keep
    union select t.id from token t join down d on t.parent = d.id
)
select id from token where person = @person and revoked is null and id not in (select id from up) and id not in (select id from down);

-- query: credentials_good
select t.hash from token t join person p on p.id = t.person
where t.hash = any(@hashes::bytea[]) and t.revoked is null and t.expires > now() and p.closed is null
union all select s.hash from session s join person p on p.id = s.person
where s.hash = any(@hashes::bytea[]) and s.expires > now() and p.closed is null;

-- query: clear_expired
with s as (delete from session where expires < now()), t as (delete from sign_in_try where expires < now())
delete from sign_in_link where expires < now();

-- query: team_list
select t.id, t.name,
       coalesce((select array_agg(p.name order by p.name) from team_member m join person p on p.id = m.person where m.team = t.id), '{}') as people
from team t where @name = '' or lower(t.name) = lower(@name) order by lower(t.name);

-- query: team_set
-- Makes the team where it is not there; its people are those named.
with made as (
    insert into team (name) values (@name) on conflict (lower(name)) do update set name = team.name returning id
), named as (select id from person where lower(name) = any(select lower(n) from unnest(@people::text[]) n)),
gone as (delete from team_member m using made where m.team = made.id and m.person not in (select id from named)),
come as (insert into team_member (team, person) select made.id, named.id from made, named on conflict do nothing)
select (select id from made) as id, (select count(*) from named) as count;

-- query: team_drop
delete from team where lower(name) = lower(@name);

-- query: role_list
select coalesce(p.name, '') as person, coalesce(t.name, '') as team, g.role::text as role, g.given
from given_role g left join person p on p.id = g.person left join team t on t.id = g.team
where g.project is not distinct from @project order by g.role desc, lower(coalesce(p.name, t.name));

-- query: role_set
insert into given_role (project, person, team, role)
values (@project, @person, @team, @role::text::role)
on conflict (coalesce(project, 0), coalesce(person, 0), coalesce(team, 0)) do update set role = excluded.role, given = now();

-- query: role_drop
delete from given_role where project is not distinct from @project and person is not distinct from @person and team is not distinct from @team;

-- query: try_add
insert into sign_in_try (state, provider, verifier, nonce, next, expires)
values (@state, @provider, @verifier, @nonce, @next, now() + interval '10 minutes');

-- query: try_use
delete from sign_in_try where state = @state and provider = @provider and expires > now() returning verifier, nonce, next;

-- query: identity_person
select p.id, p.name, p.password, p.administrator, p.kind, p.email, p.closed
from identity i join person p on p.id = i.person where i.provider = @provider and i.subject = @subject;

-- query: identity_has
select exists (select from identity where provider = @provider and person = @person);

-- query: identity_add
insert into identity (provider, subject, person) values (@provider, @subject, @person);

-- query: people_by_email
select id, name, password, administrator, kind, email, closed from person
where lower(email) = lower(@email) and email <> '' and kind = 'person' limit 2;

-- query: teams_join
-- Of the teams named, a person is in those of wanted and in no other.
with named as (select id, name from team where lower(name) = any(select lower(n) from unnest(@named::text[]) n)),
gone as (delete from team_member m using named where m.team = named.id and m.person = @person
         and lower(named.name) <> all(select lower(n) from unnest(@wanted::text[]) n))
insert into team_member (team, person)
select id, @person from named where lower(name) = any(select lower(n) from unnest(@wanted::text[]) n) on conflict do nothing;

-- query: session_elsewhere
select provider, id_token from session where hash = @hash;

-- query: sessions_end_elsewhere
delete from session where provider = @provider and (@sid <> '' and sid = @sid or @sid = '' and subject = @subject) returning person;
