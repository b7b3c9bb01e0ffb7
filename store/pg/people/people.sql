-- query: person_count
select count(*) from person;

-- query: person_add
insert into person (name, password, administrator) values (@name, @password, @administrator) returning id;

-- query: person_by_name
select id, name, password, administrator from person where lower(name) = lower(@name);

-- query: person_first_administrator
select id, name, password, administrator from person where administrator order by id limit 1;

-- query: person_list
select id, name, password, administrator from person where id > @after order by id limit @limit;

-- query: person_set_password
update person set password = @password where id = @id;

-- query: session_add
insert into session (hash, person, expires, parent) values (@hash, @person, now() + make_interval(hours => @hours), @parent);

-- query: session_person
select p.id, p.name, p.password, p.administrator, s.parent from session s join person p on p.id = s.person
where s.hash = @hash and s.expires > now();

-- query: session_end
delete from session where hash = @hash;

-- query: session_end_all
delete from session where person = @person and hash is distinct from @keep;

-- query: link_add
insert into sign_in_link (hash, person, expires, parent) values (@hash, @person, now() + interval '15 minutes', @parent) returning expires;

-- query: link_use
with used as (delete from sign_in_link where hash = @hash returning person, expires, parent)
select p.id, p.name, p.password, p.administrator, u.parent from used u join person p on p.id = u.person where u.expires > now();

-- query: token_add
insert into token (person, name, hash, expires, parent) values (@person, @name, @hash, now() + make_interval(days => @days), @parent)
returning id, name, created, expires, revoked, used, parent;

-- query: token_person
select t.id as token, t.expires <= now() as expired, t.revoked is not null as revoked, coalesce(t.used < now() - interval '1 minute', true) as stale,
       p.id, p.name, p.password, p.administrator
from token t join person p on p.id = t.person where t.hash = @hash;

-- query: token_touch
update token set used = now() where id = @id;

-- query: token_list
select id, name, created, expires, revoked, used, parent from token where person = @person order by id;

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
select hash from token where hash = any(@hashes::bytea[]) and revoked is null and expires > now()
union all select hash from session where hash = any(@hashes::bytea[]) and expires > now();

-- query: clear_expired
with s as (delete from session where expires < now()) delete from sign_in_link where expires < now();
