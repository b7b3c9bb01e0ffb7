-- query: person_count
select count(*) from person;

-- query: person_add
insert into person (name, password, administrator) values (@name, @password, @administrator) returning id;

-- query: person_by_name
select id, name, password, administrator from person where lower(name) = lower(@name);

-- query: person_first_administrator
select id, name, password, administrator from person where administrator order by id limit 1;

-- query: person_by_id
select id, name, password, administrator from person where id = @id;

-- query: person_list
select id, name, password, administrator from person where id > @after order by id limit @limit;

-- query: person_set_password
update person set password = @password where id = @id;

-- query: session_add
insert into session (hash, person, expires) values (@hash, @person, now() + make_interval(hours => @hours));

-- query: session_person
select p.id, p.name, p.password, p.administrator from session s join person p on p.id = s.person
where s.hash = @hash and s.expires > now();

-- query: session_end
delete from session where hash = @hash;

-- query: session_end_all
delete from session where person = @person and hash <> @keep;

-- query: link_add
insert into sign_in_link (hash, person, expires) values (@hash, @person, now() + interval '15 minutes') returning expires;

-- query: link_use
with used as (delete from sign_in_link where hash = @hash returning person, expires)
select p.id, p.name, p.password, p.administrator from used u join person p on p.id = u.person where u.expires > now();

-- query: token_add
insert into token (person, name, hash, expires) values (@person, @name, @hash, now() + make_interval(days => @days))
returning id, name, created, expires, revoked, used;

-- query: token_person
select t.id as token, t.expires <= now() as expired, t.revoked is not null as revoked, coalesce(t.used < now() - interval '1 minute', true) as stale,
       p.id, p.name, p.password, p.administrator
from token t join person p on p.id = t.person where t.hash = @hash;

-- query: token_touch
update token set used = now() where id = @id;

-- query: token_list
select id, name, created, expires, revoked, used from token where person = @person order by id;

-- query: token_revoke
update token set revoked = coalesce(revoked, now()) where id = @id and person = @person;

-- query: clear_expired
with s as (delete from session where expires < now()) delete from sign_in_link where expires < now();
